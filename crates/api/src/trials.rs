//! Trials.

use crate::{CallAnswer, DryStep};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

/// An alert that is made up: one of `alert` and `payload`.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewTrial {
    /// Of this source.
    pub source: String,
    /// The alert in the normal form, or a list of some.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Value>)]
    pub alert: Option<Value>,
    /// What its sender would send; it is read by the source's lines.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Value>)]
    pub payload: Option<Value>,
    /// Its jobs act. It stays marked.
    #[serde(default)]
    pub acting: bool,
}

/// What was cleared away of trials.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ClearedTrials {
    /// Alerts, with what rules decided about them.
    pub alerts: u64,
    /// Alarms.
    pub alarms: u64,
    /// Jobs.
    pub jobs: u64,
    /// Proposals.
    pub proposals: u64,
    /// Jobs that are not over: they stay, with what they are about.
    pub under_way: u64,
}

/// One step of a runbook that is tried by itself.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TryStep {
    /// The runbook as it is written; or else `runbook`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// The name of a published runbook; with a `text` of several that of one of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub runbook: Option<String>,
    /// The `id` of the step.
    pub step: String,
    /// Inputs of the runbook; defaults are filled in.
    #[serde(default)]
    #[schema(value_type = std::collections::BTreeMap<String, Value>)]
    pub inputs: Map<String, Value>,
    /// What other steps gave, by their ids, and items of lists, by their names.
    #[serde(default)]
    #[schema(value_type = std::collections::BTreeMap<String, Value>)]
    pub outputs: Map<String, Value>,
    /// The handle of the alert that the job would be about.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub alert: Option<i64>,
}

/// What a step does that is tried by itself.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TriedStep {
    /// What it would do.
    pub step: DryStep,
    /// Whether it was done: it only looks, and all of it is known.
    pub sent: bool,
    /// The answer as it came.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<CallAnswer>,
    /// What it gave.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Value>)]
    pub output: Option<Value>,
    /// Whether the condition of a check held.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub holds: Option<bool>,
    /// What went wrong.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
}
