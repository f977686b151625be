//! What is stored: how much, and for how long.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// What the database holds. Rows are the database's own estimate.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Storage {
    /// All tables with their indexes, in bytes.
    pub bytes: i64,
    /// How long things are kept.
    pub kept: RetentionTimes,
    /// How long an id that comes again is recognised at least, in seconds.
    pub ids_known_seconds: i64,
    /// By kind of record.
    pub kinds: Vec<StoredKind>,
    /// Alerts and verdicts by day, the newest first.
    pub days: Vec<StoredDay>,
}

/// All records of a kind.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StoredKind {
    /// What they are.
    pub name: String,
    /// How many, about.
    pub rows: i64,
    /// With their indexes, in bytes.
    pub bytes: i64,
}

/// A day of alerts.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StoredDay {
    /// When it began.
    pub since: DateTime<Utc>,
    /// When it ended; absent for the day that goes on.
    pub until: Option<DateTime<Utc>>,
    /// When it will be dropped.
    pub goes_at: Option<DateTime<Utc>>,
    /// Alerts, about.
    pub alerts: i64,
    /// Alerts with their indexes, in bytes.
    pub alert_bytes: i64,
    /// Verdicts, about.
    pub verdicts: i64,
    /// Verdicts with their indexes, in bytes.
    pub verdict_bytes: i64,
}

/// How long things are kept, the same for all nodes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RetentionTimes {
    /// Alerts and their verdicts, in seconds.
    pub alerts_seconds: i64,
    /// Those of single sources, by the source's name.
    pub sources_seconds: BTreeMap<String, i64>,
    /// Payloads that cannot be read, in seconds.
    pub unreadable_seconds: i64,
    /// The tries of jobs that have ended, in seconds; the jobs themselves stay.
    pub attempts_seconds: i64,
}

/// A change of how long things are kept; what is not named stays as it is.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct KeepRequest {
    /// Alerts and their verdicts: a length such as `14d`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub alerts: Option<String>,
    /// Those of single sources; null: like those of the others.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub sources: BTreeMap<String, Option<String>>,
    /// Payloads that cannot be read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unreadable: Option<String>,
    /// The tries of jobs that have ended.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub attempts: Option<String>,
    /// Only tell what would change and go.
    pub dry_run: bool,
}

/// What a change of how long things are kept does.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RetentionChange {
    /// As it was.
    pub before: RetentionTimes,
    /// As it is then.
    pub after: RetentionTimes,
    /// What goes within the next minutes.
    pub goes: Goes,
}

/// What is older than it is kept.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Goes {
    /// Whole days of alerts.
    pub days: i64,
    /// Alerts, of those days and of sources that are kept for less; of a day no more than
    /// `most_counted` are counted.
    pub alerts: i64,
    /// Payloads that cannot be read, counted up to `most_counted`.
    pub unreadable: i64,
    /// Tries of jobs, counted up to `most_counted`.
    pub attempts: i64,
    /// Where counting ends: there may be more.
    pub most_counted: i64,
}
