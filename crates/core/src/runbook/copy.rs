//! A copy of a runbook under a name of its own and over other connections, with everything else as
//! it was written, comments included.

use crate::{
    document::{Document, NameError, check_name, scalar},
    text::hint,
};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// Why there is no such copy.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum CopyError {
    /// What it should be called, or what is called instead, is no name.
    #[error(transparent)]
    NoName(#[from] NameError),
    /// It calls nothing by this connection.
    #[error("it does not call `{name}`{hint}")]
    NotCalled {
        /// The connection.
        name: String,
        /// One that it calls, if that may have been meant.
        hint: String,
    },
}

/// The text of a copy. `instead` has for connections of the runbook those of the copy.
///
/// # Errors
/// If a name is none, or a connection is not called.
pub fn copy(
    document: &Document,
    name: &str,
    instead: &BTreeMap<String, String>,
) -> Result<String, CopyError> {
    for name in [name].into_iter().chain(instead.values().map(String::as_str)) {
        check_name(name)?;
    }
    let mut vias = Vec::new();
    gather("", &document.value, &mut vias);
    let called: BTreeSet<&str> = vias.iter().map(|(_, via)| *via).collect();
    if let Some(unknown) = instead.keys().find(|via| !called.contains(via.as_str())) {
        let hint = hint(unknown, called.iter().copied());
        return Err(CopyError::NotCalled { name: unknown.clone(), hint });
    }
    let other = |(at, via): (String, &str)| instead.get(via).map(|other| (at, scalar(other)));
    let mut words: Vec<(String, String)> = vias.into_iter().filter_map(other).collect();
    words.push(("/runbook".to_owned(), scalar(name)));
    let text = document.with_words(&words);
    let mut lines: Vec<&str> = text.lines().collect();
    let origin = format!("copied_from: {}", scalar(&document.name));
    lines.insert(document.line("/runbook").min(lines.len()), &origin);
    Ok(lines.join("\n") + "\n")
}

/// The connections of all calls, with their places.
fn gather<'d>(at: &str, value: &'d Value, found: &mut Vec<(String, &'d str)>) {
    match value {
        Value::Object(fields) => {
            if let (true, Some(Value::String(via))) =
                (fields.contains_key("call"), fields.get("via"))
            {
                found.push((format!("{at}/via"), via));
            }
            // What is given, and what is expected of examples, calls nobody.
            let steps = fields
                .iter()
                .filter(|(key, _)| !matches!(key.as_str(), "give" | "set" | "examples"));
            steps.for_each(|(key, value)| {
                gather(&format!("{at}/{}", key.replace('~', "~0").replace('/', "~1")), value, found)
            });
        }
        Value::Array(items) => {
            items.iter().enumerate().for_each(|(i, item)| gather(&format!("{at}/{i}"), item, found))
        }
        _ => {}
    }
}
