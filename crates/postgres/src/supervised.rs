//! Processes that end with us, however we end.
//!
//! The kernel signals a child when the thread that started it ends (`PR_SET_PDEATHSIG`), which
//! `setpriv` asks for. So all children are started from one thread that lives as long as the
//! process.

use nix::{
    sys::signal::{Signal, kill},
    unistd::Pid,
};
use std::{
    os::unix::process::CommandExt,
    process::{Child, Command, Stdio},
    sync::{
        OnceLock,
        mpsc::{Sender, channel},
    },
    time::{Duration, Instant},
};

type Order = (Command, Sender<std::io::Result<Child>>);

/// A child process that ends with us.
#[derive(Debug)]
pub struct SupervisedChild {
    child: Child,
    signal: Signal,
}

/// Starts a program that gets the named signal (`INT`, `TERM`, `KILL`) when we end. Of the
/// command, its program, arguments, environment and folder count; it reads nothing.
pub fn spawn_supervised(
    command: &Command,
    signal: &str,
    stdout: Stdio,
    stderr: Stdio,
) -> std::io::Result<SupervisedChild> {
    static STARTER: OnceLock<Sender<Order>> = OnceLock::new();
    let starter = STARTER.get_or_init(|| {
        let (orders, queue) = channel::<Order>();
        std::thread::spawn(move || {
            for (mut command, answer) in queue {
                let _ = answer.send(command.spawn());
            }
        });
        orders
    });
    let (answer, result) = channel();
    let gone = || std::io::Error::other("the thread that starts programs is gone");
    let mut tied = tied(command, signal);
    tied.stdin(Stdio::null()).stdout(stdout).stderr(stderr);
    starter.send((tied, answer)).map_err(|_| gone())?;
    let child = result.recv().map_err(|_| gone())??;
    let signal =
        signal.parse().or_else(|_| format!("SIG{signal}").parse()).unwrap_or(Signal::SIGTERM);
    Ok(SupervisedChild { child, signal })
}

/// The same command behind `setpriv --pdeathsig`. A command that already is a `setpriv` gets the
/// option itself, since a change of user between would undo it.
fn tied(command: &Command, signal: &str) -> Command {
    let mut made = Command::new("setpriv");
    // A group of its own: Ctrl-C in a terminal is for us, and we end our children in order.
    made.process_group(0).arg(format!("--pdeathsig={signal}"));
    if command.get_program() != "setpriv" {
        made.arg(command.get_program());
    }
    made.args(command.get_args());
    for (key, value) in command.get_envs() {
        match value {
            Some(value) => made.env(key, value),
            None => made.env_remove(key),
        };
    }
    if let Some(folder) = command.get_current_dir() {
        made.current_dir(folder);
    }
    made
}

impl SupervisedChild {
    /// Its process id.
    pub fn pid(&self) -> u32 {
        self.child.id()
    }

    /// Whether it still runs.
    pub fn is_running(&mut self) -> bool {
        matches!(self.child.try_wait(), Ok(None))
    }

    /// What it writes to its standard output, if that was piped.
    pub fn stdout(&mut self) -> Option<std::process::ChildStdout> {
        self.child.stdout.take()
    }

    /// Signals it and waits for its end; after ten seconds it is killed.
    pub fn end(&mut self) {
        self.end_with(self.signal);
    }

    /// As [`Self::end`], with another signal.
    pub fn end_with(&mut self, signal: Signal) {
        let pid = Pid::from_raw(i32::try_from(self.child.id()).unwrap_or(0));
        let _ = kill(pid, signal);
        let until = Instant::now() + Duration::from_secs(10);
        while self.is_running() && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(10));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Drop for SupervisedChild {
    fn drop(&mut self) {
        if self.is_running() {
            self.end();
        }
    }
}
