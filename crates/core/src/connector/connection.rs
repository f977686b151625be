//! One configured use of a connector: where it is and what it is shown. Secrets are named here
//! and opened only for the call.

use super::{Credential, CredentialDoc};
use crate::{
    Period,
    definition::{Defined, Definition, Kind, Misfit, Others},
    document::{Checker, Document, Problem},
    expr::{Names, Template},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

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
    /// The base address; requests go nowhere else. `${setting('name')}` takes it from the
    /// service's own settings.
    pub base: String,
    /// What is shown to the other side.
    #[serde(default)]
    pub credential: Option<CredentialDoc>,
    /// How long one call may take. Left out: 10s.
    #[serde(default)]
    pub timeout: Option<Period>,
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
    /// The base address as written.
    pub address: String,
    /// The template of the base address.
    pub base: Template,
    /// What is shown to the other side.
    pub credential: Option<Credential>,
    /// How long one call may take.
    pub timeout: Period,
}

impl Definition for Connection {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }

    fn credentials(&self) -> Vec<(&'static str, &Template)> {
        self.credential.iter().flat_map(|c| c.templates("/credential")).collect()
    }

    fn misfits(&self, others: &dyn Others) -> Vec<Misfit> {
        let missing = others.must_have(Kind::Connector, &self.connector).err();
        missing.map(|m| Misfit::at("/connector", m)).into_iter().collect()
    }
}

impl Defined for Connection {
    const KIND: Kind = Kind::Connection;
    type Doc = ConnectionDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::of::<ConnectionDoc>(document)?;
        if !doc.base.contains("${") && !doc.base.starts_with("http://") && !doc.base.starts_with("https://") {
            check.fail("/base", "is not an address; it begins with http:// or https://");
        }
        let base = check.template("/base", &Value::String(doc.base.clone()), SETTINGS);
        let credential = match doc.credential {
            None => Some(None),
            Some(credential) => credential.check(&mut check, "/credential").map(Some),
        };
        let made = base.zip(credential).map(|(base, credential)| Self {
            name: doc.connection,
            summary: doc.summary,
            connector: doc.connector,
            address: doc.base,
            base,
            credential,
            timeout: doc.timeout.unwrap_or(Period::from_secs(10)),
        });
        check.finish(made)
    }
}
