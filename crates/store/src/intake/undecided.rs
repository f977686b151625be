//! What is to be decided at once: fresh alerts and what is due.

use super::{hits::Hit, suspensions::Suspensions};
use arvok_core::{
    AlarmId, Alert, AlertId, Catalog, alarm,
    rule::{Placed, Rule},
    settle::Slot,
};
use chrono::{DateTime, Utc};
use std::collections::BTreeMap;

/// A recorded alert with its number, its hits, and what it did to its alarm.
pub(super) struct Fresh<'a> {
    pub alert: &'a Alert,
    pub id: AlertId,
    pub hits: &'a [Hit<'a>],
    pub alarm: Option<AlarmId>,
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
    pub suspensions: Suspensions<'a>,
    /// Rules that propose what they would dispatch, and why.
    pub proposing: &'a BTreeMap<String, String>,
    pub fresh: Vec<Fresh<'a>>,
    pub due: Vec<Due>,
    pub now: DateTime<Utc>,
}

impl<'a> Undecided<'a> {
    /// An alert of the batch; they are in the order of their numbers.
    pub fn alert(&self, id: AlertId) -> Option<&'a Alert> {
        let at = self.fresh.binary_search_by_key(&id, |f| f.id).ok()?;
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
