//! A diagnostic with its place, and how it is shown.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

/// What is wrong in a file, where, and the line itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Problem {
    /// The file's name as given.
    pub file: String,
    /// From one.
    pub line: usize,
    /// From one, in characters.
    pub column: usize,
    /// Characters to mark.
    pub length: usize,
    /// What is wrong and what to do.
    pub message: String,
    /// The offending line.
    pub text: String,
    /// The name of a warning; none for what is wrong for certain.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub warning: Option<String>,
}

impl Problem {
    /// Its JSON Schema.
    pub fn schema() -> serde_json::Value {
        schemars::schema_for!(Self).to_value()
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let warning =
            self.warning.as_ref().map_or_else(String::new, |name| format!("warning ({name}): "));
        let mut message = self.message.lines();
        let first = message.next().unwrap_or_default();
        writeln!(f, "{}:{}:{}: {warning}{first}", self.file, self.line, self.column)?;
        for line in message {
            writeln!(f, "      {line}")?;
        }
        let shown = crate::text::cut(&self.text, 160);
        let marks = self.length.min(shown.chars().count().saturating_sub(self.column - 1)).max(1);
        writeln!(f, "{:>5} | {}", self.line, shown)?;
        write!(
            f,
            "      | {}{}",
            " ".repeat(self.column.saturating_sub(1).min(160)),
            "^".repeat(marks)
        )
    }
}
