//! Which events of a calendar count, by what they are called.

use crate::{
    document::{Checker, Texts},
    glob::Glob,
};
use serde_json::Value;
use std::fmt;

/// What events are called that count, globs among them; none: all of them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct EventNames(Vec<Glob>);

impl EventNames {
    /// What is written at a pointer.
    pub(crate) fn check(check: &mut Checker<'_>, at: &str, names: &Texts) -> Option<Self> {
        let one = check.document().value.pointer(at).is_some_and(Value::is_string);
        let globs: Vec<Option<Glob>> =
            names.placed(at, one).map(|(at, text)| check.accept(&at, Glob::parse(text))).collect();
        globs.into_iter().collect::<Option<Vec<_>>>().map(Self)
    }

    /// Whether all events count.
    pub fn are_all(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether an event counts that is called so.
    pub fn count(&self, summary: &str) -> bool {
        self.are_all() || self.0.iter().any(|glob| glob.matches(summary))
    }
}

/// As they are written, with commas between them.
impl fmt::Display for EventNames {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (n, glob) in self.0.iter().enumerate() {
            write!(f, "{}{}", if n == 0 { "" } else { ", " }, glob.as_str())?;
        }
        Ok(())
    }
}
