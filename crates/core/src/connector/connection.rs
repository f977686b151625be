//! One configured use of a connector: where it is and what it is shown. Secrets are named here
//! and opened only for the call.

use super::{Connector, Credential, CredentialDoc, Operation, Protocol, credential::address};
use crate::{
    Period,
    definition::{Defined, Definition, Fault, Kind, Mismatch, Others},
    document::{Checker, Document, Problem},
    expr::{Names, Template},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeSet;

/// Longest time over which a rate is counted, in milliseconds.
const HOUR: u64 = 3_600_000;

const SETTINGS: Names<'static> = Names { roots: &[], functions: &["setting"], types: &[] };

/// A connection as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ConnectionDoc {
    /// The name.
    pub connection: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// The connector's name.
    pub connector: String,
    /// The base address; requests go nowhere else. How it begins says how it is spoken to:
    /// `http://`, `https://`, `smtp://`, `smtps://`. `${setting('name')}` takes it from the
    /// service's own settings; a secret may stand in its path.
    pub base: String,
    /// What is shown to the other side.
    #[serde(default)]
    pub credential: Option<CredentialDoc>,
    /// The authorities, as certificates in PEM, of which one must have signed the other side's.
    /// Left out: those that the system knows. `${setting('name')}` takes them from the service's
    /// own settings.
    #[serde(default)]
    pub authorities: Option<String>,
    /// How long one call may take. Left out: 10s.
    #[serde(default)]
    pub timeout: Option<Period>,
    /// Most calls at once, over all nodes. Left out: as many as there are.
    #[serde(default)]
    pub at_once: Option<u32>,
    /// Most calls within a time, over all nodes. Left out: as many as there are.
    #[serde(default)]
    pub rate: Option<Rate>,
}

/// So many calls within a time, evenly: the next begins when its share of the time has passed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Rate {
    /// How many.
    pub calls: u32,
    /// Within which time.
    pub per: Period,
}

/// A checked connection.
#[derive(Clone, Debug)]
pub struct Connection {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// The connector's name.
    pub connector: String,
    /// Where its secrets go, as written: the base address, the address that gives tokens, and who
    /// vouches for them.
    pub shown_to: [Option<String>; 3],
    /// How it is spoken to, where the address as written says so.
    pub protocol: Option<Protocol>,
    /// The template of the base address.
    pub base: Template,
    /// What is shown to the other side.
    pub credential: Option<Credential>,
    /// The authorities that are trusted instead of those that the system knows.
    pub authorities: Option<Template>,
    /// How long one call may take.
    pub timeout: Period,
    /// Most calls at once.
    pub at_once: Option<u32>,
    /// Most calls within a time.
    pub rate: Option<Rate>,
}

impl Connection {
    /// The secrets that it shows to the other side.
    pub fn secrets(&self) -> BTreeSet<String> {
        let named =
            self.credentials().into_iter().flat_map(|(_, template)| template.calls("secret"));
        named.flatten().collect()
    }
}

impl Definition for Connection {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }

    fn credentials(&self) -> Vec<(&'static str, &Template)> {
        let shown = self.credential.iter().flat_map(|c| c.templates("/credential"));
        shown.chain([("/base", &self.base)]).collect()
    }

    fn uses(&self) -> Vec<(Kind, String)> {
        vec![(Kind::Connector, self.connector.clone())]
    }

    fn misfits(&self, others: &dyn Others) -> Vec<Mismatch> {
        if let Err(missing) = others.must_have(Kind::Connector, &self.connector) {
            return vec![Mismatch::at("/connector", missing)];
        }
        let connector: Option<&Connector> = others.get(&self.connector).ok();
        let (Some(connector), Some(protocol)) = (connector, self.protocol) else {
            return Vec::new();
        };
        let other =
            connector.operations.iter().find(|(_, operation)| operation.protocol() != protocol);
        let wrong = |(name, operation): (&String, &Operation)| {
            let schemes = operation.protocol().schemes().join(" or ");
            let fault =
                format!("is not where `{name}` of connector `{}` goes: {schemes}", connector.name);
            Mismatch::at("/base", Fault::Unfit(fault))
        };
        other.map(wrong).into_iter().collect()
    }
}

impl Defined for Connection {
    const KIND: Kind = Kind::Connection;
    type Doc = ConnectionDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::of::<ConnectionDoc>(document)?;
        let tokens = doc
            .credential
            .as_ref()
            .and_then(|c| c.oauth2.as_ref())
            .map(|oauth2| oauth2.token.clone());
        let shown_to = [Some(doc.base.clone()), tokens, doc.authorities.clone()];
        let base = address(&mut check, "/base", doc.base.clone(), &Protocol::ALL);
        let credential = match doc.credential {
            None => Some(None),
            Some(credential) => credential.check(&mut check, "/credential").map(Some),
        };
        if Protocol::of(&doc.base) == Some(Protocol::Mail)
            && !matches!(credential, None | Some(None | Some(Credential::Basic { .. })))
        {
            check.fail("/credential", "a mail server is shown `basic`, a name and a password");
        }
        let authorities = match doc.authorities {
            None => Some(None),
            Some(pem) if !pem.contains("${") && !pem.contains("-----BEGIN CERTIFICATE-----") => {
                check.fail(
                    "/authorities",
                    "is not a certificate in PEM, which begins with -----BEGIN CERTIFICATE-----",
                );
                None
            }
            Some(pem) => check.template("/authorities", &Value::String(pem), SETTINGS).map(Some),
        };
        if doc.at_once == Some(0) {
            check.fail("/at_once", "at least 1; without any call the connection is of no use");
        }
        if let Some(rate) = doc.rate {
            if rate.calls == 0 {
                check.fail(
                    "/rate/calls",
                    "at least 1; without any call the connection is of no use",
                );
            }
            if !(1..=HOUR).contains(&rate.per.millis()) {
                check.fail("/rate/per", "is from 1ms to 1h");
            }
        }
        let made =
            base.zip(credential).zip(authorities).map(|((base, credential), authorities)| Self {
                name: doc.connection,
                summary: doc.summary,
                connector: doc.connector,
                shown_to,
                protocol: Protocol::of(&doc.base),
                base,
                credential,
                authorities,
                timeout: doc.timeout.unwrap_or(Period::from_secs(10)),
                at_once: doc.at_once,
                rate: doc.rate,
            });
        check.finish(made)
    }
}
