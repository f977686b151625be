//! The state machine over a rule's memory.
//!
//! Every question is asked of the state as it is, never of how it came about: a tally that has
//! not fired is *evaluated*, and each line of `settle` either lets it pass or holds it until a
//! time. Alerts and due times alike lead to the same evaluation, so that it makes no
//! difference which of them comes first, nor whether a rule was changed in between.

mod pools;

use super::{
    AlarmTransition, Effect, Episode, Event, Fire, Fired, Held, Matched, Memory, Pool, Reason,
    SettledAlert, Slot, Tally, Trigger,
};
use crate::{
    AlarmId, AlertId, JobId, Period, Verdict,
    guard::Freeze,
    mute::Mute,
    rule::{Rule, Stance, Symptoms},
    touch::TouchedLately,
};
use chrono::{DateTime, TimeDelta, Utc};

type Time = DateTime<Utc>;

/// How much later than others an alert may arrive and still count where it belongs.
const LATE: TimeDelta = TimeDelta::minutes(10);

/// What keeps the rule from acting until a time, by the key of a tally and the alert that it would
/// act on; no alert where it would act on silence.
pub type Suspending<'a> = dyn Fn(&str, Option<AlertId>, Time) -> Option<Suspension<'a>> + 'a;

/// What keeps a rule from acting until a time.
#[derive(Clone, Debug)]
pub enum Suspension<'a> {
    /// A person has muted it.
    Mute(&'a Mute),
    /// A guard lets nothing begin.
    Freeze(Freeze),
    /// The rule keeps away from what a job has just touched.
    Touched(TouchedLately),
}

impl Suspension<'_> {
    /// When it ends.
    pub fn until(&self) -> DateTime<Utc> {
        match self {
            Self::Mute(mute) => mute.until,
            Self::Freeze(freeze) => freeze.until,
            Self::Touched(touched) => touched.until,
        }
    }
}

/// A rule with its memory.
pub struct Machine<'a> {
    rule: &'a Rule,
    stance: Stance,
    memory: &'a mut Memory,
    number: &'a mut dyn FnMut() -> Option<JobId>,
    suspending: Option<&'a Suspending<'a>>,
    /// Why it proposes what it would dispatch, if it does.
    proposing: Option<&'a str>,
    effects: Vec<Effect>,
}

impl std::fmt::Debug for Machine<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Machine").field("rule", &self.rule.name).finish_non_exhaustive()
    }
}

/// A line that holds a tally back.
struct Hold {
    verdict: Verdict,
    reason: Reason,
    /// When to ask again; none where only another alert, or a pool, can change it.
    due: Option<Time>,
    gathered: bool,
}

/// What an evaluation came to.
enum Outcome {
    Fired(Trigger),
    Held(Hold),
    /// It joined a gathering that is full now.
    Full(String),
}

impl<'a> Machine<'a> {
    /// A rule with the part of its memory that the next events concern, and the numbers of jobs; it
    /// gives none where it is only asked what would be decided.
    pub fn new(
        rule: &'a Rule,
        stance: Stance,
        memory: &'a mut Memory,
        number: &'a mut dyn FnMut() -> Option<JobId>,
    ) -> Self {
        Self {
            rule,
            stance,
            memory,
            number,
            suspending: None,
            proposing: None,
            effects: Vec::new(),
        }
    }

    /// The same, kept from acting by what suspends it.
    #[must_use]
    pub fn suspended_by(self, suspending: &'a Suspending<'a>) -> Self {
        Self { suspending: Some(suspending), ..self }
    }

    /// The same, proposing what it would dispatch, for a reason.
    #[must_use]
    pub fn proposing(self, why: &'a str) -> Self {
        Self { stance: self.stance.min(Stance::Propose), proposing: Some(why), ..self }
    }

