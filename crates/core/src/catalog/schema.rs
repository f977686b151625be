//! JSON Schemas (draft 2020-12) of the documents, made from the types that read them.

use super::Kind;
use crate::{
    connector::{ConnectionDoc, ConnectorDoc},
    read::SourceDoc,
    rule::RuleDoc,
    runbook::RunbookDoc,
};
use serde_json::Value;

/// The schema of one kind of document.
pub fn schema(kind: Kind) -> Value {
    match kind {
        Kind::Source => schemars::schema_for!(SourceDoc),
        Kind::Rule => schemars::schema_for!(RuleDoc),
        Kind::Runbook => schemars::schema_for!(RunbookDoc),
        Kind::Connector => schemars::schema_for!(ConnectorDoc),
        Kind::Connection => schemars::schema_for!(ConnectionDoc),
    }
    .to_value()
}
