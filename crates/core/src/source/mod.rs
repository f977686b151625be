//! From a delivery to alerts: what a `source:` document says about its sender's messages.
//!
//! Owns the document, its checks, and [`Source::read`]. Receiving deliveries and proving who sent
//! them is the service's business; what an alert is, [`crate::alert`]'s.
//!
//! ```
//! use arvok_core::{
//!     definition::Defined,
//!     document::parse_file,
//!     source::{Delivery, Source},
//! };
//! use chrono::DateTime;
//! use serde_json::Map;
//!
//! let text = r#"
//! source: pier-monitor
//! intake: { webhook: { credential: { bearer: "${secret('pier-monitor')}" } } }
//! read: { kind: body.check, severity: '"major"', resource: '"vm/" + body.host' }
//! "#;
//! let documents = parse_file("sources.yaml", text).expect("is YAML");
//! let source = Source::check(&documents[0]).expect("is a source");
//!
//! let outcome = source.read(&Delivery {
//!     raw: br#"{ "check": "disk.usage", "host": "quill-booking-db-1" }"#,
//!     properties: &Map::new(),
//!     received: DateTime::UNIX_EPOCH,
//!     fallback_id: "1",
//!     normal: false,
//! });
//! assert_eq!(outcome.alerts[0].resource.as_str(), "vm/quill-booking-db-1");
//! assert!(outcome.unreadable.is_empty());
//! ```

mod intake;
mod mib;
mod rate_limit;
mod read;
mod sender_lines;
mod silence;
mod suggestion;
mod write_back;

pub use intake::{
    AddressRange, AmqpIntake, Delivery, HEADERS, Handshake, HandshakeRequest, HeaderField,
    Heartbeat, HeartbeatChange, HmacDigest, HttpIntake, Intake, IntakeDoc, MailIntake, MqttIntake,
    NamedObjectDoc, PEER, Poll, PollLook, PollLooked, RECIPIENT, SenderHmac, SenderProof,
    SenderProofOf, SignatureEncoding, SignedPart, SnmpNotification, Syslog, TrapHead, TrapIntake,
    Webhook, schedule_message,
};
pub use mib::{MibError, MibFile, NamedObjects, named_objects};
pub use rate_limit::{LimitUse, RateLimit, RateLimitDoc};
pub use read::{MAX_ALERTS, ReadDoc, ReadOutcome, Unread};
pub use sender_lines::{ADDRESS, BROKER_HOST, BROKER_PORT, BROKER_URL, SenderLine};
pub use silence::is_steady;
pub use suggestion::{MAX_PAYLOADS, SuggestedLine, Suggestion, suggest};
pub use write_back::{DoneAlarmAct, WriteBack, WriteBackCall, WriteBackDoc};

use crate::{
    Alert, NewAlert, Period,
    definition::{Defined, Definition, Kind, Mismatch, Others},
    document::{Checker, Document, Problem},
    expr::{Expr, Template},
    shape::Masks,
};
use intake::{Message, POLL};
use read::{Lines, MAX_STEPS, Payload};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::{cell::Cell, collections::BTreeSet};

/// Arvok's own source: what it tells of itself. No document is called so.
pub const OWN: &str = "arvok";

/// Where it stands how the sender is told.
const WRITE_BACK: &str = "/write_back";

/// Most rules that an event tells of.
const LONGEST_CHAIN: usize = 20;

/// The rules through whose jobs an event of Arvok's own came to be, the latest last.
pub fn chain(alert: &Alert) -> Vec<&str> {
    let rules = alert.body.get("chain").filter(|_| alert.source == OWN).and_then(Value::as_array);
    rules.into_iter().flatten().filter_map(Value::as_str).collect()
}

/// The same for the job that a rule dispatches for an alert; of a long chain the latest.
pub fn chain_of_job(alert: &Alert, rule: &str) -> Vec<String> {
    let all = chain(alert).into_iter().chain([rule]).map(str::to_owned).collect::<Vec<_>>();
    all[all.len().saturating_sub(LONGEST_CHAIN)..].to_vec()
}

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
    pub intake: IntakeDoc,
    /// How a message becomes alerts. Left out: messages of an open format are read as that format
    /// says; of others what is in the normal form is taken, and what is not is caught: kept as it
    /// came, so that one can look at it and write these lines.
    #[serde(default)]
    pub read: Option<ReadDoc>,
    /// How long it may be silent, from 10s to 30d; after that the alarm `source.silent` is raised,
    /// until it is heard of. Left out: as long as it likes.
    #[serde(default)]
    pub silent_after: Option<Period>,
    /// Fields whose values are kept in no shape, by their paths such as `body.customer`, each with
    /// all below it; those of passwords, tokens and the like never are.
    #[serde(default)]
    pub mask: Vec<String>,
    /// How much it may send to each node. What is more is refused, or waits where its sender waits,
    /// and the alarm `source.flooding` is raised. Left out: as much as there is room for.
    #[serde(default)]
    pub limit: Option<RateLimitDoc>,
    /// How its sender is told what people do about alarms of its alerts. Left out: it is not.
    #[serde(default)]
    pub write_back: Option<WriteBackDoc>,
}

