//! Connections: whether they can be used, what they offer, how their calls went.

use crate::{CallState, filters::number};
use arvok_core::Principal;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

/// One connection.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ConnectionItem {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// The connector that describes what is there.
    pub connector: String,
    /// Where it is; absent where that cannot be told.
    pub address: Option<String>,
    /// What is missing here to use it: a secret, a setting.
    pub trouble: Option<String>,
    /// Operations that it offers.
    pub operations: usize,
    /// Calls of the last hour, 1,000 at most.
    pub calls: i64,
    /// Those of them that were not well.
    pub failed: i64,
    /// How long they took, in milliseconds: half of them less.
    pub median_ms: Option<f64>,
    /// When the last call began.
    pub last_at: Option<DateTime<Utc>>,
    /// How it ended.
    pub last_state: Option<CallState>,
    /// What went wrong with it.
    pub last_message: Option<String>,
}

/// One connection with all that is known of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ConnectionDetail {
    /// In short.
    pub item: ConnectionItem,
    /// What it offers, by name.
    pub operations: Vec<OfferedOperation>,
    /// The operation by which it is tested; absent: it is only looked whether anybody answers.
    pub test: Option<String>,
    /// The kind of its credential, by the key under which it is written, such as `basic` or
    /// `session`; absent: it shows nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<String>,
    /// The secrets that it needs.
    pub secrets: Vec<NeededSecret>,
    /// The runbooks that call it.
    pub used_by: Vec<String>,
    /// Most calls at once, over all nodes.
    pub at_once: Option<u32>,
    /// Most calls within a time, over all nodes, such as `10 in 1s`.
    pub rate: Option<String>,
    /// The machines that it stands for, as globs; empty: that of its address.
    pub hosts: Vec<String>,
    /// The connection to the jump host through which it is reached.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub jump: Option<String>,
    /// The connections by which those of its operations go that speak other protocols.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<String>,
    /// The connections of which some operations go by this one.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also_for: Vec<String>,
    /// The labels of the runners that make its calls; left out: the nodes make them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub runners: Option<BTreeMap<String, String>>,
    /// The secrets that its runners keep themselves.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub runner_secrets: Vec<String>,
    /// The connections whose machines are reached through this one, their jump host.
    #[serde(default)]
    pub jump_for: Vec<String>,
    /// The fingerprints of the keys of which a machine must show one; empty: a trusted one.
    pub host_keys: Vec<String>,
    /// The machines whose keys an admin has trusted, 100 at most.
    pub trusted: Vec<TrustedMachine>,
    /// What is called again and again while Arvok does its work; left out: nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pulse: Option<PulseStatus>,
}

/// How it stands with what is called while Arvok does its work.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PulseStatus {
    /// The operation.
    pub operation: String,
    /// How often it is called, such as `1m`.
    pub every: String,
    /// When it is called next; absent where it was published a moment ago.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_at: Option<DateTime<Utc>>,
    /// Why the last call failed; absent: it did not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
    /// What the alarms say for which it is not called at the moment.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub held_by: Vec<String>,
}

/// A machine whose key an admin has trusted.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrustedMachine {
    /// The machine with its port, such as `quill-web-1:22`.
    pub machine: String,
    /// The kind of key, such as `ssh-ed25519`.
    pub algorithm: String,
    /// Its fingerprint, such as `SHA256:...`.
    pub fingerprint: String,
    /// Who trusted it.
    #[schema(schema_with = crate::words::principal)]
    pub by: Principal,
    /// When.
    pub at: DateTime<Utc>,
}

/// A machine of a connection.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Machine {
    /// Its name or address, where the connection stands for many.
    #[serde(default)]
    pub host: Option<String>,
}

/// A key that is to be trusted.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TrustKey {
    /// The name or address of the machine, where the connection stands for many.
    #[serde(default)]
    pub host: Option<String>,
    /// The fingerprint that was looked at.
    pub fingerprint: String,
}

arvok_core::words! {
    /// How the key that a machine shows stands to the one that was trusted.
    #[derive(ToSchema)]
    pub enum HostKeyState("state of a host key") {
        /// It is the trusted one.
        Trusted = "trusted",
        /// Nobody has trusted one yet.
        New = "new",
        /// Another one was trusted.
        Changed = "changed",
    }
}

/// The key that a machine shows now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HostKeyItem {
    /// The machine with its port, such as `quill-web-1:22`.
    pub machine: String,
    /// The kind of key, such as `ssh-ed25519`.
    pub algorithm: String,
    /// Its fingerprint, such as `SHA256:...`.
    pub fingerprint: String,
    /// Whether it is trusted.
    pub state: HostKeyState,
    /// The fingerprint that was trusted; absent: none.
    pub trusted: Option<String>,
}