    /// Takes one event and gives what is to be done.
    #[must_use]
    pub fn handle(mut self, now: Time, event: Event<'_>) -> Vec<Effect> {
        match event {
            Event::Matched(m) => self.matched(now, m),
            Event::Cleared { tally, alarm } => self.cleared(now, tally, alarm),
            Event::Due(Slot::Tally(key)) => self.tally_due(now, key),
            Event::Due(Slot::Pool(key)) => self.pool_due(now, key),
        }
        self.effects
    }

    /// The first verdict of an alert.
    fn verdict(
        &mut self,
        alert: Option<AlertId>,
        verdict: Verdict,
        reason: Reason,
        job: Option<JobId>,
    ) {
        self.effects.push(Effect::Verdict { alert, verdict, reason, job, replaces: None });
    }

    /// A verdict that takes the place of the one that held an alert.
    fn replace(
        &mut self,
        before: Verdict,
        alert: Option<AlertId>,
        verdict: Verdict,
        reason: Reason,
        job: Option<JobId>,
    ) {
        self.effects.push(Effect::Verdict { alert, verdict, reason, job, replaces: Some(before) });
    }

    fn matched(&mut self, now: Time, m: Matched<'_>) {
        let key = &m.keys.tally;
        // What is due and was not looked at yet comes first, as if it had been in time.
        if self.memory.tallies.get(key).and_then(|t| t.due).is_some_and(|due| due <= now) {
            self.tally_due(now, key);
        }
        if let Some(pool) = &m.keys.gathering
            && self.memory.pools.get(pool).and_then(Pool::due).is_some_and(|due| due <= now)
        {
            self.pool_due(now, pool);
        }
        if let (Some(cause), Symptoms::Skip) = (m.cause, self.rule.settle.symptoms) {
            return self.verdict(
                m.alert,
                Verdict::Symptom,
                Reason::Explained { cause: cause.to_owned() },
                None,
            );
        }
        let mut tally = self.take_tally(key);
        if let AlarmTransition::Late { over } = m.standing {
            self.count(&mut tally, now, m.happened);
            self.verdict(m.alert, Verdict::Folded, Reason::Late { sent: m.happened, over }, None);
        } else if let Some(missing) = self.rule.settle.missing {
            self.restart_silence(&mut tally, now, &m, missing);
        } else {
            self.taken(&mut tally, now, &m);
        }
        self.put(now, key, tally);
    }

    fn take_tally(&mut self, key: &str) -> Tally {
        self.memory.tallies.remove(key).unwrap_or_default()
    }

    /// Puts a tally back, with the time at which it can be forgotten if nothing else is due.
    fn put(&mut self, now: Time, key: &str, mut tally: Tally) {
        if tally.episode.is_none() {
            match self.remembered_until(&tally) {
                Some(until) if until > now => {
                    if tally.due != Some(until) {
                        self.wake(Slot::Tally(key.to_owned()), Some(until));
                    }
                    tally.due = Some(until);
                }
                _ => return,
            }
        }
        self.memory.tallies.insert(key.to_owned(), tally);
    }

    fn remembered_until(&self, tally: &Tally) -> Option<Time> {
        let settle = &self.rule.settle;
        let rest = tally.last.zip(settle.rest).map(|(l, rest)| l.at + rest.delta());
        // Both ends of what is counted belong to it.
        let moment = TimeDelta::milliseconds(1);
        let window =
            tally.counted.zip(settle.after).map(|(t, a)| t + a.within.delta() + LATE + moment);
        let changes =
            tally.changes.last().zip(settle.flapping).map(|(t, f)| *t + f.within.delta() + moment);
        [rest, window, changes].into_iter().flatten().max()
    }

    fn wake(&mut self, slot: Slot, at: Option<Time>) {
        if let Some(at) = at {
            self.effects.push(Effect::Wake { slot, at });
        }
    }

    /// Whether a dispatch counts for the rule as it stands: one that was only watched does not
    /// keep a rule from acting that has been allowed to act since.
    fn counts(&self, fired: Fired) -> bool {
        fired.stance >= self.stance
    }

