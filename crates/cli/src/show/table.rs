//! Tables of at most 100 columns; what does not fit is cut in the widest cells.

use comfy_table::{ColumnConstraint, ContentArrangement, Row, Table as Inner, presets::NOTHING};

/// Widest line.
const WIDTH: u16 = 100;

/// A table for people.
pub struct Table(Inner);

impl Table {
    /// With these headings.
    pub fn new(headings: &[&str]) -> Self {
        let mut inner = Inner::new();
        inner.load_style(NOTHING).set_content_arrangement(ContentArrangement::Dynamic).set_width(WIDTH);
        inner.set_truncation_indicator("…");
        inner.set_header(headings.iter().map(|h| h.to_uppercase()));
        // The first column is what one types next; it is never cut.
        if let Some(first) = inner.column_mut(0) {
            first.set_constraint(ColumnConstraint::ContentWidth);
        }
        Self(inner)
    }

    /// Adds a row.
    pub fn row(&mut self, cells: impl IntoIterator<Item = String>) {
        let mut row = Row::from(cells.into_iter().map(|c| c.replace(['\n', '\r', '\t'], " ")));
        row.max_height(1);
        self.0.add_row(row);
    }

    /// The text, or a sentence when there is nothing.
    pub fn text(&self, nothing: &str) -> String {
        if self.0.is_empty() {
            return nothing.to_owned();
        }
        let text = self.0.to_string();
        let lines: Vec<&str> = text.lines().map(|l| l.strip_prefix(' ').unwrap_or(l).trim_end()).collect();
        lines.join("\n")
    }
}
