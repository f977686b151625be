//! Deciding proposals: launched, they become the job of the same number; dismissed, they stay
//! with the reason.

use crate::{
    StoreError, audit,
    entity::{proposal, tally},
    jobs::new,
    jobs::new::{Beginning, NewJob, Origin},
    sql::Script,
    stored::{Stored, StoredPrincipal},
};
use arvok_api::ProposalState;
use arvok_core::{
    AlarmId, AlertId, JobId, Principal,
    settle::{Decision, Tally},
};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::{
    ColumnTrait, DatabaseConnection, DatabaseTransaction, EntityTrait, QueryFilter, QueryOrder,
    QuerySelect, Set, TransactionTrait,
};
use serde_json::Value;

/// Who decided, when, and why.
#[derive(Clone, Copy, Debug)]
pub struct Decided<'a> {
    /// The token's name.
    pub by: &'a Principal,
    /// When it was decided.
    pub at: DateTime<Utc>,
    /// The reason, if one was given.
    pub note: Option<&'a str>,
    /// The inputs of the job, where they are others than was proposed, and the names of those.
    pub instead: Option<(&'a Value, &'a str)>,
}

impl Decided<'_> {
    /// What is otherwise than was proposed, in words.
    fn otherwise(&self) -> Option<String> {
        self.instead.map(|(_, names)| format!("with another {names}"))
    }
}

/// Launches an open proposal; false if it is not open any more.
pub async fn launch(
    db: &DatabaseConnection,
    id: JobId,
    decided: Decided<'_>,
) -> Result<bool, StoreError> {
    let tx = db.begin().await?;
    if !decide(&tx, id, Decision::Launched, decided).await? {
        return Ok(false);
    }
    if let Some(proposal) = proposal::Entity::find_by_id(id.0).one(&tx).await? {
        let (trace, _) = new::marks_of_alert(&tx, proposal.alert_seq).await?;
        new::make(&tx, NewJob { trace, ..queued(proposal, decided) }).await?;
    }
    tx.commit().await?;
    Ok(true)
}

/// The job that a proposal becomes.
fn queued(p: proposal::Model, decided: Decided<'_>) -> NewJob {
    let otherwise =
        decided.otherwise().map_or_else(String::new, |otherwise| format!(" {otherwise}"));
    NewJob {
        id: Some(JobId(p.id)),
        runbook: p.runbook,
        version: p.runbook_version,
        inputs: decided.instead.map_or(p.inputs, |(inputs, _)| inputs.clone()),
        target: p.target,
        urgency: p.urgency,
        deadline: p.deadline_ms.map(|ms| decided.at + TimeDelta::milliseconds(ms)),
        refused: None,
        origin: Origin {
            rule: Some((p.rule, p.rule_version)),
            person: Some(decided.by.clone()),
            ..Origin::default()
        },
        alert: p.alert_seq.map(AlertId),
        alarm: p.alarm_id.map(AlarmId),
        chain: Value::Null,
        reason: format!("{}; launched by {}{otherwise}", p.reason, decided.by.shown()),
        at: decided.at,
        beginning: Beginning::Fresh,
        trace: None,
        trial: p.trial.map(|trial| trial.0),
    }
}

/// Dismisses an open proposal; false if it is not open any more.
pub async fn dismiss(
    db: &DatabaseConnection,
    id: JobId,
    decided: Decided<'_>,
) -> Result<bool, StoreError> {
    let tx = db.begin().await?;
    let done = decide(&tx, id, Decision::Dismissed, decided).await?;
    tx.commit().await?;
    Ok(done)
}

/// Notes the decision, and lets the tallies know that the proposal came from. They are locked
/// first, as intake does.
async fn decide(
    tx: &DatabaseTransaction,
    id: JobId,
    decision: Decision,
    decided: Decided<'_>,
) -> Result<bool, StoreError> {
    let Some(proposal) = proposal::Entity::find_by_id(id.0).one(tx).await? else {
        return Ok(false);
    };
    let mut tallies = locked(tx, &proposal).await?;
    let state = match decision {
        Decision::Launched => ProposalState::Launched,
        Decision::Dismissed => ProposalState::Dismissed,
    };
    let change = proposal::ActiveModel {
        state: Set(Stored(state)),
        decided_at: Set(Some(decided.at)),
        decided_by: Set(Some(StoredPrincipal(decided.by.clone()))),
        note: Set(decided.note.map(str::to_owned)),
        ..Default::default()
    };
    let open = proposal::Entity::update_many()
        .set(change)
        .filter(proposal::Column::Id.eq(id.0))
        .filter(proposal::Column::State.eq(Stored(ProposalState::Open)));
    if open.exec(tx).await?.rows_affected != 1 {
        return Ok(false);
    }
    let act = format!("proposal.{state}");
    let otherwise = decided.otherwise();
    let detail: Vec<&str> = otherwise.as_deref().into_iter().chain(decided.note).collect();
    audit::record(tx, decided.by, &act, &audit::job_name(id), &detail.join(": ")).await?;
    let mut script = Script::default();
    for (key, tally) in &mut tallies {
        tally.decided(proposal.first_id.map_or(id, JobId), decision);
        let state = serde_json::to_string(tally)?;
        let sql = "UPDATE tally SET state = $3::text::jsonb WHERE rule = $1 AND key = $2";
        script.add(sql, vec![proposal.rule.as_str().into(), key.as_str().into(), state.into()]);
    }
    script.run(tx).await?;
    Ok(true)
}

async fn locked(
    tx: &DatabaseTransaction,
    of: &proposal::Model,
) -> Result<Vec<(String, Tally)>, StoreError> {
    let rows = tally::Entity::find()
        .filter(tally::Column::Rule.eq(&of.rule))
        .filter(tally::Column::Key.is_in(&of.tallies))
        .order_by_asc(tally::Column::Key)
        .lock_exclusive()
        .all(tx)
        .await?;
    rows.into_iter().map(|r| Ok((r.key, serde_json::from_value(r.state)?))).collect()
}
