//! Outside systems as documents: `connector:` describes operations over HTTP, `connection:` is
//! one configured use of a connector.
//!
//! Pure: [`Operation::request`] plans a request and [`Operation::answer`] reads what came back.
//! Sending it, and opening the secrets, is the business of the crate that reaches outside.

mod connection;
mod operation;

pub use connection::{Connection, ConnectionDoc, Credential, SECRETS};
pub use operation::{Answer, CallEnd, Failure, MAX_OUTPUT, Operation, OperationDoc, Repeat, Request};

use crate::document::{Checker, Document, Problem};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A driver for a kind of outside system, described and not coded.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ConnectorDoc {
    /// The name.
    pub connector: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// What it can do, by name.
    pub operations: BTreeMap<String, OperationDoc>,
}

/// A checked connector.
#[derive(Clone, Debug)]
pub struct Connector {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// What it can do, by name.
    pub operations: BTreeMap<String, Operation>,
}

impl Connector {
    /// Checks a document.
    pub fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let doc: ConnectorDoc = document.decode().map_err(|p| vec![p])?;
        let mut check = Checker::new(document);
        let wanted = doc.operations.len();
        let operations: BTreeMap<_, _> = doc
            .operations
            .into_iter()
            .filter_map(|(name, op)| {
                let at = format!("/operations/{name}");
                Operation::check(&mut check, &at, op).map(|op| (name, op))
            })
            .collect();
        let whole = operations.len() == wanted;
        check.finish(whole.then_some(Self { name: doc.connector, summary: doc.summary, operations }))
    }
}

#[cfg(test)]
mod tests;
