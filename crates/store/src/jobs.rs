//! Jobs as rows: claimed by one node at a time, held by a lease, their progress kept step by step.
//!
//! Leases are measured by the database's clock alone, so nodes need not agree on theirs.

use crate::{StoreError, changes, sql};
use arvok_api::Change;
use arvok_core::job::{JobEffect, JobState, Progress};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DatabaseConnection, DatabaseTransaction, TransactionTrait, Value};

/// How long a node holds a job without renewing.
pub const LEASE_SECONDS: i32 = 10;

/// A job that a node holds.
#[derive(Clone, Debug, serde::Deserialize)]
pub struct Held {
    /// Its number.
    pub id: i64,
    /// Its runbook.
    pub runbook: String,
    /// The version it was dispatched with.
    pub runbook_version: i32,
    /// Its inputs.
    pub inputs: serde_json::Value,
    /// Its target.
    pub target: String,
    /// What set it off.
    pub alert_seq: Option<i64>,
    /// The alarm of that alert.
    pub alarm_id: Option<i64>,
    /// Where it stands.
    pub progress: Progress,
}

const CLAIM: &str = "UPDATE job SET state = 'running', node = $1, wake_at = NULL,
        lease_until = now() + make_interval(secs => $2), started_at = coalesce(started_at, now())
    WHERE id = (
        SELECT id FROM job j
        WHERE (state = 'queued' AND (deadline IS NULL OR deadline > now()) AND NOT EXISTS (
                SELECT 1 FROM job o WHERE o.target = j.target AND o.state IN ('running', 'waiting', 'unsure')))
            OR (state = 'waiting' AND wake_at <= now())
            OR (state = 'running' AND lease_until < now())
        ORDER BY state = 'queued', urgency DESC, deadline, id
        LIMIT 1 FOR UPDATE SKIP LOCKED)
    RETURNING id, runbook, runbook_version, inputs, target, alert_seq, alarm_id, progress";

/// Takes the next job that is due: first what waits or was left behind, then by urgency,
/// deadline and age.
pub async fn claim(db: &DatabaseConnection, node: &str) -> Result<Option<Held>, StoreError> {
    let values = || vec![node.into(), LEASE_SECONDS.into()];
    match sql::returned::<Held>(db, CLAIM, values()).await {
        Ok(held) => Ok(held.into_iter().next()),
        // Another node took a job on the same target at the same moment; its turn comes.
        Err(e) if e.is_passing() => Ok(None),
        Err(e) => Err(e),
    }
}

/// Renews all leases of a node.
pub async fn renew(db: &DatabaseConnection, node: &str) -> Result<(), StoreError> {
    let sql = "UPDATE job SET lease_until = now() + make_interval(secs => $2) WHERE node = $1 AND state = 'running'";
    sql::run(db, sql, vec![node.into(), LEASE_SECONDS.into()]).await?;
    Ok(())
}

/// Ends the jobs whose deadline passed before they were started.
pub async fn expire(db: &DatabaseConnection) -> Result<usize, StoreError> {
    #[derive(serde::Deserialize)]
    struct Expired {
        id: i64,
    }
    let sql = "UPDATE job SET state = 'expired', effect = 'not checked', finished_at = now(),
            failure = 'not started before its deadline'
        WHERE state = 'queued' AND deadline <= now() RETURNING id";
    let tx = db.begin().await?;
    let expired: Vec<Expired> = sql::returned(&tx, sql, vec![]).await?;
    let ids: Vec<i64> = expired.iter().map(|e| e.id).collect();
    if !ids.is_empty() {
        changes::announce(&tx, Change { jobs: ids.clone(), ..Change::default() }).await?;
    }
    tx.commit().await?;
    Ok(ids.len())
}

/// What is recorded after an event of a job, in one transaction.
#[derive(Clone, Debug, Default)]
pub struct Record {
    /// Tries that began.
    pub began: Vec<Began>,
    /// Tries that ended.
    pub ended: Vec<Ended>,
    /// What becomes of the job.
    pub then: Then,
}

/// A try of a step that began.
#[derive(Clone, Debug)]
pub struct Began {
    /// The place of the step, from zero.
    pub step: i32,
    /// Which try, from one.
    pub attempt: i32,
    /// What was given.
    pub give: serde_json::Value,
}

/// A try of a step that ended.
#[derive(Clone, Debug)]
pub struct Ended {
    /// The place of the step, from zero.
    pub step: i32,
    /// Which try, from one.
    pub attempt: i32,
    /// `done`, `failed`, `unsure`.
    pub state: &'static str,
    /// What it gave.
    pub output: Option<serde_json::Value>,
    /// What went wrong.
    pub error: Option<String>,
}

