//! Alarms.

use crate::{AlertItem, JobItem, MuteItem, WriteBackState};
use arvok_core::{
    AlertState, Principal, Severity,
    alarm::AlarmAct,
    job::{JobEffect, JobState},
};
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
    #[schema(schema_with = crate::words::one::<Severity>)]
    pub severity: Severity,
    /// `raised` or `cleared`.
    #[schema(schema_with = crate::words::one::<AlertState>)]
    pub state: AlertState,
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
    /// Who acknowledged it last, since it was raised.
    #[serde(default)]
    #[schema(schema_with = crate::words::principal_or_none)]
    pub acknowledged_by: Option<Principal>,
    /// Whether it is one of trials: made up, and counted nowhere.
    #[serde(default)]
    pub trial: bool,
    /// The newest job for it.
    pub job: Option<i64>,
    /// That job's state.
    #[schema(schema_with = crate::words::one_or_none::<JobState>)]
    pub job_state: Option<JobState>,
    /// That job's runbook.
    pub job_runbook: Option<String>,
    /// That job's effect.
    #[schema(schema_with = crate::words::one_or_none::<JobEffect>)]
    pub job_effect: Option<JobEffect>,
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
    /// Mutes that cover it now or will: for all rules, or for one that its newest alerts concern.
    #[serde(default)]
    pub mutes: Vec<MuteItem>,
    /// What people did about it, the newest first, 50 at most.
    #[serde(default)]
    pub acts: Vec<AlarmActItem>,
}

/// What a person did about an alarm.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AlarmActItem {
    /// When.
    pub at: DateTime<Utc>,
    /// Who.
    #[schema(schema_with = crate::words::principal)]
    pub by: Principal,
    /// What.
    #[schema(schema_with = crate::words::one::<AlarmAct>)]
    pub act: AlarmAct,
    /// In that one's words.
    pub text: String,
    /// Whether it was done at the sender as well, where its source says how.
    #[serde(default)]
    pub at_sender: Option<WriteBackItem>,
}

/// What became of an act at the sender of the alarm.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WriteBackItem {
    /// How it stands.
    #[schema(schema_with = crate::words::one::<WriteBackState>)]
    pub state: WriteBackState,
    /// How often it was tried.
    pub tries: i32,
    /// When it is tried again.
    pub next_at: Option<DateTime<Utc>>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// Why it is not done, or is not known to be.
    pub reason: Option<String>,
}

/// What a person does about an alarm.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAlarmAct {
    /// `acknowledged`: somebody sees to it; `noted`: something is said of it; `cleared`: it is
    /// over, though its source does not say so.
    #[schema(schema_with = crate::words::one::<AlarmAct>)]
    pub act: AlarmAct,
    /// In words; to clear and to note need some.
    #[serde(default)]
    pub text: String,
}
