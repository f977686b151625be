//! Runners: what makes calls near where they go, and what runners and nodes say to each other.
//!
//! A runner claims calls that it has room for, begins them, beats while it makes them and ends each
//! with what came of it. All of it goes outwards from the runner; what begins is on the record
//! before anything is sent, so that a runner that is lost leaves no doubt about what it had not
//! begun.

use arvok_core::{
    Period, Principal,
    connector::{CallEnd, Failure},
};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::{collections::BTreeMap, fmt};
use utoipa::ToSchema;

/// What runners and nodes speak. A node takes runners of this number and of the one before.
pub const RUNNER_PROTOCOL: u32 = 1;

/// A runner that is to be known.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRunner {
    /// Its name.
    pub name: String,
    /// Its labels: it makes the calls of connections that are `through` some of them.
    pub labels: BTreeMap<String, String>,
}

/// A runner that is known now, with its token, which is shown this once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct RunnerMade {
    /// Its name.
    pub name: String,
    /// Its labels.
    pub labels: BTreeMap<String, String>,
    /// What it shows.
    pub token: String,
}

impl fmt::Debug for RunnerMade {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("RunnerMade").field("name", &self.name).finish_non_exhaustive()
    }
}

/// A runner.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunnerItem {
    /// Its name.
    pub name: String,
    /// The labels that it may serve.
    pub labels: BTreeMap<String, String>,
    /// When it was made known.
    pub added_at: DateTime<Utc>,
    /// By whom.
    #[schema(schema_with = crate::words::principal)]
    pub added_by: Principal,
    /// When it was last heard of, by the database's clock; left out: never.
    pub seen: Option<DateTime<Utc>>,
    /// How long ago that was, in seconds.
    pub lag: Option<f64>,
    /// The labels that it serves, as it said last.
    pub serves: Option<BTreeMap<String, String>>,
    /// The version of its program.
    pub build: Option<String>,
    /// Most calls that it makes at once.
    pub at_once: Option<i32>,
    /// How far its own clock is behind the database's, in seconds.
    pub clock_offset: Option<f64>,
    /// Calls that it makes at the moment.
    pub calls: i64,
    /// Connections that are `through` its labels.
    pub connections: Vec<String>,
}

/// What a runner asks for: calls, as many as it has room for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunnerClaim {
    /// What it speaks.
    pub protocol: u32,
    /// The version of its program.
    pub build: String,
    /// The labels that it serves; left out: all that it may.
    #[serde(default)]
    pub serves: Option<BTreeMap<String, String>>,
    /// Most calls that it makes at once.
    pub at_once: u32,
    /// For how many it has room now.
    pub room: u32,
    /// How long it waits for the first, in milliseconds.
    pub wait_ms: u64,
    /// Its own clock.
    pub at: DateTime<Utc>,
}

/// The calls that a runner got.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunnerCalls {
    /// Each with what it needs for it.
    pub calls: Vec<RunnerCall>,
}

/// One call that a runner is to make.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunnerCall {
    /// Its number.
    pub id: i64,
    /// Shown with everything that is said of it: the runner's own claim.
    pub claim: String,
    /// What is to be done.
    pub work: RunnerWork,
}

/// What is to be done, with the documents that it is described by and the secrets that it needs.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct RunnerWork {
    /// What.
    pub act: RunnerAct,
    /// The connection's name.
    pub via: String,
    /// The connection, its connector and its jump host's, as published.
    pub documents: Vec<String>,
    /// What is filled in, by connection.
    pub opened: BTreeMap<String, OpenedValues>,
    /// How long one request may take, in milliseconds.
    pub timeout_ms: u64,
    /// How long the whole may take, where that is another time.
    #[serde(default)]
    pub within_ms: Option<u64>,
    /// The span of the call (W3C Trace Context).
    #[serde(default)]
    pub trace: Option<String>,
}

impl fmt::Debug for RunnerWork {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("RunnerWork").field("via", &self.via).finish_non_exhaustive()
    }
}