    /// Whether it counts within its episode: what a person dismissed is settled until the episode
    /// ends, whatever the rule may do by then.
    fn counts_here(&self, fired: Fired) -> bool {
        fired.dismissed || self.counts(fired)
    }

    /// A rule that fires on silence has heard something.
    fn restart_silence(&mut self, tally: &mut Tally, now: Time, m: &Matched<'_>, missing: Period) {
        let due = now + missing.delta();
        let seen = SettledAlert { alert: m.alert, severity: m.severity, entries: m.entries };
        tally.episode = Some(episode(now, seen, m));
        tally.due = Some(due);
        self.wake(Slot::Tally(m.keys.tally.clone()), Some(due));
        self.verdict(m.alert, Verdict::Waiting, Reason::Heard { due, missing }, None);
    }

    fn taken(&mut self, tally: &mut Tally, now: Time, m: &Matched<'_>) {
        let seen = SettledAlert { alert: m.alert, severity: m.severity, entries: m.entries };
        if let AlarmTransition::Raised { alarm, anew } = m.standing {
            tally.alarms.extend(alarm);
            if anew && self.rule.settle.flapping.is_some() {
                self.change(tally, now);
            }
        }
        let episode =
            tally.episode.get_or_insert_with(|| Episode { alerts: 0, ..episode(now, seen, m) });
        episode.alerts += 1;
        episode.latest = seen;
        let (nth, held, fired) =
            (episode.alerts, episode.held, episode.fired.filter(|f| self.counts_here(*f)));
        // A tally of several resources is suspended for some of them only.
        let held = held.filter(|held| {
            !self.may_be_suspended(held.verdict)
                || self.suspended(&m.keys.tally, m.alert, now).is_some()
        });
        if let Some(held) = held {
            let Held { verdict, since, .. } = held;
            let due = tally.due;
            return self.verdict(
                m.alert,
                Verdict::Folded,
                Reason::Joined { nth, verdict, since, due, now },
                None,
            );
        }
        let trigger = match fired {
            None => match self.enough(tally, now, m.happened) {
                Ok(None) => Trigger::Alert(nth),
                Ok(Some(trigger)) => trigger,
                Err(reason) => {
                    if tally.alarms.is_empty() {
                        tally.episode = None;
                    }
                    return self.verdict(m.alert, Verdict::Waiting, reason, None);
                }
            },
            Some(fired) if self.worse(tally, fired, seen) => {
                Trigger::Worse(fired.severity, seen.severity)
            }
            Some(fired) => {
                let job = fired.job;
                return self.verdict(
                    m.alert,
                    Verdict::Folded,
                    Reason::Folded { nth, fired, now },
                    job,
                );
            }
        };
        match self.evaluate(&m.keys.tally, tally, now, seen, trigger) {
            Outcome::Fired(trigger) => {
                let (verdict, reason, job) =
                    self.fire(&m.keys.tally, tally, now, seen.alert, trigger);
                self.verdict(m.alert, verdict, reason, job);
            }
            Outcome::Held(hold) => {
                self.hold(&m.keys.tally, tally, now, seen, &hold);
                let job = hold.reason.job();
                self.verdict(m.alert, hold.verdict, hold.reason, job);
            }
            Outcome::Full(pool) => {
                let held = Held { seen, verdict: Verdict::Waiting, since: now, gathered: true };
                self.full_gathering(now, &m.keys.tally, tally, held, &pool, true);
            }
        }
    }

    /// A tally was the last that a gathering waited for.
    fn full_gathering(
        &mut self,
        now: Time,
        key: &str,
        tally: &mut Tally,
        held: Held,
        pool: &str,
        newcomer: bool,
    ) {
        if let Some(episode) = &mut tally.episode {
            episode.held = Some(held);
        }
        self.memory.tallies.insert(key.to_owned(), std::mem::take(tally));
        self.gathered(now, pool, newcomer.then_some(held.seen.alert).flatten());
        *tally = self.take_tally(key);
    }

