//! From a payload to alerts: what a `source:` document says about its sender's messages.
//!
//! Owns the document, its checks, and [`Source::read`]. Receiving payloads and proving who sent
//! them is the service's business; what an alert is, [`crate::alert`]'s.

mod payload;

pub use payload::{Payload, ReadOutcome, Unreadable};

use crate::{
    Severity,
    connector::{Credential, CredentialDoc},
    definition::{Defined, Definition, Kind},
    document::{Checker, Document, Problem},
    expr::{Expr, Names, Template},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// Arvok's own source: what it tells of itself. No document is called so.
pub const OWN: &str = "arvok";

/// Most alerts that one payload may hold.
pub const MAX_ALERTS: usize = 1000;

const READ: Names<'static> = Names { roots: &["body", "headers", "item"], functions: &[], types: &[] };

/// A place that alerts come from.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SourceDoc {
    /// The name; alerts carry it as `source`.
    pub source: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// How its messages arrive.
    pub intake: Intake,
    /// How a payload becomes alerts. Left out: payloads are in the normal form already.
    #[serde(default)]
    pub read: Option<ReadDoc>,
}

/// How messages arrive.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Intake {
    /// JSON posted to `/in/{source}`.
    pub webhook: Webhook,
}

/// JSON over HTTP.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Webhook {
    /// What the sender must show.
    pub credential: CredentialDoc,
    /// The status of the answer when alerts are taken, 200 or 202. Left out: 202.
    #[serde(default)]
    pub answer: Option<u16>,
}

/// Expressions over `body`, `headers` and `item`, one for each field of the normal form.
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
    /// The sender's clock: RFC 3339, or seconds since 1970. Left out: when it was received.
    #[serde(default)]
    pub time: Option<String>,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// What was measured.
    #[serde(default)]
    pub value: Option<String>,
    /// Names and values; a label whose field is missing is left out.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
    /// Whether it is an alert at all; what is not kept is counted.
    #[serde(default)]
    pub keep: Option<String>,
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
            other => serde_json::from_value(other).map(Self::Words).map_err(serde::de::Error::custom),
        }
    }
}

/// A checked source.
#[derive(Clone, Debug)]
pub struct Source {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// What the sender must show.
    pub credential: Credential,
    /// The status of the answer when alerts are taken.
    pub answer: u16,
    read: Option<Read>,
}

#[derive(Clone, Debug)]
struct Read {
    each: Option<Expr>,
    id: Option<Expr>,
    kind: Expr,
    severity: SeverityRead,
    state: Option<Expr>,
    resource: Expr,
    time: Option<Expr>,
    summary: Option<Expr>,
    value: Option<Expr>,
    labels: Vec<(String, Expr)>,
    keep: Option<Expr>,
}

#[derive(Clone, Debug)]
enum SeverityRead {
    Unknown,
    Expr(Expr),
    Words { of: Expr, words: BTreeMap<String, Severity>, otherwise: Option<Severity> },
}

impl Definition for Source {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }

    fn credentials(&self) -> Vec<(&'static str, &Template)> {
        self.credential.templates("/intake/webhook/credential")
    }
}

impl Defined for Source {
    const KIND: Kind = Kind::Source;
    type Doc = SourceDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::of::<SourceDoc>(document)?;
        let credential = doc.intake.webhook.credential.check(&mut check, "/intake/webhook/credential");
        let answer = doc.intake.webhook.answer.unwrap_or(202);
        if ![200, 202].contains(&answer) {
            check.fail("/intake/webhook/answer", format!("is {answer}; 200 or 202 is possible"));
        }
        let read = doc.read.map(|r| check_read(&mut check, r));
        if doc.source == OWN {
            check.fail("/source", "`arvok` is the name under which Arvok tells of itself; choose another");
        }
        let read = match read {
            None => Some(None),
            Some(read) => read.map(Some),
        };
        let made = credential.zip(read);
        check.finish(made.map(|(credential, read)| Self {
            name: doc.source,
            summary: doc.summary,
            credential,
            answer,
            read,
        }))
    }
}

fn check_read(check: &mut Checker<'_>, doc: ReadDoc) -> Option<Read> {
    let each = doc.each.is_some();
    let names = if each { READ } else { Names { roots: &["body", "headers"], functions: &[], types: &[] } };
    let mut bad = false;
    let mut optional = |check: &mut Checker<'_>, key: &str, text: Option<String>, names| {
        let made = check.expr(&format!("/read/{key}"), text.as_deref()?, names);
        bad |= made.is_none();
        made
    };
    let each = optional(check, "each", doc.each, Names { roots: &["body", "headers"], functions: &[], types: &[] });
    let id = optional(check, "id", doc.id, names);
    let state = optional(check, "state", doc.state, names);
    let time = optional(check, "time", doc.time, names);
    let summary = optional(check, "summary", doc.summary, names);
    let value = optional(check, "value", doc.value, names);
    let keep = optional(check, "keep", doc.keep, names);
    let labels: Vec<_> = doc
        .labels
        .iter()
        .filter_map(|(k, text)| Some((k.clone(), optional(check, &format!("labels/{k}"), Some(text.clone()), names)?)))
        .collect();
    let severity =
        match doc.severity {
            None => Some(SeverityRead::Unknown),
            Some(SeverityDoc::Expr(text)) => check.expr("/read/severity", &text, names).map(SeverityRead::Expr),
            Some(SeverityDoc::Words(w)) => check
                .expr("/read/severity/of", &w.of, names)
                .map(|of| SeverityRead::Words { of, words: w.words, otherwise: w.otherwise }),
        };
    let kind = check.expr("/read/kind", &doc.kind, names);
    let resource = check.expr("/read/resource", &doc.resource, names);
    if bad {
        return None;
    }
    Some(Read {
        each,
        id,
        kind: kind?,
        severity: severity?,
        state,
        resource: resource?,
        time,
        summary,
        value,
        labels,
        keep,
    })
}

#[cfg(test)]
mod tests;
