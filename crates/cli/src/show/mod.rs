//! How things are shown to people: tables, times, marks. Programs ask for `--json`.

mod alerts;
mod connections;
mod contacts;
mod decisions;
mod definitions;
mod dry_run;
mod guards;
mod jobs;
mod library;
mod memory;
mod mutes;
mod nodes;
mod plans;
mod proposals;
mod rehearsal;
mod runners;
mod sources;
mod storage;
mod subscribers;
mod table;
mod time;
mod trials;
mod why;

pub use alerts::{alarm, alarms, alert, alert_line, alerts, taken};
pub use connections::{
    calls, connection, connection_test, connections, described, host_key, request, tried,
};
pub use contacts::{contact, contacts};
pub use decisions::{decision, decisions};
pub use definitions::{automation, changes, definition, definitions};
pub use dry_run::{dry_run, tried_step};
pub use guards::{guard, guards};
pub use jobs::{Line, effect, goes_on, job, jobs, rows, step_line, step_line_untimed};
pub use library::library;
pub use memory::memory;
pub use mutes::{mute, mute_line, mutes, newly_muted};
use nodes::{clock, seconds};
pub use nodes::{halt, halt_begun, halt_of_some, halted, nodes};
pub use plans::{plan, plan_times, plans};
pub use proposals::{proposal, proposals};
pub use rehearsal::rehearsal;
pub use runners::runners;
pub use sources::{
    named_objects, retried, sender_lines, shape, shapes, shapes_beside, suggestion, tested,
    unreadable, unreadable_line,
};
pub use storage::{keep, storage};
pub use subscribers::{outgoing, subscriber, subscribers};
pub use table::{Table, never_cut};
pub use time::{ago, between, exact, when};
pub use trials::{TrialAlert, TrialWalk, cleared, trial, trial_mark};
pub use why::{alert_why, verdicts, versions, why};

use crate::error::CliError;
pub use crate::terminal::{notice, out, plain, raw};
use arvok_api::Page;
use arvok_core::{AlertState, Severity};
use serde::Serialize;

/// Prints JSON.
pub fn json(value: &impl Serialize) -> Result<(), CliError> {
    let text = serde_json::to_string_pretty(value).map_err(|e| CliError::Here(e.to_string()))?;
    out(&escaped(text));
    Ok(())
}

/// JSON in which nothing but spaces and lines' ends is left to a terminal, and no value is changed.
pub fn escaped(json: String) -> String {
    let odd = |c: char| {
        (c.is_control() && c != '\n') || plain(c.encode_utf8(&mut [0; 4])) != c.to_string()
    };
    if !json.contains(odd) {
        return json;
    }
    json.chars()
        .map(|c| if odd(c) { format!("\\u{:04x}", u32::from(c)) } else { c.to_string() })
        .collect()
}

/// The gauge of a severity in one character: the fuller the worse, empty for what is over.
pub fn gauge(severity: Severity, state: AlertState) -> &'static str {
    if state == AlertState::Cleared {
        return "·";
    }
    match severity {
        Severity::Indeterminate => "▁",
        Severity::Warning => "▂",
        Severity::Minor => "▄",
        Severity::Major => "▆",
        Severity::Critical => "█",
    }
}

/// A page's text, and how to go on behind it.
pub fn with_next<T>(text: String, page: &Page<T>) -> String {
    match &page.next {
        Some(next) if page.bounded => {
            format!("{text}\nOlder ones were not looked at; go on with --after {next}")
        }
        Some(next) => format!("{text}\nThere are more: --after {next}"),
        None => text,
    }
}

/// So many of something.
pub fn count(n: usize, what: &str) -> String {
    if n == 1 { format!("1 {what}") } else { format!("{n} {what}s") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn json_keeps_its_values_and_gives_no_order_to_a_terminal() {
        let value = serde_json::json!({ "a": "\u{9b}2J\u{1b}\u{202e}" });
        let text = escaped(value.to_string());
        assert_eq!(text, "{\"a\":\"\\u009b2J\\u001b\\u202e\"}");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&text).expect("is JSON"), value);
    }
}
