//! Collecting the diagnostics that types cannot express, all at once.

use super::{Document, Problem, decode::Decoded};
use serde::de::DeserializeOwned;
use serde_json::Value;
use std::fmt::Display;

/// Collects diagnostics about one document.
#[derive(Debug)]
pub struct Checker<'a> {
    document: &'a Document,
    problems: Vec<Problem>,
    /// What the types complained about already: JSON pointers.
    left_out: Vec<String>,
    /// Where that stands in the document itself which stands at a pointer of what is made of it.
    written_at: fn(&str) -> String,
}

impl<'a> Checker<'a> {
    /// The typed form of what is good of a document, and the diagnostics about the rest.
    ///
    /// # Errors
    /// All diagnostics, if too much is wrong to go on.
    pub fn decoding<T: DeserializeOwned>(
        document: &'a Document,
    ) -> Result<(T, Self), Vec<Problem>> {
        let Decoded { made, problems, left_out } = document.decoded("", &document.value);
        match made {
            Some(made) => {
                let mut check = Self::new(document);
                check.problems.extend(problems);
                check.left_out = left_out;
                Ok((made, check))
            }
            None => Err(in_order(problems)),
        }
    }

    /// No diagnostics so far, but for the form of the document's own name.
    fn new(document: &'a Document) -> Self {
        let mut checker = Self {
            document,
            problems: Vec::new(),
            left_out: Vec::new(),
            written_at: str::to_owned,
        };
        if let Err(wrong) = check_name(&document.name) {
            checker.fail(&format!("/{}", document.kind), wrong);
        }
        checker
    }

    /// The same for what is made of the document, and checked in its place: where each pointer
    /// leads in the document itself.
    pub fn of_what_is_made(&mut self, written_at: fn(&str) -> String) {
        self.written_at = written_at;
    }

    /// The document under check.
    pub fn document(&self) -> &'a Document {
        self.document
    }

    /// Notes a diagnostic about the value at a pointer, unless it only follows from one that the
    /// types have made: about what was left out, or what it was left out of.
    pub fn fail(&mut self, pointer: &str, message: impl ToString) {
        let pointer = &*(self.written_at)(pointer);
        let follows = |gone: &String| {
            let above = gone.rsplit_once('/').map_or("", |(above, _)| above);
            pointer == above
                || pointer
                    .strip_prefix(gone.as_str())
                    .is_some_and(|r| r.is_empty() || r.starts_with('/'))
        };
        if !self.left_out.iter().any(follows) {
            self.problems.push(self.document.problem(pointer, message.to_string()));
        }
    }

    /// Keeps the good, notes the bad.
    pub fn accept<T>(&mut self, pointer: &str, result: Result<T, impl Display>) -> Option<T> {
        result.map_err(|e| self.fail(pointer, e)).ok()
    }

    /// A part of the document as a type; diagnostics get the places of what is wrong.
    pub fn decode<T: DeserializeOwned>(&mut self, pointer: &str, value: &Value) -> Option<T> {
        let pointer = (self.written_at)(pointer);
        let Decoded { made, problems, left_out } = self.document.decoded(&pointer, value);
        self.problems.extend(problems);
        self.left_out.extend(left_out);
        made
    }

    /// Notes a diagnostic about some characters of the string at a pointer.
    pub fn fail_within(&mut self, pointer: &str, span: Option<(u32, u32)>, message: String) {
        let pointer = (self.written_at)(pointer);
        self.note(self.document.inner_problem(&pointer, span, message));
    }

    /// What stands at a pointer.
    pub fn value_at(&self, pointer: &str) -> Option<&'a Value> {
        self.document.value.pointer(&(self.written_at)(pointer))
    }

    /// The string that stands at a pointer.
    pub fn string_at(&self, pointer: &str) -> &'a str {
        self.value_at(pointer).and_then(Value::as_str).unwrap_or_default()
    }

    /// Notes a diagnostic about the key at a pointer itself.
    pub fn fail_key(&mut self, pointer: &str, message: impl Into<String>) {
        let pointer = (self.written_at)(pointer);
        self.note(self.document.key_problem(&pointer, message));
    }

    /// Notes a diagnostic that has its place already.
    pub fn note(&mut self, problem: Problem) {
        self.problems.push(problem);
    }

    /// The definition if nothing was noted, else everything that was.
    pub fn finish<T>(self, made: Option<T>) -> Result<T, Vec<Problem>> {
        match made {
            Some(made) if self.problems.is_empty() => Ok(made),
            _ => Err(in_order(self.problems)),
        }
    }
}

/// Diagnostics in the order of the lines that they are about.
fn in_order(mut problems: Vec<Problem>) -> Vec<Problem> {
    problems.sort_by_key(|p| (p.line, p.column));
    problems
}

/// A text that cannot be the name of a definition.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "`{0}` is not a name; use lower case letters, digits, - and _, at most 64, a letter or digit \
    first"
)]
pub struct NameError(String);

/// Names of definitions: lower case letters, digits, `-`, `_`; at most 64; a letter or digit first.
pub fn check_name(name: &str) -> Result<(), NameError> {
    let ok = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '-' | '_');
    let first = name.starts_with(|c: char| c.is_ascii_lowercase() || c.is_ascii_digit());
    if first && name.len() <= 64 && name.chars().all(ok) {
        return Ok(());
    }
    Err(NameError(crate::text::cut(name, 80).to_owned()))
}
