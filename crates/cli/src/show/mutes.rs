//! Mutes.

use super::{Table, ago, exact, with_next};
use arvok_api::{MuteItem, NewlyMuted, Page};
use arvok_core::mute::MuteState;

/// A list of mutes.
pub fn mutes(page: &Page<MuteItem>) -> String {
    let mut table = Table::new(&["mute", "state", "covers", "ends", "by", "why"]);
    for m in &page.items {
        table.row([
            m.id.to_string(),
            m.state.to_string(),
            m.text.clone(),
            ends(m),
            m.by.shown(),
            m.reason.clone(),
        ]);
    }
    with_next(table.text("Nothing is muted."), page)
}

fn ends(m: &MuteItem) -> String {
    match m.state {
        MuteState::Coming => format!("{} ({})", ago(m.until), "begins ".to_owned() + &ago(m.from)),
        MuteState::Lifted => ago(m.lifted_at.unwrap_or(m.until)),
        MuteState::Standing | MuteState::Over => ago(m.until),
    }
}

/// One mute in a line.
pub fn mute_line(m: &MuteItem) -> String {
    let begins = match m.state {
        MuteState::Coming => format!("from {} ", exact(m.from)),
        _ => String::new(),
    };
    format!(
        "mute {}: {}, {begins}until {}, by {}: {}",
        m.id,
        m.text,
        exact(m.until),
        m.by.shown(),
        m.reason
    )
}

/// One mute.
pub fn mute(m: &MuteItem) -> String {
    let mut lines = vec![
        format!("Mute {}, {}", m.id, m.state),
        format!("  covers    {}", m.text),
        format!("  why       {}", m.reason),
        format!("  by        {}, {}", m.by.shown(), exact(m.created_at)),
        format!("  from      {}", exact(m.from)),
        format!("  until     {}", exact(m.until)),
    ];
    if let (Some(at), Some(by)) = (m.lifted_at, &m.lifted_by) {
        lines.push(format!("  lifted    {} by {}", exact(at), by.shown()));
    }
    lines.join("\n")
}

/// A mute that has just been said.
pub fn newly_muted(said: &NewlyMuted) -> String {
    let mut lines = vec![mute(&said.mute)];
    if !said.jobs.is_empty() {
        let jobs: Vec<String> = said.jobs.iter().map(ToString::to_string).collect();
        lines.push(format!(
            "These jobs go on, since a mute stops none: {}. `arvok job pause JOB` or `arvok job \
            cancel JOB` does.",
            jobs.join(", ")
        ));
    }
    lines.push(format!("`arvok mute lift {}` ends it before its time.", said.mute.id));
    lines.join("\n")
}
