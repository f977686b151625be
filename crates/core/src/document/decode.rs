//! From a document to a typed definition. Serde stops at its first diagnostic: what is wrong is
//! then left out and the rest tried again, so that all mistakes are told at once, each with its
//! place and in words of the trade.

use super::{Document, Problem};
use crate::{
    diagnostic::{Diagnostic, hint},
    text::{cut, nearest},
};
use serde::de::DeserializeOwned;
use serde_json::Value;
use std::collections::BTreeMap;

/// Most diagnostics about one document.
const MOST: usize = 50;

/// What became of a value: the typed form of what is good, and what is wrong with the rest.
pub(super) struct Decoded<T> {
    /// None if too much is wrong.
    pub made: Option<T>,
    pub problems: Vec<Problem>,
    /// What was left out: JSON pointers.
    pub left_out: Vec<String>,
}

impl Document {
    /// The typed form, or the first diagnostic of the types.
    ///
    /// # Errors
    /// Everything that the types complain about.
    pub fn decode<T: DeserializeOwned>(&self) -> Result<T, Vec<Problem>> {
        match self.decoded("", &self.value) {
            Decoded { made: Some(made), problems, .. } if problems.is_empty() => Ok(made),
            Decoded { problems, .. } => Err(problems),
        }
    }

    /// The typed form of a part that stands at a JSON pointer.
    pub(super) fn decoded<T: DeserializeOwned>(&self, at: &str, value: &Value) -> Decoded<T> {
        let mut left = Left { value: value.clone(), items: BTreeMap::new() };
        let mut gone: Vec<String> = Vec::new();
        let mut decoded = Decoded { made: None, problems: Vec::new(), left_out: Vec::new() };
        while decoded.problems.len() < MOST {
            let wrong = match serde_path_to_error::deserialize::<_, T>(&left.value) {
                Ok(made) => {
                    decoded.made = Some(made);
                    break;
                }
                Err(e) => e,
            };
            let mut steps: Vec<String> = wrong.path().iter().filter_map(step).collect();
            let diagnostic = Diagnostic::parse(&wrong.inner().to_string());
            // The path to an unknown key ends with the key or above it, as serde happened to find
            // it.
            if let Diagnostic::UnknownKey(name, _) = &diagnostic
                && steps.last() == Some(name)
            {
                steps.pop();
            }
            let place = format!("{at}{}", left.written(&steps));
            // What was left out, or only misspelt, is missing now; that is no mistake of its own.
            let follows = |key: &String| gone.contains(&format!("{place}/{key}"));
            if !matches!(&diagnostic, Diagnostic::Missing(key) if follows(key)) {
                decoded.problems.push(self.problem_of(&place, &diagnostic));
            }
            if let Diagnostic::UnknownKey(name, known) = &diagnostic {
                gone.extend(
                    nearest(name, known.iter().map(String::as_str))
                        .map(|meant| format!("{place}/{meant}")),
                );
            }
            let Some(left_out) = left.leave_out(&steps, &diagnostic) else { break };
            gone.push(format!("{at}{left_out}"));
            decoded.left_out.push(format!("{at}{left_out}"));
        }
        decoded
    }

    fn problem_of(&self, pointer: &str, diagnostic: &Diagnostic) -> Problem {
        match diagnostic {
            Diagnostic::UnknownKey(name, known) => {
                let at = format!("{pointer}/{}", escaped(name));
                self.key_problem(
                    &at,
                    format!("unknown key `{}`; {}", cut(name, 60), hint(name, known)),
                )
            }
            Diagnostic::UnknownWord(word, known) => self.problem(
                pointer,
                format!("unknown value `{}`; {}", cut(word, 60), hint(word, known)),
            ),
            Diagnostic::Missing(key) => {
                self.key_problem(pointer, format!("the key `{key}` is missing here"))
            }
            Diagnostic::Other(message) => self.problem(pointer, message.clone()),
        }
    }
}

fn escaped(key: &str) -> String {
    key.replace('~', "~0").replace('/', "~1")
}

fn step(s: &serde_path_to_error::Segment) -> Option<String> {
    match s {
        serde_path_to_error::Segment::Seq { index } => Some(index.to_string()),
        serde_path_to_error::Segment::Map { key } => Some(key.clone()),
        serde_path_to_error::Segment::Enum { variant } => Some(variant.clone()),
        serde_path_to_error::Segment::Unknown => None,
    }
}

/// A value from which parts were left out.
struct Left {
    value: Value,
    /// For each list, as written: the places of the items that are left.
    items: BTreeMap<String, Vec<usize>>,
}

impl Left {
    /// The pointer of a part as it is written: items of a list have moved up.
    fn written(&self, steps: &[String]) -> String {
        let (mut pointer, mut at) = (String::new(), Some(&self.value));
        for step in steps {
            let list = matches!(at, Some(Value::Array(_)));
            at = at.and_then(|v| v.pointer(&format!("/{}", escaped(step))));
            let moved = step.parse::<usize>().ok().filter(|_| list);
            let own = moved.and_then(|i| self.items.get(&pointer)?.get(i).copied()).or(moved);
            pointer.push('/');
            pointer.push_str(&own.map_or_else(|| escaped(step), |i| i.to_string()));
        }
        pointer
    }

    /// Leaves out what a diagnostic is about; its pointer as written. None if nothing would be
    /// left.
    fn leave_out(&mut self, steps: &[String], diagnostic: &Diagnostic) -> Option<String> {
        let mut steps = steps.to_vec();
        if let Diagnostic::UnknownKey(name, _) = diagnostic {
            steps.push(name.clone());
        }
        let written = self.written(&steps);
        let last = steps.pop()?;
        let above = self.written(&steps);
        let whole: String = steps.iter().map(|s| format!("/{}", escaped(s))).collect();
        match self.value.pointer_mut(&whole)? {
            Value::Object(map) => drop(map.remove(&last)?),
            Value::Array(items) => {
                let index: usize = last.parse().ok()?;
                let places = self.items.entry(above).or_insert_with(|| (0..items.len()).collect());
                if index >= items.len() || index >= places.len() {
                    return None;
                }
                items.remove(index);
                places.remove(index);
            }
            _ => return None,
        }
        Some(written)
    }
}
