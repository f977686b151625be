//! Replaying alerts in virtual time: what a rule would have done, by the very code that decides
//! when it is live.
//!
//! [`Rehearsal`] is fed alerts in the order in which they were received. Alarms are raised and
//! cleared, due times come in their turn, and the machine of [`crate::settle`] decides as if the
//! rule acted. It begins with an empty memory. [`Report`] collects what is worth showing, within
//! bounds; [`examples`](self::examples) plays the examples of a rule and compares.

mod examples;
mod report;

pub use examples::{ExampleFailure, WrittenAlertError, example_of, play, written_alert};
pub use report::{
    Difference, MAX_DISPATCHES, MAX_INPUTS, MAX_TALLIES, MAX_VERDICTS, RehearsedDispatch,
    RehearsedTally, RehearsedVerdict, Report,
};

use crate::{
    AlarmId, Alert, AlertId, AlertState, JobId,
    alarm::{Alarm, AlarmChange},
    bounds::weight,
    definition::{Kind, Others},
    matcher::{Match, test},
    mute::{self, Mute},
    rule::{Placed, Rule, Stance, TallyView},
    settle::{
        self, AlarmTransition, Effect, Event, Fire, Machine, Matched, Memory, Slot, Suspension,
    },
};
use chrono::{DateTime, Utc};
use rustc_hash::{FxHashMap, FxHasher};
use std::{
    cmp::Reverse,
    collections::{BTreeSet, BinaryHeap, HashMap},
    hash::{Hash, Hasher},
};

/// Most tallies and alarms that are remembered at once.
pub const MAX_REMEMBERED: usize = 500_000;

/// Most bytes of payloads that are remembered at once.
pub const MAX_PAYLOADS: usize = 128 << 20;

/// Why a rehearsal cannot go on.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum RehearsalError {
    /// The rule makes too many tallies.
    #[error(
        "the rule keeps more than {MAX_REMEMBERED} tallies and alarms at once; let it listen to \
        less, or fold more"
    )]
    TooMuch,
    /// The alerts that a due time may still dispatch for are too large together.
    #[error(
        "the rule keeps more than {} MiB of payloads at once; let it listen to less, or look at \
        less of `alert.body`",
        MAX_PAYLOADS >> 20
    )]
    TooLarge,
}

/// An alert that a due time may still dispatch for.
struct RetainedAlert {
    id: AlertId,
    alert: Alert,
    /// What its payload takes.
    bytes: usize,
}

/// A rule in virtual time.
pub struct Rehearsal<'a> {
    rule: &'a Rule,
    others: &'a dyn Others,
    memory: Memory,
    /// By a fingerprint of source, resource and kind.
    alarms: FxHashMap<u128, (AlarmId, Alarm)>,
    /// The tallies that hold an alarm.
    holding: HashMap<AlarmId, BTreeSet<String>>,
    queue: BinaryHeap<Reverse<(DateTime<Utc>, Slot)>>,
    /// Alerts that a due time may still dispatch for, by tally.
    kept: HashMap<String, Vec<RetainedAlert>>,
    payloads: usize,
    keeps: bool,
    mutes: Vec<Mute>,
    jobs: i64,
    report: Report,
}

impl std::fmt::Debug for Rehearsal<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Rehearsal").field("rule", &self.rule.name).finish_non_exhaustive()
    }
}

impl<'a> Rehearsal<'a> {
    /// Before the first alert. The `others` hold the runbooks that the rule dispatches.
    pub fn new(rule: &'a Rule, others: &'a dyn Others) -> Self {
        let settle = &rule.settle;
        let keeps = settle.still.is_some()
            || settle.missing.is_some()
            || settle.flapping.is_some()
            || settle.rest.is_some()
            || settle.gather.is_some()
            || settle.again.is_some()
            || settle.cap.as_ref().is_some_and(|c| c.later);
        Self {
            rule,
            others,
            memory: Memory::default(),
            alarms: FxHashMap::default(),
            holding: HashMap::new(),
            queue: BinaryHeap::new(),
            kept: HashMap::new(),
            payloads: 0,
            keeps,
            mutes: Vec::new(),
            jobs: 0,
            report: Report::default(),
        }
    }

    /// The same, while these mutes stand.
    #[cfg(test)]
    pub(crate) fn muted_by(self, mutes: Vec<Mute>) -> Self {
        Self { keeps: self.keeps || !mutes.is_empty(), mutes, ..self }
    }

