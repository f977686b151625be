//! Deciding a batch: events in, an outcome out. Settling is pure, so a batch is decided twice:
//! the first time tells how many jobs there will be and for which older alerts, the second time
//! with their numbers and these alerts at hand, so that no number is wasted.

use super::{
    draw_numbers,
    memories::Memories,
    outcome::Outcome,
    undecided::{Due, Fresh, Undecided},
};
use crate::StoreError;
use arvok_core::{
    AlarmId, Alert, AlertId, JobId, alarm,
    rule::{Placed, Rule},
    settle::{Effect, Event, Machine, Matched, Memory, Standing},
};
use chrono::{DateTime, Utc};
use sea_orm::DatabaseTransaction;
use std::collections::{BTreeMap, VecDeque};

/// Decides with real numbers.
pub(super) async fn settle<'a>(
    tx: &DatabaseTransaction,
    batch: &Undecided<'a>,
    memories: Memories,
) -> Result<Outcome<'a>, StoreError> {
    let before = memories.clone();
    let mut trial = decide(batch, memories, &mut Numbers::default());
    if trial.fires.is_empty() {
        return Ok(trial);
    }
    let wanted = trial.numbers;
    let earlier = earlier(tx, &trial, batch).await?;
    if wanted > 0 {
        let mut numbers = Numbers { given: draw_numbers(tx, wanted).await?.into(), drawn: 0 };
        trial = decide(batch, before, &mut numbers);
    }
    trial.earlier = earlier;
    Ok(trial)
}

#[derive(Default)]
struct Numbers {
    given: VecDeque<JobId>,
    drawn: usize,
}

/// Alerts of earlier batches for which something is dispatched now.
async fn earlier(
    tx: &DatabaseTransaction,
    trial: &Outcome<'_>,
    batch: &Undecided<'_>,
) -> Result<BTreeMap<AlertId, Alert>, StoreError> {
    let here = |id: &AlertId| batch.alert(*id).is_some();
    let wanted: Vec<i64> =
        trial.fires.iter().flat_map(|f| &f.fire.alerts).filter(|id| !here(id)).map(|id| id.0).collect();
    if wanted.is_empty() {
        return Ok(BTreeMap::new());
    }
    let found = crate::read::whole_alerts(tx, &wanted).await?;
    Ok(found.into_iter().map(|(seq, alert)| (AlertId(seq), alert)).collect())
}

fn decide<'a>(batch: &Undecided<'a>, memories: Memories, numbers: &mut Numbers) -> Outcome<'a> {
    let mut work = Work { outcome: Outcome::new(batch.catalog, memories), numbers };
    for due in &batch.due {
        work.due(due, batch);
    }
    for fresh in &batch.fresh {
        work.alert(fresh);
    }
    work.outcome.numbers = work.numbers.drawn;
    work.outcome
}

struct Work<'a, 'n> {
    outcome: Outcome<'a>,
    numbers: &'n mut Numbers,
}

impl<'a> Work<'a, '_> {
    /// What belongs to a rule that this node does not know is left to one that does.
    fn due(&mut self, due: &Due, batch: &Undecided<'a>) {
        if let Some((rule, version)) = batch.catalog.get::<Rule>(&due.rule) {
            let effects = self.handle(rule, batch.now, Event::Due(&due.slot));
            self.outcome.take(rule, version, batch.now, effects, "");
        }
    }

    fn alert(&mut self, fresh: &Fresh<'a>) {
        let now = fresh.alert.received;
        if let (alarm::AlarmChange::Cleared, Some(alarm)) = (fresh.change, fresh.alarm) {
            self.cleared(now, alarm);
        }
        let standing = Standing::of(fresh.alert.state, fresh.alarm, fresh.change);
        for hit in fresh.hits {
            let Placed { keys, entries } = match &hit.placed {
                Ok(placed) => placed,
                Err(why) => {
                    self.outcome.broken(hit.rule, hit.version, fresh, why);
                    continue;
                }
            };
            let matched = Matched {
                alert: Some(fresh.id),
                keys,
                happened: fresh.alert.happened(),
                severity: fresh.alert.severity,
                standing,
                entries: *entries,
                cause: None,
            };
            let effects = self.handle(hit.rule, now, Event::Matched(matched));
            self.outcome.alarms.extend(fresh.alarm.map(|alarm| (fresh.id, alarm)));
            self.outcome.take(hit.rule, hit.version, now, effects, &keys.tally);
        }
    }

    fn cleared(&mut self, now: DateTime<Utc>, alarm: AlarmId) {
        for (name, key) in self.outcome.memories.holding(alarm) {
            if let Some((rule, version)) = self.outcome.catalog.get::<Rule>(&name) {
                let effects = self.handle(rule, now, Event::Cleared { tally: &key, alarm });
                self.outcome.take(rule, version, now, effects, &key);
            }
        }
    }

    fn handle(&mut self, rule: &Rule, now: DateTime<Utc>, event: Event<'_>) -> Vec<Effect> {
        let memory: &mut Memory = self.outcome.memories.by_rule.entry(rule.name.clone()).or_default();
        let numbers = &mut *self.numbers;
        let mut number = || {
            numbers.drawn += 1;
            numbers.given.pop_front()
        };
        Machine::new(rule, rule.stance, memory, &mut number).handle(now, event)
    }
}
