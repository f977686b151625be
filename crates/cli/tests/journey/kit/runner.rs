//! Runners as processes.

use super::{ARVOK, Stage, folder};
use arvok_postgres::{SupervisedChild, spawn_supervised};
use nix::{
    sys::signal::{Signal, kill},
    unistd::Pid,
};
use std::{
    fs,
    path::PathBuf,
    process::{Command, Stdio},
};

/// A runner's process with its token and its log.
pub struct Runner {
    process: SupervisedChild,
    log: PathBuf,
    pub token: String,
}

impl Runner {
    /// Makes one known and starts it.
    pub fn start(stage: &Stage, name: &str, labels: &str) -> Self {
        let added = stage.arvok(&["runner", "add", name, "--labels", labels]);
        assert_eq!(added.code, 0, "{}", added.all());
        Self::with_token(stage, added.out.trim(), &[])
    }

    /// Starts one with a token.
    pub fn with_token(stage: &Stage, token: &str, options: &[&str]) -> Self {
        let data = folder("runner");
        fs::write(data.join("token"), token).expect("a token");
        let mut command = Command::new(ARVOK);
        command
            .args(["runner", "--server", &stage.address, "--token-file"])
            .arg(data.join("token"))
            .args(options);
        let log = fs::File::create(data.join("log")).expect("a log");
        let process =
            spawn_supervised(&command, "KILL", Stdio::null(), log.into()).expect("it starts");
        Self { process, log: data.join("log"), token: token.to_owned() }
    }

    /// Sends it a signal.
    pub fn signal(&self, signal: Signal) {
        let pid = i32::try_from(self.process.pid()).expect("a pid");
        kill(Pid::from_raw(pid), signal).expect("is signalled");
    }

    /// What it has logged.
    pub fn log(&self) -> String {
        fs::read_to_string(&self.log).unwrap_or_default()
    }
}
