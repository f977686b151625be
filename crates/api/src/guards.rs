//! Guards: what they limit, what they hold, and their circuits.

use arvok_core::{Role, guard::Otherwise};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A guard as it stands.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GuardItem {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// Its version.
    pub version: i32,
    /// Which jobs it concerns, in words.
    pub concerns: String,
    /// Its lines, in words, each with how it stands.
    pub lines: Vec<GuardLine>,
    /// `hold` or `refuse`: what becomes of a job that may not begin.
    #[schema(schema_with = crate::words::one::<Otherwise>)]
    pub otherwise: Otherwise,
    /// The least role that may overrule it, and say that a circuit goes on.
    #[schema(schema_with = crate::words::one::<Role>)]
    pub overrule: Role,
    /// How many jobs it holds.
    pub holds: i64,
    /// Its circuits that are open: rules propose these runbooks, and dispatch none.
    pub circuits: Vec<CircuitItem>,
}

/// A line of a guard.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GuardLine {
    /// The line, as in `at_once`.
    pub line: String,
    /// What it allows, in words.
    pub allows: String,
    /// How it stands, in words; empty where there is nothing to count.
    pub stands: String,
    /// How much of it is used, from 0 to 1 and above; absent where there is nothing to count.
    pub used: Option<f64>,
}

/// A circuit that is open.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CircuitItem {
    /// The runbook.
    pub runbook: String,
    /// Since when.
    pub since: DateTime<Utc>,
    /// How many of its jobs had failed, or had not helped.
    pub failures: u32,
}

/// That rules dispatch again.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ResumeGuard {
    /// The runbook. Left out: all whose circuits are open.
    #[serde(default)]
    pub runbook: Option<String>,
    /// Why.
    pub reason: String,
}

/// What goes on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GuardResumed {
    /// How many circuits were open.
    pub circuits: u64,
}
