//! The halt: while it stands, no node begins a job or takes one up. What a node executes already
//! goes on.

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
}

/// The halt that stands, if there is one.
pub async fn halt(db: &impl ConnectionTrait) -> Result<Option<Halt>, StoreError> {
    let rows: Vec<Row> = sql::typed(db, "SELECT since, by, reason FROM halt", vec![]).await?;
    Ok(rows.into_iter().next().map(|Row { since, by, reason }| Halt { since, by: by.0, reason }))
}

/// Halts all jobs, unless they are halted already; the halt that stands then, and whether it is
/// this one.
pub async fn set_halt(
    db: &DatabaseConnection,
    by: &Principal,
    why: &str,
) -> Result<(Halt, bool), StoreError> {
    let tx = db.begin().await?;
    let sql = "INSERT INTO halt (by, reason) VALUES ($1, $2) ON CONFLICT DO NOTHING";
    let is_new = sql::run(&tx, sql, vec![by.to_string().into(), reason(why).into()]).await? > 0;
    if is_new {
        audit::record(&tx, by, "halted", "all jobs", &reason(why)).await?;
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
    }
    tx.commit().await?;
    Ok(lifted)
}
