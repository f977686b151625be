//! Operations that are called when a time has come, and give what is wanted.

use crate::{
    calls::{self, Outgoing},
    node::{Node, Published},
};
use arvok_connect::Called;
use arvok_core::{
    Period, Principal,
    connector::{Connection, Connector},
};
use arvok_store::calls::Caller;
use serde_json::{Map, Value};

/// How long one call may take: less than its timer is held.
const TIMEOUT: Period = Period::from_secs(20);

/// An operation, and what it is given.
pub(super) struct AskedOperation<'a> {
    pub via: &'a str,
    pub operation: &'a str,
    pub give: &'a Map<String, Value>,
    /// What tells this call from all others.
    pub key: &'a str,
}

/// What the operation gave.
pub(super) async fn called(node: &Node, asked: AskedOperation<'_>) -> Result<Value, String> {
    let AskedOperation { via, operation, give, key } = asked;
    let out = Outgoing {
        via,
        operation,
        give,
        key,
        timeout: Some(TIMEOUT),
        callback: None,
        caller: Caller::Person(Principal::node(&node.name)),
        hidden: &[],
        trace: None,
    };
    match calls::call(node, out).await.0.ended().called {
        Ok(Called::Output(result)) => Ok(result),
        Ok(Called::Later(_)) => Err("it would be given later".to_owned()),
        Err(failure) => Err(failure.message),
    }
}

/// The versions of what a call goes through.
pub(crate) fn versions(published: &Published, via: &str) -> String {
    let connection = published.catalog.get::<Connection>(via);
    let connector =
        connection.and_then(|(one, _)| published.catalog.get::<Connector>(&one.connector));
    format!("{} {}", connection.map_or(0, |(_, v)| v), connector.map_or(0, |(_, v)| v))
}
