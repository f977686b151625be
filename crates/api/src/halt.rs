//! The halt of all jobs.

use arvok_core::Principal;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// While it stands, no node begins a job or takes one up.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Halt {
    /// Since when.
    pub since: DateTime<Utc>,
    /// By whom: a token, or a node at its start.
    #[schema(schema_with = crate::words::principal)]
    pub by: Principal,
    /// Why, in that one's words.
    pub reason: String,
    /// Whether what is under way is paused as well, until it is lifted: calls that are out come to
    /// their end, and nothing new leaves. Else it goes on.
    #[serde(default)]
    pub running: bool,
}

/// Whether jobs are halted.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Halted {
    /// The halt that stands; null: jobs are begun.
    pub halt: Option<Halt>,
}

/// Halts all jobs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetHalt {
    /// Why, for those who wonder.
    pub reason: String,
    /// Whether what is under way is paused as well.
    #[serde(default)]
    pub running: bool,
}
