//! A script's process: started, fed, read, and ended with all that it has started.
//!
//! The kernel ends the sandbox when the thread that started it ends, so all are started from one
//! thread that lives as long as the process; and when the sandbox ends, all in it does.

use super::{
    sandbox::{BEGUN, OUTPUT, PATH, PROGRAM, STATUS, Sandbox},
    usage,
    user::OwnUser,
};
use crate::LiveOutput;
use arvok_core::{
    Period,
    connector::MAX_OUTPUT,
    script::{Limits, ScriptEnd, ScriptLimit, ScriptResult},
};
use close_fds::CloseFdsBuilder;
use command_fds::{CommandFdExt, FdMapping};
use nix::unistd::{Gid, Uid, fchown};
use serde_json::Value;
use std::{
    os::fd::OwnedFd,
    sync::{
        OnceLock,
        mpsc::{Sender, channel},
    },
    time::Duration,
};
use tokio::{
    io::{AsyncRead, AsyncReadExt, AsyncWriteExt},
    net::unix::pipe,
    process::{Child, Command},
    runtime::Handle,
    sync::oneshot,
};

/// So much of the end of what a script writes is kept: its last line may be what it gives.
const KEPT: usize = MAX_OUTPUT + 1;
/// How long what it wrote may still come when it has ended.
const LAST_WORDS: Duration = Duration::from_secs(2);
/// By how much a shell's status lies above the number of the signal that ended a program.
const BY_SIGNAL: u64 = 128;
/// The first descriptor that no program starts with.
const FIRST_OWN: i32 = 3;
/// The last number of a signal.
const LAST_SIGNAL: u64 = 64;

/// A script that runs.
pub(super) struct RunningScript {
    child: Child,
    input: pipe::Sender,
    stdout: pipe::Receiver,
    stderr: pipe::Receiver,
    output: pipe::Receiver,
    status: pipe::Receiver,
}

/// How it went.
pub(super) enum RunEnd {
    /// It has not begun, and why.
    NotBegun(String),
    /// It is gone, and nobody knows how it ended.
    Gone(String),
    /// It has ended.
    Result(ScriptResult),
}

type Order = (Command, Handle, oneshot::Sender<std::io::Result<Child>>);

/// Starts a program from the thread that lives as long as we do.
async fn spawn(command: Command) -> std::io::Result<Child> {
    static STARTER: OnceLock<Sender<Order>> = OnceLock::new();
    let starter = STARTER.get_or_init(|| {
        let (orders, queue) = channel::<Order>();
        std::thread::spawn(move || {
            for (mut command, runtime, answer) in queue {
                let _entered = runtime.enter();
                // What was open when we were started is ours, too.
                CloseFdsBuilder::new().cloexecfrom(FIRST_OWN);
                let _ = answer.send(command.spawn());
            }
        });
        orders
    });
    let gone = || std::io::Error::other("the thread that starts scripts is gone");
    let (answer, started) = oneshot::channel();
    starter.send((command, Handle::current(), answer)).map_err(|_| gone())?;
    started.await.map_err(|_| gone())?
}

/// A pipe whose end for the script belongs to its user, who may open it by its name.
fn from_script(user: Option<OwnUser>) -> std::io::Result<(pipe::Receiver, OwnedFd)> {
    let (ours, its) = std::io::pipe()?;
    let (ours, its) = (OwnedFd::from(ours), OwnedFd::from(its));
    hand_over(&its, user)?;
    Ok((pipe::Receiver::from_owned_fd(ours)?, its))
}

fn hand_over(its: &OwnedFd, user: Option<OwnUser>) -> std::io::Result<()> {
    if let Some(OwnUser { uid, gid }) = user {
        fchown(its, Some(Uid::from_raw(uid)), Some(Gid::from_raw(gid)))?;
    }
    Ok(())
}

impl RunningScript {
    /// Starts a script in its sandbox.
    pub async fn start(sandbox: Sandbox, user: Option<OwnUser>) -> std::io::Result<Self> {
        let (its_input, input) = std::io::pipe()?;
        let (its_input, input) = (OwnedFd::from(its_input), OwnedFd::from(input));
        hand_over(&its_input, user)?;
        let (stdout, its_stdout) = from_script(user)?;
        let (stderr, its_stderr) = from_script(user)?;
        let (output, its_output) = from_script(user)?;
        let (status, its_status) = from_script(user)?;
        let mut command = Command::new(PROGRAM);
        command
            .args(&sandbox.arguments)
            .env_clear()
            .env("PATH", PATH.join(":"))
            .current_dir("/")
            .stdin(its_input)
            .stdout(its_stdout)
            .stderr(its_stderr)
            .kill_on_drop(true);
        if let Some(OwnUser { uid, gid }) = user {
            command.uid(uid).gid(gid);
        }
        let mut descriptors = sandbox.files;
        descriptors.push(FdMapping { parent_fd: its_output, child_fd: OUTPUT });
        descriptors.push(FdMapping { parent_fd: its_status.try_clone()?, child_fd: BEGUN });
        descriptors.push(FdMapping { parent_fd: its_status, child_fd: STATUS });
        command.fd_mappings(descriptors).map_err(std::io::Error::other)?;
        let child = spawn(command).await?;
        let input = pipe::Sender::from_owned_fd(input)?;
        Ok(Self { child, input, stdout, stderr, output, status })
    }