    fn worse(&self, tally: &Tally, fired: Fired, seen: SettledAlert) -> bool {
        let Some(again) = self.rule.settle.again else { return false };
        let made = tally.episode.as_ref().map_or(0, |e| e.again);
        again.when_worse
            && !fired.dismissed
            && seen.severity > fired.severity
            && made < again.at_most
    }

    /// Notes a change of state for `flapping`.
    fn change(&self, tally: &mut Tally, at: Time) {
        let Some(flapping) = self.rule.settle.flapping else { return };
        tally.changes.push(at);
        let most = flapping.changes as usize * 2;
        let excess = tally.changes.len().saturating_sub(most);
        tally.changes.drain(..excess);
    }

    /// Notes an alert for `after`.
    fn count(&self, tally: &mut Tally, now: Time, at: Time) {
        let Some(after) = self.rule.settle.after else { return };
        tally.counted = Some(now);
        let place = tally.window.partition_point(|t| *t <= at);
        tally.window.insert(place, at);
        let newest = tally.window.last().copied().unwrap_or(at);
        tally.window.retain(|t| newest - *t <= after.within.delta() + LATE);
        let excess = tally.window.len().saturating_sub(after.alerts as usize * 4 + 64);
        tally.window.drain(..excess);
    }

    /// Whether `after` is met, with the alert that has just come.
    fn enough(&self, tally: &mut Tally, now: Time, at: Time) -> Result<Option<Trigger>, Reason> {
        let Some(after) = self.rule.settle.after else { return Ok(None) };
        if tally.episode.as_ref().is_some_and(|e| e.enough) {
            return Ok(None);
        }
        self.count(tally, now, at);
        let (within, want) = (after.within.delta(), after.alerts as usize);
        let with_it = |start: Time| start <= at && at - start <= within;
        let reaches = |start: Time| {
            tally.window.iter().filter(|t| **t >= start && **t - start <= within).count()
        };
        let have =
            tally.window.iter().filter(|t| with_it(**t)).map(|t| reaches(*t)).max().unwrap_or(0);
        if have < want {
            return Err(Reason::Count { have, want: after.alerts, within: after.within });
        }
        if let Some(episode) = &mut tally.episode {
            episode.enough = true;
        }
        Ok(Some(Trigger::Count(after.alerts, after.within)))
    }

    /// Asks every line that can hold a tally back.
    fn evaluate(
        &mut self,
        key: &str,
        tally: &Tally,
        now: Time,
        seen: SettledAlert,
        trigger: Trigger,
    ) -> Outcome {
        let held =
            |verdict, reason, due| Outcome::Held(Hold { verdict, reason, due, gathered: false });
        let settle = &self.rule.settle;
        if seen.entries == 0 {
            return held(Verdict::Idle, Reason::Nothing, None);
        }
        let Some(episode) = &tally.episode else {
            return held(Verdict::Idle, Reason::Nothing, None);
        };
        if let Some(hold) = self.suspended(key, seen.alert, now) {
            return Outcome::Held(hold);
        }
        if let Some(flapping) = settle.flapping {
            let within = flapping.within.delta();
            let recent = tally.changes.iter().filter(|t| now - **t <= within).count();
            if recent >= flapping.changes as usize {
                let oldest = tally
                    .changes
                    .iter()
                    .rev()
                    .nth(flapping.changes as usize - 1)
                    .copied()
                    .unwrap_or(now);
                let due = oldest + within + TimeDelta::milliseconds(1);
                let reason = Reason::Flaps { changes: recent, within: flapping.within, due };
                return held(Verdict::Flapping, reason, Some(due));
            }
        }
        if let (Some(still), None) = (settle.still, episode.fired) {
            let due = episode.began + still.delta();
            if due > now {
                return held(Verdict::Waiting, Reason::Still { due, for_: still }, Some(due));
            }
        }
        if let (Some(rest), Some(last)) = (settle.rest, tally.last.filter(|l| self.counts(*l))) {
            let due = last.at + rest.delta();
            if due > now {
                return held(Verdict::Resting, Reason::Rests { due, last, rest, now }, Some(due));
            }
        }
        if let (Some(gather), Some(pool)) = (settle.gather.as_ref(), episode.gathering.clone()) {
            return self.join(key, &pool, now, gather.span, gather.at_most);
        }
        if let (Some(cap), Some(pool)) = (settle.cap.as_ref(), episode.cap.as_ref())
            && let Some(frees) = self.full(cap, pool, now, seen.entries)
        {
            let reason = Reason::Full { jobs: cap.jobs, per: cap.per, frees, later: cap.later };
            return held(Verdict::Capped, reason, cap.later.then_some(frees));
        }
        Outcome::Fired(trigger)
    }

