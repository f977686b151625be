//! Runbooks as they are drawn.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

/// The text of a runbook, published or not.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OutlineRequest {
    /// The document.
    pub text: String,
}

/// A runbook drawn: its tree of steps, what expressions know, and whom it needs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunbookOutline {
    /// Its steps.
    pub steps: Vec<OutlineStep>,
    /// What else may be done: `announce`, `confirm`, `otherwise`, `recover`, `always`.
    pub further: Vec<OutlinePart>,
    /// What expressions know: `inputs`, `steps`, `job`, `alarm`. A record is an object of its
    /// fields, anything else a text that says what it is.
    #[schema(value_type = Object)]
    pub known: Map<String, Value>,
    /// The connections that its steps call.
    pub connections: Vec<Needed>,
    /// The runbooks that its steps have done as jobs.
    pub runbooks: Vec<Needed>,
}

/// A step drawn.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OutlineStep {
    /// The line of the text at which it begins.
    pub line: usize,
    /// Its `id`.
    pub id: String,
    /// The word for its kind.
    pub kind: String,
    /// One line for people.
    pub summary: Option<String>,
    /// What it does, in a line.
    pub does: String,
    /// The shared step that it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shared: Option<String>,
    /// The condition under which it is run.
    pub when: Option<String>,
    /// What follows a failure, if not the end: `continue`, or the step at which it goes on.
    pub on_error: Option<String>,
    /// What stands within it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(no_recursion)]
    pub parts: Vec<OutlinePart>,
}

/// Steps within a step, or beside a runbook's own.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OutlinePart {
    /// A condition, a name, or `undo`.
    pub label: String,
    /// Its steps.
    pub steps: Vec<OutlineStep>,
}

/// Something that a runbook needs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Needed {
    /// Its name.
    pub name: String,
    /// Which of its operations.
    pub operations: Vec<String>,
    /// Whether it is published.
    pub published: bool,
}
