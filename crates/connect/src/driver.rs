//! What drives one protocol: where its calls go, and what comes of them.

use crate::LiveOutput;
use arvok_core::{
    Period, TraceContext,
    connector::{Answer, CallEnd, Failure, Opened, Session},
    glob::Glob,
};
use serde_json::Value;
use std::{collections::BTreeMap, time::Duration};

/// Performs the calls that the core plans for one protocol.
pub(crate) trait Driver<Planned> {
    /// Performs a call; the last answer that came is kept for people.
    async fn perform(
        &self,
        planned: Planned,
        way: Way<'_>,
        last: &mut Option<Answer>,
    ) -> Result<Called, Failure>;
}

/// The fingerprints of keys that were trusted, by machine with its port: `quill-web-1:22`.
pub type TrustedKeys = BTreeMap<String, String>;

/// Where a call goes, and what is shown there.
#[derive(Clone, Copy)]
pub struct Way<'a> {
    /// The connection's base address.
    pub base: &'a str,
    /// The opened credential.
    pub credential: Option<&'a Opened>,
    /// How sessions are opened and ended there.
    pub session: Option<&'a Session>,
    /// The authorities that are trusted, in PEM, instead of those that the system knows.
    pub authorities: Option<&'a str>,
    /// The machines that the address stands for, where it stands for many.
    pub hosts: &'a [Glob],
    /// The fingerprints of the keys of which a machine must show one; none: what was trusted.
    pub host_keys: &'a [String],
    /// The keys that were trusted of machines of this connection.
    pub trusted: Option<&'a TrustedKeys>,
    /// The machine through which it is reached.
    pub jump: Option<JumpHost<'a>>,
    /// How long one request may take.
    pub timeout: Duration,
    /// Is shown what a command writes while it runs.
    pub live: LiveOutput<'a>,
    /// The span of the call, for whoever is called and keeps traces.
    pub trace: Option<TraceContext>,
}

/// A machine through which others are reached.
#[derive(Clone, Copy)]
pub struct JumpHost<'a> {
    /// Its address.
    pub base: &'a str,
    /// The opened credential that it is shown.
    pub credential: Option<&'a Opened>,
    /// The fingerprints of the keys of which it must show one; none: what was trusted.
    pub host_keys: &'a [String],
    /// The keys that were trusted of it.
    pub trusted: Option<&'a TrustedKeys>,
}

impl<'a> JumpHost<'a> {
    /// The way to it.
    pub(crate) const fn way(self, timeout: Duration) -> Way<'a> {
        let Self { base, credential, host_keys, trusted } = self;
        Way { credential, host_keys, trusted, ..Way::to(base, timeout) }
    }
}

impl<'a> Way<'a> {
    /// A way to an address, without a credential, on which one request may take so long.
    pub const fn to(base: &'a str, timeout: Duration) -> Self {
        Self {
            base,
            credential: None,
            session: None,
            authorities: None,
            hosts: &[],
            host_keys: &[],
            trusted: None,
            jump: None,
            timeout,
            live: LiveOutput::NOBODY,
            trace: None,
        }
    }
}

impl std::fmt::Debug for Way<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.base)
    }
}

/// What came of a call.
#[derive(Clone, Debug, PartialEq)]
pub enum Called {
    /// Its output.
    Output(Value),
    /// The other side calls back, within a time.
    Later(Period),
}

/// What cannot be sent as it is.
pub(crate) fn unsent(message: String) -> Failure {
    Failure::lasting(CallEnd::NotSent, message)
}
