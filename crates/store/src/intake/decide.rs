//! Deciding a batch: events in, an outcome out. Settling is pure, so a batch is decided twice:
//! the first time tells how many jobs there will be and for which older alerts, the second time
//! with their numbers and these alerts at hand, so that no number is wasted.

use super::{
    draw_numbers,
    outcome::BatchOutcome,
    rule_state::Memories,
    undecided::{Due, Fresh, Undecided},
};
use crate::StoreError;
use arvok_core::{
    AlarmId, Alert, AlertId, JobId, alarm,
    rule::{Placed, Rule, Stance},
    settle::{AlarmTransition, Effect, Event, Machine, Matched, Memory, Suspension},
};
use chrono::{DateTime, Utc};
use sea_orm::DatabaseTransaction;
use std::{
    cell::RefCell,
    collections::{BTreeMap, BTreeSet, VecDeque},
};

/// Decides with real numbers.
pub(super) async fn settle<'a>(
    tx: &DatabaseTransaction,
    batch: &Undecided<'a>,
    memories: Memories,
) -> Result<BatchOutcome<'a>, StoreError> {
    let before = memories.clone();
    let mut trial = decide(batch, memories, &mut Numbers::default());
    if trial.fires.is_empty() {
        return Ok(trial);
    }
    let wanted = trial.numbers;
    let earlier = earlier(tx, &mut trial, batch).await?;
    let heavy = std::mem::take(&mut trial.heavy);
    if wanted > 0 {
        let mut numbers = Numbers { given: draw_numbers(tx, wanted).await?.into(), drawn: 0 };
        trial = decide(batch, before, &mut numbers);
    }
    (trial.earlier, trial.heavy) = (earlier, heavy);
    Ok(trial)
}

#[derive(Default)]
struct Numbers {
    given: VecDeque<JobId>,
    drawn: usize,
}

/// Bytes of payloads that the inputs of one dispatch may read of a gathering.
const GATHERED_BYTES: usize = 4 << 20;

/// Alerts of earlier batches for which something is dispatched now. The first of each is whole; of
/// a gathering the others have their payloads where inputs may look at them, as far as there is
/// room: else the dispatch is refused.
async fn earlier(
    tx: &DatabaseTransaction,
    trial: &mut BatchOutcome<'_>,
    batch: &Undecided<'_>,
) -> Result<BTreeMap<AlertId, Alert>, StoreError> {
    let here = |id: &AlertId| batch.alert(*id).is_some();
    let (mut whole, mut bare) = (BTreeSet::new(), BTreeSet::new());
    let mut heavy = BTreeMap::new();
    for firing in &trial.fires {
        let (alerts, rule) = (&firing.fire.alerts, firing.rule);
        whole.extend(alerts.first().map(|id| id.0));
        let others = || alerts.iter().skip(1).map(|id| id.0);
        if !rule.reads_gathered_bodies() || others().next().is_none() {
            bare.extend(others());
            continue;
        }
        let stored: Vec<i64> = alerts.iter().filter(|id| !here(id)).map(|id| id.0).collect();
        let of_batch =
            alerts.iter().filter_map(|id| batch.alert(*id)).map(|a| a.body.to_string().len());
        let bytes = of_batch.sum::<usize>()
            + crate::read::payload_bytes(tx, &stored).await?.values().sum::<usize>();
        if bytes > GATHERED_BYTES {
            heavy.extend(alerts.first().map(|first| ((rule.name.clone(), *first), bytes)));
            bare.extend(others());
        } else {
            whole.extend(others());
        }
    }
    trial.heavy = heavy;
    let stored = |ids: BTreeSet<i64>| {
        ids.into_iter().filter(|id| !here(&AlertId(*id))).collect::<Vec<i64>>()
    };
    let bare = stored(bare.difference(&whole).copied().collect());
    let whole = stored(whole);
    let mut found = BTreeMap::new();
    if !whole.is_empty() {
        found.extend(crate::read::whole_alerts(tx, &whole).await?);
    }
    if !bare.is_empty() {
        found.extend(crate::read::alerts_without_payload(tx, &bare).await?);
    }
    Ok(found.into_iter().map(|(seq, alert)| (AlertId(seq), alert)).collect())
}

