//! Deciding proposals: launched, they become the job of the same number; dismissed, they stay
//! with the reason.

use crate::{
    StoreError,
    sql::{self, Script},
};
use arvok_core::{
    job::Progress,
    settle::{Decision, Tally},
};
use chrono::{DateTime, Utc};
use sea_orm::{DatabaseConnection, DatabaseTransaction, FromQueryResult, TransactionTrait};

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
    if !decide(&tx, id, Decision::Launched, decided).await? {
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
    tx.commit().await?;
    Ok(true)
}

/// Dismisses an open proposal; false if it is not open any more.
pub async fn dismiss(db: &DatabaseConnection, id: i64, decided: Decided<'_>) -> Result<bool, StoreError> {
    let tx = db.begin().await?;
    let done = decide(&tx, id, Decision::Dismissed, decided).await?;
    tx.commit().await?;
    Ok(done)
}

#[derive(FromQueryResult)]
struct Origin {
    rule: String,
    first_id: i64,
    tallies: Vec<String>,
}

/// Notes the decision, and lets the tallies know that the proposal came from. They are locked
/// first, as intake does.
async fn decide(
    tx: &DatabaseTransaction,
    id: i64,
    decision: Decision,
    decided: Decided<'_>,
) -> Result<bool, StoreError> {
    let sql = "SELECT rule, coalesce(first_id, id) AS first_id, tallies FROM proposal WHERE id = $1";
    let origin: Vec<Origin> = sql::typed(tx, sql, vec![id.into()]).await?;
    let Some(origin) = origin.into_iter().next() else { return Ok(false) };
    let mut tallies = locked(tx, &origin).await?;
    let state = match decision {
        Decision::Launched => "launched",
        Decision::Dismissed => "dismissed",
    };
    let sql =
        "UPDATE proposal SET state = $2, decided_at = $3, decided_by = $4, note = $5 WHERE id = $1 AND state = 'open'";
    let note = decided.note.map(str::to_owned);
    let values = vec![id.into(), state.into(), decided.at.into(), decided.by.into(), note.into()];
    if sql::run(tx, sql, values).await? != 1 {
        return Ok(false);
    }
    let mut script = Script::default();
    for (key, tally) in &mut tallies {
        tally.decided(origin.first_id, decision);
        let state = serde_json::to_string(tally)?;
        let sql = "UPDATE tally SET state = $3::text::jsonb WHERE rule = $1 AND key = $2";
        script.add(sql, vec![origin.rule.as_str().into(), key.as_str().into(), state.into()]);
    }
    script.run(tx).await?;
    Ok(true)
}

async fn locked(tx: &DatabaseTransaction, origin: &Origin) -> Result<Vec<(String, Tally)>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        key: String,
        state: String,
    }
    let sql = "SELECT key, state::text AS state FROM tally WHERE rule = $1 AND key = ANY($2) ORDER BY key FOR UPDATE";
    let rows: Vec<Row> = sql::typed(tx, sql, vec![origin.rule.as_str().into(), origin.tallies.clone().into()]).await?;
    rows.into_iter().map(|r| Ok((r.key, serde_json::from_str(&r.state)?))).collect()
}
