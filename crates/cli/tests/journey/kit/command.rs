//! Running the command and reading what it says.

use super::ARVOK;
use std::{
    io::Write,
    process::{Command, Stdio},
};

/// What a command said.
pub struct Said {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl Said {
    /// Everything, for a snapshot.
    pub fn all(&self) -> String {
        format!("exit {}\n{}{}", self.code, self.out, self.err)
    }
}

/// Runs the command with an environment and an input.
pub fn arvok(args: &[&str], environment: &[(&str, &str)], input: &str) -> Said {
    let mut command = Command::new(ARVOK);
    command
        .args(args)
        .env_remove("ARVOK_SERVER")
        .env_remove("ARVOK_TOKEN")
        .env("HOME", "/nonexistent");
    command.env_remove("XDG_CONFIG_HOME").envs(environment.iter().copied());
    let mut child = command
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the command starts");
    let mut stdin = child.stdin.take().expect("an input");
    let _ = stdin.write_all(input.as_bytes());
    drop(stdin);
    let output = child.wait_with_output().expect("the command ends");
    Said {
        code: output.status.code().unwrap_or(-1),
        out: String::from_utf8_lossy(&output.stdout).into_owned(),
        err: String::from_utf8_lossy(&output.stderr).into_owned(),
    }
}