    /// Feeds it, reads it, watches it, until it ends or has used what it may.
    pub async fn end(
        mut self,
        input: Vec<u8>,
        time: Duration,
        limits: &Limits,
        live: LiveOutput<'_>,
    ) -> RunEnd {
        let Some(pid) = self.child.id() else {
            return RunEnd::Gone("it could not be watched".to_owned());
        };
        let (mut out, mut err) = (OutputTail::new(limits.output), OutputTail::new(limits.output));
        let (mut given, mut said) =
            (OutputTail::new(MAX_OUTPUT as u64), OutputTail::new(MAX_OUTPUT as u64));
        let feeding = async {
            // A script need not read it.
            let _ = self.input.write_all(&input).await;
            drop(self.input);
            Ok(())
        };
        let over = {
            let reading = async {
                tokio::try_join!(
                    feeding,
                    out.read(self.stdout, live),
                    err.read(self.stderr, live),
                    given.read(self.output, LiveOutput::NOBODY),
                    said.read(self.status, LiveOutput::NOBODY)
                )
            };
            let exceeded = async {
                tokio::select! {
                    () = tokio::time::sleep(time) => {
                        let millis = u64::try_from(time.as_millis()).unwrap_or(u64::MAX);
                        ScriptLimit::Time(Period::from_millis(millis))
                    }
                    limit = usage::exceeded(pid, limits) => limit,
                }
            };
            tokio::pin!(reading);
            // What it wrote ends with all that it has started, and those end with it.
            tokio::select! {
                read = &mut reading => read.err(),
                limit = exceeded => Some(limit),
                _ = self.child.wait() => match tokio::time::timeout(LAST_WORDS, reading).await {
                    Ok(read) => read.err(),
                    Err(_) => None,
                },
            }
        };
        let _ = self.child.kill().await;
        let end = match (over, exit(&said.kept)) {
            (Some(limit @ ScriptLimit::Output(_)), _) => ScriptEnd::Over(limit),
            // It may have ended by itself just before it was to be ended.
            (_, SandboxReport::Status(status)) => end_of(status, limits),
            (Some(limit), _) => ScriptEnd::Over(limit),
            (None, SandboxReport::Begun) => {
                return RunEnd::Gone("it was ended, and nobody here knows by whom".to_owned());
            }
            (None, SandboxReport::NotBegun) => {
                let why = String::from_utf8_lossy(&err.kept).trim().to_owned();
                return RunEnd::NotBegun(why);
            }
        };
        let (output, stdout, stderr) = (given.kept, out.kept, err.kept);
        RunEnd::Result(ScriptResult { end, output, stdout, stderr })
    }
}

/// What the sandbox said.
enum SandboxReport {
    NotBegun,
    Begun,
    Status(u64),
}

fn exit(said: &[u8]) -> SandboxReport {
    let lines = serde_json::Deserializer::from_slice(said).into_iter::<Value>().flatten();
    lines.fold(SandboxReport::NotBegun, |exit, line| match (exit, line["exit-code"].as_u64()) {
        (SandboxReport::NotBegun, _) if line["begun"] == true => SandboxReport::Begun,
        (SandboxReport::Begun, Some(status)) => SandboxReport::Status(status),
        (exit, _) => exit,
    })
}

/// How a script ended by its status, which a signal raises above all others.
fn end_of(status: u64, limits: &Limits) -> ScriptEnd {
    match status.checked_sub(BY_SIGNAL) {
        Some(signal @ 1..=LAST_SIGNAL) => match (signal, limits.processor_time) {
            (24, Some(time)) => ScriptEnd::Over(ScriptLimit::ProcessorTime(time)),
            _ => ScriptEnd::Signal(u8::try_from(signal).unwrap_or(u8::MAX)),
        },
        _ => ScriptEnd::Status(u8::try_from(status).unwrap_or(u8::MAX)),
    }
}

/// The end of what is written, and whether that was too much.
struct OutputTail {
    kept: Vec<u8>,
    all: u64,
    most: u64,
}

impl OutputTail {
    const fn new(most: u64) -> Self {
        Self { kept: Vec::new(), all: 0, most }
    }

    /// Reads to the end.
    ///
    /// # Errors
    /// That it is too much.
    async fn read(
        &mut self,
        mut from: impl AsyncRead + Unpin,
        live: LiveOutput<'_>,
    ) -> Result<(), ScriptLimit> {
        let mut part = vec![0; 16 << 10];
        while let Ok(count @ 1..) = from.read(&mut part).await {
            live.0(&part[..count]);
            self.all += count as u64;
            if self.all > self.most {
                return Err(ScriptLimit::Output(self.most));
            }
            self.kept.extend_from_slice(&part[..count]);
            let more = self.kept.len().saturating_sub(KEPT);
            self.kept.drain(..more);
        }
        Ok(())
    }
}
