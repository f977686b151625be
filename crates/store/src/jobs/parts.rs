//! A statement of several parts, which is one round trip.

use arvok_core::text::clean_json;
use sea_orm::Value;

/// A statement that writes several things, each of them for jobs that are held.
pub(super) struct Parts {
    sql: String,
    values: Vec<Value>,
}

impl Parts {
    pub(super) fn new(first: &str, values: Vec<Value>) -> Self {
        Self { sql: first.to_owned(), values }
    }

    /// Adds a part under a name, with rows for its `{rows}`; nothing without any.
    pub(super) fn add(&mut self, (name, text): (&str, &str), rows: Vec<serde_json::Value>) {
        if !rows.is_empty() {
            self.values.push(clean_json(rows.into()).into());
            let rows = format!("${}::jsonb", self.values.len());
            self.sql.push_str(&format!(", {name} AS ({})", text.replace("{rows}", &rows)));
        }
    }

    pub(super) fn end(mut self, last: &str) -> (String, Vec<Value>) {
        self.sql.push(' ');
        self.sql.push_str(last);
        (self.sql, self.values)
    }
}
