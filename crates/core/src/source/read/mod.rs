//! How a payload becomes alerts: the lines as they are written, their check, and the reading
//! itself.

mod payload;
mod time;

pub use payload::{ReadOutcome, Unread};
pub use time::TimeDoc;

pub(super) use payload::{MAX_STEPS, Payload};

use crate::{
    Severity,
    document::{Checker, flow},
    expr::{Expr, Names},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;
use time::TimeRead;

/// Most alerts that one delivery may hold.
pub const MAX_ALERTS: usize = 1000;

/// Expressions over what the intake offers and `item`, one for each field of the normal form.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ReadDoc {
    /// A list; each element becomes an alert and is `item` in the other lines.
    #[serde(default)]
    pub each: Option<String>,
    /// Unique within the source. Left out: every delivery is a new alert.
    #[serde(default)]
    pub id: Option<String>,
    /// Dotted kind.
    pub kind: String,
    /// An expression, or a translation of the sender's words. Left out: `indeterminate`.
    #[serde(default)]
    pub severity: Option<SeverityDoc>,
    /// `raised`, `cleared` or `noted`. Left out: `raised`.
    #[serde(default)]
    pub state: Option<String>,
    /// `class/name[/part]`.
    pub resource: String,
    /// The sender's clock: an expression, or one with the form and the zone of its times. Left out:
    /// when it was received.
    #[serde(default)]
    pub time: Option<TimeDoc>,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// What was measured: a number, or a text that begins with one.
    #[serde(default)]
    pub value: Option<String>,
    /// Names and values; a label whose field is missing is left out.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
    /// An expression that gives further labels: a map, a list of `name=value` texts, or a list of
    /// maps with `name` (or `key`) and `value`. What is in `labels` as well is as it is there.
    #[serde(default)]
    pub labels_of: Option<String>,
    /// Whether it is an alert at all; what is not kept is counted.
    #[serde(default)]
    pub keep: Option<String>,
    /// Whether the sender made it up, such as by its own test call: then it is a trial, and nothing
    /// that changes anything follows from it.
    #[serde(default)]
    pub trial: Option<String>,
}

impl ReadDoc {
    /// The lines as people write them.
    pub(super) fn text(&self) -> String {
        let mut text = "read:".to_owned();
        for (line, value) in serde_json::to_value(self)
            .ok()
            .as_ref()
            .and_then(Value::as_object)
            .into_iter()
            .flatten()
        {
            let written = match value {
                Value::Null => continue,
                Value::Object(map) if map.is_empty() => continue,
                Value::String(expression) => format!("'{}'", expression.replace('\'', "''")),
                other => flow(other),
            };
            text += &format!("\n  {line}: {written}");
        }
        text
    }
}

/// How the severity is found.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum SeverityDoc {
    /// An expression that gives a severity.
    Expr(String),
    /// The sender's words and ours.
    Words(SeverityWords),
}

/// The sender's words and ours.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SeverityWords {
    /// An expression that gives the sender's word.
    pub of: String,
    /// The sender's word: our severity.
    #[serde(rename = "as")]
    pub words: BTreeMap<String, Severity>,
    /// For any other word. Left out: such a payload cannot be read.
    #[serde(default, rename = "else")]
    pub otherwise: Option<Severity>,
}

impl<'de> Deserialize<'de> for SeverityDoc {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        match Value::deserialize(d)? {
            Value::String(text) => Ok(Self::Expr(text)),
            other => {
                serde_json::from_value(other).map(Self::Words).map_err(serde::de::Error::custom)
            }
        }
    }
}

/// Checked lines.
#[derive(Clone, Debug)]
pub struct Lines {
    each: Option<Expr>,
    id: Option<Expr>,
    kind: Expr,
    severity: SeverityRead,
    state: Option<Expr>,
    resource: Expr,
    time: Option<TimeRead>,
    summary: Option<Expr>,
    value: Option<Expr>,
    labels: Vec<(String, Expr)>,
    labels_of: Option<Expr>,
    keep: Option<Expr>,
    trial: Option<Expr>,
}

#[derive(Clone, Debug)]
enum SeverityRead {
    Unknown,
    Expr(Expr),
    Words { of: Expr, words: BTreeMap<String, Severity>, otherwise: Option<Severity> },
}

impl Lines {
    /// Checks lines over what the intake offers.
    pub(super) fn check(check: &mut Checker<'_>, doc: ReadDoc, offers: &[&str]) -> Option<Self> {
        let whole = Names { roots: offers, functions: &[], types: &[] };
        let with_item = [offers, &["item"]].concat();
        let names = if doc.each.is_some() { Names { roots: &with_item, ..whole } } else { whole };
        let mut bad = false;
        let mut optional = |check: &mut Checker<'_>, key: &str, text: Option<String>, names| {
            let made = check.expr(&format!("/read/{key}"), text.as_deref()?, names);
            bad |= made.is_none();
            made
        };
        let each = optional(check, "each", doc.each, whole);
        let id = optional(check, "id", doc.id, names);
        let state = optional(check, "state", doc.state, names);
        let labels_of = optional(check, "labels_of", doc.labels_of, names);
        let summary = optional(check, "summary", doc.summary, names);
        let value = optional(check, "value", doc.value, names);
        let keep = optional(check, "keep", doc.keep, names);
        let trial = optional(check, "trial", doc.trial, names);
        let labels: Vec<_> = doc
            .labels
            .iter()
            .filter_map(|(k, text)| {
                Some((
                    k.clone(),
                    optional(check, &format!("labels/{k}"), Some(text.clone()), names)?,
                ))
            })
            .collect();
        let severity = match doc.severity {
            None => Some(SeverityRead::Unknown),
            Some(SeverityDoc::Expr(text)) => {
                check.expr("/read/severity", &text, names).map(SeverityRead::Expr)
            }
            Some(SeverityDoc::Words(w)) => check
                .expr("/read/severity/of", &w.of, names)
                .map(|of| SeverityRead::Words { of, words: w.words, otherwise: w.otherwise }),
        };
        let time = match doc.time {
            Some(time) => time.check(check, names).map(Some),
            None => Some(None),
        };
        let kind = check.expr("/read/kind", &doc.kind, names);
        let resource = check.expr("/read/resource", &doc.resource, names);
        if bad {
            return None;
        }
        Some(Self {
            each,
            id,
            kind: kind?,
            severity: severity?,
            state,
            resource: resource?,
            time: time?,
            summary,
            value,
            labels,
            labels_of,
            keep,
            trial,
        })
    }
}
