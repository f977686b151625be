//! The normal form of an alert: what every source's payload becomes.
//!
//! Owns the fields, their limits and their text forms. How a payload is turned into this form
//! is [`crate::source`]; what is done with it is [`crate::matcher`] and [`crate::settle`].

mod resource;
mod severity;

pub use resource::{ResourceError, ResourcePath};
pub use severity::{Severity, SeverityError, SeverityRange};

use crate::{
    TraceContext, Trial,
    bounds::{depth_diagnostic, too_deep},
    diagnostic::{Diagnostic, hint},
    text::{clean, clean_json, cut},
};
use chrono::{DateTime, Datelike, SubsecRound, Utc};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// Longest `id`, in bytes.
pub const MAX_ID: usize = 256;
/// Longest `kind`, in bytes.
pub const MAX_KIND: usize = 128;
/// Longest `summary`, in bytes; a longer one is cut, the body keeps it whole.
pub const MAX_SUMMARY: usize = 1024;
/// Most labels an alert may carry.
pub const MAX_LABELS: usize = 64;
/// Longest label name or value, in bytes.
pub const MAX_LABEL: usize = 1024;

crate::words! {
    /// Whether an alert begins, ends or merely mentions something.
    #[derive(Default, JsonSchema)]
    pub enum AlertState("alert state") {
        /// The alarm stands.
        #[default]
        Raised = "raised",
        /// The alarm is over.
        Cleared = "cleared",
        /// A happening with no lasting state; opens no alarm.
        Noted = "noted",
    }
}

/// One message from a source, in the normal form.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Alert {
    /// Unique within the source; at most [`MAX_ID`] bytes.
    pub id: String,
    /// The name of the source.
    pub source: String,
    /// Dotted, for example `disk.usage`.
    pub kind: String,
    /// ITU-T X.733 severity.
    pub severity: Severity,
    /// Raised, cleared or noted.
    pub state: AlertState,
    /// What it is about.
    pub resource: ResourcePath,
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
    /// The payload as it came.
    pub body: Value,
    /// The trace that it belongs to, where its sender names one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trace: Option<TraceContext>,
    /// How far what follows from it may go, if somebody made it up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trial: Option<Trial>,
}

impl Alert {
    /// When it happened: by the sender's clock, but never after it was received.
    pub fn happened(&self) -> DateTime<Utc> {
        self.time.min(self.received)
    }
}

/// An alert as a sender may write it in the normal form: what is missing has a default.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAlert {
    /// Left out: every delivery is a new alert.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub id: Option<String>,
    /// Dotted, for example `disk.usage`.
    pub kind: String,
    /// Left out: `indeterminate`.
    #[serde(default)]
    pub severity: Severity,
    /// Left out: `raised`.
    #[serde(default)]
    pub state: AlertState,
    /// `class/name[/part]`.
    pub resource: String,
    /// Left out: when it was received.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time: Option<DateTime<Utc>>,
    /// Left out: kind and resource.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub summary: Option<String>,
    /// What was measured.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<f64>,
    /// Names and values.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, String>,
    /// Anything more.
    #[serde(default, skip_serializing_if = "Value::is_null")]
    pub body: Value,
    /// Whether it is made up: then nothing that changes anything follows from it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub trial: bool,
}

/// Why an alert is outside the normal form: the field and what is wrong with it.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{field}: {reason}")]
pub struct AlertError {
    /// The field of the normal form; `alert` for the whole.
    pub field: String,
    /// What is wrong and what is expected.
    pub reason: String,
}

fn error(field: &str, reason: impl Into<String>) -> AlertError {
    AlertError { field: field.to_owned(), reason: reason.into() }
}

/// What the receiving side knows about a delivery.
#[derive(Clone, Copy, Debug)]
pub struct Received<'a> {
    /// The source's name.
    pub source: &'a str,
    /// Our clock.
    pub received: DateTime<Utc>,
    /// Used as `id` when the sender gave none; unique by the caller's care.
    pub fallback_id: &'a str,
}

/// The names of the normal form as a sender may write it.
const NORMAL_FORM: [&str; 11] = [
    "id", "kind", "severity", "state", "resource", "time", "summary", "value", "labels", "body",
    "trial",
];

