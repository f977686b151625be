//! What jobs have touched: a row for each resource that a call changes, written with the record
//! that begins the call.

use crate::{StoreError, sql};
use arvok_api::TouchedResource;
use arvok_core::{
    JobId,
    touch::{Touch, Touches},
};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::{ConnectionTrait, FromQueryResult};
use std::collections::BTreeSet;

/// Who touched resources last.
///
/// # Errors
/// If the database cannot be worked with.
pub(crate) async fn latest<'r>(
    db: &impl ConnectionTrait,
    resources: impl Iterator<Item = &'r str>,
) -> Result<Touches, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        resource: String,
        job: i64,
        ended: Option<DateTime<Utc>>,
    }
    let resources: BTreeSet<&str> = resources.collect();
    if resources.is_empty() {
        return Ok(Touches::default());
    }
    let resources: Vec<String> = resources.into_iter().map(str::to_owned).collect();
    let sql = "SELECT resource, job, ended FROM touches_known($1)";
    let rows: Vec<Row> = sql::typed(db, sql, vec![resources.into()]).await?;
    let touch = |Row { resource, job, ended }: Row| Touch { resource, job: JobId(job), ended };
    Ok(Touches::new(rows.into_iter().map(touch)))
}

/// What a job has touched, the first first; so many at most.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn of_job(
    db: &impl ConnectionTrait,
    job: JobId,
    most: i64,
) -> Result<Vec<TouchedResource>, StoreError> {
    let sql = "SELECT resource, place, at FROM touch WHERE job_id = $1
        ORDER BY at, place, resource LIMIT $2";
    sql::rows(db, sql, vec![job.0.into(), most.into()]).await
}

/// Removes what nobody keeps away from any more, so many rows at most; how many.
///
/// # Errors
/// If the database cannot be worked with.
pub(crate) async fn sweep(db: &impl ConnectionTrait, most: i64) -> Result<u64, StoreError> {
    // A job may have gone on for a while after its call.
    let back = arvok_core::touch::LONGEST.delta() + TimeDelta::days(7);
    let sql = "DELETE FROM touch t WHERE ctid IN (SELECT ctid FROM touch
        WHERE at < now() - make_interval(days => $1)
        ORDER BY at LIMIT $2 FOR UPDATE SKIP LOCKED)";
    let days = i32::try_from(back.num_days()).unwrap_or(i32::MAX);
    sql::run(db, sql, vec![days.into(), most.into()]).await
}
