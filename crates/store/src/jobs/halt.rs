//! The halt: while it stands, no node begins a job or takes one up. What a node executes already
//! goes on, or is paused if the halt says so: each execution hears of it when its claim is renewed,
//! and goes on when it is lifted.

use super::reason;
use crate::stored::StoredPrincipal;
use crate::{StoreError, audit, sql};
use arvok_api::Halt;
use arvok_core::Principal;
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait};

#[derive(FromQueryResult)]
struct Row {
    since: DateTime<Utc>,
    by: StoredPrincipal,
    reason: String,
    running: bool,
}

/// The halt that stands, if there is one.
pub async fn halt(db: &impl ConnectionTrait) -> Result<Option<Halt>, StoreError> {
    let rows: Vec<Row> =
        sql::typed(db, "SELECT since, by, reason, running FROM halt", vec![]).await?;
    Ok(rows.into_iter().next().map(|row| Halt {
        since: row.since,
        by: row.by.0,
        reason: row.reason,
        running: row.running,
    }))
}

/// Halts all jobs, and those under way too if that is asked for, unless they are halted so already;
/// the halt that stands then, and whether it is this one.
pub async fn set_halt(
    db: &DatabaseConnection,
    by: &Principal,
    why: &str,
    running: bool,
) -> Result<(Halt, bool), StoreError> {
    let tx = db.begin().await?;
    let sql = "INSERT INTO halt AS h (by, reason, running) VALUES ($1, $2, $3)
        ON CONFLICT (is_one) DO UPDATE SET by = excluded.by, reason = excluded.reason,
            running = true WHERE excluded.running AND NOT h.running";
    let values = vec![by.to_string().into(), reason(why).into(), running.into()];
    let is_new = sql::run(&tx, sql, values).await? > 0;
    if is_new {
        let what = if running { "all jobs, those under way too" } else { "all jobs" };
        audit::record(&tx, by, "halted", what, &reason(why)).await?;
    }
    let standing = halt(&tx).await?;
    tx.commit().await?;
    // Another may have lifted it at the same moment.
    Ok((standing.ok_or(StoreError::Contended("those who halt and lift"))?, is_new))
}

/// Lifts the halt; whether there was one.
pub async fn lift_halt(db: &DatabaseConnection, by: &Principal) -> Result<bool, StoreError> {
    let tx = db.begin().await?;
    let lifted = sql::run(&tx, "DELETE FROM halt", vec![]).await? > 0;
    if lifted {
        audit::record(&tx, by, "halt.lifted", "all jobs", "").await?;
        let_go_on(&tx).await?;
    }
    tx.commit().await?;
    Ok(lifted)
}

/// Has the jobs go on that a halt paused which is lifted; how many. One may be paused at the very
/// moment at which the halt is lifted, so that this is done again now and then.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn let_go_on(db: &impl ConnectionTrait) -> Result<u64, StoreError> {
    let sql = "UPDATE job SET word = '\"resume\"', word_number = word_number + 1
        WHERE id IN (SELECT id FROM job WHERE state = 'paused' AND word IS NULL
            AND progress #>> '{paused,by_halt}' = 'true' ORDER BY id FOR UPDATE SKIP LOCKED)
        AND NOT EXISTS (SELECT 1 FROM halt WHERE running)";
    sql::run(db, sql, vec![]).await
}
