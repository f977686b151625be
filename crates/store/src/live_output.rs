//! What the calls of jobs write while they run: the last lines of each, until it is over.

use crate::{StoreError, sql};
use arvok_core::{JobId, job::Place};
use sea_orm::{ConnectionTrait, FromQueryResult};

/// A try of a step.
#[derive(Clone, Debug)]
pub struct LiveCall {
    /// The job.
    pub job: JobId,
    /// The step.
    pub place: Place,
    /// Which try, from one.
    pub attempt: u32,
}

/// What one of them has written so far.
#[derive(Clone, Debug, FromQueryResult)]
pub struct LiveLines {
    /// The step.
    pub place: String,
    /// Which try, from one.
    pub attempt: i32,
    /// The last lines.
    pub lines: String,
    /// How many lines there were in all.
    pub line_count: i64,
}

fn key(call: &LiveCall) -> [sea_orm::Value; 3] {
    let attempt = i32::try_from(call.attempt).unwrap_or(i32::MAX);
    [call.job.0.into(), call.place.to_string().into(), attempt.into()]
}

/// Puts what a call has written by now.
pub async fn put(
    db: &impl ConnectionTrait,
    call: &LiveCall,
    lines: &str,
    line_count: i64,
) -> Result<(), StoreError> {
    let sql = "INSERT INTO live_output (job_id, place, attempt, lines, line_count)
        VALUES ($1, $2, $3, $4, $5)
        ON CONFLICT (job_id, place, attempt) DO UPDATE SET lines = excluded.lines,
            line_count = excluded.line_count, written_at = now()";
    let mut values = key(call).to_vec();
    values.extend([lines.into(), line_count.into()]);
    sql::run(db, sql, values).await?;
    Ok(())
}

/// Removes that of a call which is over.
pub async fn remove(db: &impl ConnectionTrait, call: &LiveCall) -> Result<(), StoreError> {
    let sql = "DELETE FROM live_output WHERE job_id = $1 AND place = $2 AND attempt = $3";
    sql::run(db, sql, key(call).to_vec()).await?;
    Ok(())
}

/// What the calls of a job have written by now.
pub async fn of_job(db: &impl ConnectionTrait, job: i64) -> Result<Vec<LiveLines>, StoreError> {
    let sql = "SELECT place, attempt, lines, line_count FROM live_output WHERE job_id = $1
        LIMIT 1000";
    sql::typed(db, sql, vec![job.into()]).await
}
