//! Collecting the complaints that types cannot express, all at once.

use super::{Document, Problem};
use serde_json::Value;

/// Collects complaints about one document.
#[derive(Debug)]
pub struct Checker<'a> {
    document: &'a Document,
    problems: Vec<Problem>,
}

impl<'a> Checker<'a> {
    /// No complaints so far, but for the form of the document's own name.
    pub fn new(document: &'a Document) -> Self {
        let mut checker = Self { document, problems: Vec::new() };
        if let Err(wrong) = check_name(&document.name) {
            checker.fail(&format!("/{}", document.kind), wrong);
        }
        checker
    }

    /// The document under check.
    pub fn document(&self) -> &'a Document {
        self.document
    }

    /// Notes a complaint about the value at a pointer.
    pub fn fail(&mut self, pointer: &str, message: impl Into<String>) {
        self.problems.push(self.document.problem(pointer, message));
    }

    /// Keeps the good, notes the bad.
    pub fn take<T>(&mut self, pointer: &str, result: Result<T, String>) -> Option<T> {
        result.map_err(|message| self.fail(pointer, message)).ok()
    }

    /// A part of the document as a type; a complaint gets the place of what is wrong.
    pub fn decode<T: serde::de::DeserializeOwned>(&mut self, pointer: &str, value: &Value) -> Option<T> {
        self.document.decode_part(pointer, value).map_err(|p| self.problems.push(p)).ok()
    }

    /// Notes a complaint that has its place already.
    pub fn note(&mut self, problem: Problem) {
        self.problems.push(problem);
    }

    /// The definition if nothing was noted, else everything that was.
    pub fn finish<T>(self, made: Option<T>) -> Result<T, Vec<Problem>> {
        match made {
            Some(made) if self.problems.is_empty() => Ok(made),
            _ => Err(self.problems),
        }
    }
}

/// Names of definitions: lower case letters, digits, `-`, `_`; at most 64; a letter or digit first.
pub fn check_name(name: &str) -> Result<(), String> {
    let ok = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '-' | '_');
    let first = name.starts_with(|c: char| c.is_ascii_lowercase() || c.is_ascii_digit());
    if first && name.len() <= 64 && name.chars().all(ok) {
        return Ok(());
    }
    Err(format!(
        "`{}` is not a name; use lower case letters, digits, - and _, at most 64, a letter or digit first",
        crate::text::cut(name, 80)
    ))
}