    /// Whether a verdict may say that a tally is suspended.
    fn may_be_suspended(&self, verdict: Verdict) -> bool {
        let keeps_away = self.rule.settle.untouched.is_some();
        verdict.is_suspended() || (verdict == Verdict::Resting && keeps_away)
    }

    /// What holds a tally back that is suspended.
    fn suspended(&self, key: &str, alert: Option<AlertId>, now: Time) -> Option<Hold> {
        let suspension = self.suspending?(key, alert, now)?;
        let until = suspension.until();
        let (verdict, reason) = match suspension {
            Suspension::Mute(Mute { by, reason, .. }) => {
                let (by, why) = (by.shown().to_string(), reason.clone());
                (Verdict::Muted, Reason::Muted { by, why, until })
            }
            Suspension::Freeze(freeze) => (Verdict::Frozen, Reason::Frozen(freeze)),
            Suspension::Touched(touched) => (Verdict::Resting, Reason::Touched(touched)),
        };
        Some(Hold { verdict, reason, due: Some(until), gathered: false })
    }

    /// Notes that a tally is held. What has no lasting state is held by a gathering only.
    fn hold(&mut self, key: &str, tally: &mut Tally, now: Time, seen: SettledAlert, hold: &Hold) {
        let lasting = !tally.alarms.is_empty() || self.rule.settle.missing.is_some();
        let Some(episode) = &mut tally.episode else { return };
        if !lasting && !hold.gathered {
            tally.episode = None;
            return;
        }
        if hold.gathered || hold.due.is_some() {
            let since = episode.held.map_or(now, |h| h.since);
            episode.held =
                Some(Held { seen, verdict: hold.verdict, since, gathered: hold.gathered });
        } else {
            episode.held = None;
        }
        tally.due = hold.due;
        self.wake(Slot::Tally(key.to_owned()), hold.due);
    }

    /// Fires one tally; the verdict for the alert that set it off.
    fn fire(
        &mut self,
        key: &str,
        tally: &mut Tally,
        now: Time,
        alert: Option<AlertId>,
        trigger: Trigger,
    ) -> (Verdict, Reason, Option<JobId>) {
        let entries =
            tally.episode.as_ref().map_or(1, |e| e.held.map_or(e.latest, |h| h.seen).entries);
        let (jobs, verdict, what) = self.numbers(entries);
        let reason = Reason::Fires(trigger, what);
        let cap = tally.episode.as_ref().and_then(|e| e.cap.clone());
        let (count, since, before) =
            tally.episode.as_ref().map_or((1, now, 0), |e| (e.alerts, e.began, e.fires()));
        self.mark(key, tally, now, jobs.first().copied());
        self.use_cap(cap.as_deref(), now, entries);
        self.effects.push(Effect::Fire(Fire {
            stance: self.stance,
            jobs: jobs.clone(),
            alerts: alert.into_iter().collect(),
            tallies: vec![key.to_owned()],
            count,
            since,
            before,
            reason: reason.clone(),
        }));
        (verdict, reason, jobs.first().copied())
    }

