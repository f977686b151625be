//! What keeps rules from acting while a batch is decided about: mutes, freezes, and what jobs have
//! just touched; with the earlier alerts that they may cover.

use super::rule_state::Memories;
use crate::{StoreError, touches};
use arvok_core::{
    Alert, AlertId, Catalog,
    guard::Guards,
    mute::{self, Mute},
    rule::Rule,
    settle::{Suspension, Tally},
    touch::{TouchedLately, Touches, covering},
};
use chrono::{DateTime, Utc};
use sea_orm::DatabaseTransaction;
use std::collections::{BTreeMap, BTreeSet};

/// What stands, and alerts of earlier batches.
#[derive(Default)]
pub(super) struct Suspensions<'a> {
    mutes: &'a [Mute],
    guards: Option<&'a Guards>,
    touches: Option<Touches>,
    earlier: BTreeMap<i64, Alert>,
}

impl<'a> Suspensions<'a> {
    /// Loads what was touched where a rule keeps away from it, and the alerts that memories may
    /// act on, where anything may keep them from that.
    pub async fn load(
        tx: &DatabaseTransaction,
        (catalog, mutes, guards): (&Catalog, &'a [Mute], &'a Guards),
        fresh: Vec<(&Rule, &Alert)>,
        memories: &Memories,
        now: DateTime<Utc>,
    ) -> Result<Self, StoreError> {
        let guards = Some(guards).filter(|guards| guards.freeze_at(now));
        let keeps_away = |rule: &Rule| rule.settle.untouched.is_some();
        let fresh: Vec<&Alert> = fresh
            .into_iter()
            .filter(|(rule, _)| keeps_away(rule))
            .map(|(_, alert)| alert)
            .collect();
        let mut remembering = memories.by_rule.keys();
        let away = !fresh.is_empty()
            || remembering
                .any(|name| catalog.get::<Rule>(name).is_some_and(|(rule, _)| keeps_away(rule)));
        if guards.is_none() && !away && !mutes.iter().any(|mute| mute.stands(now)) {
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
        let touches = match away {
            false => None,
            true => {
                let alerts = fresh.into_iter().chain(earlier.values());
                let resources = alerts.flat_map(|alert| covering(alert.resource.as_str()));
                Some(touches::latest(tx, resources).await?)
            }
        };
        Ok(Self { mutes, guards, touches, earlier })
    }

    /// Whether nothing stands.
    pub fn is_empty(&self) -> bool {
        self.mutes.is_empty() && self.guards.is_none() && self.touches.is_none()
    }

    /// What keeps a rule from acting on an alert, of the batch or of an earlier one, or on the
    /// silence of what it waits for under a tally's key: of several that which ends last. What a
    /// person decides about is not frozen.
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
        let guards = self.guards.filter(|_| acts);
        longest((rule, alert), self.mutes, guards, self.touches.as_ref(), now)
    }
}

/// Of all that keeps a rule from acting on an alert that which ends last.
pub(super) fn longest<'a>(
    (rule, alert): (&Rule, Option<&Alert>),
    mutes: &'a [Mute],
    guards: Option<&Guards>,
    touches: Option<&Touches>,
    now: DateTime<Utc>,
) -> Option<Suspension<'a>> {
    let mute = mute::longest(mutes, rule, alert, now).map(Suspension::Mute);
    let resource = alert.map(|alert| alert.resource.as_str());
    let freeze = guards
        .zip(alert)
        .and_then(|(guards, alert)| guards.freeze_of(rule, alert, now))
        .map(Suspension::Freeze);
    let touched = || {
        let untouched = rule.settle.untouched?;
        let touch = touches?.of(resource?, |_| false)?;
        let until = touch.until(untouched, now)?;
        Some(Suspension::Touched(TouchedLately { touch: touch.clone(), untouched, until }))
    };
    [mute, freeze, touched()].into_iter().flatten().max_by_key(Suspension::until)
}
