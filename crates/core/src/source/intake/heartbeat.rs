//! Senders that say at intervals that they are alive: a message when one was not heard of for too
//! long, and one when it is heard again.

use super::{
    http::{HttpIntake, HttpIntakeDoc},
    sender::SenderProofs,
};
use crate::{Period, document::Checker, source::read::ReadDoc};
use chrono::{DateTime, SecondsFormat, Utc};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// What a message offers to expressions: the name of the source and of its sender, whether that is
/// missing, when it was heard of at last, when this happened, and after how long it is missed.
pub(super) const OFFERS: [&str; 6] = ["heartbeat", "name", "missing", "last", "at", "after"];
/// Shortest and longest time after which a sender is missed.
const TIMES: [Period; 2] = [Period::from_secs(30), Period::from_secs(31 * 24 * 3_600)];
/// Longest name of a sender.
const LONGEST_NAME: usize = 100;

/// Heartbeats by GET or POST to `/in/{source}`, or `/in/{source}/{name}` for several senders.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HeartbeatDoc {
    /// What the sender must show; of several proofs any will do, so that one can take the place of
    /// another.
    pub credential: SenderProofs,
    /// The addresses that senders may come from, such as `10.4.0.0/16`. Left out: any.
    #[serde(default)]
    pub from: Vec<String>,
    /// The status of the answer, 200 or 202. Left out: 202.
    #[serde(default)]
    pub answer: Option<u16>,
    /// After how long without a heartbeat a sender is missed, from 30s to 31d.
    pub after: Period,
}

/// Heartbeats, checked.
#[derive(Clone, Debug)]
pub struct Heartbeat {
    /// Who may send them, and what they are answered.
    pub http: HttpIntake,
    /// After how long a sender is missed.
    pub after: Period,
}

/// What happened to a sender.
#[derive(Clone, Copy, Debug)]
pub struct HeartbeatChange<'a> {
    /// Its source.
    pub source: &'a str,
    /// Its name; that of the source if it is the only one.
    pub name: &'a str,
    /// Whether it is missing; else it is back.
    pub missing: bool,
    /// When it was heard of before.
    pub last: DateTime<Utc>,
    /// When it happened.
    pub at: DateTime<Utc>,
}

impl HeartbeatDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Heartbeat> {
        let Self { credential, from, answer, after } = self;
        let [shortest, longest] = TIMES;
        let fits = (shortest..=longest).contains(&after);
        if !fits {
            let wrong = format!("is from {shortest} to {longest}, not {after}");
            check.fail(&format!("{at}/after"), wrong);
        }
        let http = HttpIntakeDoc { credential, from, answer }.check(check, at)?;
        fits.then_some(Heartbeat { http, after })
    }
}

impl Heartbeat {
    /// Whether a sender may be called so, as the last part of the path.
    pub fn is_name(name: &str) -> bool {
        let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-');
        (1..=LONGEST_NAME).contains(&name.len()) && name.chars().all(fits)
    }

    /// The message of a change, as it is delivered.
    pub fn message(&self, change: &HeartbeatChange<'_>) -> Value {
        let time = |at: DateTime<Utc>| at.to_rfc3339_opts(SecondsFormat::Millis, true);
        json!({
            "heartbeat": change.source,
            "name": change.name,
            "missing": change.missing,
            "last": time(change.last),
            "at": time(change.at),
            "after": self.after.to_string(),
        })
    }
}

/// An alarm of the kind `heartbeat.missing` about the sender, raised and cleared. Its id has the
/// time at which the sender was heard of before, so that however often it is delivered it is taken
/// once.
pub(super) fn default_read() -> ReadDoc {
    ReadDoc {
        each: None,
        id: Some(r#"name + (missing ? " missing since " : " back since ") + last"#.into()),
        kind: r#""heartbeat.missing""#.into(),
        severity: Some(crate::source::read::SeverityDoc::Expr(r#""major""#.into())),
        state: Some(r#"missing ? "raised" : "cleared""#.into()),
        resource: r#""heartbeat/" + heartbeat + (name == heartbeat ? "" : "/" + name)"#.into(),
        time: Some("at".into()),
        summary: Some(
            r#"missing ? name + " was not heard of for " + after + ", since " + last : name + " is heard of again""#
                .into(),
        ),
        value: None,
        labels: BTreeMap::new(),
        labels_of: None,
        keep: None,
        trial: None,
    }
}