impl NewAlert {
    /// Whether a value is meant to be in this form, or a list of values is, by their names alone:
    /// it says of which kind and about what, or one of both and nothing that is not of this form.
    pub fn is_meant_by(value: &Value) -> bool {
        let map = match value {
            Value::Array(items) => return items.first().is_some_and(Self::is_meant_by),
            Value::Object(map) => map,
            _ => return false,
        };
        let has = |name: &str| map.contains_key(name);
        let is_known = |name: &String| NORMAL_FORM.contains(&name.as_str());
        match (has("kind"), has("resource")) {
            (true, true) => true,
            (false, false) => false,
            _ => map.keys().all(is_known),
        }
    }

    /// An alert as it was written. Where something is wrong is looked for only once something is.
    ///
    /// # Errors
    /// The first field that is not in the normal form.
    pub fn from_value(value: &Value) -> Result<Self, AlertError> {
        Self::deserialize(value)
            .or_else(|_| serde_path_to_error::deserialize(value).map_err(|e| misread(&e)))
    }

    /// Checks every field and fills in what is missing.
    pub fn complete(self, delivery: Received<'_>) -> Result<Alert, AlertError> {
        let id = self.id.unwrap_or_else(|| delivery.fallback_id.to_owned());
        check_id(&id)?;
        check_kind(&self.kind)?;
        let resource = ResourcePath::parse(&clean(&self.resource))
            .map_err(|e| error("resource", e.to_string()))?;
        let labels = check_labels(self.labels)?;
        // In whole microseconds, which is what is stored: a raise and its clearing must not change
        // places when they are read back.
        let time = self.time.unwrap_or(delivery.received).trunc_subsecs(6);
        if !(1970..=9999).contains(&time.year()) {
            return Err(error("time", format!("{time} is outside the years 1970 to 9999")));
        }
        if too_deep(&self.body) {
            return Err(error("body", depth_diagnostic()));
        }
        if self.value.is_some_and(|v| !v.is_finite()) {
            return Err(error("value", "is not a finite number"));
        }
        let summary = self.summary.unwrap_or_else(|| format!("{} on {resource}", self.kind));
        Ok(Alert {
            id: clean(&id).into_owned(),
            source: delivery.source.to_owned(),
            kind: self.kind,
            severity: self.severity,
            state: self.state,
            resource,
            time,
            received: delivery.received.trunc_subsecs(6),
            summary: cut(&clean(&summary), MAX_SUMMARY).to_owned(),
            value: self.value,
            labels,
            body: clean_json(self.body),
            trace: None,
            trial: self.trial.then_some(Trial::Dry),
        })
    }
}

fn misread(e: &serde_path_to_error::Error<serde_json::Error>) -> AlertError {
    let path = e.path().to_string();
    match Diagnostic::parse(&e.inner().to_string()) {
        Diagnostic::UnknownKey(name, known) => {
            error(cut(&name, 60), format!("is no field of an alert; {}", hint(&name, &known)))
        }
        Diagnostic::Missing(name) => error(&name, "is missing"),
        Diagnostic::UnknownWord(word, known) => {
            error(&path, format!("unknown value `{}`; {}", cut(&word, 60), hint(&word, &known)))
        }
        Diagnostic::Other(reason) => error(if path == "." { "alert" } else { &path }, reason),
    }
}

fn check_id(id: &str) -> Result<(), AlertError> {
    match id.len() {
        0 => Err(error("id", "is empty")),
        n if n > MAX_ID => Err(error("id", format!("has {n} bytes, at most {MAX_ID} are allowed"))),
        _ => Ok(()),
    }
}

fn check_kind(kind: &str) -> Result<(), AlertError> {
    let part_ok = |p: &str| {
        !p.is_empty() && p.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_' || b == b'-')
    };
    if kind.len() > MAX_KIND || !kind.split('.').all(part_ok) {
        return Err(error(
            "kind",
            format!(
                "`{}` is not a dotted kind such as disk.usage (letters, digits, - and _; at most \
                {MAX_KIND} bytes)",
                cut(kind, 80)
            ),
        ));
    }
    Ok(())
}

