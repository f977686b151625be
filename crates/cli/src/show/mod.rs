//! How things are shown to people: tables, times, marks. Programs ask for `--json`.

mod alerts;
mod definitions;
mod jobs;
mod proposals;
mod rehearsal;
mod table;
mod time;
mod why;

pub use alerts::{alarm, alarms, alert, alerts, taken};
pub use definitions::{changes, definition, definitions, unreadable};
pub use jobs::{effect, job, jobs, step_line};
pub use proposals::{proposal, proposals};
pub use rehearsal::rehearsal;
pub use table::Table;
pub use time::{ago, between, exact, when};
pub use why::{alert_why, verdicts, versions, why};

use crate::error::CliError;
use serde::Serialize;
use std::io::Write;

/// Prints a result; a reader that has gone away is no error.
pub fn out(text: &str) {
    let _ = writeln!(std::io::stdout(), "{}", text.trim_end());
}

/// Prints JSON.
pub fn json(value: &impl Serialize) -> Result<(), CliError> {
    let text = serde_json::to_string_pretty(value).map_err(|e| CliError::Here(e.to_string()))?;
    out(&text);
    Ok(())
}

/// The gauge of a severity in one character: the fuller the worse, empty for what is over.
pub fn gauge(severity: &str, state: &str) -> &'static str {
    if state == "cleared" {
        return "·";
    }
    match severity {
        "warning" => "▂",
        "minor" => "▄",
        "major" => "▆",
        "critical" => "█",
        _ => "▁",
    }
}

/// A page's text, and how to go on behind it.
fn with_next(text: String, next: Option<&String>) -> String {
    match next {
        Some(next) => format!("{text}\nThere are more: --after {next}"),
        None => text,
    }
}
