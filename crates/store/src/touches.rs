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

/// Most touches of a resource that are looked at, the newest. One job may be many of them.
const MOST: i64 = 500;

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
    // Of a job that is not known any more the call is what is known.
    let sql = "SELECT r.resource, t.job_id AS job,
            CASE WHEN j.id IS NULL OR job_is_over(j.state) THEN coalesce(j.finished_at, t.at) END AS ended
        FROM unnest($1::text[]) AS r (resource)
        CROSS JOIN LATERAL (SELECT n.job_id, max(n.at) AS at
            FROM (SELECT job_id, at FROM touch WHERE resource = r.resource
                ORDER BY at DESC LIMIT $2) n GROUP BY 1) t
        LEFT JOIN job j ON j.id = t.job_id";
    let rows: Vec<Row> = sql::typed(db, sql, vec![resources.into(), MOST.into()]).await?;
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
