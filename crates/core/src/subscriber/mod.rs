//! The `subscriber:` document: where events of jobs and decisions go, which of them, and how they
//! are signed.
//!
//! Owns the document, its check, and the event as it leaves: CloudEvents 1.0 in JSON. Keeping,
//! signing and sending are the service's business.

mod envelope;

pub use envelope::{CONTENT_TYPE, envelope};

use crate::{
    Alert,
    connector::secret,
    definition::{Defined, Definition, Kind},
    document::{Checker, Document, Problem, Texts},
    expr::{Names, Template},
    matcher::{Match, hears},
    rule::{Listen, ListenDoc},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

const SETTINGS: Names<'static> = Names { roots: &[], functions: &["setting"], types: &[] };

/// A subscriber as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SubscriberDoc {
    /// The name.
    pub subscriber: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// The address that events are posted to, once it has agreed. `${setting('name')}` takes it
    /// from the service's own settings.
    pub address: String,
    /// Which events of jobs and decisions. Left out: all of them.
    #[serde(default)]
    pub listen: Option<ListenDoc>,
    /// The key that events are signed with, as Standard Webhooks says: `${secret('name')}`. Two
    /// while one takes the place of the other.
    pub signed_with: Texts,
}

/// A checked subscriber.
#[derive(Clone, Debug)]
pub struct Subscriber {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// The template of the address.
    pub address: Template,
    /// Which events.
    pub listen: Listen,
    /// The keys that events are signed with.
    pub signed_with: Vec<Template>,
}

impl Subscriber {
    /// Whether it wants this event of Arvok's own.
    pub fn wants(&self, event: &Alert) -> Match {
        hears(&self.listen, event)
    }
}

impl Definition for Subscriber {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }

    fn credentials(&self) -> Vec<(&'static str, &Template)> {
        self.signed_with.iter().map(|key| ("/signed_with", key)).collect()
    }
}

impl Defined for Subscriber {
    const KIND: Kind = Kind::Subscriber;
    type Doc = SubscriberDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::decoding::<SubscriberDoc>(document)?;
        if !doc.address.contains("${")
            && !doc.address.starts_with("http://")
            && !doc.address.starts_with("https://")
        {
            check.fail("/address", "is not an address; it begins with http:// or https://");
        }
        if doc
            .address
            .split("//")
            .nth(1)
            .is_some_and(|rest| rest.split('/').next().is_some_and(|host| host.contains('@')))
        {
            check.fail(
                "/address",
                "holds a name or a password; who sends is proved by the signature",
            );
        }
        if doc.address.contains("secret(") {
            let why = "an address is seen by everybody; who sends is proved by the signature, and \
                a hook with a secret in \
                its path is a connection, which runbooks call";
            check.fail("/address", why);
        }
        let address = check.template("/address", &Value::String(doc.address), SETTINGS);
        let mut listen = doc.listen.unwrap_or_default();
        if listen.sources.is_some() {
            check.fail(
                "/listen/sources",
                "only what jobs and decisions tell leaves; leave the line out",
            );
        }
        // What happened has no state to be chosen by.
        listen
            .states
            .get_or_insert_with(|| Texts(vec!["raised".into(), "cleared".into(), "noted".into()]));
        let listen = Listen::check(&mut check, listen);
        if !(1..=2).contains(&doc.signed_with.0.len()) {
            check.fail("/signed_with", "is one key, or two while one takes the place of the other");
        }
        let one = document.value.get("signed_with").is_some_and(Value::is_string);
        let keys: Vec<_> = doc
            .signed_with
            .placed("/signed_with", one)
            .map(|(at, text)| secret(&mut check, &at, text.to_owned()))
            .collect();
        let keys = keys.into_iter().collect::<Option<Vec<_>>>();
        let made = address.zip(listen).zip(keys).map(|((address, listen), signed_with)| Self {
            name: doc.subscriber,
            summary: doc.summary,
            address,
            listen,
            signed_with,
        });
        check.finish(made)
    }
}

#[cfg(test)]
mod tests;