/// A checked source.
#[derive(Clone, Debug)]
pub struct Source {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// How its messages arrive.
    pub intake: Intake,
    /// The lines; none where deliveries are in the normal form.
    read: Option<Lines>,
    /// Whether these are its own.
    has_lines: bool,
    /// How long it may be silent.
    pub silent_after: Option<Period>,
    /// How much it may send to each node.
    pub limit: Option<RateLimit>,
    /// Fields whose values are kept in no shape.
    pub masks: Masks,
    /// How its sender is told what people do about its alarms.
    pub write_back: Option<WriteBack>,
}

impl Source {
    /// The alerts of a delivery.
    pub fn read(&self, delivery: &Delivery<'_>) -> ReadOutcome {
        let left = Cell::new(MAX_STEPS);
        let messages = match self.intake.decode(delivery) {
            Ok(messages) => messages,
            Err(reason) => {
                let unread = if self.catches(delivery) {
                    Unread::caught(&reason)
                } else {
                    Unread::whole(reason)
                };
                return ReadOutcome { unreadable: vec![unread], ..ReadOutcome::default() };
            }
        };
        let several = messages.len() > 1;
        let mut all = ReadOutcome::default();
        for (n, message) in messages.into_iter().enumerate() {
            let item = several.then_some(n);
            match message {
                Ok(Message { body, part }) => {
                    let fallback_id = item.map(|n| format!("{}-{n}", delivery.fallback_id));
                    let fallback_id = fallback_id.as_deref().unwrap_or(delivery.fallback_id);
                    all.join(self.read_message(delivery, &body, fallback_id, &left), item, part);
                }
                Err(e) => {
                    let (part, unread) = (Some(e.part), Unread::whole(e.reason));
                    all.unreadable.push(Unread { item, part, ..unread });
                }
            }
            if all.alerts.len() > MAX_ALERTS {
                let reason = format!("holds more than {MAX_ALERTS} alerts");
                return ReadOutcome {
                    unreadable: vec![Unread::whole(reason)],
                    ..ReadOutcome::default()
                };
            }
        }
        all
    }

    /// Whether it says nothing yet of how its messages are read: what is not in the normal form is
    /// caught.
    pub const fn is_catching(&self) -> bool {
        self.read.is_none()
    }

    const fn catches(&self, delivery: &Delivery<'_>) -> bool {
        self.is_catching() && !delivery.normal
    }

    /// The lines by which its format is read, as they would be written, where it has none of its
    /// own.
    pub fn default_read(&self) -> Option<String> {
        if self.has_lines { None } else { self.intake.default_read().map(|lines| lines.text()) }
    }

    fn read_message(
        &self,
        delivery: &Delivery<'_>,
        body: &Value,
        fallback_id: &str,
        left: &Cell<u32>,
    ) -> ReadOutcome {
        if self.catches(delivery) && !NewAlert::is_meant_by(body) {
            let unread = Unread::caught("is not in the normal form");
            return ReadOutcome { unreadable: vec![unread], ..ReadOutcome::default() };
        }
        let names = self.intake.names(body, delivery.properties);
        let Delivery { received, normal, .. } = *delivery;
        let payload = Payload { body, names: &names, received, fallback_id, normal, left };
        match payload.read(&self.name, self.read.as_ref()) {
            Ok(outcome) => outcome.within(intake::trace_of(body, delivery.properties)),
            Err(why) => ReadOutcome {
                unreadable: vec![Unread::whole(why.to_string())],
                ..ReadOutcome::default()
            },
        }
    }

    /// The alert of one item of `each` that was kept: of its message nothing else is known any
    /// more.
    ///
    /// # Errors
    /// Why it cannot be read.
    pub fn read_item(&self, delivery: &Delivery<'_>) -> Result<ReadOutcome, String> {
        let item = intake::json(delivery.raw)?;
        let names = self.intake.names(&item, delivery.properties);
        let Delivery { received, fallback_id, normal, .. } = *delivery;
        let left = &Cell::new(MAX_STEPS);
        let payload = Payload { body: &item, names: &names, received, fallback_id, normal, left };
        let trace = intake::trace_of(&item, delivery.properties);
        match payload.read_item(&self.name, self.read.as_ref()) {
            Ok(outcome) => Ok(outcome.within(trace)),
            Err(why) => Err(why.to_string()),
        }
    }
}

