//! Tables as wide as the terminal, at most; where there is none, or where it is asked for, as wide
//! as what they hold. What people type next and what is short stands whole; the longest texts share
//! what is left.

use comfy_table::{
    ColumnConstraint, ContentArrangement, Row, Table as Inner, Width, presets::NOTHING,
};
use std::{
    io::IsTerminal,
    sync::atomic::{AtomicBool, Ordering},
};

/// Whether values are never cut, because it was asked for.
static WIDE: AtomicBool = AtomicBool::new(false);

/// From now on values are never cut.
pub fn never_cut() {
    WIDE.store(true, Ordering::Relaxed);
}

/// Narrowest and widest line.
const BOUNDS: (u16, u16) = (60, 240);
/// Least width of a column whose texts are cut.
const LEAST: usize = 8;

/// A table for people.
pub struct Table {
    rows: Vec<Vec<String>>,
}

impl Table {
    /// With these headings.
    pub fn new(headings: &[&str]) -> Self {
        Self { rows: vec![headings.iter().map(|h| h.to_uppercase()).collect()] }
    }

    /// Adds a row.
    pub fn row(&mut self, cells: impl IntoIterator<Item = String>) {
        self.rows.push(cells.into_iter().map(|c| c.replace(['\n', '\r', '\t'], " ")).collect());
    }

    /// The text, or a sentence when there is nothing.
    pub fn text(&self, nothing: &str) -> String {
        self.within(nothing, width())
    }

    fn within(&self, nothing: &str, width: Option<u16>) -> String {
        if self.rows.len() < 2 {
            return nothing.to_owned();
        }
        let width = width.unwrap_or(u16::MAX);
        let mut inner = Inner::new();
        inner
            .load_style(NOTHING)
            .set_content_arrangement(ContentArrangement::Dynamic)
            .set_width(width);
        inner.set_truncation_indicator("…");
        for (i, cells) in self.rows.iter().enumerate() {
            let mut row = Row::from(cells);
            row.max_height(1);
            if i == 0 {
                inner.set_header(row)
            } else {
                inner.add_row(row)
            };
        }
        for (i, width) in self.widths(usize::from(width)).into_iter().enumerate() {
            if let Some(column) = inner.column_mut(i) {
                let width = u16::try_from(width + 2).unwrap_or(u16::MAX);
                column.set_constraint(ColumnConstraint::Absolute(Width::Fixed(width)));
            }
        }
        let text = inner.to_string();
        let lines: Vec<&str> =
            text.lines().map(|l| l.strip_prefix(' ').unwrap_or(l).trim_end()).collect();
        lines.join("\n")
    }

    /// The width of each column: all of its content, and where that is too much, the widest give
    /// way first. The first column is what one types next; it is never cut.
    fn widths(&self, whole: usize) -> Vec<usize> {
        let columns = self.rows.iter().map(Vec::len).max().unwrap_or(0);
        let longest = |i: usize| {
            self.rows.iter().filter_map(|r| r.get(i)).map(|c| c.chars().count()).max().unwrap_or(0)
        };
        let mut widths: Vec<usize> = (0..columns).map(longest).collect();
        // A space on both sides of each.
        let room = whole.saturating_sub(2 * columns);
        while widths.iter().sum::<usize>() > room {
            let widest = widths
                .iter()
                .enumerate()
                .skip(1)
                .filter(|(_, w)| **w > LEAST)
                .max_by_key(|(i, w)| (**w, *i));
            let Some(widest) = widest.map(|(i, _)| i) else { break };
            widths[widest] -= 1;
        }
        widths
    }
}

/// The width of the terminal that is written to, or what `COLUMNS` says; none where values stand
/// whole.
fn width() -> Option<u16> {
    if WIDE.load(Ordering::Relaxed) {
        return None;
    }
    let terminal = std::io::stdout().is_terminal().then(terminal_size::terminal_size).flatten();
    let said = || std::env::var("COLUMNS").ok()?.parse().ok();
    let width = terminal.map(|(width, _)| width.0).or_else(said)?;
    Some(width.clamp(BOUNDS.0, BOUNDS.1))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_longest_texts_give_way_and_what_is_short_stands_whole() {
        let mut table = Table::new(&["job", "runbook", "doing"]);
        table.row([
            "12".into(),
            "grow-disk".into(),
            "Find the fullest disk of the machine and grow it by four".into(),
        ]);
        table.row(["13".into(), "restart-a-service-gently".into(), "confirmed".into()]);
        insta::assert_snapshot!(table.within("none", Some(64)), @r#"
        JOB  RUNBOOK                   DOING
        12   grow-disk                 Find the fullest disk of the…
        13   restart-a-service-gently  confirmed
        "#);
        insta::assert_snapshot!(table.within("none", None), @r#"
        JOB  RUNBOOK                   DOING
        12   grow-disk                 Find the fullest disk of the machine and grow it by four
        13   restart-a-service-gently  confirmed
        "#);
        assert_eq!(Table::new(&["job"]).text("No jobs."), "No jobs.");
    }
}
