//! Outside systems as documents: `connector:` describes operations, each a call of one of the
//! [`protocols`]; `connection:` is one configured use of a connector.
//!
//! Pure: [`Operation::begin`] plans a call, and what is [`Planned`] says what follows each answer.
//! Sending, and opening the secrets, is the business of the crate that reaches outside.
//!
//! ```
//! use arvok_core::{connector::Connector, definition::Defined, document::parse_file};
//! use serde_json::json;
//!
//! let text = r#"
//! connector: yard
//! operations:
//!   vm.grow_disk:
//!     takes: { vm: { type: string }, by_gib: { type: integer, minimum: 1 } }
//!     request:
//!       method: POST
//!       path: "/v1/vms/${give.vm}/grow"
//!       body: { by_gib: "${give.by_gib}" }
//! "#;
//! let documents = parse_file("connectors.yaml", text).expect("is YAML");
//! let connector = Connector::check(&documents[0]).expect("is a connector");
//!
//! let give = json!({ "vm": "quill booking/1", "by_gib": 4 });
//! let sent = connector.operations["vm.grow_disk"]
//!     .request(give.as_object().expect("a map"), "the key of a step")
//!     .expect("can be planned");
//! assert_eq!(sent.target, "/v1/vms/quill%20booking%2F1/grow", "values are data");
//! assert_eq!(sent.body, Some(json!({ "by_gib": 4 })));
//! ```

mod callback;
mod connection;
mod credential;
mod exit;
mod failure;
mod lookup;
mod openapi;
mod operation;
mod output;
mod protocols;
mod pulse;
mod session;

pub use callback::{CALLBACK, CALLBACK_KEY, CallbackAt};
pub use connection::{Connection, ConnectionDoc, Rate};
pub use credential::{
    AgentCipher, AgentCredential, AgentDigest, AgentDoc, Assertion, BasicDoc, Credential,
    CredentialDoc, CredentialOf, Grant, HeaderDoc, MessageSignature, OAuth2, Opened, SECRETS,
    SignatureAlgorithm, SignatureV4, UserKey,
};
pub(crate) use credential::{is_field_name, secret};
pub(crate) use exit::{ExitStatuses, is_variable};
pub use failure::{CallEnd, Failure, Hiding};
pub use lookup::Lookup;
pub(crate) use lookup::{LookupDoc, must_be_safe};
pub use openapi::{Described, Import, ImportError, import};
pub use operation::{Operation, OperationDoc, Repeat};
pub use output::MAX_OUTPUT;
pub(crate) use output::usable;
pub use protocols::{
    AmqpAct, AmqpAnswer, AmqpMessage, AmqpPlan, Answer, Body, Callback, CommandExit, CommandResult,
    Exchange, Letter, LibvirtPlan, Mailbox, Mailing, MessagePayload, MqttMessage, MqttPlan,
    NetconfExchange, NetconfNext, NetconfPlan, Next, Planned, Protocol, RecordsPlan, RemoteAct,
    RemoteCommand, Request, RequestError, ShownRequest, Signed, SnmpPlan, SshPlan, VisitPlan,
    announced, retry_after,
};
pub use protocols::{libvirt, snmp, visit};
pub use pulse::{OwnAlarm, Pulse, PulseDoc};
pub use session::{OpenedSession, Session, SessionDoc};

use crate::{
    definition::{Defined, Definition, Fault, Kind, Mismatch, Missing, Others},
    document::{Checker, Document, Problem},
    expr::Template,
    text::hint,
};
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
    /// The operation by which a connection is tested: one that changes nothing and needs nothing.
    #[serde(default)]
    pub test: Option<String>,
    /// How sessions are opened and ended, for connections that have `credential: session`.
    #[serde(default)]
    pub session: Option<SessionDoc>,
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
    /// The operation by which a connection is tested.
    pub test: Option<String>,
    /// How sessions are opened and ended.
    pub session: Option<Session>,
    /// What it can do, by name.
    pub operations: BTreeMap<String, Operation>,
}

impl Definition for Connector {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }
}

impl Defined for Connector {
    const KIND: Kind = Kind::Connector;
    type Doc = ConnectorDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::decoding::<ConnectorDoc>(document)?;
        let session = match doc.session {
            None => Some(None),
            Some(session) => session.check(&mut check, "/session").map(Some),
        };
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
        for (name, probe) in
            operations.iter().filter_map(|(name, op)| Some((name, op.probe.as_ref()?)))
        {
            probe.fits(&mut check, &format!("/operations/{name}/probe"), &operations);
        }
        if let Some(test) = doc.test.as_deref().filter(|_| whole) {
            tests(&mut check, test, &operations);
        }
        let made = session.filter(|_| whole).map(|session| Self {
            name: doc.connector,
            summary: doc.summary,
            test: doc.test,
            session,
            operations,
        });
        check.finish(made)
    }
}

/// Complains of an operation by which no connection can be tested.
fn tests(check: &mut Checker<'_>, test: &str, operations: &BTreeMap<String, Operation>) {
    let Some(operation) = operations.get(test) else {
        let hint = hint(test, operations.keys().map(String::as_str));
        return check.fail("/test", format!("there is no operation `{test}` here{hint}"));
    };
    let needs = operation.takes.properties().keys().find(|name| operation.takes.is_required(name));
    match needs {
        _ if !operation.only_looks() => {
            check.fail(
                "/test",
                format!("`{test}` may change something; a test calls one that only looks"),
            );
        }
        Some(name) => check.fail("/test", format!("`{test}` needs `{name}`; a test gives nothing")),
        None => {}
    }
}

/// One operation of a connection's connector, with the connection by which it goes: that one, or of
/// those that it names in `also` the one that speaks the operation's protocol.
///
/// # Errors
/// If there is no such connection, connector or operation.
pub fn operation<'a>(
    others: &'a dyn Others,
    connection: &str,
    operation: &str,
) -> Result<(&'a Connection, &'a Operation), Missing> {
    let connection: &Connection = others.get(connection)?;
    let connector: &Connector = others.get(&connection.connector)?;
    let known = || connector.operations.keys().map(String::as_str);
    let missing = || {
        Missing::new("operation", operation, known()).of(format!("connector `{}`", connector.name))
    };
    let found = connector.operations.get(operation).ok_or_else(missing)?;
    Ok((connection.for_protocol(found.protocol(), others), found))
}

/// Whether an operation is there, takes what it is given, and ends by itself.
pub(crate) fn misfits_of_call(
    at: &str,
    (via, name): (&str, &str),
    (given, give): (&[String], &Template),
    others: &dyn Others,
) -> Vec<Mismatch> {
    match operation(others, via, name) {
        Err(missing) => {
            let key = if missing.what == Kind::Connection.as_str() { "via" } else { "call" };
            vec![Mismatch::at(format!("{at}/{key}"), missing)]
        }
        Ok((_, found)) if found.callback().is_some() => {
            let why = format!("`{name}` calls back, and only a step of its own waits for that");
            vec![Mismatch::at(format!("{at}/call"), Fault::Unfit(why))]
        }
        Ok((_, found)) => {
            let whose = format!("operation `{name}`");
            found.takes.misfits(&format!("{at}/give"), &whose, given, give)
        }
    }
}

#[cfg(test)]
mod tests;