impl Definition for Source {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }

    fn credentials(&self) -> Vec<(&str, &Template)> {
        self.intake.credentials()
    }

    fn expressions(&self) -> Vec<(String, &Expr)> {
        let mut all = self.intake.poll().map_or_else(Vec::new, |poll| poll.expressions(POLL));
        all.extend(self.write_back.iter().flat_map(|back| back.expressions(WRITE_BACK)));
        all
    }

    fn uses(&self) -> Vec<(Kind, String)> {
        let back = self.write_back.as_ref().map(|back| back.via.as_str());
        let all: BTreeSet<&str> = self.intake.via().into_iter().chain(back).collect();
        all.into_iter().map(|via| (Kind::Connection, via.to_owned())).collect()
    }

    fn misfits(&self, others: &dyn Others) -> Vec<Mismatch> {
        let mut misfits = self.intake.misfits(others);
        misfits.extend(self.write_back.iter().flat_map(|back| back.misfits(WRITE_BACK, others)));
        misfits
    }
}

impl Defined for Source {
    const KIND: Kind = Kind::Source;
    type Doc = SourceDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::decoding::<SourceDoc>(document)?;
        let offers = doc.intake.offers();
        let intake = doc.intake.check(&mut check, "/intake");
        if doc.source == OWN {
            check.fail(
                "/source",
                "`arvok` is the name under which Arvok tells of itself; choose another",
            );
        }
        if let Some(after) = doc.silent_after {
            check_silence(&mut check, after, intake.as_ref());
        }
        let limit = match doc.limit {
            Some(limit) => limit.check(&mut check, "/limit").map(Some),
            None => Some(None),
        };
        if limit.is_some_and(|l| l.is_some()) && matches!(intake, Some(Intake::Schedule(_))) {
            check.fail("/limit", "the messages of a schedule are Arvok's own, as many as it says");
        }
        check_masks(&mut check, &doc.mask);
        let write_back = doc.write_back.and_then(|doc| doc.check(&mut check, WRITE_BACK));
        let has_lines = doc.read.is_some();
        let read = match doc.read.or_else(|| intake.as_ref()?.default_read()) {
            None => Some(None),
            Some(read) => Lines::check(&mut check, read, offers).map(Some),
        };
        let made = intake.zip(read).zip(limit).map(|((intake, read), limit)| Self {
            name: doc.source,
            summary: doc.summary,
            intake,
            read,
            has_lines,
            silent_after: doc.silent_after,
            limit,
            masks: Masks::new(doc.mask),
            write_back,
        });
        check.finish(made)
    }
}

/// Most masks of a source, and the longest, in bytes.
const MOST_MASKS: usize = 50;
const LONGEST_MASK: usize = 200;

fn check_masks(check: &mut Checker<'_>, masks: &[String]) {
    if masks.len() > MOST_MASKS {
        check.fail("/mask", format!("has {} paths; {MOST_MASKS} are allowed", masks.len()));
    }
    for (n, mask) in masks.iter().enumerate() {
        let at = format!("/mask/{n}");
        let root = mask.split(['.', '[']).next().unwrap_or_default();
        if mask.len() > LONGEST_MASK {
            check.fail(&at, format!("has {} bytes; {LONGEST_MASK} are allowed", mask.len()));
        } else if !["body", "labels", "summary", "value", "resource"].contains(&root) {
            let wrong = "is the path of a field, such as `body.customer.name` or `labels.site`";
            check.fail(&at, wrong);
        }
    }
}

/// Shortest and longest silence that is told of.
const SILENCE: [Period; 2] = [Period::from_secs(10), Period::from_secs(30 * 24 * 3_600)];

fn check_silence(check: &mut Checker<'_>, after: Period, intake: Option<&Intake>) {
    let [shortest, longest] = SILENCE;
    if !(shortest..=longest).contains(&after) {
        check.fail("/silent_after", format!("is from {shortest} to {longest}, not {after}"));
    }
    if matches!(intake, Some(Intake::Heartbeat(_))) {
        check.fail("/silent_after", "a heartbeat has its own: `after` in its intake");
    }
    if matches!(intake, Some(Intake::Schedule(_))) {
        let wrong = "the messages of a schedule are Arvok's own; `timer.failing` tells of their \
            silence";
        check.fail("/silent_after", wrong);
    }
}

#[cfg(test)]
mod tests;