fn decide<'a>(
    batch: &Undecided<'a>,
    memories: Memories,
    numbers: &mut Numbers,
) -> BatchOutcome<'a> {
    let mut work = Work { outcome: BatchOutcome::new(batch.catalog, memories), numbers };
    for due in &batch.due {
        work.due(due, batch);
    }
    for fresh in &batch.fresh {
        work.alert(fresh, batch);
    }
    work.outcome.numbers = work.numbers.drawn;
    work.outcome
}

struct Work<'a, 'n> {
    outcome: BatchOutcome<'a>,
    numbers: &'n mut Numbers,
}

impl<'a> Work<'a, '_> {
    /// What belongs to a rule that this node does not know is left to one that does.
    fn due(&mut self, due: &Due, batch: &Undecided<'a>) {
        if let Some((rule, version)) = batch.catalog.get::<Rule>(&due.rule) {
            let effects = self.handle(rule, batch.now, Event::Due(&due.slot), batch);
            self.outcome.note(rule, version, batch.now, effects, "");
        }
    }

    fn alert(&mut self, fresh: &Fresh<'a>, batch: &Undecided<'a>) {
        let now = fresh.alert.received;
        if let (alarm::AlarmChange::Cleared, Some(alarm)) = (fresh.change, fresh.alarm) {
            self.cleared(now, alarm, batch);
        }
        let standing = AlarmTransition::from_change(fresh.alert.state, fresh.alarm, fresh.change);
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
            let effects = self.handle(hit.rule, now, Event::Matched(matched), batch);
            self.outcome.alarms.extend(fresh.alarm.map(|alarm| (fresh.id, alarm)));
            self.outcome.note(hit.rule, hit.version, now, effects, &keys.tally);
        }
    }

    fn cleared(&mut self, now: DateTime<Utc>, alarm: AlarmId, batch: &Undecided<'a>) {
        for (name, key) in self.outcome.memories.holding(alarm) {
            if let Some((rule, version)) = self.outcome.catalog.get::<Rule>(&name) {
                let event = Event::Cleared { tally: &key, alarm };
                let effects = self.handle(rule, now, event, batch);
                self.outcome.note(rule, version, now, effects, &key);
            }
        }
    }

    fn handle(
        &mut self,
        rule: &Rule,
        now: DateTime<Utc>,
        event: Event<'_>,
        batch: &Undecided<'a>,
    ) -> Vec<Effect> {
        let memory: &mut Memory =
            self.outcome.memories.by_rule.entry(rule.name.clone()).or_default();
        let numbers = &mut *self.numbers;
        let mut number = || {
            numbers.drawn += 1;
            numbers.given.pop_front()
        };
        let machine = Machine::new(rule, rule.stance, memory, &mut number);
        let proposing = batch.proposing.get(&rule.name);
        let acts = rule.stance == Stance::Act && proposing.is_none();
        let machine = match proposing {
            Some(why) => machine.proposing(why),
            None => machine,
        };
        if batch.suspensions.is_empty() {
            return machine.handle(now, event);
        }
        let held_by = RefCell::new(std::mem::take(&mut self.outcome.held_by));
        let suspending = |key: &str, id: Option<AlertId>, now: DateTime<Utc>| {
            let fresh = id.and_then(|id| batch.alert(id));
            let suspension = batch.suspensions.of((rule, acts), key, id, fresh, now)?;
            if let Suspension::Mute(mute) = &suspension {
                held_by.borrow_mut().insert(mute.id);
            }
            Some(suspension)
        };
        let effects = machine.suspended_by(&suspending).handle(now, event);
        self.outcome.held_by = held_by.into_inner();
        effects
    }
}
