//! Machines over SSH: performs a command, an upload or a download that the core has planned.
//!
//! [`Machine`] tells which one is meant, [`session`] makes a line to a machine that proves who it
//! is and lets us in, [`pool`] keeps such lines for the next calls, [`command`] runs a command on
//! one, [`file`] moves a small file.

mod command;
mod file;
mod pool;
mod session;

use crate::{
    driver::{Called, Driver, Way, unsent},
    machine::{Machine, must_be_one},
};
use arvok_core::connector::{Answer, CallEnd, Failure, RemoteAct, SshPlan};
use pool::{LineHold, Pool};
use russh::{ChannelMsg, ChannelReadHalf, ChannelStream, ChannelWriteHalf, client::Msg};
use serde_json::{Map, Value};
use session::{ChannelTo, SeenKey};
use std::{
    sync::atomic::{AtomicBool, Ordering},
    time::Duration,
};

/// The driver.
#[derive(Debug, Default)]
pub(crate) struct Ssh {
    pool: Pool,
}

/// A key that a machine shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HostKey {
    /// The machine with its port, as it is trusted by: `quill-web-1:22`.
    pub machine: String,
    /// The kind of key, such as `ssh-ed25519`.
    pub algorithm: String,
    /// Its fingerprint: `SHA256:...`.
    pub fingerprint: String,
}

impl Ssh {
    /// Looks whether a machine answers, is the trusted one, and lets us in.
    ///
    /// # Errors
    /// That it does not.
    pub(crate) async fn probe(&self, way: Way<'_>) -> Result<String, Failure> {
        must_be_one(way)?;
        let machine = Machine::addressed(way, None)?;
        let (known, seen) = (machine.trusted(way), SeenKey::default());
        let opening = self.pool.open(&machine, &known, way, &seen);
        let (line, _through) = within(way.timeout, opening, || late(&machine, way)).await??;
        line.close().await;
        let key = seen.get().map_or_else(String::new, |key| format!(" with the key {key}"));
        Ok(format!("{} lets us in{key}", machine.name()))
    }

    /// The key that a machine shows, whoever trusts it; nothing else is said to it.
    ///
    /// # Errors
    /// That nobody is there who shows one.
    pub(crate) async fn host_key(
        &self,
        way: Way<'_>,
        host: Option<&str>,
    ) -> Result<HostKey, Failure> {
        let machine = Machine::addressed(way, host)?;
        let seen = SeenKey::default();
        let opening = self.pool.open(&machine, &[], way, &seen);
        let ended = within(way.timeout, opening, || late(&machine, way)).await?.err();
        let key =
            seen.get().ok_or_else(|| ended.unwrap_or_else(|| unsent("shows no key".into())))?;
        let (algorithm, fingerprint) = (key.algorithm, key.fingerprint);
        Ok(HostKey { machine: machine.name(), algorithm, fingerprint })
    }
}

/// A channel to a subsystem of a machine (RFC 4254, section 6.5). It is closed when nobody has it
/// any more.
pub(crate) struct Subsystem {
    /// The machine with its port.
    pub machine: String,
    /// What it says.
    pub from: ChannelReadHalf,
    to: Option<ChannelWriteHalf<Msg>>,
    _hold: LineHold,
}

impl Subsystem {
    /// Says something.
    ///
    /// # Errors
    /// That the line is cut.
    pub(crate) async fn send(&self, bytes: &[u8]) -> Result<(), russh::Error> {
        match &self.to {
            Some(to) => to.data(bytes).await,
            None => Ok(()),
        }
    }
}

impl Drop for Subsystem {
    fn drop(&mut self) {
        if let Some(channel) = self.to.take() {
            tokio::spawn(async move {
                let _ = channel.eof().await;
                let _ = channel.close().await;
            });
        }
    }
}

impl Ssh {
    /// Begins with a subsystem of the machine that a call goes to. Nothing was done on it yet.
    ///
    /// # Errors
    /// That the machine is not there, not the trusted one, or does not let us in.
    pub(crate) async fn subsystem(
        &self,
        way: Way<'_>,
        host: Option<&str>,
        name: &str,
    ) -> Result<Subsystem, Failure> {
        let machine = Machine::addressed(way, host)?;
        let known = machine.trusted(way);
        let opening = self.pool.channel(&machine, &known, way, ChannelTo::Session);
        let (channel, hold) = within(way.timeout, opening, || late(&machine, way)).await??;
        let broken = |e| {
            let message = format!("{} broke off: {e}", machine.name());
            Failure::new(CallEnd::NotSent, message)
        };
        channel.request_subsystem(true, name).await.map_err(broken)?;
        let (mut from, to) = channel.split();
        // Before that it takes nothing that is said to it.
        let begun = within(way.timeout, begins(&mut from), || late(&machine, way)).await?;
        if !begun {
            let message = format!("{} does not speak {name} to this user", machine.name());
            return Err(unsent(message));
        }
        Ok(Subsystem { machine: machine.name(), from, to: Some(to), _hold: hold })
    }
}

