//! What runs of runbooks remember for those that come after them.

use crate::filters::number;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::{IntoParams, ToSchema};

/// Which.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct MemoryFilter {
    /// Of this runbook.
    pub runbook: Option<String>,
    /// Of this target.
    pub target: Option<String>,
    /// Also what was remembered before; left out: what stands.
    pub history: bool,
    /// The `next` of the page before.
    #[serde(deserialize_with = "number")]
    pub after: Option<i64>,
    /// At most 500.
    #[param(minimum = 1, maximum = 500)]
    #[serde(deserialize_with = "number")]
    pub limit: Option<u64>,
}

/// What the runs of a runbook on a target remembered at a time: all of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MemoryItem {
    /// The handle.
    pub id: i64,
    /// The runbook.
    pub runbook: String,
    /// The target.
    pub target: String,
    /// The job that wrote it.
    pub job: i64,
    /// The step that did.
    pub step: String,
    /// The values, by name.
    #[schema(value_type = Object)]
    pub remembered: Value,
    /// When.
    pub at: DateTime<Utc>,
}

/// What is to be forgotten: the next run finds what the first did.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ForgetMemory {
    /// The runbook.
    pub runbook: String,
    /// The target.
    pub target: String,
    /// Why.
    pub reason: String,
}
