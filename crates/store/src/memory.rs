//! What runs of runbooks remember: written with the record of the step that says so
//! (`store/jobs/outside`), read when a job is taken up, and forgotten by people.

use crate::{StoreError, audit, sql};
use arvok_api::{MemoryFilter, MemoryItem, PAGE, Page};
use arvok_core::Principal;
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait};
use serde_json::{Map, Value};

/// Most rows of one runbook, over all its targets.
const MOST: i64 = 100_000;

/// What a job finds.
#[derive(Debug, Default)]
pub struct Recalled {
    /// What stands.
    pub remembered: Map<String, Value>,
    /// Whether there is no room for another target.
    pub is_full: bool,
}

/// What runs of a runbook remember of a target. Whoever forgets it at that moment is waited for.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn recall(
    db: &impl ConnectionTrait,
    runbook: &str,
    target: &str,
) -> Result<Recalled, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        remembered: Option<Value>,
        is_full: bool,
    }
    let sql = "SELECT m.remembered, m.number IS NULL AND (SELECT count(*) >= $3
            FROM (SELECT 1 FROM memory WHERE runbook = $1 LIMIT $3) n) AS is_full
        FROM (SELECT 1) one LEFT JOIN LATERAL (SELECT number, remembered FROM memory
            WHERE runbook = $1 AND target = $2 ORDER BY number DESC LIMIT 1 FOR SHARE) m ON true";
    let values = vec![runbook.into(), target.into(), MOST.into()];
    let row = sql::typed::<Row>(db, sql, values).await?.into_iter().next();
    Ok(row.map_or_else(Recalled::default, |row| Recalled {
        remembered: match row.remembered {
            Some(Value::Object(map)) => map,
            _ => Map::new(),
        },
        is_full: row.is_full,
    }))
}

/// What is remembered, the newest first: of each target what stands, or its history as well.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn list(
    db: &impl ConnectionTrait,
    filter: &MemoryFilter,
) -> Result<Page<MemoryItem>, StoreError> {
    let limit = filter.limit.unwrap_or(PAGE);
    let sql = "SELECT number AS id, runbook, target, job_id AS job, place AS step, remembered, at
        FROM memory m
        WHERE ($1::text IS NULL OR runbook = $1) AND ($2::text IS NULL OR target = $2)
            AND number < $3
            AND ($4 OR NOT EXISTS (SELECT 1 FROM memory n WHERE n.runbook = m.runbook
                AND n.target = m.target AND n.number > m.number))
        ORDER BY number DESC LIMIT $5";
    let values = vec![
        filter.runbook.clone().into(),
        filter.target.clone().into(),
        filter.after.unwrap_or(i64::MAX).into(),
        filter.history.into(),
        i64::try_from(limit).unwrap_or(i64::MAX).into(),
    ];
    let items: Vec<MemoryItem> = sql::rows(db, sql, values).await?;
    let next = items.last().filter(|_| items.len() as u64 == limit).map(|item| item.id.to_string());
    Ok(Page { items, next, bounded: false })
}

/// What became of what should be forgotten.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ForgottenMemory {
    /// It is.
    Done,
    /// Nothing was remembered.
    Nothing,
    /// A job is at work on the target, and would remember it anew.
    AtWork(i64),
}

/// Forgets what runs of a runbook remember of a target: the next finds what the first did.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn forget(
    db: &DatabaseConnection,
    (runbook, target): (&str, &str),
    by: &Principal,
    reason: &str,
) -> Result<ForgottenMemory, StoreError> {
    #[derive(FromQueryResult)]
    struct AtWork {
        id: i64,
    }
    let tx = db.begin().await?;
    // It goes first: a job that is claimed from now on finds it gone, and one that was before is
    // seen.
    let values = || vec![runbook.into(), target.into()];
    let gone = "DELETE FROM memory WHERE runbook = $1 AND target = $2";
    let any = sql::run(&tx, gone, values()).await? > 0;
    let at_work = "SELECT id FROM job WHERE target = $2 AND runbook = $1 AND trial IS DISTINCT
        FROM 'dry' AND state IN ('running', 'waiting', 'paused', 'unsure') ORDER BY id LIMIT 1";
    if let Some(job) = sql::typed::<AtWork>(&tx, at_work, values()).await?.into_iter().next() {
        tx.rollback().await?;
        return Ok(ForgottenMemory::AtWork(job.id));
    }
    if !any {
        tx.rollback().await?;
        return Ok(ForgottenMemory::Nothing);
    }
    let what = format!("runbook {runbook} on {target}");
    audit::record(&tx, by, "memory.forgotten", &what, reason).await?;
    tx.commit().await?;
    Ok(ForgottenMemory::Done)
}
