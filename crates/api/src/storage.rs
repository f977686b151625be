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
    /// How long alerts and their verdicts are kept, in seconds.
    pub alerts_kept_seconds: i64,
    /// The same of single sources.
    pub sources_kept_seconds: BTreeMap<String, i64>,
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
