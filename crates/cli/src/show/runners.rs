//! The runners.

use super::{Table, clock, seconds};
use arvok_api::RunnerItem;
use arvok_core::Labels;

/// After how many seconds of silence a runner is marked: it asks for calls at least so often.
const SILENT: f64 = 30.0;

/// Runners as a table.
pub fn runners(runners: &[RunnerItem]) -> String {
    let mut table = Table::new(&[
        "runner",
        "serves",
        "state",
        "heard",
        "build",
        "calls",
        "clock",
        "connections",
    ]);
    runners.iter().for_each(|r| table.row(row(r)));
    table.text("No runner is known. `arvok runner add NAME --labels site=...` makes one known.")
}

fn row(r: &RunnerItem) -> [String; 8] {
    let state = match r.lag {
        None => "never heard of",
        Some(lag) if lag > SILENT => "silent",
        Some(_) => "there",
    };
    let some = |text: Option<String>| text.unwrap_or_default();
    [
        r.name.clone(),
        Labels(r.serves.clone().unwrap_or_else(|| r.labels.clone())).to_string(),
        state.to_owned(),
        some(r.lag.map(|lag| seconds(lag) + " ago")),
        some(r.build.clone()),
        some(r.at_once.map(|most| format!("{} of {most}", r.calls))),
        some(r.clock_offset.map(clock)),
        if r.connections.is_empty() { "none".into() } else { r.connections.join(", ") },
    ]
}
