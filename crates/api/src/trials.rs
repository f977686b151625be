//! Trials.

use serde::{Deserialize, Serialize};
use serde_json::Value;
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
