//! The halt of all jobs, and halts of some.

use arvok_core::{Principal, halt::HaltLines};
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
    /// The halt of all that stands; null: jobs are begun, but for those of `some`.
    pub halt: Option<Halt>,
    /// Halts of some jobs.
    #[serde(default)]
    pub some: Vec<SelectiveHalt>,
}

/// Which jobs: every line that is written must hold, and of one line any name or glob.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct HaltCovers {
    /// Names of runbooks; the runs of a plan are jobs of `plan/NAME`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub runbooks: Vec<String>,
    /// Names of the rules that dispatched them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub rules: Vec<String>,
    /// What they act on: `*` within a part, `**` across parts.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub targets: Vec<String>,
}

impl From<HaltCovers> for HaltLines {
    fn from(HaltCovers { runbooks, rules, targets }: HaltCovers) -> Self {
        Self { runbooks, rules, targets }
    }
}

impl From<HaltLines> for HaltCovers {
    fn from(HaltLines { runbooks, rules, targets }: HaltLines) -> Self {
        Self { runbooks, rules, targets }
    }
}

/// While it stands, no node begins a job that it concerns, or takes one up.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SelectiveHalt {
    /// Its number, by which it is lifted.
    pub id: i64,
    /// Which jobs.
    pub covers: HaltCovers,
    /// Since when.
    pub since: DateTime<Utc>,
    /// By whom.
    #[schema(schema_with = crate::words::principal)]
    pub by: Principal,
    /// Why, in that one's words.
    pub reason: String,
    /// Whether what is under way is paused as well, until it is lifted.
    pub running: bool,
}

/// Halts some jobs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewHalt {
    /// Which.
    pub covers: HaltCovers,
    /// Why, for those who wonder.
    pub reason: String,
    /// Whether what is under way is paused as well.
    #[serde(default)]
    pub running: bool,
    /// Only tell which jobs it would concern.
    #[serde(default)]
    pub dry_run: bool,
}

/// How many jobs a halt concerns at this moment.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HaltConcerns {
    /// Those that wait for their turn.
    pub queued: i64,
    /// Those that wait for something within a step.
    pub waiting: i64,
    /// Those that a node executes.
    pub running: i64,
}

/// A halt that has begun, or would.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HaltBegun {
    /// The halt; null of a dry run.
    pub halt: Option<SelectiveHalt>,
    /// The jobs that it concerns.
    pub concerns: HaltConcerns,
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
