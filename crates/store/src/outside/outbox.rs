//! The outbox: events that are written with what they tell of, and enter as alerts of the source
//! `arvok` afterwards.
//!
//! A row goes when its alert is recorded. Whoever dies between the two leaves it, and it enters
//! again under the same id, by which it is known. One node lets them enter at a time, so that none
//! is read by all.

use crate::{
    StoreError, sql,
    stored::{Stored, StoredPrincipal},
};
use arvok_core::{
    Trial,
    job::{JobChange, JobEffect, JobState, StateChange},
};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, FromQueryResult};
use serde_json::{Map, Value, json};

/// For how long nobody else lets events enter after a node has, in seconds.
const TURN_SECONDS: i32 = 3;
/// Longest summary of an event, in characters.
const LONGEST_SUMMARY: usize = 1_000;

/// An event that is still to enter.
#[derive(Clone, Debug, FromQueryResult)]
pub struct OutboxEvent {
    /// Its number in the outbox.
    pub number: i64,
    /// No other has the same.
    pub id: String,
    /// When it happened.
    pub at: DateTime<Utc>,
    /// The job that it is about; for a proposal, the job that it would become.
    pub job_id: i64,
    /// The alert as it is written.
    pub alert: Value,
    /// The span of that job, as a `traceparent`; for a proposal, that of its alert.
    pub trace: Option<String>,
    /// How far that job may go, if it is that of a trial.
    pub trial: Option<Stored<Trial>>,
}

/// The next events, in their order; none if it is another node's turn.
pub async fn claim(
    db: &impl ConnectionTrait,
    node: &str,
    most: i64,
) -> Result<Vec<OutboxEvent>, StoreError> {
    let turn = "UPDATE outbox_turn SET node = $1, until = now() + make_interval(secs => $2)
        WHERE node = $1 OR until < now()";
    if sql::run(db, turn, vec![node.into(), TURN_SECONDS.into()]).await? == 0 {
        return Ok(Vec::new());
    }
    let sql = "SELECT number, id, at, job_id, alert,
            coalesce((SELECT trace FROM job WHERE job.id = o.job_id),
                (SELECT trace FROM proposal WHERE proposal.id = o.job_id)) AS trace,
            coalesce((SELECT trial FROM job WHERE job.id = o.job_id),
                (SELECT trial FROM proposal WHERE proposal.id = o.job_id)) AS trial
        FROM outbox o ORDER BY number LIMIT $1";
    let own: Vec<OutboxEvent> = sql::typed(db, sql, vec![most.into()]).await?;
    // What one row tells enters together, since it goes with the row.
    let mut rows: Vec<Vec<OutboxEvent>> = own.into_iter().map(|event| vec![event]).collect();
    rows.extend(changes(db, most).await?);
    rows.sort_by_key(|told| told.first().map(|event| event.number));
    rows.truncate(usize::try_from(most).unwrap_or_default());
    Ok(rows.concat())
}

/// Gives the turn away, so that another node has it at once.
pub async fn leave(db: &impl ConnectionTrait, node: &str) -> Result<(), StoreError> {
    sql::run(db, "UPDATE outbox_turn SET until = '-infinity' WHERE node = $1", vec![node.into()])
        .await?;
    Ok(())
}

/// What jobs have become, as events; those of one change together.
async fn changes(
    db: &impl ConnectionTrait,
    most: i64,
) -> Result<Vec<Vec<OutboxEvent>>, StoreError> {
    // Each job by its key, whatever was known of the tables when this was planned.
    let sql =
        "SELECT c.number, c.at, c.job_id, c.was, c.state, c.begins, c.resumed, c.effect, c.failure,
            j.*
        FROM (SELECT * FROM job_change ORDER BY number LIMIT $1) c CROSS JOIN LATERAL
            (SELECT runbook, target, rule, launched_by, parent, urgency, chain, created_at, trace,
            trial FROM job
            WHERE id = c.job_id OFFSET 0) j";
    Ok(sql::typed::<ChangeRow>(db, sql, vec![most.into()])
        .await?
        .into_iter()
        .map(|row| row.events())
        .collect())
}