    /// Begins to wait for what the rule names and was never heard of.
    pub fn begin(&mut self, at: DateTime<Utc>) {
        for (key, tally) in settle::awaiting(self.rule, at) {
            if let Some(due) = tally.due {
                self.queue.push(Reverse((due, Slot::Tally(key.clone()))));
            }
            self.memory.tallies.insert(key, tally);
        }
    }

    /// What there is to tell so far.
    pub fn report(&self) -> &Report {
        &self.report
    }

    /// Takes the next alert with its number.
    pub fn feed(&mut self, id: AlertId, alert: Alert) -> Result<(), RehearsalError> {
        let now = alert.received;
        self.run_until(now);
        self.report.alerts += 1;
        let matches = test(self.rule, &alert);
        let (alarm, change) = self.apply(&alert);
        if let (AlarmChange::Cleared, Some(alarm)) = (change, alarm) {
            self.clear(now, alarm);
        }
        match matches {
            Match::No => {}
            Match::Broken(why) => self.report.broken(id, &alert, why),
            Match::Yes => self.matched(id, alert, alarm, change),
        }
        if self.memory.tallies.len() > MAX_REMEMBERED || self.alarms.len() > MAX_REMEMBERED {
            return Err(RehearsalError::TooMuch);
        }
        if self.payloads > MAX_PAYLOADS {
            return Err(RehearsalError::TooLarge);
        }
        Ok(())
    }

    /// Lets what is due until then happen, and gives the report.
    pub fn finish(mut self, until: DateTime<Utc>) -> Report {
        self.run_until(until);
        self.report
    }

    /// Moves the alert's alarm on. A clearing counts even before the first raise, which may only
    /// be late.
    fn apply(&mut self, alert: &Alert) -> (Option<AlarmId>, AlarmChange) {
        if alert.state == AlertState::Noted {
            return (None, AlarmChange::Nothing);
        }
        let next = AlarmId(self.alarms.len() as i64 + 1);
        let entry = self.alarms.entry(fingerprint(alert));
        let (id, alarm) = entry.or_insert_with(|| (next, Alarm::unknown(alert.received)));
        (Some(*id), alarm.apply(alert))
    }

    fn clear(&mut self, now: DateTime<Utc>, alarm: AlarmId) {
        for key in self.holding.remove(&alarm).unwrap_or_default() {
            self.handle(now, Event::Cleared { tally: &key, alarm }, None);
            self.tidy(&key);
        }
    }

    fn matched(&mut self, id: AlertId, alert: Alert, alarm: Option<AlarmId>, change: AlarmChange) {
        let Placed { keys, entries } = match self.rule.place(&alert) {
            Ok(placed) => placed,
            Err(e) => return self.report.broken(id, &alert, e.to_string()),
        };
        let standing = AlarmTransition::from_change(alert.state, alarm, change);
        if let AlarmTransition::Raised { alarm: Some(alarm), .. } = standing {
            self.holding.entry(alarm).or_default().insert(keys.tally.clone());
        }
        self.report.matched(id, &keys.tally, &alert);
        let matched = Matched {
            alert: Some(id),
            keys: &keys,
            happened: alert.happened(),
            severity: alert.severity,
            standing,
            entries,
            cause: None,
        };
        self.handle(alert.received, Event::Matched(matched), Some((id, &alert)));
        if self.keeps {
            let bytes = weight(&alert.body, MAX_PAYLOADS);
            self.payloads += bytes;
            self.kept.entry(keys.tally.clone()).or_default().push(RetainedAlert {
                id,
                alert,
                bytes,
            });
        }
        self.tidy(&keys.tally);
    }

    /// Forgets alerts that nothing can dispatch for any more.
    fn tidy(&mut self, key: &str) {
        if !self.keeps {
            return;
        }
        let Some(episode) = self.memory.tallies.get(key).and_then(|t| t.episode.as_ref()) else {
            let gone = self.kept.remove(key).unwrap_or_default();
            self.payloads -= gone.iter().map(|k| k.bytes).sum::<usize>();
            return;
        };
        let wanted = [episode.latest.alert, episode.held.and_then(|h| h.seen.alert)];
        if let Some(alerts) = self.kept.get_mut(key) {
            let gone = alerts.extract_if(.., |k| !wanted.contains(&Some(k.id)));
            self.payloads -= gone.map(|k| k.bytes).sum::<usize>();
        }
    }

