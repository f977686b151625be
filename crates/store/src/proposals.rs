//! Deciding proposals: launched, they become the job of the same number; dismissed, they stay
//! with the reason.

use crate::{StoreError, changes, sql};
use arvok_api::Change;
use arvok_core::job::Progress;
use chrono::{DateTime, Utc};
use sea_orm::{DatabaseConnection, DatabaseTransaction, TransactionTrait};

/// Who decided, when, and why.
#[derive(Clone, Copy, Debug)]
pub struct Decided<'a> {
    /// The token's name.
    pub by: &'a str,
    /// When.
    pub at: DateTime<Utc>,
    /// The reason, if one was given.
    pub note: Option<&'a str>,
}

/// Launches an open proposal; false if it is not open any more.
pub async fn launch(db: &DatabaseConnection, id: i64, decided: Decided<'_>) -> Result<bool, StoreError> {
    let tx = db.begin().await?;
    if !decide(&tx, id, "launched", decided).await? {
        return Ok(false);
    }
    let sql = "INSERT INTO job (id, runbook, runbook_version, inputs, target, urgency, deadline, state, rule, rule_version,
            alert_seq, alarm_id, progress, created_at, reason)
        SELECT id, runbook, runbook_version, inputs, target, urgency,
            CASE WHEN deadline_ms IS NULL THEN NULL ELSE $2::timestamptz + make_interval(secs => deadline_ms / 1000.0) END,
            'queued', rule, rule_version, alert_seq, alarm_id, $3::jsonb, $2, reason || '; launched by ' || $4
        FROM proposal WHERE id = $1";
    let progress = serde_json::to_string(&Progress::default())?;
    sql::run(&tx, sql, vec![id.into(), decided.at.into(), progress.into(), decided.by.into()]).await?;
    changes::announce(&tx, Change { proposals: vec![id], jobs: vec![id], ..Change::default() }).await?;
    tx.commit().await?;
    Ok(true)
}

/// Dismisses an open proposal; false if it is not open any more.
pub async fn dismiss(db: &DatabaseConnection, id: i64, decided: Decided<'_>) -> Result<bool, StoreError> {
    let tx = db.begin().await?;
    let done = decide(&tx, id, "dismissed", decided).await?;
    changes::announce(&tx, Change { proposals: vec![id], ..Change::default() }).await?;
    tx.commit().await?;
    Ok(done)
}

async fn decide(tx: &DatabaseTransaction, id: i64, state: &str, decided: Decided<'_>) -> Result<bool, StoreError> {
    let sql =
        "UPDATE proposal SET state = $2, decided_at = $3, decided_by = $4, note = $5 WHERE id = $1 AND state = 'open'";
    let note = decided.note.map(str::to_owned);
    let values = vec![id.into(), state.into(), decided.at.into(), decided.by.into(), note.into()];
    Ok(sql::run(tx, sql, values).await? == 1)
}
