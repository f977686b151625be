//! From a payload to alerts: what a `source:` document says about its sender's messages.
//!
//! Owns the document, its checks, and [`Source::read`]. Receiving payloads and proving who sent
//! them is the service's business; what an alert is, [`crate::alert`]'s.

mod intake;
mod read;

pub use intake::{Intake, IntakeDoc, Webhook};
pub use read::{MAX_ALERTS, Payload, ReadDoc, ReadOutcome, Unreadable};

use crate::{
    Alert,
    definition::{Defined, Definition, Kind},
    document::{Checker, Document, Problem},
    expr::Template,
};
use read::Lines;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Arvok's own source: what it tells of itself. No document is called so.
pub const OWN: &str = "arvok";

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
    /// How a payload becomes alerts. Left out: payloads are in the normal form already.
    #[serde(default)]
    pub read: Option<ReadDoc>,
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
    /// The lines; none where payloads are in the normal form.
    read: Option<Lines>,
}

impl Source {
    /// The alerts of a payload.
    ///
    /// # Errors
    /// Why none of it can be read.
    pub fn read(&self, payload: Payload<'_>) -> Result<ReadOutcome, Unreadable> {
        payload.read(&self.name, self.read.as_ref())
    }

    /// The alert of one item of a payload of which nothing else is known any more: for the lines that
    /// look at the whole, there is none.
    ///
    /// # Errors
    /// Why it cannot be read.
    pub fn read_item(&self, payload: Payload<'_>) -> Result<ReadOutcome, Unreadable> {
        payload.read_item(&self.name, self.read.as_ref())
    }
}

impl Definition for Source {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }

    fn credentials(&self) -> Vec<(&'static str, &Template)> {
        self.intake.credentials()
    }
}

impl Defined for Source {
    const KIND: Kind = Kind::Source;
    type Doc = SourceDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::of::<SourceDoc>(document)?;
        let offers = doc.intake.offers();
        let intake = doc.intake.check(&mut check, "/intake");
        if doc.source == OWN {
            check.fail("/source", "`arvok` is the name under which Arvok tells of itself; choose another");
        }
        let read = match doc.read {
            None => Some(None),
            Some(read) => Lines::check(&mut check, read, offers).map(Some),
        };
        let made = intake.zip(read).map(|(intake, read)| Self { name: doc.source, summary: doc.summary, intake, read });
        check.finish(made)
    }
}

#[cfg(test)]
mod tests;
