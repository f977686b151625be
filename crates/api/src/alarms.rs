//! Alarms.

use crate::{AlertItem, JobItem};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One alarm.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlarmItem {
    /// The handle.
    pub id: i64,
    /// The source.
    pub source: String,
    /// What it is about.
    pub resource: String,
    /// Dotted kind.
    pub kind: String,
    /// `indeterminate`, `warning`, `minor`, `major`, `critical`.
    pub severity: String,
    /// `raised` or `cleared`.
    pub state: String,
    /// Of the last alert.
    pub summary: String,
    /// Of the last alert.
    pub value: Option<f64>,
    /// Raising alerts since it was last raised anew.
    pub count: i64,
    /// When it was last raised anew.
    pub raised_at: DateTime<Utc>,
    /// When it was last raised anew, changed in severity, or cleared.
    pub changed_at: DateTime<Utc>,
    /// When it was last cleared.
    pub cleared_at: Option<DateTime<Utc>>,
    /// The newest job for it.
    pub job: Option<i64>,
    /// That job's state.
    pub job_state: Option<String>,
    /// That job's runbook.
    pub job_runbook: Option<String>,
    /// That job's effect.
    pub job_effect: Option<String>,
}

/// One alarm with its alerts and jobs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlarmDetail {
    /// The alarm.
    pub alarm: AlarmItem,
    /// Its newest alerts, 50 at most.
    pub alerts: Vec<AlertItem>,
    /// Its newest jobs, 20 at most.
    pub jobs: Vec<JobItem>,
}
