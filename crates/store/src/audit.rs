//! What was done that decides what others may do, and who was refused: who, what, when. Rows are
//! only added, and go after their time; what is the same within an hour is counted in one row, so
//! that no guesser fills the table.

use crate::{StoreError, sql};
use arvok_api::{AuditFilter, AuditItem, JobAct, Page};
use arvok_core::{JobId, Principal};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::ConnectionTrait;

/// How long it is kept.
pub const KEPT: TimeDelta = TimeDelta::days(400);
/// Most rows that refusals may take within an hour; more are counted in one for all.
const REFUSED_AN_HOUR: i64 = 500;

/// What somebody does to a job.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Act<'a> {
    /// Who.
    pub by: Principal,
    /// What, such as `job.paused`.
    pub act: &'static str,
    /// More about it: the reason that was given.
    pub detail: &'a str,
}

/// How acts call a job.
pub(crate) fn job_name(job: JobId) -> String {
    format!("job {job}")
}

/// What people did to a job, the first first; the last so many.
pub async fn of_job(
    db: &impl ConnectionTrait,
    job: JobId,
    most: i64,
) -> Result<Vec<JobAct>, StoreError> {
    let sql = "SELECT at, by, act, detail FROM (SELECT id, at, by, act, nullif(detail,
            '') AS detail FROM audit
        WHERE what = $1 AND what LIKE 'job %' ORDER BY id DESC LIMIT $2) a ORDER BY id";
    sql::rows(db, sql, vec![job_name(job).into(), most.into()]).await
}

/// Records what somebody did, in the transaction that does it where there is one.
pub async fn record(
    db: &impl ConnectionTrait,
    by: &Principal,
    act: &str,
    what: &str,
    detail: &str,
) -> Result<(), StoreError> {
    let sql = "INSERT INTO audit (at, by, act, what, detail)
        VALUES (clock_timestamp(), $1, $2, $3, $4)";
    let clean = |text: &str| text.replace('\0', "\u{fffd}");
    let values = vec![by.to_string().into(), act.into(), clean(what).into(), clean(detail).into()];
    sql::run(db, sql, values).await?;
    Ok(())
}

/// Records that somebody was refused: the same within an hour in one row, with how often.
pub async fn refused(
    db: &impl ConnectionTrait,
    by: &Principal,
    act: &str,
    what: &str,
) -> Result<(), StoreError> {
    let sql = "WITH room AS (SELECT (SELECT count(*) FROM audit
        WHERE at > now() - interval '1 hour' AND same IS NOT NULL) < $4
                AS enough),
            row AS (SELECT CASE WHEN enough THEN $1::text ELSE 'stranger/many others' END AS by,
                $2::text AS act, CASE WHEN enough THEN $3::text ELSE '' END AS what FROM room)
        INSERT INTO audit AS a (at, by, act, what, same)
            SELECT clock_timestamp(), by, act, what,
                concat_ws(' ', date_trunc('hour', now()), by, act, what) FROM row
        ON CONFLICT (same) DO UPDATE SET times = a.times + 1, at = excluded.at";
    let clean = |text: &str| text.replace('\0', "\u{fffd}");
    let values =
        vec![by.to_string().into(), act.into(), clean(what).into(), REFUSED_AN_HOUR.into()];
    sql::run(db, sql, values).await?;
    Ok(())
}

/// The newest first, from before a number.
pub async fn list(
    db: &impl ConnectionTrait,
    filter: &AuditFilter,
    limit: u64,
) -> Result<Page<AuditItem>, StoreError> {
    let sql = "SELECT id, at, by, act, what, nullif(detail,
        '') AS detail, times FROM audit
        WHERE id < $1 AND ($2::text[] IS NULL OR by = ANY($2)) AND ($3::text IS NULL OR act = $3)
            AND ($4::timestamptz IS NULL OR at >= $4)
        ORDER BY id DESC LIMIT $5";
    let by = filter.by.as_ref().map(|by| asked(by));
    let values = vec![
        filter.after.unwrap_or(i64::MAX).into(),
        by.into(),
        filter.act.clone().into(),
        filter.since.into(),
        i64::try_from(limit).unwrap_or(i64::MAX).into(),
    ];
    let items: Vec<AuditItem> = sql::rows(db, sql, values).await?;
    let next = items.last().filter(|_| items.len() as u64 == limit).map(|item| item.id.to_string());
    Ok(Page { items, next, bounded: false })
}

/// Those whom somebody may mean who asks, as rows hold them.
pub(crate) fn asked(by: &str) -> Vec<String> {
    Principal::asked(by).iter().map(Principal::to_string).collect()
}

/// The detail of the latest of an act by this node's kind, to tell whether it has changed.
pub async fn latest(db: &impl ConnectionTrait, act: &str) -> Result<Option<String>, StoreError> {
    #[derive(sea_orm::FromQueryResult)]
    struct Latest {
        detail: String,
    }
    let sql = "SELECT detail FROM audit WHERE act = $1 ORDER BY id DESC LIMIT 1";
    let found: Vec<Latest> = sql::typed(db, sql, vec![act.into()]).await?;
    Ok(found.into_iter().next().map(|l| l.detail))
}

/// Removes what is older, at most so many rows.
pub(crate) async fn sweep(
    db: &impl ConnectionTrait,
    now: DateTime<Utc>,
    most: i64,
) -> Result<u64, StoreError> {
    let sql =
        "DELETE FROM audit WHERE id IN (SELECT id FROM audit WHERE at < $1 ORDER BY at LIMIT $2)";
    sql::run(db, sql, vec![(now - KEPT).into(), most.into()]).await
}