    /// Numbers for the jobs, the verdict, and what is done in words.
    fn numbers(&mut self, entries: usize) -> (Vec<JobId>, Verdict, String) {
        let mut books = self.rule.runbooks();
        if entries < self.rule.dispatch.len() {
            books = format!("{entries} of {books}");
        }
        match self.stance {
            Stance::Watch => (
                vec![],
                Verdict::Watched,
                format!("would have dispatched {books}, but the rule only watches"),
            ),
            stance => {
                let jobs: Vec<JobId> =
                    (0..entries.max(1)).filter_map(|_| (self.number)()).collect();
                let (verdict, done, numbered) = if stance == Stance::Act {
                    (Verdict::Dispatched, "dispatched", " as job")
                } else {
                    (Verdict::Proposed, "proposed, for a person to launch", ": proposal")
                };
                let shown = match jobs.as_slice() {
                    [] => String::new(),
                    [job] => format!("{numbered} {job}"),
                    many => {
                        let many: Vec<String> = many.iter().map(ToString::to_string).collect();
                        format!("{numbered}s {}", many.join(", "))
                    }
                };
                let why = self.proposing.map(|why| format!("; {why}")).unwrap_or_default();
                (jobs, verdict, format!("{books} {done}{shown}{why}"))
            }
        }
    }

    /// Notes in a tally that it has fired.
    fn mark(&mut self, key: &str, tally: &mut Tally, now: Time, job: Option<JobId>) {
        tally.window.clear();
        tally.counted = None;
        tally.due = None;
        let lasting = !tally.alarms.is_empty();
        let Some(episode) = &mut tally.episode else { return };
        if let Some(Fired { job: Some(proposal), stance: Stance::Propose, .. }) = episode.fired {
            self.effects.push(Effect::Withdraw { proposal, reason: "another took its place" });
        }
        let severity = episode.latest.severity;
        let fired = Fired { at: now, job, stance: self.stance, severity, dismissed: false };
        tally.last = Some(fired);
        if episode.fired.is_some_and(|f| f.stance >= self.stance) {
            episode.again += 1;
        }
        episode.fired = Some(fired);
        episode.held = None;
        let again =
            self.rule.settle.again.filter(|a| episode.again < a.at_most).and_then(|a| a.every);
        if !lasting {
            // Silence is told once; what has no lasting state is over with its dispatch.
            tally.episode = None;
        } else if let Some(every) = again {
            tally.due = Some(now + every.delta());
            self.wake(Slot::Tally(key.to_owned()), tally.due);
        }
    }

    fn cleared(&mut self, now: Time, key: &str, alarm: AlarmId) {
        let Some(mut tally) = self.memory.tallies.remove(key) else { return };
        if tally.alarms.remove(&alarm) {
            if self.rule.settle.flapping.is_some() {
                self.change(&mut tally, now);
            }
            if tally.alarms.is_empty()
                && self.rule.settle.missing.is_none()
                && let Some(episode) = tally.episode.take()
            {
                self.over(now, &episode);
                tally.due = None;
            }
        }
        self.put(now, key, tally);
    }

    /// An episode ended: what was held is done with, what was proposed is no longer wanted.
    fn over(&mut self, now: Time, episode: &Episode) {
        if let Some(Held { seen, verdict, since, .. }) = episode.held {
            self.replace(
                verdict,
                seen.alert,
                verdict,
                Reason::Cleared { verdict, after: now - since },
                None,
            );
        }
        if let Some(Fired { job: Some(proposal), stance: Stance::Propose, .. }) = episode.fired {
            self.effects.push(Effect::Withdraw { proposal, reason: "its alarm was cleared" });
        }
    }

    fn tally_due(&mut self, now: Time, key: &str) {
        let Some(mut tally) = self.memory.tallies.remove(key) else { return };
        if tally.due.is_some_and(|due| due <= now) {
            tally.due = None;
            self.handle_due(key, &mut tally, now);
        }
        self.put(now, key, tally);
    }

