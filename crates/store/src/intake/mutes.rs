//! The mutes and freezes that stand while a batch is decided about, and the earlier alerts that
//! they may cover.

use super::rule_state::Memories;
use crate::StoreError;
use arvok_core::{
    Alert, AlertId,
    guard::Guards,
    mute::{self, Mute},
    rule::Rule,
    settle::{Suspension, Tally},
};
use chrono::{DateTime, Utc};
use sea_orm::DatabaseTransaction;
use std::collections::{BTreeMap, BTreeSet};

/// Mutes, and alerts of earlier batches.
#[derive(Default)]
pub(super) struct Muting<'a> {
    mutes: &'a [Mute],
    guards: Option<&'a Guards>,
    earlier: BTreeMap<i64, Alert>,
}

impl<'a> Muting<'a> {
    /// Loads the alerts that memories may act on, where any mute stands or a guard lets nothing
    /// begin.
    pub async fn load(
        tx: &DatabaseTransaction,
        (mutes, guards): (&'a [Mute], &'a Guards),
        memories: &Memories,
        now: DateTime<Utc>,
    ) -> Result<Self, StoreError> {
        let guards = Some(guards).filter(|guards| guards.freeze_at(now));
        if guards.is_none() && !mutes.iter().any(|mute| mute.stands(now)) {
            return Ok(Self::default());
        }
        let tallies = memories.by_rule.values().flat_map(|memory| memory.tallies.values());
        // An earlier alert is acted on where something is due, or a gathering may end.
        let acts = |tally: &&Tally| {
            tally.due.is_some_and(|due| due <= now)
                || tally.episode.as_ref().and_then(|e| e.held).is_some_and(|held| held.gathered)
        };
        let episodes = tallies.filter(acts).filter_map(|tally| tally.episode.as_ref());
        let alerts = episodes.flat_map(|episode| {
            [episode.latest.alert, episode.held.and_then(|held| held.seen.alert)]
        });
        let alerts: BTreeSet<i64> = alerts.flatten().map(|id| id.0).collect();
        let alerts: Vec<i64> = alerts.into_iter().collect();
        let earlier = match alerts.is_empty() {
            true => BTreeMap::new(),
            false => crate::read::alerts_without_payload(tx, &alerts).await?,
        };
        Ok(Self { mutes, guards, earlier })
    }

    /// Whether none stands.
    pub fn is_empty(&self) -> bool {
        self.mutes.is_empty() && self.guards.is_none()
    }

    /// What keeps a rule from acting on an alert, of the batch or of an earlier one, or on the
    /// silence of what it waits for under a tally's key: of a mute and a freeze what ends later.
    /// What a person decides about is not frozen.
    pub fn of(
        &self,
        (rule, acts): (&Rule, bool),
        key: &str,
        id: Option<AlertId>,
        fresh: Option<&Alert>,
        now: DateTime<Utc>,
    ) -> Option<Suspension<'a>> {
        let silent = if id.is_none() { rule.silent(key, now) } else { None };
        let alert = fresh.or_else(|| self.earlier.get(&id?.0)).or(silent.as_ref());
        let mute = mute::longest(self.mutes, rule, alert, now).map(Suspension::Mute);
        let guards = self.guards.filter(|_| acts);
        let freeze = guards.zip(alert).and_then(|(guards, alert)| {
            guards.freeze_of(rule, alert.resource.as_str(), now).map(Suspension::Freeze)
        });
        [mute, freeze].into_iter().flatten().max_by_key(Suspension::until)
    }
}