/// What becomes of a job after an event.
#[derive(Clone, Debug, Default)]
pub enum Then {
    /// The node goes on with it.
    #[default]
    GoOn,
    /// It is let go until then, or until its alarm is cleared.
    Wait(DateTime<Utc>),
    /// Its state is final, or unsure.
    End {
        /// The state.
        state: JobState,
        /// Whether it helped.
        effect: Option<JobEffect>,
        /// Why not.
        failure: Option<String>,
        /// What it gave.
        outputs: serde_json::Value,
    },
}

/// Keeps a job's progress and records; fails if another node holds the job by now.
pub async fn record(
    db: &DatabaseConnection,
    node: &str,
    id: i64,
    progress: &Progress,
    record: Record,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let tx = db.begin().await?;
    if matches!(record.then, Then::Wait(_)) {
        // Alarm before job, as intake does: a clearing under way is waited for and then seen
        // below, and one that comes later finds the job waiting. Without it each could miss the
        // other, and the job would sleep through the proof of its effect.
        let lock = "SELECT 1 FROM alarm WHERE id = (SELECT alarm_id FROM job WHERE id = $1) FOR SHARE";
        tx.query_all_raw(sql::statement(lock, vec![id.into()])).await?;
    }
    let (sql, mut values) = next_state(&record.then);
    values.splice(0..0, [Value::from(id), node.into(), serde_json::to_value(progress)?.into(), now.into()]);
    if sql::run(&tx, &sql, values).await? == 0 {
        return Err(StoreError::LeaseLost);
    }
    write_attempts(&tx, id, record, now).await?;
    changes::announce(&tx, Change { jobs: vec![id], ..Change::default() }).await?;
    Ok(tx.commit().await?)
}

/// The update for what becomes of a job; `$1` id, `$2` node, `$3` progress, `$4` now.
fn next_state(then: &Then) -> (String, Vec<Value>) {
    let (set, values): (&str, Vec<Value>) = match then {
        Then::GoOn => ("started_at = coalesce(started_at, $4)", vec![]),
        // An alarm cleared between looking at it and letting go must not be missed.
        Then::Wait(until) => (
            "state = 'waiting', node = NULL, lease_until = NULL, started_at = coalesce(started_at, $4), wake_at =
                CASE WHEN EXISTS (SELECT 1 FROM alarm a WHERE a.id = job.alarm_id AND a.state = 'cleared'
                    AND $3::jsonb -> 'phase' ? 'confirming') THEN now() ELSE $5 END",
            vec![(*until).into()],
        ),
        Then::End { state, effect, failure, outputs } => (
            "state = $5, effect = $6, failure = $7, outputs = $8, node = NULL, lease_until = NULL,
                finished_at = CASE WHEN $5 = 'unsure' THEN NULL ELSE $4 END",
            vec![
                state.as_str().into(),
                effect.map(JobEffect::as_str).map(str::to_owned).into(),
                failure.clone().into(),
                outputs.clone().into(),
            ],
        ),
    };
    (format!("UPDATE job SET progress = $3, {set} WHERE id = $1 AND node = $2 AND state = 'running'"), values)
}

async fn write_attempts(
    tx: &DatabaseTransaction,
    id: i64,
    record: Record,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    for Began { step, attempt, give } in record.began {
        let sql = "INSERT INTO attempt (job_id, step, attempt, state, started_at, give)
            VALUES ($1, $2, $3, 'running', $4, $5) ON CONFLICT DO NOTHING";
        sql::run(tx, sql, vec![id.into(), step.into(), attempt.into(), now.into(), give.into()]).await?;
    }
    for Ended { step, attempt, state, output, error } in record.ended {
        let sql = "UPDATE attempt SET state = $4, finished_at = $5, output = $6, error = $7
            WHERE job_id = $1 AND step = $2 AND attempt = $3";
        let values = vec![
            id.into(),
            step.into(),
            attempt.into(),
            state.into(),
            now.into(),
            Value::Json(output.map(Box::new)),
            error.into(),
        ];
        sql::run(tx, sql, values).await?;
    }
    Ok(())
}

/// Whether an alarm is raised.
pub async fn alarm_raised(db: &DatabaseConnection, alarm: i64) -> Result<bool, StoreError> {
    let found =
        db.query_one_raw(sql::statement("SELECT 1 FROM alarm WHERE id = $1 AND state = 'raised'", vec![alarm.into()]));
    Ok(found.await?.is_some())
}

/// Takes an unsure job for a person's word; none if it is not unsure.
pub async fn claim_unsure(db: &DatabaseConnection, node: &str, id: i64) -> Result<Option<Held>, StoreError> {
    let sql = "UPDATE job SET state = 'running', node = $1, lease_until = now() + make_interval(secs => $2)
        WHERE id = $3 AND state = 'unsure'
        RETURNING id, runbook, runbook_version, inputs, target, alert_seq, alarm_id, progress";
    let held: Vec<Held> = sql::returned(db, sql, vec![node.into(), LEASE_SECONDS.into(), id.into()]).await?;
    Ok(held.into_iter().next())
}