    fn run_until(&mut self, now: DateTime<Utc>) {
        while let Some(Reverse((at, _))) = self.queue.peek()
            && *at <= now
        {
            let Some(Reverse((at, slot))) = self.queue.pop() else { return };
            // A time that has been put off since is not the one.
            if self.memory.due(&slot) != Some(at) {
                continue;
            }
            self.handle(at, Event::Due(&slot), None);
            if let Slot::Tally(key) = &slot {
                self.tidy(key);
            }
        }
    }

    fn handle(&mut self, now: DateTime<Utc>, event: Event<'_>, current: Option<(AlertId, &Alert)>) {
        let (rule, jobs) = (self.rule, &mut self.jobs);
        let mut number = || {
            *jobs += 1;
            Some(JobId(*jobs))
        };
        let (kept, mutes) = (&self.kept, &self.mutes);
        let muting = |key: &str, id: Option<AlertId>, now: DateTime<Utc>| {
            let earlier = || kept.get(key)?.iter().find(|k| Some(k.id) == id).map(|k| &k.alert);
            let alert = current.filter(|(n, _)| Some(*n) == id).map(|(_, alert)| alert);
            mute::longest(mutes, rule, alert.or_else(earlier), now).map(Suspension::Mute)
        };
        let effects = Machine::new(rule, Stance::Act, &mut self.memory, &mut number)
            .suspended_by(&muting)
            .handle(now, event);
        for effect in effects {
            match effect {
                // What never came has no verdict; its dispatch is told all the same.
                Effect::Verdict { alert: None, .. } => {}
                Effect::Verdict { alert: Some(alert), verdict, reason, job, replaces } => {
                    self.report.decided(now, alert, (verdict, replaces), &reason, job);
                }
                Effect::Fire(fire) => self.fired(now, &fire, current),
                Effect::Wake { slot, at } => self.queue.push(Reverse((at, slot))),
                Effect::Withdraw { .. } => {}
            }
        }
    }

    fn fired(&mut self, now: DateTime<Utc>, fire: &Fire, current: Option<(AlertId, &Alert)>) {
        let find = |id: &AlertId| match current {
            Some((n, alert)) if n == *id => Some(alert),
            _ => fire
                .tallies
                .iter()
                .filter_map(|key| self.kept.get(key))
                .flatten()
                .find(|k| k.id == *id)
                .map(|k| &k.alert),
        };
        let silent = fire
            .tallies
            .first()
            .filter(|_| fire.alerts.is_empty())
            .and_then(|key| self.rule.silent(key, now));
        let gathered: Vec<&Alert> = fire.alerts.iter().filter_map(find).chain(&silent).collect();
        let Some(first) = gathered.first().copied() else { return };
        let view = TallyView { alerts: fire.count, since: fire.since, jobs: fire.before, gathered };
        let mut dispatched = Vec::new();
        for (entry, job) in self.rule.entries(first).zip(&fire.jobs) {
            // That a runbook is not there is told about the rule, not about each dispatch.
            let known = self.others.must_have(Kind::Runbook, &entry.runbook).is_ok();
            let prepared = if known {
                entry
                    .prepared(self.others, first, &view)
                    .map(|p| p.inputs)
                    .map_err(|e| e.to_string())
            } else {
                entry.inputs(first, &view).map_err(|e| e.to_string())
            };
            let (inputs, error) = match prepared {
                Ok(inputs) => (inputs, None),
                Err(why) => (entry.inputs(first, &view).unwrap_or_default(), Some(why)),
            };
            dispatched.push(RehearsedDispatch {
                at: now,
                job: *job,
                tallies: Vec::new(),
                alerts: fire.alerts.clone(),
                runbook: entry.runbook.clone(),
                inputs,
                error,
                reason: fire.reason.to_string(),
            });
        }
        if let (Some(alert), Some(key)) = (&silent, fire.tallies.first()) {
            self.report.tally(key, alert);
        }
        for dispatch in dispatched {
            self.report.dispatch(&fire.tallies, dispatch);
        }
    }
}

/// Two different hashes side by side, so that no two alarms of a rehearsal share one.
fn fingerprint(alert: &Alert) -> u128 {
    let half = |salt: u64| {
        let mut hasher = FxHasher::default();
        (salt, &alert.source, alert.resource.as_str(), &alert.kind).hash(&mut hasher);
        hasher.finish()
    };
    u128::from(half(1)) << 64 | u128::from(half(0x9e37_79b9_7f4a_7c15))
}

#[cfg(test)]
mod tests;
