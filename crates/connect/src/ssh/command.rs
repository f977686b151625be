//! A command on a line (RFC 4254, section 6.5). What it writes is read to its end, whatever of it
//! is kept: a machine whose output nobody takes would stop in the middle.

use super::pool::LineHold;
use crate::LiveOutput;
use arvok_core::connector::{Answer, CallEnd, CommandExit, CommandResult, Failure, RemoteCommand};
use russh::{Channel, ChannelMsg, ChannelReadHalf, ChannelWriteHalf, Sig, client::Msg};
use serde_json::{Map, Value};
use std::sync::atomic::{AtomicBool, Ordering};

/// So much of the end of what a command writes to its standard error is kept.
const MAX_STDERR: usize = 8 << 10;
/// The standard error among extended data (RFC 4254, section 5.2).
const STDERR: u32 = 1;

/// Tells the machine to stop if nobody waits for it any more.
struct Stopping {
    channel: Option<ChannelWriteHalf<Msg>>,
}

impl Stopping {
    /// The command has ended: there is nothing to stop.
    async fn has_ended(mut self) {
        if let Some(channel) = self.channel.take() {
            let _ = channel.close().await;
        }
    }
}

impl Drop for Stopping {
    fn drop(&mut self) {
        if let Some(channel) = self.channel.take() {
            tokio::spawn(async move {
                let _ = channel.signal(Sig::TERM).await;
                let _ = channel.close().await;
            });
        }
    }
}

/// Runs a command. As soon as the machine may have begun, `is_sent` is true.
pub(super) async fn run(
    (channel, _hold): (Channel<Msg>, LineHold),
    asked: &RemoteCommand,
    is_sent: &AtomicBool,
    live: LiveOutput<'_>,
) -> Result<CommandResult, Failure> {
    let (mut from, to) = channel.split();
    is_sent.store(true, Ordering::Release);
    to.exec(true, asked.line.as_bytes()).await.map_err(|_| cut("before it has begun"))?;
    let stopping = Stopping { channel: Some(to) };
    let writing = async {
        if let Some(to) = &stopping.channel {
            if !asked.input.is_empty() {
                // A command need not read it.
                let _ = to.data(asked.input.as_bytes()).await;
            }
            let _ = to.eof().await;
        }
    };
    let result = {
        let reading = read(&mut from, asked.at_most as usize, live);
        tokio::pin!(reading, writing);
        let mut is_written = false;
        loop {
            tokio::select! {
                result = &mut reading => break result,
                () = &mut writing, if !is_written => is_written = true,
            }
        }
    };
    if result.is_ok() {
        stopping.has_ended().await;
    }
    result
}

/// Reads what a command writes until the machine closes its channel.
async fn read(
    from: &mut ChannelReadHalf,
    at_most: usize,
    live: LiveOutput<'_>,
) -> Result<CommandResult, Failure> {
    let (mut stdout, mut stderr, mut left_out) = (Vec::new(), Vec::new(), 0);
    let (mut exit, mut has_begun) = (None, false);
    while let Some(message) = from.wait().await {
        match message {
            ChannelMsg::Success => has_begun = true,
            ChannelMsg::Failure => {
                let message = "runs no commands for this user";
                return Err(Failure::lasting(CallEnd::Refused, message));
            }
            ChannelMsg::Data { data } => {
                live.0(&data);
                let room = at_most.saturating_sub(stdout.len()).min(data.len());
                stdout.extend_from_slice(&data[..room]);
                left_out += (data.len() - room) as u64;
            }
            ChannelMsg::ExtendedData { data, ext: STDERR } => {
                live.0(&data);
                stderr.extend_from_slice(&data);
                let more = stderr.len().saturating_sub(MAX_STDERR);
                stderr.drain(..more);
            }
            ChannelMsg::ExitStatus { exit_status } => {
                exit = Some(CommandExit::Status(exit_status));
            }
            ChannelMsg::ExitSignal { signal_name, .. } => {
                exit = Some(CommandExit::Signal(name(&signal_name)));
            }
            ChannelMsg::Close => break,
            _ => {}
        }
    }
    let exit =
        exit.ok_or_else(|| cut(if has_begun { "in the middle" } else { "before it has begun" }))?;
    Ok(CommandResult { exit, stdout, stderr, left_out })
}

fn cut(when: &str) -> Failure {
    Failure::new(CallEnd::Unknown, format!("the line to it was cut {when}"))
}

fn name(signal: &Sig) -> String {
    match signal {
        Sig::Custom(name) => name.clone(),
        known => format!("{known:?}"),
    }
}

/// What came, as people see it.
pub(super) fn answer(result: &CommandResult) -> Answer {
    let text = |bytes: &[u8]| Value::String(String::from_utf8_lossy(bytes).into_owned());
    let status = match result.exit {
        CommandExit::Status(status) => u16::try_from(status).unwrap_or(u16::MAX),
        CommandExit::Signal(_) => u16::MAX,
    };
    let mut headers = Map::new();
    if !result.stderr.is_empty() {
        headers.insert("stderr".into(), text(&result.stderr));
    }
    Answer { status, headers, body: text(&result.stdout) }
}