#[derive(FromQueryResult)]
struct ChangeRow {
    number: i64,
    at: DateTime<Utc>,
    job_id: i64,
    was: Option<Stored<JobState>>,
    state: Stored<JobState>,
    begins: bool,
    resumed: bool,
    effect: Option<Stored<JobEffect>>,
    failure: Option<String>,
    runbook: String,
    target: String,
    rule: Option<String>,
    launched_by: Option<StoredPrincipal>,
    parent: Option<i64>,
    urgency: i16,
    chain: Option<Value>,
    created_at: DateTime<Utc>,
    trace: Option<String>,
    trial: Option<Stored<Trial>>,
}

impl ChangeRow {
    fn events(&self) -> Vec<OutboxEvent> {
        let change = StateChange {
            from: self.was.as_ref().map(|was| was.0),
            to: self.state.0,
            begins: self.begins,
            resumed: self.resumed,
        };
        let told: Vec<JobChange> = change.events().collect();
        let last = told.len().saturating_sub(1);
        let events = told.into_iter().enumerate();
        events.map(|(n, told)| self.event(told, last - n, change.to)).collect()
    }

    /// What is told of it, with so much behind it. What comes before the last is told as if it had
    /// been seen then: nothing is known of an end.
    fn event(&self, told: JobChange, behind: usize, state: JobState) -> OutboxEvent {
        let is_last = behind == 0;
        let state = if is_last { state } else { JobState::Running };
        let effect = self.effect.as_ref().filter(|_| is_last).map(|effect| effect.0);
        let failure = self.failure.as_deref().filter(|_| is_last);
        let labels = [
            ("job", Some(self.job_id.to_string())),
            ("runbook", Some(self.runbook.clone())),
            ("rule", self.rule.clone()),
            ("effect", effect.map(|effect| effect.to_string())),
            ("parent", self.parent.map(|parent| parent.to_string())),
        ];
        let labels: Map<String, Value> = labels
            .into_iter()
            .filter_map(|(name, text)| Some((name.to_owned(), text?.into())))
            .collect();
        let alert = json!({
            "kind": format!("job.{told}"),
            "severity": if state.is_grave() { "minor" } else { "indeterminate" },
            "state": "noted",
            "resource": self.target,
            "summary": self.summary(told, effect, failure),
            "labels": labels,
            "body": {
                "job": {
                    "id": self.job_id, "runbook": self.runbook, "target": self.target,
                    "state": state, "effect": effect, "failure": failure, "rule": self.rule,
                    "launched_by": self.launched_by.as_ref().map(|by| &by.0), "parent": self.parent,
                    "urgency": self.urgency,
                },
                "chain": self.chain.clone().unwrap_or_else(|| json!([])),
            },
        });
        // Numbers of jobs begin anew in another installation; with the moment of the dispatch they
        // do not come again.
        let (job, made) = (self.job_id, self.created_at.timestamp_micros());
        let mut id = format!("job-{job}-{made}-{}", self.number);
        if !is_last {
            id.push_str(&format!("-{told}"));
        }
        let (trace, trial) = (self.trace.clone(), self.trial);
        OutboxEvent { number: self.number, id, at: self.at, job_id: job, alert, trace, trial }
    }

    fn summary(&self, told: JobChange, effect: Option<JobEffect>, failure: Option<&str>) -> String {
        let what = format!("job {} ({}) {told}", self.job_id, self.runbook);
        let more = match (failure, effect) {
            (Some(failure), _) if told != JobChange::Started => format!(": {failure}"),
            (_, Some(effect @ (JobEffect::Confirmed | JobEffect::Unconfirmed))) => {
                format!(", effect {effect}")
            }
            _ => String::new(),
        };
        (what + &more).chars().take(LONGEST_SUMMARY).collect()
    }
}
