//! How a script ended, and what that means: what it gives, or what is known of it then.

use super::Script;
use crate::{
    Period,
    connector::{CallEnd, ExitStatuses, Failure, Hiding, usable},
    document::Checker,
    expr::Type,
    inputs::Inputs,
};
use serde_json::Value;
use std::fmt;

/// The last status that a program ends with by itself.
const LAST_STATUS: u8 = 125;

/// How a script ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ScriptEnd {
    /// With a status.
    Status(u8),
    /// By a signal, by its number.
    Signal(u8),
    /// It was ended, since it used more than it may.
    Over(ScriptLimit),
}

/// What a script may use so much of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ScriptLimit {
    /// Time.
    Time(Period),
    /// Processor time.
    ProcessorTime(Period),
    /// Bytes of memory.
    Memory(u64),
    /// Bytes written to its standard output or its standard error.
    Output(u64),
}

impl fmt::Display for ScriptLimit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Time(time) => write!(f, "it ran for {time}, which is its time"),
            Self::ProcessorTime(time) => write!(f, "it used more than {time} of processor time"),
            Self::Memory(bytes) => write!(f, "it used more than {} MiB of memory", bytes >> 20),
            Self::Output(bytes) => write!(f, "it wrote more than {} KiB", bytes >> 10),
        }
    }
}

/// What came of a script.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ScriptResult {
    /// How it ended.
    pub end: ScriptEnd,
    /// What it wrote to the descriptor for its output.
    pub output: Vec<u8>,
    /// The end of what it wrote to its standard output.
    pub stdout: Vec<u8>,
    /// The end of what it wrote to its standard error.
    pub stderr: Vec<u8>,
}

impl ScriptResult {
    /// The last line of what it wrote, of its errors if there are any.
    fn last_words(&self) -> String {
        let last = |bytes: &[u8]| last_line(bytes).unwrap_or_default();
        Some(last(&self.stderr))
            .filter(|said| !said.is_empty())
            .unwrap_or_else(|| last(&self.stdout))
    }
}

fn last_line(bytes: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(bytes);
    text.lines().rev().map(str::trim).find(|line| !line.is_empty()).map(str::to_owned)
}

impl Script {
    /// What a script gives, by how it ended.
    ///
    /// # Errors
    /// Why it failed, and what is known of what it did.
    pub fn read(&self, result: &ScriptResult, hiding: Hiding<'_>) -> Result<Value, Failure> {
        let said = match hiding.cut(&result.last_words(), 300) {
            said if said.is_empty() => said,
            said => format!(": {said}"),
        };
        let status = match &result.end {
            ScriptEnd::Status(status) => *status,
            ScriptEnd::Signal(signal) => {
                let message = format!("was ended by signal {signal}{said}");
                return Err(Failure::new(CallEnd::Unknown, message));
            }
            // Every other try would most likely meet the same.
            ScriptEnd::Over(limit) => {
                // The end of a flood tells nothing.
                let said = if matches!(limit, ScriptLimit::Output(_)) { "" } else { &said };
                let message = format!("was ended: {limit}{said}");
                return Err(Failure::lasting(CallEnd::Unknown, message));
            }
        };
        match self.statuses.failure(status.into(), &said, self.repeat().is_harmless()) {
            Some(failure) => Err(failure),
            None => self.output(result, hiding),
        }
    }

    /// Its output: JSON on the descriptor for it, else its last line. Where nothing is promised, no
    /// JSON is no output.
    fn output(&self, result: &ScriptResult, hiding: Hiding<'_>) -> Result<Value, Failure> {
        let useless =
            |why: String| Failure::lasting(CallEnd::Done, format!("ended well, but {why}"));
        let written = String::from_utf8_lossy(&result.output);
        let read = match written.trim() {
            "" => serde_json::from_str(&last_line(&result.stdout).unwrap_or_default()),
            written => serde_json::from_str(written),
        };
        let output: Value = match (read, &self.gives) {
            (Ok(output), _) => output,
            (Err(_), None) if written.trim().is_empty() => Value::Null,
            (Err(e), _) => {
                return Err(useless(format!(
                    "what it gives is no JSON ({e}): it writes one value to descriptor 3, or as \
                    its last line"
                )));
            }
        };
        let output = match &self.gives {
            None => output,
            Some(gives) => promised(gives, output, hiding).map_err(useless)?,
        };
        usable(output, &Type::Any, hiding).map_err(useless)
    }
}

/// An output that is what was promised.
fn promised(gives: &Inputs, output: Value, hiding: Hiding<'_>) -> Result<Value, String> {
    match output {
        Value::Object(given) => gives.complete(given).map(Value::Object).map_err(|e| {
            format!(
                "what it gives is not what it should: {}",
                hiding.cut(&e.to_string().replacen("input", "field", 1), 300)
            )
        }),
        other => {
            let shown = hiding.cut(&other.to_string(), 60);
            Err(format!("what it gives should have fields, and is {shown}"))
        }
    }
}

/// Complains of statuses that cannot mean what is said of them.
pub(super) fn check_statuses(check: &mut Checker<'_>, at: &str, statuses: &ExitStatuses) {
    statuses.check(check, at);
    for (key, list) in statuses.lists() {
        if let Some(n) = list.iter().position(|status| *status > LAST_STATUS) {
            let wrong = "a script ends with 1 to 125: what is above says that it was ended by a \
                signal, or could not be run";
            check.fail(&format!("{at}/{key}/{n}"), wrong);
        }
    }
}