fn check_labels(labels: BTreeMap<String, String>) -> Result<BTreeMap<String, String>, AlertError> {
    if labels.len() > MAX_LABELS {
        return Err(error(
            "labels",
            format!("are {}, at most {MAX_LABELS} are allowed", labels.len()),
        ));
    }
    if let Some((k, _)) =
        labels.iter().find(|(k, v)| k.is_empty() || k.len() > MAX_LABEL || v.len() > MAX_LABEL)
    {
        return Err(error(
            "labels",
            format!(
                "`{}` is empty or has more than {MAX_LABEL} bytes in its name or value",
                cut(k, 40)
            ),
        ));
    }
    if labels.iter().any(|(k, v)| k.contains('\0') || v.contains('\0')) {
        return Ok(labels
            .into_iter()
            .map(|(k, v)| (clean(&k).into_owned(), clean(&v).into_owned()))
            .collect());
    }
    Ok(labels)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn complete(value: Value) -> Result<Alert, String> {
        let new = NewAlert::from_value(&value).map_err(|e| e.to_string())?;
        let delivery = Received {
            source: "yard-hypervisor",
            received: DateTime::UNIX_EPOCH,
            fallback_id: "r-1",
        };
        new.complete(delivery).map_err(|e| e.to_string())
    }

    #[test]
    fn what_is_missing_has_a_default() {
        let alert = complete(json!({"kind": "disk.usage", "resource": "vm/quill-booking-db-1"}))
            .expect("complete");
        assert_eq!(alert.id, "r-1");
        assert_eq!(alert.severity, Severity::Indeterminate);
        assert_eq!(alert.summary, "disk.usage on vm/quill-booking-db-1");
        assert_eq!(alert.time, alert.received);
    }

    #[test]
    fn what_is_wrong_is_named() {
        let long = "x".repeat(300);
        let cases = [
            json!({"kind": "disk usage", "resource": "vm/a"}),
            json!({"kind": "disk.usage", "resource": "quill"}),
            json!({"kind": "disk.usage", "resource": "vm/a", "id": long}),
            json!({"kind": "disk.usage", "resource": "vm/a", "id": ""}),
            json!({"kind": "disk.usage", "resource": "vm/a", "severity": "bad"}),
            json!({"kind": "disk.usage", "resource": "vm/a", "colour": "red"}),
            json!({"kind": "disk.usage", "resource": "vm/a", "labels": {"": "x"}}),
            json!({"resource": "vm/a"}),
        ];
        let messages: Vec<String> =
            cases.into_iter().map(|c| complete(c).expect_err("refused")).collect();
        insta::assert_snapshot!(messages.join("\n"), @"
        kind: `disk usage` is not a dotted kind such as disk.usage (letters, digits, - and _; at most 128 bytes)
        resource: `quill` is not a resource path; write class/name or class/name/part, for example vm/quill-booking-db-1
        id: has 300 bytes, at most 256 are allowed
        id: is empty
        severity: unknown value `bad`; known here: indeterminate, warning, minor, major, critical
        colour: is no field of an alert; known here: id, kind, severity, state, resource, time, summary, value, labels, body, trial
        labels: `` is empty or has more than 1024 bytes in its name or value
        kind: is missing
        ");
    }

    #[test]
    fn a_nul_never_reaches_the_database() {
        let alert = complete(json!({"kind": "a", "resource": "vm/a", "summary": "x\u{0}y",
                "body": {"k\u{0}": ["\u{0}"]}}))
        .expect("complete");
        assert_eq!(alert.summary, "x\u{fffd}y");
        assert_eq!(alert.body, json!({"k\u{fffd}": ["\u{fffd}"]}));
    }

    #[test]
    fn times_are_cut_to_what_is_stored() {
        let told = |time| {
            complete(json!({"kind": "a", "resource": "vm/a", "time": time})).expect("complete").time
        };
        assert_eq!(told("2026-03-01T10:00:00.123456789Z"), told("2026-03-01T10:00:00.123456Z"));
    }

    #[test]
    fn a_body_may_be_nested_so_deep_and_no_deeper() {
        let body = |levels| (0..levels).fold(json!(1), |inner, _| json!([inner]));
        let made =
            |levels| complete(json!({"kind": "a", "resource": "vm/a", "body": body(levels)}));
        assert!(made(64).is_ok());
        assert_eq!(made(65), Err("body: is nested deeper than 64 levels".into()));
    }

    #[test]
    fn a_cut_keeps_characters_whole() {
        assert_eq!(cut("aé", 2), "a");
        assert_eq!(cut("aé", 3), "aé");
    }
}
