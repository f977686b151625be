//! Why no answers by mail come to this node, by the way on which they should.

use std::{
    collections::BTreeMap,
    sync::{Mutex, PoisonError},
};

/// The reasons that stand.
#[derive(Debug, Default)]
pub(crate) struct AnswersFault(Mutex<BTreeMap<&'static str, String>>);

impl AnswersFault {
    /// Notes why none come on one way, or that they do; whether that is something else than before.
    pub fn set(&self, way: &'static str, reason: Option<String>) -> bool {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let before = all.get(way).cloned();
        let is_new = before != reason;
        match reason {
            Some(reason) => drop(all.insert(way, reason)),
            None => drop(all.remove(way)),
        }
        is_new
    }

    /// All of them, in a line.
    pub fn reasons(&self) -> Option<String> {
        let noted = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let all: Vec<&str> = noted.values().map(String::as_str).collect();
        (!all.is_empty()).then(|| all.join("; "))
    }
}
