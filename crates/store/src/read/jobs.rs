//! Jobs.

use super::{Conditions, page};
use crate::{StoreError, sql};
use arvok_api::{Attempt, JobItem, Page};
use arvok_core::job::Progress;
use chrono::{DateTime, Utc};
use sea_orm::DatabaseConnection;
use serde_json::Value;

/// Which jobs.
#[derive(Clone, Debug, Default)]
pub struct JobFilter {
    /// In one of these states.
    pub states: Vec<String>,
    /// With this effect.
    pub effect: Option<String>,
    /// Of this runbook.
    pub runbook: Option<String>,
    /// Dispatched by this rule.
    pub rule: Option<String>,
    /// On this target.
    pub target: Option<String>,
    /// For this alarm.
    pub alarm: Option<i64>,
    /// Dispatched since.
    pub since: Option<DateTime<Utc>>,
    /// Older than this handle.
    pub after: Option<i64>,
    /// At most so many.
    pub limit: u64,
}

pub(super) const ITEM: &str = "j.id, j.runbook, j.runbook_version, j.target, j.state, j.effect, j.failure,
    (ARRAY['low','normal','high','urgent'])[j.urgency + 1] AS urgency, j.rule, j.alert_seq AS alert, j.alarm_id AS alarm,
    j.created_at, j.deadline, j.started_at, j.finished_at, coalesce((j.progress ->> 'step')::bigint, 0) AS steps_done";

/// A page of jobs, newest first, without what only the runbook knows.
pub async fn jobs(db: &DatabaseConnection, filter: JobFilter) -> Result<Page<JobItem>, StoreError> {
    let mut c = Conditions::default();
    if !filter.states.is_empty() {
        c.add("j.state = ANY(?)", filter.states);
    }
    c.maybe("j.effect = ?", filter.effect);
    c.maybe("j.runbook = ?", filter.runbook);
    c.maybe("j.rule = ?", filter.rule);
    c.maybe("j.target = ?", filter.target);
    c.maybe("j.alarm_id = ?", filter.alarm);
    c.maybe("j.created_at >= ?", filter.since);
    c.maybe("j.id < ?", filter.after);
    let limit = filter.limit;
    let sql = format!("SELECT {ITEM} FROM job j {} ORDER BY j.id DESC LIMIT {}", c.clause(), limit + 1);
    Ok(page(sql::rows(db, &sql, c.values).await?, limit, |j: &JobItem| j.id))
}

/// One job as kept, with its tries.
#[derive(Clone, Debug, serde::Deserialize)]
pub struct JobRow {
    /// In short.
    #[serde(flatten)]
    pub item: JobItem,
    /// Its inputs.
    pub inputs: Value,
    /// What it gave.
    pub outputs: Option<Value>,
    /// Where it stands.
    pub progress: Progress,
    /// Why it was dispatched.
    pub reason: Option<String>,
    /// Tries with the place of their step.
    pub attempts: Vec<StepAttempt>,
}

/// A try and the place of its step.
#[derive(Clone, Debug, serde::Deserialize)]
pub struct StepAttempt {
    /// From zero.
    pub step: usize,
    /// The try.
    #[serde(flatten)]
    pub attempt: Attempt,
}

/// One job.
pub async fn job(db: &DatabaseConnection, id: i64) -> Result<Option<JobRow>, StoreError> {
    let sql = format!(
        "SELECT {ITEM}, j.inputs, j.outputs, j.progress,
            j.reason,
            coalesce((SELECT jsonb_agg(to_jsonb(t) - 'job_id' ORDER BY t.step, t.attempt) FROM attempt t WHERE t.job_id = j.id),
                '[]') AS attempts
        FROM job j WHERE j.id = $1"
    );
    sql::maybe(db, &sql, vec![id.into()]).await
}
