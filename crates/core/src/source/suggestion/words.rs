//! Names that fields commonly have, and words that commonly stand in them.

use crate::Severity;

/// Names of fields that say of which kind an alert is, the likeliest first.
pub(super) const KIND: [&str; 14] = [
    "kind",
    "alert_type",
    "event_type",
    "check",
    "check_name",
    "metric",
    "test",
    "type",
    "event",
    "rule",
    "alarm",
    "category",
    "name",
    "probe",
];

/// Names of fields that say how bad it is.
pub(super) const SEVERITY: [&str; 9] =
    ["severity", "level", "sev", "priority", "urgency", "grade", "class", "status", "state"];

/// Names of fields that say whether it stands.
pub(super) const STATE: [&str; 10] = [
    "state",
    "status",
    "resolved",
    "cleared",
    "recovered",
    "ok",
    "active",
    "up",
    "action",
    "result",
];

/// Names of fields that say what it is about, and the class of resource that they stand for.
pub(super) const RESOURCE: [(&str, &str); 17] = [
    ("resource", "host"),
    ("hostname", "host"),
    ("host_name", "host"),
    ("host", "host"),
    ("vm", "vm"),
    ("guest", "vm"),
    ("machine", "host"),
    ("server", "host"),
    ("node", "host"),
    ("switch", "switch"),
    ("router", "router"),
    ("device", "device"),
    ("service", "service"),
    ("instance", "host"),
    ("target", "host"),
    ("agent", "host"),
    ("name", "host"),
];

/// Names of fields that name one message of all.
pub(super) const ID: [&str; 8] =
    ["id", "uuid", "guid", "event_id", "alert_id", "message_id", "run", "key"];

/// Names of fields that say when it happened.
pub(super) const TIME: [&str; 10] = [
    "time",
    "timestamp",
    "occurred_at",
    "raised_at",
    "started_at",
    "created_at",
    "at",
    "ts",
    "date",
    "when",
];

/// Names of fields that a person reads.
pub(super) const SUMMARY: [&str; 9] = [
    "summary",
    "message",
    "text",
    "description",
    "title",
    "subject",
    "output",
    "reason",
    "details",
];

/// Names of fields that hold what was measured.
pub(super) const VALUE: [&str; 11] = [
    "value", "measured", "reading", "used", "usage", "percent", "pct", "current", "seconds",
    "load", "count",
];

/// What senders call severities.
const SEVERITIES: [(Severity, &[&str]); 5] = [
    (
        Severity::Critical,
        &["critical", "crit", "fatal", "emergency", "emerg", "down", "disaster", "p1"],
    ),
    (Severity::Major, &["major", "hard", "error", "err", "high", "alert", "p2"]),
    (Severity::Minor, &["minor", "medium", "average", "soft", "p3"]),
    (Severity::Warning, &["warning", "warn", "low", "notice", "p4"]),
    (
        Severity::Indeterminate,
        &["indeterminate", "info", "informational", "unknown", "debug", "p5"],
    ),
];

/// Words for what is over.
const OVER: [&str; 11] = [
    "ok",
    "cleared",
    "clear",
    "resolved",
    "recovered",
    "recovery",
    "normal",
    "closed",
    "up",
    "healthy",
    "pass",
];

/// Words for what stands.
const STANDS: [&str; 11] = [
    "raised",
    "firing",
    "problem",
    "open",
    "active",
    "alerting",
    "down",
    "failed",
    "fail",
    "triggered",
    "bad",
];

/// The severity that a sender's word most likely means.
pub(super) fn severity(word: &str) -> Option<Severity> {
    let word = word.to_ascii_lowercase();
    SEVERITIES.iter().find(|(_, words)| words.contains(&word.as_str())).map(|(s, _)| *s)
}

/// Whether a word says that it is over, or that it stands; none where it says neither.
pub(super) fn is_over(word: &str) -> Option<bool> {
    let word = word.to_ascii_lowercase();
    match (OVER.contains(&word.as_str()), STANDS.contains(&word.as_str())) {
        (true, _) => Some(true),
        (_, true) => Some(false),
        _ => None,
    }
}