/// A place on a line.
pub(crate) struct SocketHold(
    #[expect(dead_code, reason = "is held, and looked at by nobody")] LineHold,
);

/// A socket of a machine. It is closed when nobody has it any more.
pub(crate) struct RemoteSocket {
    /// The machine with its port.
    pub machine: String,
    /// What is said on it.
    pub stream: ChannelStream<Msg>,
    /// Keeps a place on the line for it.
    pub hold: SocketHold,
}

impl Ssh {
    /// Opens a socket of the machine that a call goes to. Nothing was said on it yet.
    ///
    /// # Errors
    /// That the machine is not there, not the trusted one, or does not let us in; that it has no
    /// such socket, or not for this user.
    pub(crate) async fn socket(
        &self,
        way: Way<'_>,
        host: Option<&str>,
        path: &str,
    ) -> Result<RemoteSocket, Failure> {
        let machine = Machine::addressed(way, host)?;
        let known = machine.trusted(way);
        let opening = self.pool.channel(&machine, &known, way, ChannelTo::Socket(path));
        let (channel, hold) = within(way.timeout, opening, || late(&machine, way)).await??;
        Ok(RemoteSocket {
            machine: machine.name(),
            stream: channel.into_stream(),
            hold: SocketHold(hold),
        })
    }
}

/// Whether what was asked for on a channel begins.
async fn begins(from: &mut ChannelReadHalf) -> bool {
    while let Some(message) = from.wait().await {
        match message {
            ChannelMsg::Success => return true,
            ChannelMsg::Failure | ChannelMsg::Close => return false,
            _ => {}
        }
    }
    false
}

fn late(machine: &Machine, way: Way<'_>) -> Failure {
    let seconds = way.timeout.as_secs_f32();
    Failure::new(
        CallEnd::NotSent,
        format!("{} did not let us in within {seconds} s", machine.name()),
    )
}

async fn within<T>(
    time: Duration,
    what: impl Future<Output = T>,
    late: impl FnOnce() -> Failure,
) -> Result<T, Failure> {
    tokio::time::timeout(time, what).await.map_err(|_| late())
}

impl Driver<SshPlan<'_>> for Ssh {
    async fn perform(
        &self,
        plan: SshPlan<'_>,
        way: Way<'_>,
        last: &mut Option<Answer>,
    ) -> Result<Called, Failure> {
        let machine = Machine::addressed(way, plan.host())?;
        let known = machine.trusted(way);
        let begun = tokio::time::Instant::now();
        let opening = self.pool.channel(&machine, &known, way, ChannelTo::Session);
        let channel = within(way.timeout, opening, || late(&machine, way)).await??;
        let left = way.timeout.saturating_sub(begun.elapsed());
        // From then on the machine may have begun.
        let is_sent = AtomicBool::new(false);
        let is_over = || {
            let seconds = way.timeout.as_secs_f32();
            match is_sent.load(Ordering::Acquire) {
                true => Failure::new(
                    CallEnd::Unknown,
                    format!(
                        "{} was not done within {seconds} s; it was told to stop, and may go on \
                         all the same",
                        machine.name()
                    ),
                ),
                false => late(&machine, way),
            }
        };
        let output = match plan.act() {
            RemoteAct::Run(asked) => {
                let running = command::run(channel, asked, &is_sent, way.live);
                let result = within(left, running, is_over).await??;
                *last = Some(command::answer(&result));
                plan.ran(&result)
            }
            RemoteAct::Upload { path, content, mode } => {
                let writing = file::upload(channel, path, content, *mode, &is_sent);
                within(left, writing, is_over).await??;
                plan.uploaded(content.len())
            }
            RemoteAct::Download { path, at_most } => {
                let reading = file::download(channel, path, *at_most);
                let (content, left_out) = within(left, reading, is_over).await??;
                let body = Value::String(String::from_utf8_lossy(&content).into_owned());
                *last = Some(Answer { status: 0, headers: Map::new(), body });
                plan.downloaded(&content, left_out)
            }
        };
        output.map(Called::Output).map_err(|failure| Failure {
            message: format!("{}: {}", machine.name(), failure.message),
            ..failure
        })
    }
}
