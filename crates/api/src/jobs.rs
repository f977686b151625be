//! Jobs and their steps through the steps.

use crate::{AlertItem, StepState};
use arvok_core::{
    job::{JobEffect, JobState},
    rule::Urgency,
};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// One job.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobItem {
    /// The handle.
    pub id: i64,
    /// The runbook's name.
    pub runbook: String,
    /// Its version at the time.
    pub runbook_version: i32,
    /// What it acts on.
    pub target: String,
    /// `queued`, `running`, `waiting`, `succeeded`, `failed`, `expired`, `refused`, `unsure`.
    #[schema(schema_with = crate::words::job_state)]
    pub state: JobState,
    /// `confirmed`, `unconfirmed`, `not checked`; absent until it is known.
    #[schema(schema_with = crate::words::effect_or_none)]
    pub effect: Option<JobEffect>,
    /// Why it did not succeed.
    pub failure: Option<String>,
    /// `low`, `normal`, `high`, `urgent`.
    #[schema(schema_with = crate::words::urgency)]
    pub urgency: Urgency,
    /// The rule that dispatched it.
    pub rule: Option<String>,
    /// The alert that set it off.
    pub alert: Option<i64>,
    /// The alarm of that alert.
    pub alarm: Option<i64>,
    /// When it was dispatched.
    pub created_at: DateTime<Utc>,
    /// Not started after this.
    pub deadline: Option<DateTime<Utc>>,
    /// When a node first took it up.
    pub started_at: Option<DateTime<Utc>>,
    /// When its state became final.
    pub finished_at: Option<DateTime<Utc>>,
    /// Steps done.
    pub steps_done: i64,
    /// Steps in all; 0 when the runbook is not known any more.
    #[serde(default)]
    pub steps: i64,
    /// What is going on, in words.
    #[serde(default)]
    pub doing: String,
}

/// One job with everything known about it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobDetail {
    /// In short.
    pub job: JobItem,
    /// Its inputs, defaults filled in.
    #[schema(value_type = Value)]
    pub inputs: Value,
    /// What it gave.
    #[schema(value_type = Value)]
    pub outputs: Option<Value>,
    /// The steps of its runbook and how each went.
    pub steps: Vec<JobStep>,
    /// How the effect is proved; absent if the runbook asks for none.
    pub confirm: Option<String>,
    /// The alert that set it off.
    pub alert: Option<AlertItem>,
    /// The reason of the verdict that dispatched it.
    pub reason: Option<String>,
}

/// A step of a steps.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobStep {
    /// Its `id` in the runbook.
    pub id: String,
    /// `call` or `require`.
    pub kind: String,
    /// One line for people.
    pub summary: Option<String>,
    /// For calls: the operation and the connection.
    pub does: String,
    /// `next`, `running`, `again` while it waits to be tried again, `done`, `failed`, `unsure`, or `not run` if the job ended before.
    pub state: StepState,
    /// The tries.
    pub attempts: Vec<Attempt>,
}

/// One try of a step.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Attempt {
    /// From one.
    pub attempt: i32,
    /// `running`, `done`, `failed`, `unsure`.
    pub state: StepState,
    /// When it began.
    pub started_at: DateTime<Utc>,
    /// When it ended.
    pub finished_at: Option<DateTime<Utc>>,
    /// What it was given.
    #[schema(value_type = Value)]
    pub give: Value,
    /// What it gave.
    #[schema(value_type = Value)]
    pub output: Option<Value>,
    /// What went wrong.
    pub error: Option<String>,
}

/// What a person says of an unsure step.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Resolve {
    /// What became of it.
    #[serde(rename = "as")]
    pub word: StepWord,
}

/// What became of an unsure step.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum StepWord {
    /// It was done; the job goes on behind it.
    Done,
    /// It was not done; it is done again.
    Again,
    /// The job ends there as failed.
    Failed,
}