    /// The due time of a tally has come.
    fn handle_due(&mut self, key: &str, tally: &mut Tally, now: Time) {
        let Some(episode) = tally.episode.clone() else { return };
        let settle = &self.rule.settle;
        let (seen, trigger) =
            match (episode.held, episode.fired.filter(|f| self.counts_here(*f)), settle.missing) {
                (Some(held), _, _) if held.gathered => return,
                (Some(held), fired, _) => (held.seen, self.released(held.verdict, fired, now)),
                (None, None, Some(missing)) => (episode.latest, Trigger::Missing(missing)),
                (None, Some(fired), _) if fired.dismissed => return,
                (None, Some(fired), _)
                    if settle
                        .again
                        .is_some_and(|a| a.every.is_some() && episode.again < a.at_most) =>
                {
                    (episode.latest, Trigger::Again(now - fired.at, fired.job))
                }
                _ => return,
            };
        // A dispatch that is due again belongs to no alert's verdict.
        let own = match (episode.held, settle.missing) {
            (Some(held), _) => Some(held.verdict),
            (None, missing) => missing.map(|_| Verdict::Waiting),
        };
        match self.evaluate(key, tally, now, seen, trigger) {
            Outcome::Fired(trigger) => {
                let (verdict, reason, job) = self.fire(key, tally, now, seen.alert, trigger);
                if let Some(before) = own {
                    self.replace(before, seen.alert, verdict, reason, job);
                }
            }
            Outcome::Held(hold) if let Some(before) = own => {
                self.hold(key, tally, now, seen, &hold);
                let is_new = before != hold.verdict || before == Verdict::Waiting;
                if is_new || self.may_be_suspended(before) {
                    let job = hold.reason.job();
                    self.replace(before, seen.alert, hold.verdict, hold.reason, job);
                }
            }
            Outcome::Held(hold) => {
                let every = settle.again.and_then(|a| a.every);
                tally.due = hold.due.or_else(|| every.map(|e| now + e.delta()));
                self.wake(Slot::Tally(key.to_owned()), tally.due);
            }
            Outcome::Full(pool) => {
                let verdict = episode.held.map_or(Verdict::Waiting, |h| h.verdict);
                let held = Held { seen, verdict, since: now, gathered: true };
                self.full_gathering(now, key, tally, held, &pool, false);
            }
        }
    }

    /// Why a tally fires that was held.
    fn released(&self, verdict: Verdict, fired: Option<Fired>, now: Time) -> Trigger {
        let settle = &self.rule.settle;
        match (verdict, fired) {
            (_, Some(fired)) => Trigger::Again(now - fired.at, fired.job),
            (Verdict::Flapping, _) => Trigger::Calm,
            (Verdict::Capped, _) => Trigger::Room,
            (Verdict::Muted, _) => settle.missing.map_or(Trigger::Unmuted, Trigger::Missing),
            (Verdict::Frozen, _) => settle.missing.map_or(Trigger::Thawed, Trigger::Missing),
            (Verdict::Resting, _) => match (settle.rest, settle.untouched) {
                (_, Some(_)) => Trigger::LeftAlone,
                (rest, None) => rest.map_or(Trigger::Room, Trigger::Rested),
            },
            _ => settle.still.map_or(Trigger::Calm, Trigger::Still),
        }
    }
}

impl Episode {
    /// Dispatches so far.
    fn fires(&self) -> u32 {
        self.fired.map_or(0, |_| self.again + 1)
    }
}

fn episode(now: Time, seen: SettledAlert, m: &Matched<'_>) -> Episode {
    Episode {
        began: now,
        alerts: 1,
        latest: seen,
        enough: false,
        held: None,
        fired: None,
        again: 0,
        gathering: m.keys.gathering.clone(),
        cap: m.keys.cap.clone(),
    }
}