/// A secret, by its name only.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NeededSecret {
    /// Its name.
    pub name: String,
    /// Whether it is set, and may go there.
    pub ready: bool,
}

/// An operation of a connection.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OfferedOperation {
    /// Its name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// What must be given: JSON Schema properties.
    pub takes: Map<String, Value>,
    /// What it gives: the names of the fields of its output, and what they are.
    pub gives: Map<String, Value>,
    /// Whether doing it twice is harmless: `safe`, `keyed`, `never`, `probed`.
    pub repeat: String,
    /// Whether it changes nothing.
    pub looks: bool,
    /// The request, such as `POST /vms/${give.vm}`.
    pub request: String,
    /// What follows the answer: `pages`, `until`, `callback`.
    pub follows: Option<String>,
}

/// Which calls of a connection.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct CallFilter {
    /// The `next` of the page before.
    #[serde(deserialize_with = "number")]
    pub after: Option<i64>,
    /// At most 500.
    #[param(minimum = 1, maximum = 500)]
    #[serde(deserialize_with = "number")]
    pub limit: Option<u64>,
}

/// A call that is over.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CallItem {
    /// The handle.
    pub id: i64,
    /// What was called.
    pub operation: String,
    /// The job for which it was made.
    pub job: Option<i64>,
    /// Its step.
    pub step: Option<String>,
    /// Which try, from one.
    pub attempt: Option<i32>,
    /// Who called it by hand.
    #[schema(schema_with = crate::words::principal_or_none)]
    pub by: Option<Principal>,
    /// When it began.
    pub at: DateTime<Utc>,
    /// How long it took, in milliseconds.
    pub millis: i64,
    /// How it ended.
    pub state: CallState,
    /// What went wrong.
    pub message: Option<String>,
    /// The trace that it belongs to, as a `traceparent` (W3C Trace Context) with the span of
    /// the call; absent where nobody began one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trace: Option<String>,
}

/// What came of a test.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ConnectionTest {
    /// The operation that was called; absent: it was only looked whether anybody answers.
    pub operation: Option<String>,
    /// How it ended.
    pub state: CallState,
    /// How long it took, in milliseconds.
    pub millis: i64,
    /// What was said, or went wrong.
    pub message: String,
}

/// An operation that is tried by hand.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TryOperation {
    /// What it is given.
    #[serde(default)]
    pub give: Map<String, Value>,
    /// Only say what would be sent.
    #[serde(default)]
    pub dry_run: bool,
}

/// What came of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TriedOperation {
    /// How it ended; absent where nothing was to be sent.
    pub state: Option<CallState>,
    /// How long it took, in milliseconds.
    pub millis: i64,
    /// The first request.
    pub request: crate::CallRequest,
    /// The last answer that came, without secrets; absent where none did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<crate::CallAnswer>,
    /// What it gave.
    pub output: Option<Value>,
    /// What went wrong.
    pub message: Option<String>,
}

/// A description of an API that is to become a connector.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ImportRequest {
    /// The description: OpenAPI 3.0 or 3.1, in JSON or YAML.
    pub text: String,
    /// The name that the connector, and its connection, get. Left out: one made of the title.
    #[serde(default)]
    pub name: Option<String>,
    /// The operations that are taken, by their names or a part of their paths; globs allowed. Left
    /// out: all.
    #[serde(default)]
    pub only: Vec<String>,
}

/// A connector that was made of a description.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Imported {
    /// What the description calls itself.
    pub title: String,
    /// All operations of the description.
    pub operations: Vec<DescribedOperation>,
    /// The connector, and a connection that uses it, as a file.
    pub text: String,
    /// What was not understood or could not be taken over.
    pub left_out: Vec<String>,
}

/// An operation of a description.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DescribedOperation {
    /// The name that it gets.
    pub name: String,
    /// The method and the path.
    pub request: String,
    /// One line for people.
    pub summary: Option<String>,
    /// Whether it is in the connector.
    pub taken: bool,
}

impl From<arvok_core::connector::Import> for Imported {
    fn from(made: arvok_core::connector::Import) -> Self {
        let described = |one: arvok_core::connector::Described| DescribedOperation {
            name: one.name,
            request: one.request,
            summary: one.summary,
            taken: one.taken,
        };
        Self {
            title: made.title,
            operations: made.operations.into_iter().map(described).collect(),
            text: made.text,
            left_out: made.left_out,
        }
    }
}