/// What one connection is filled in with.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct OpenedValues {
    /// Secrets by name.
    #[serde(default)]
    pub secrets: BTreeMap<String, String>,
    /// Settings by name.
    #[serde(default)]
    pub settings: BTreeMap<String, String>,
    /// The fingerprints of keys that were trusted, by machine.
    #[serde(default)]
    pub trusted: BTreeMap<String, String>,
}

impl fmt::Debug for OpenedValues {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("OpenedValues")
    }
}

/// What a runner can be asked to do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum RunnerAct {
    /// A call of an operation.
    Call {
        /// The operation's name.
        operation: String,
        /// What it is given.
        give: Map<String, Value>,
        /// The same for every try of the same step.
        key: String,
        /// Where the other side may call back.
        #[serde(default)]
        callback: Option<CallbackAddress>,
    },
    /// A look whether anybody answers.
    Look,
    /// The key that a machine shows.
    HostKey {
        /// One of the machines that the connection stands for.
        #[serde(default)]
        host: Option<String>,
    },
}

/// Where the other side of a call may call back.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CallbackAddress {
    /// The address.
    pub address: String,
    /// The key with which it signs what it sends.
    pub key: String,
}

/// One call, as its runner names it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ClaimedCall {
    /// Its number.
    pub id: i64,
    /// The claim under which it was given.
    pub claim: String,
}

/// The calls that a runner is about to make.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunnerBegin {
    /// All of them.
    pub calls: Vec<ClaimedCall>,
}

/// Calls by number.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct CallNumbers {
    /// Their numbers.
    pub calls: Vec<i64>,
}

/// What a runner says of the calls that it makes, every second or so.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunnerBeat {
    /// All of them.
    pub calls: Vec<CallBeat>,
}

/// One call that goes on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CallBeat {
    /// The call.
    #[serde(flatten)]
    pub call: ClaimedCall,
    /// The last lines that it has written, if there are new ones.
    #[serde(default)]
    pub lines: Option<String>,
    /// How many lines it has written in all.
    #[serde(default)]
    pub line_count: i64,
}

/// How a call ended.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunnerEnd {
    /// The call.
    #[serde(flatten)]
    pub call: ClaimedCall,
    /// What came of it.
    pub result: RunnerResult,
    /// The last answer that came, for people.
    #[serde(default)]
    pub answer: Option<RunnerAnswer>,
}

/// What came of a call.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum RunnerResult {
    /// Its output.
    Output {
        /// As the operation gives it.
        output: Value,
    },
    /// The other side calls back.
    Later,
    /// It failed.
    Failed(RunnerFailure),
    /// Somebody answered a look.
    Seen {
        /// What was said.
        text: String,
    },
    /// A machine showed its key.
    HostKey {
        /// The machine with its port.
        machine: String,
        /// The kind of key.
        algorithm: String,
        /// Its fingerprint.
        fingerprint: String,
    },
}

/// Why a call failed, and what is known of the other side.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RunnerFailure {
    /// `not-sent`, `refused`, `unknown`, or `useless` for what was done with an answer that cannot
    /// be used.
    pub end: String,
    /// What happened.
    pub message: String,
    /// Whether every other try would end the same way.
    #[serde(default)]
    pub lasting: bool,
    /// How long the other side asked to be left alone, in milliseconds.
    #[serde(default)]
    pub retry_after_ms: Option<u64>,
}

impl From<Failure> for RunnerFailure {
    fn from(Failure { message, end, lasting, retry_after }: Failure) -> Self {
        let retry_after_ms = retry_after.map(Period::millis);
        Self { end: end.as_str().to_owned(), message, lasting, retry_after_ms }
    }
}

impl From<RunnerFailure> for Failure {
    /// What ended in a way that is not known here may have been done.
    fn from(RunnerFailure { end, message, lasting, retry_after_ms }: RunnerFailure) -> Self {
        let end = CallEnd::parse(&end).unwrap_or(CallEnd::Unknown);
        let retry_after = retry_after_ms.map(Period::from_millis);
        Self { message, end, lasting, retry_after }
    }
}

/// The last answer that came, for people.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RunnerAnswer {
    /// The status, or what stands for one.
    pub status: u16,
    /// Headers by name.
    #[serde(default)]
    pub headers: Map<String, Value>,
    /// The body.
    pub body: Value,
}
