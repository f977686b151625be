//! From the description of an API (OpenAPI 3.0 or 3.1) to a connector: a readable file, to be kept
//! and changed like any other. What is not understood, or cannot be said in a connector, is listed
//! and not guessed.
//!
//! [`description`] looks things up in the document, [`schema`] brings its schemas into ours,
//! [`operation`] makes one operation of one of its, [`credential`] what is shown, [`text`] writes
//! it all down.

mod credential;
mod described;
mod description;
mod error;
mod escaping;
mod operation;
mod schema;
mod text;

pub use error::ImportError;

use crate::{
    connector::{Connector, operation::Operation},
    definition::Defined,
    document::{MAX_FILE, check_name, parse_file, parse_value},
    glob::Glob,
};
use described::Found;
use description::Description;
use operation::ImportedOperation;
use std::collections::BTreeSet;

/// Methods whose operations are taken over, in the order in which they are listed.
const METHODS: [&str; 5] = ["get", "post", "put", "patch", "delete"];
/// Methods of which operations are told as left out.
const OTHERS: [&str; 3] = ["head", "options", "trace"];
/// Most operations of a description.
const MOST: usize = 5_000;

/// What was made of a description.
#[derive(Clone, Debug, PartialEq)]
pub struct Import {
    /// What the description calls itself.
    pub title: String,
    /// All its operations.
    pub operations: Vec<Described>,
    /// A connector, and a connection that uses it, as a file.
    pub text: String,
    /// What was not understood, or could not be taken over.
    pub left_out: Vec<String>,
}

/// An operation of a description.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Described {
    /// The name that it gets.
    pub name: String,
    /// The method and the path.
    pub request: String,
    /// One line for people.
    pub summary: Option<String>,
    /// Whether it is in the connector.
    pub taken: bool,
}

/// Makes a connector of a description in JSON or YAML. `only` chooses operations by their names,
/// paths or tags, globs allowed; empty: all.
///
/// # Errors
/// If it is no such description, or nothing of it is chosen.
pub fn import(text: &str, name: Option<&str>, only: &[String]) -> Result<Import, ImportError> {
    let document = match serde_json::from_str(text) {
        Ok(document) => document,
        Err(_) => {
            parse_value("description", text).map_err(|p| ImportError::Unreadable(p.to_string()))?
        }
    };
    let description = Description::parse(document)?;
    let globs = only
        .iter()
        .map(|one| Glob::parse(one).map_err(|e| ImportError::Only(one.clone(), e.to_string())));
    let globs: Vec<Glob> = globs.collect::<Result<_, _>>()?;
    let name = match name {
        Some(name) => check_name(name)
            .map(|()| name.to_owned())
            .map_err(|e| ImportError::Name(e.to_string()))?,
        None => description.name(),
    };
    let mut left_out = Vec::new();
    let (mut made, mut operations, mut any) = (Vec::new(), Vec::new(), false);
    for found in all(&description, &mut left_out) {
        let request = format!("{} {}", found.method.to_uppercase(), found.path);
        let summary = found.summary();
        let chosen = globs.is_empty() || globs.iter().any(|glob| found.is_chosen(glob));
        any |= chosen;
        let one =
            chosen.then(|| operation::make(&description, &found)).and_then(|made| match made {
                Ok(made) => sound(made, &request, &mut left_out),
                Err(why) => {
                    left_out.push(format!("{request}: {why}"));
                    None
                }
            });
        operations.push(Described { name: found.name, request, summary, taken: one.is_some() });
        made.extend(one);
    }
    if description.is_spent() {
        return Err(ImportError::TooLarge("more is made of it than there is room for".into()));
    }
    if made.is_empty() {
        let why = match operations.len() {
            0 => "it has no operations".to_owned(),
            _ if !any => {
                format!(
                    "none of its {} operations is chosen by {}",
                    operations.len(),
                    only.join(", ")
                )
            }
            _ => format!("none of its operations can be taken over: {}", left_out.join("; ")),
        };
        return Err(ImportError::Nothing(why));
    }
    for note in made.iter_mut().flat_map(|one| std::mem::take(&mut one.notes)) {
        left_out.push(note);
    }
    let text = text::write(&description, &name, &made, &mut left_out);
    left_out.extend(description.dangling().into_iter().map(|reference| {
        format!(
            "`{reference}` leads out of this document, or nowhere: what stands there is not \
            known; bring it all into one file"
        )
    }));
    if text.len() > MAX_FILE {
        return Err(ImportError::TooLarge(format!(
            "the file would have {} bytes, and {MAX_FILE} can be published",
            text.len()
        )));
    }
    Ok(Import { title: description.title().to_owned(), operations, text, left_out })
}

fn all<'d>(description: &'d Description, left_out: &mut Vec<String>) -> Vec<Found<'d>> {
    let mut names = BTreeSet::new();
    let mut found = Vec::new();
    for (path, shared) in description.paths() {
        if description.is_elsewhere(shared) {
            left_out.push(format!("{path}: what it offers is told in another document"));
        }
        let shared = description.resolved(shared);
        for method in METHODS {
            let Some(item) = shared.get(method) else { continue };
            if found.len() >= MOST {
                left_out.push(format!("more than {MOST} operations: the rest"));
                return found;
            }
            let name = unique(&mut names, operation::name(method, path, item));
            found.push(Found { name, method, path, shared, item });
        }
        for method in OTHERS.into_iter().filter(|method| shared.get(*method).is_some()) {
            left_out
                .push(format!("{} {path}: a connector has no such method", method.to_uppercase()));
        }
    }
    found
}

/// A name that no other has yet.
fn unique(names: &mut BTreeSet<String>, wanted: String) -> String {
    let numbered = (2..).map(|n| format!("{wanted}.{n}"));
    let free = std::iter::once(wanted.clone()).chain(numbered).find(|name| !names.contains(name));
    let name = free.unwrap_or(wanted);
    names.insert(name.clone());
    name
}

/// An operation by itself must be one that is taken; what cannot is told and left out.
fn sound(
    made: ImportedOperation,
    request: &str,
    left_out: &mut Vec<String>,
) -> Option<ImportedOperation> {
    let text = format!("connector: c\noperations:\n{}", text::operation(&made));
    let checked = parse_file("connector", &text).map_err(|p| vec![p]);
    let checked = checked.and_then(|documents| match documents.first() {
        Some(document) => Connector::check(document),
        None => Err(Vec::new()),
    });
    match checked {
        Ok(connector) => connector.operations.values().next().map(|_: &Operation| made),
        Err(problems) => {
            let why = problems
                .into_iter()
                .next()
                .map_or_else(String::new, |p| format!(": {}", p.message));
            left_out.push(format!("{request}: it cannot be said in a connector{why}"));
            None
        }
    }
}

#[cfg(test)]
mod tests;
