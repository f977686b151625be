//! The outbox: events that are written with what they tell of, and enter as alerts of the source
//! `arvok` afterwards.
//!
//! A row goes when its alert is recorded. Whoever dies between the two leaves it, and it enters
//! again under the same id, by which it is known. One node lets them enter at a time, so that none
//! is read by all.

use crate::{StoreError, sql, stored::Stored};
use arvok_core::job::{JobEffect, JobState};
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
    /// The job that it is about.
    pub job_id: i64,
    /// The alert as it is written.
    pub alert: Value,
    /// The span of that job, as a `traceparent`.
    pub trace: Option<String>,
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
            (SELECT trace FROM job WHERE job.id = o.job_id) AS trace
        FROM outbox o ORDER BY number LIMIT $1";
    let mut told: Vec<OutboxEvent> = sql::typed(db, sql, vec![most.into()]).await?;
    told.extend(changes(db, most).await?);
    told.sort_by_key(|told| told.number);
    told.truncate(usize::try_from(most).unwrap_or_default());
    Ok(told)
}

/// Gives the turn away, so that another node has it at once.
pub async fn leave(db: &impl ConnectionTrait, node: &str) -> Result<(), StoreError> {
    sql::run(db, "UPDATE outbox_turn SET until = '-infinity' WHERE node = $1", vec![node.into()])
        .await?;
    Ok(())
}

/// What jobs have become, as events.
async fn changes(db: &impl ConnectionTrait, most: i64) -> Result<Vec<OutboxEvent>, StoreError> {
    // Each job by its key, whatever was known of the tables when this was planned.
    let sql = "SELECT c.number, c.at, c.job_id, c.word, c.state, c.effect, c.failure, j.*
        FROM (SELECT * FROM job_change ORDER BY number LIMIT $1) c CROSS JOIN LATERAL
            (SELECT runbook, target, rule, launched_by, parent, urgency, chain, created_at, trace
            FROM job
            WHERE id = c.job_id OFFSET 0) j";
    Ok(sql::typed::<ChangeRow>(db, sql, vec![most.into()])
        .await?
        .into_iter()
        .map(ChangeRow::told)
        .collect())
}

#[derive(FromQueryResult)]
struct ChangeRow {
    number: i64,
    at: DateTime<Utc>,
    job_id: i64,
    word: String,
    state: Stored<JobState>,
    effect: Option<Stored<JobEffect>>,
    failure: Option<String>,
    runbook: String,
    target: String,
    rule: Option<String>,
    launched_by: Option<String>,
    parent: Option<i64>,
    urgency: i16,
    chain: Option<Value>,
    created_at: DateTime<Utc>,
    trace: Option<String>,
}

impl ChangeRow {
    fn told(self) -> OutboxEvent {
        let (state, effect) = (self.state.0, self.effect.map(|effect| effect.0));
        let grave = matches!(
            state,
            JobState::Failed | JobState::Expired | JobState::Refused | JobState::Unsure
        );
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
            "kind": format!("job.{}", self.word),
            "severity": if grave { "minor" } else { "indeterminate" },
            "state": "noted",
            "resource": self.target,
            "summary": self.summary(),
            "labels": labels,
            "body": {
                "job": {
                    "id": self.job_id, "runbook": self.runbook, "target": self.target,
                        "state": state,
                    "effect": effect, "failure": self.failure, "rule": self.rule,
                        "launched_by": self.launched_by,
                    "parent": self.parent, "urgency": self.urgency,
                },
                "chain": self.chain.unwrap_or_else(|| json!([])),
            },
        });
        // Numbers of jobs begin anew in another installation; with the moment of the dispatch they
        // do not come again.
        let id =
            format!("job-{}-{}-{}", self.job_id, self.created_at.timestamp_micros(), self.number);
        OutboxEvent {
            number: self.number,
            id,
            at: self.at,
            job_id: self.job_id,
            alert,
            trace: self.trace,
        }
    }

    fn summary(&self) -> String {
        let what = format!("job {} ({}) {}", self.job_id, self.runbook, self.word);
        let more = match (&self.failure, self.effect.map(|effect| effect.0)) {
            (Some(failure), _) if self.word != "started" => format!(": {failure}"),
            (_, Some(effect @ (JobEffect::Confirmed | JobEffect::Unconfirmed))) => {
                format!(", effect {effect}")
            }
            _ => String::new(),
        };
        (what + &more).chars().take(LONGEST_SUMMARY).collect()
    }
}
