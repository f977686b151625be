//! Alerts, their verdicts, and payloads that could not be read.

use arvok_core::{AlertState, Severity, Trial, Verdict};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// One alert in the normal form.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlertItem {
    /// The handle.
    pub seq: i64,
    /// The sender's id.
    pub id: String,
    /// The source.
    pub source: String,
    /// Dotted kind.
    pub kind: String,
    /// `indeterminate`, `warning`, `minor`, `major`, `critical`.
    #[schema(schema_with = crate::words::one::<Severity>)]
    pub severity: Severity,
    /// `raised`, `cleared`, `noted`.
    #[schema(schema_with = crate::words::one::<AlertState>)]
    pub state: AlertState,
    /// What it is about.
    pub resource: String,
    /// The sender's clock.
    pub time: DateTime<Utc>,
    /// Our clock.
    pub received: DateTime<Utc>,
    /// One line for people.
    pub summary: String,
    /// What was measured.
    pub value: Option<f64>,
    /// Names and values.
    pub labels: BTreeMap<String, String>,
    /// Whether somebody made it up: `dry`, and nothing leaves for it, or `acting`.
    #[serde(default)]
    #[schema(schema_with = crate::words::one_or_none::<Trial>)]
    pub trial: Option<Trial>,
    /// What the rules decided, in short.
    pub verdicts: Vec<VerdictMark>,
}

/// A rule's decision, in short.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VerdictMark {
    /// The rule's name.
    pub rule: String,
    /// The verdict.
    #[schema(schema_with = crate::words::one::<Verdict>)]
    pub verdict: Verdict,
    /// The job that was dispatched, or the proposal that was made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub job: Option<i64>,
}

/// One alert with its payload and all that followed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlertDetail {
    /// The normal form.
    pub alert: AlertItem,
    /// The payload as it came.
    #[schema(value_type = Value)]
    pub body: Value,
    /// The alarm that it raised or cleared.
    pub alarm: Option<i64>,
    /// What each rule that matched decided.
    pub verdicts: Vec<VerdictItem>,
    /// The trace that it belongs to, as a `traceparent` (W3C Trace Context) with the span of
    /// its sender; absent where the sender names none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trace: Option<String>,
}

/// A rule's decision.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VerdictItem {
    /// The rule's name.
    pub rule: String,
    /// Its version at the time.
    pub rule_version: i32,
    /// The verdict.
    #[schema(schema_with = crate::words::one::<Verdict>)]
    pub verdict: Verdict,
    /// Why, in words with the numbers.
    pub reason: String,
    /// The job or proposal that was set off or joined.
    pub job: Option<i64>,
    /// The tally: a JSON list of the fold's values.
    pub tally: String,
    /// When it was given first.
    pub at: DateTime<Utc>,
    /// When it replaced an earlier one, if it did.
    pub decided_at: Option<DateTime<Utc>>,
}

/// The answer to a delivery.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeliveryAnswer {
    /// Its alerts, in their order.
    pub alerts: Vec<TakenAlert>,
    /// Items that the source's `keep` left out.
    pub left_out: usize,
    /// Items that cannot be read; they are kept, and the others are taken.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unreadable: Vec<KeptItem>,
    /// What is kept since its source does not say yet how it is read.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub caught: Vec<KeptItem>,
}

/// An item of a delivery that cannot be read and is kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KeptItem {
    /// The handle under which it is kept.
    pub id: i64,
    /// Its place in the payload, from zero.
    pub item: Option<usize>,
    /// Why it cannot be read.
    pub reason: String,
}

/// One alert of a delivery.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TakenAlert {
    /// Its id within the source.
    pub id: String,
    /// The handle; absent for a repeated delivery.
    pub seq: Option<i64>,
    /// Whether this id had come before, so that nothing changed.
    pub duplicate: bool,
    /// What is another in the alert that came before under this id: an id that a sender gives
    /// twice. It was not taken, and is kept with what cannot be read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub conflict: Option<String>,
    /// Whether it is a trial: `dry`, and nothing leaves for it, or `acting`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(schema_with = crate::words::one_or_none::<Trial>)]
    pub trial: Option<Trial>,
}

/// A payload that could not be read.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct UnreadableItem {
    /// The handle.
    pub id: i64,
    /// The source.
    pub source: String,
    /// When it came.
    pub received: DateTime<Utc>,
    /// Why it could not be read.
    pub reason: String,
    /// The payload, in a list its first 16 KiB.
    pub payload: String,
    /// Whether there is more of it than stands here.
    #[serde(default)]
    pub is_cut: bool,
    /// What came beside it, by the names of its intake.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub beside: Option<Value>,
    /// Whether it is caught: its source did not say how it is read.
    #[serde(default)]
    pub caught: bool,
    /// Whether the payload is in base64 (RFC 4648, section 4), since it is no text.
    #[serde(default)]
    pub base64: bool,
}

/// Payloads that are to be read again.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RetryRequest {
    /// Of this source.
    pub source: String,
    /// Those behind this handle; from the oldest on if left out.
    #[serde(default)]
    pub after: Option<i64>,
    /// Whether rules decide about what came more than 15 minutes ago as well, as if it came now.
    /// Left out, such alerts are recorded and nothing follows from them.
    #[serde(default)]
    pub acting: bool,
}

/// What became of payloads that were read again, 20 at most.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Retried {
    /// How many could be read now.
    pub read: u64,
    /// The alerts that were taken of them; those that had come before do not count.
    pub alerts: u64,
    /// How many of these are recorded alone: they came long ago.
    #[serde(default)]
    pub recorded_only: u64,
    /// What still cannot be read, and why.
    pub still: Vec<KeptItem>,
    /// Where to go on; absent if there are no more.
    pub next: Option<i64>,
}
