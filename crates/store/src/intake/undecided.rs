//! What is to be decided at once: fresh alerts and what is due.

use super::Hit;
use arvok_core::{
    Alert, Catalog, alarm,
    rule::{Placed, Rule},
    settle::Slot,
};
use chrono::{DateTime, Utc};

/// A recorded alert with its number, its hits, and what it did to its alarm.
pub(super) struct Fresh<'a> {
    pub alert: &'a Alert,
    pub seq: i64,
    pub hits: &'a [Hit<'a>],
    pub alarm: Option<i64>,
    pub change: alarm::AlarmChange,
}

impl<'a> Fresh<'a> {
    /// The rules that can decide about it, and where it belongs there.
    pub fn placed(&self) -> impl Iterator<Item = (&'a Rule, &'a Placed)> {
        self.hits.iter().filter_map(|h| Some((h.rule, h.placed.as_ref().ok()?)))
    }
}

/// What is to be decided.
pub(super) struct Undecided<'a> {
    pub catalog: &'a Catalog,
    pub fresh: Vec<Fresh<'a>>,
    pub due: Vec<Due>,
    pub now: DateTime<Utc>,
}

impl<'a> Undecided<'a> {
    /// An alert of the batch; they are in the order of their numbers.
    pub fn alert(&self, seq: i64) -> Option<&'a Alert> {
        let at = self.fresh.binary_search_by_key(&seq, |f| f.seq).ok()?;
        self.fresh.get(at).map(|f| f.alert)
    }
}

/// Something whose due time has come.
#[derive(Clone, Debug)]
pub(super) struct Due {
    pub rule: String,
    pub slot: Slot,
    pub at: DateTime<Utc>,
}
