//! An interpreter of the tree that is obviously right: it works out what each step does from
//! beginning to end, and asks again with an earlier end where another step stopped it. It knows
//! nothing of events, of what is open, or of what is stored.

use crate::{
    expr::{Length, Scope, Val},
    job::Resolution,
    runbook::{Action, Failures, OnError, Runbook, Step, Until},
};
use std::collections::BTreeMap;

/// Milliseconds.
pub(super) type Time = i64;

/// What the world answers; the same as the story's.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Answer {
    Good(i64),
    Refused,
    Busy,
    Unknown,
}

/// Nothing is known where lengths of time are made.
struct Nothing;

impl<'a> Scope<'a> for Nothing {
    fn name(&'a self, _: &str) -> Option<Val<'a>> {
        None
    }
}

fn millis(length: &Length) -> Time {
    length.at(&Nothing).expect("a length").delta().num_milliseconds()
}

pub(super) trait Oracle {
    fn answer(&self, place: &str, nth: usize) -> (Time, Answer);
    fn says(&self, place: &str) -> (Time, Resolution);
    /// When what is waited for comes, if it does: a decision, an event.
    fn comes(&self, place: &str) -> Option<Time>;
    /// How long a job of its own takes, and whether it succeeds.
    fn child(&self, place: &str) -> (Time, bool);
    /// How long it takes to stop.
    fn stops(&self, place: &str) -> Time;
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum How {
    Done,
    Failed,
    Halted,
}

/// What a list of steps did.
#[derive(Clone, Debug)]
pub(super) struct Ran {
    pub end: Time,
    pub how: How,
    /// Steps that were done, in the order of their ends.
    pub done: Vec<(Time, String)>,
    /// What can be taken back, in the order of its doing.
    undo: Vec<(Time, String)>,
}

impl Ran {
    fn at(start: Time) -> Self {
        Self { end: start, how: How::Done, done: Vec::new(), undo: Vec::new() }
    }

    fn ended(mut self, end: Time, how: How) -> Self {
        (self.end, self.how) = (end, how);
        self
    }

    fn take_in(&mut self, other: Self) {
        self.done.extend(other.done);
        self.undo.extend(other.undo);
    }
}

pub(super) struct Interpreter<'a> {
    pub oracle: &'a dyn Oracle,
    pub runbook: &'a Runbook,
    /// When people stop the job, and whether what was done is to be taken back.
    pub stops: Vec<(Time, bool)>,
    /// From when to when somebody holds it.
    pub held: Option<(Time, Time)>,
}

/// How a whole job went.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Went {
    pub end: Time,
    pub state: &'static str,
    pub effect: &'static str,
    pub done: Vec<(Time, String)>,
}

impl Interpreter<'_> {
    pub(super) fn run(&self) -> Went {
        let first_stop = self.stops.first().map(|(at, _)| *at);
        let forward = self.list(&self.runbook.steps, "", 0, first_stop);
        let (mut end, mut done) = (forward.end, forward.done);
        let (mut state, mut effect) = ("succeeded", "not checked");
        let mut takes_back = false;
        // The last word before the end of the steps counts.
        let stopped =
            |end: Time| self.stops.iter().rfind(|(at, _)| *at <= end).map(|(_, undo)| *undo);
        match (forward.how, stopped(end)) {
            (_, Some(undo)) => (state, takes_back) = ("cancelled", undo),
            (How::Failed | How::Halted, None) => (state, takes_back) = ("failed", true),
            (How::Done, None) => {
                if let Some(confirm) = &self.runbook.confirm {
                    let ran = self.list(&confirm.check, "", end, first_stop);
                    done.extend(ran.done);
                    end = ran.end;
                    if let Some(undo) = stopped(end) {
                        (state, takes_back) = ("cancelled", undo);
                    } else {
                        effect = if ran.how == How::Done { "confirmed" } else { "unconfirmed" };
                        if ran.how != How::Done {
                            end = self.then(&self.runbook.otherwise, end, &mut done);
                        }
                    }
                }
            }
        }
        if takes_back {
            let mut undo = forward.undo;
            undo.sort_by_key(|(at, _)| *at);
            let stop = self.ends_what_sets_right(end);
            for (_, place) in undo.into_iter().rev() {
                let begin = self.free(end);
                if let Some(stop) = stop.filter(|stop| *stop <= begin) {
                    end = stop.max(end);
                    break;
                }
                let undone = self.call(&format!("{place}.undo"), "keyed", 0, begin, stop);
                if undone.how == How::Done {
                    done.push((undone.end, format!("{place}.undo")));
                }
                end = undone.end;
            }
        }
        if state == "failed" {
            end = self.then(&self.runbook.recover, end, &mut done);
        }
        end = self.then(&self.runbook.always, end, &mut done);
        done.sort();
        Went { end, state, effect, done }
    }

    /// What follows the steps; when it ends.
    fn then(&self, steps: &[Step], start: Time, done: &mut Vec<(Time, String)>) -> Time {
        let ran = self.list(steps, "", start, self.ends_what_sets_right(start));
        done.extend(ran.done);
        ran.end
    }

    /// When what sets things right is stopped, if it begins then: by whoever stops the job once
    /// more, and takes nothing back.
    fn ends_what_sets_right(&self, start: Time) -> Option<Time> {
        let words = self.stops.iter().enumerate();
        words
            .filter(|(nth, (at, undo))| *nth > 0 && !undo && *at > start)
            .map(|(_, (at, _))| *at)
            .next()
    }

    /// When something may begin that is due at a time: while the job is held nothing is begun.
    fn free(&self, due: Time) -> Time {
        self.held.filter(|(from, to)| *from <= due && due < *to).map_or(due, |(_, to)| to)
    }

    /// For how long something that began then was held by a time.
    fn held_of(&self, start: Time, at: Time) -> Time {
        self.held
            .filter(|(from, _)| start < *from)
            .map_or(0, |(from, to)| (at.min(to) - from).max(0))
    }

    fn list(&self, steps: &[Step], around: &str, start: Time, halt: Option<Time>) -> Ran {
        let mut all = Ran::at(start);
        let mut at = 0;
        while let Some(step) = steps.get(at) {
            let begin = self.free(all.end);
            if let Some(h) = halt.filter(|h| *h <= begin) {
                let end = all.end.max(h);
                return all.ended(end, How::Halted);
            }
            all.end = begin;
            if step.when.as_ref().is_some_and(|w| w.text() != "1 < 2") {
                at += 1;
                continue;
            }
            let place =
                if around.is_empty() { step.id.clone() } else { format!("{around}.{}", step.id) };
            let ran = self.step(step, &place, all.end, halt);
            let (end, how) = (ran.end, ran.how);
            all.take_in(ran);
            all.end = end;
            let halted = halt.is_some_and(|h| h <= end);
            match (how, step.on_error) {
                (How::Done, _) => {
                    all.done.push((end, place.clone()));
                    if step.undo.is_some() {
                        all.undo.push((end, place));
                    }
                    at += 1;
                }
                (How::Halted, _) => return all.ended(end, How::Halted),
                (How::Failed, _) if halted => return all.ended(end, How::Halted),
                (How::Failed, OnError::Stop) => return all.ended(end, How::Failed),
                (How::Failed, OnError::Continue) => at += 1,
                (How::Failed, OnError::GoTo(to)) => at = to,
            }
        }
        all
    }

    fn step(&self, step: &Step, place: &str, start: Time, halt: Option<Time>) -> Ran {
        let before = |at: Time| halt.is_none_or(|h| h > at);
        let over = step.timeout.as_ref().map(|t| {
            let over = start + millis(t);
            let held = self.held.filter(|(from, _)| start < *from && *from < over);
            over + held.map_or(0, |(from, to)| to - from)
        });
        let inner_halt = [halt, over].into_iter().flatten().min();
        let ran = match &step.action {
            Action::Call(call) => {
                let repeat = call
                    .callee
                    .operation()
                    .expect("an operation")
                    .1
                    .split('.')
                    .next()
                    .unwrap_or_default();
                return self.call(place, repeat, step.retry.map_or(0, |r| r.times), start, halt);
            }
            Action::Pause(pause) => {
                let end = self.free(start + millis(&pause.long));
                return match halt {
                    Some(h) if h < end => Ran::at(start).ended(h.max(start), How::Halted),
                    _ => Ran::at(start).ended(end, How::Done),
                };
            }
            Action::Check(check) => {
                let least = start + millis(&check.within);
                let (mut at, mut nth) = (start, 0);
                loop {
                    let (takes, answer) = self.oracle.answer(place, nth);
                    let seen = at + takes;
                    if let Some(h) = halt.filter(|h| *h < seen) {
                        return Ran::at(start).ended(h.max(start), How::Halted);
                    }
                    nth += 1;
                    let within = least + self.held_of(start, seen);
                    if matches!(answer, Answer::Good(n) if n >= 5) {
                        return Ran::at(start).ended(seen, How::Done);
                    }
                    if seen >= within {
                        return Ran::at(start).ended(seen, How::Failed);
                    }
                    at = self.free((seen + check.every.delta().num_milliseconds()).min(within));
                    if let Some(h) = halt.filter(|h| *h < at) {
                        return Ran::at(start).ended(h, How::Halted);
                    }
                }
            }
            Action::Require(require) => {
                let how = if require.condition.text() == "1 < 2" { How::Done } else { How::Failed };
                return Ran::at(start).ended(start, how);
            }
            Action::Set(_) | Action::Remember(_) | Action::Emit(_) | Action::Finish(_) => {
                return Ran::at(start);
            }
            Action::Tell(_) => unreachable!("no runbook that is made up here tells people"),
            Action::Ask(ask) => {
                let silent = if ask.unanswered.is_some() { How::Done } else { How::Failed };
                let until = start + millis(&ask.within);
                return self.what_comes(place, (until, until), silent, start, halt);
            }
            Action::Await(event) => {
                let until = start + millis(&event.within);
                return self.what_comes(place, (until, self.free(until)), How::Failed, start, halt);
            }
            Action::Child(_) => {
                let (takes, good) = self.oracle.child(place);
                let (end, stop) = (start + takes, inner_halt.filter(|h| *h < start + takes));
                let stopped =
                    stop.map(|at| at.max(start) + self.oracle.stops(place)).filter(|at| *at < end);
                let late = over.is_some_and(|o| o <= stopped.unwrap_or(end));
                let how = match stopped {
                    Some(at) if halt.is_some_and(|h| h <= at) => How::Halted,
                    Some(_) => How::Failed,
                    None if good => How::Done,
                    None if late && halt.is_some_and(|h| h <= end) => How::Halted,
                    None => How::Failed,
                };
                return Ran::at(start).ended(stopped.unwrap_or(end), how);
            }
            Action::Choose(choose) => {
                let taken = choose
                    .branches
                    .iter()
                    .find(|b| b.when.as_ref().is_none_or(|w| w.text() == "1 < 2"));
                match taken {
                    None => return Ran::at(start),
                    Some(branch) => self.list(&branch.steps, place, start, inner_halt),
                }
            }
            Action::Each(each) => {
                let count = each.items.text().matches(',').count() + 1;
                let stops = each.failures == Failures::Stop;
                let lanes = |first: Option<Time>| {
                    self.lanes(each.at_once, count, start, (inner_halt, first), &each.steps, place)
                };
                let free = lanes(None);
                let first = free
                    .iter()
                    .filter(|r| r.how == How::Failed)
                    .map(|r| r.end)
                    .min()
                    .filter(|_| stops);
                let lanes = lanes(first);
                let how = match first {
                    Some(at) if inner_halt.is_none_or(|h| at < h) => How::Failed,
                    _ if inner_halt.is_some_and(|h| {
                        lanes.len() < count || lanes.iter().any(|l| l.end >= h)
                    }) =>
                    {
                        How::Halted
                    }
                    _ => How::Done,
                };
                side_by_side(lanes, start.max(first.unwrap_or(start))).how(how)
            }
            Action::Together(together) => {
                let ways = |first: Option<Time>| -> Vec<Ran> {
                    together
                        .ways
                        .iter()
                        .map(|(_, steps)| self.beside(steps, place, start, (inner_halt, first)))
                        .collect()
                };
                let ends = match together.until {
                    Until::All => How::Failed,
                    Until::First => How::Done,
                };
                let first = ways(None).iter().filter(|w| w.how == ends).map(|w| w.end).min();
                let first = first.filter(|at| inner_halt.is_none_or(|h| *at < h));
                let ran = ways(first);
                let how = match (together.until, first) {
                    (Until::All, Some(_)) => How::Failed,
                    (Until::First, Some(_)) => How::Done,
                    _ if ran.iter().any(|w| w.how == How::Halted) => How::Halted,
                    (Until::All, None) => How::Done,
                    (Until::First, None) => How::Failed,
                };
                side_by_side(ran, start).how(how)
            }
        };
        // Whoever is stopped from outside is halted; whose own time was over has failed.
        let (stopped, late) = (!before(ran.end), over.is_some_and(|o| o <= ran.end));
        let how = match ran.how {
            _ if stopped && !matches!(step.action, Action::Choose(_)) => How::Halted,
            _ if late && !matches!(step.action, Action::Choose(_)) => How::Failed,
            How::Halted if stopped => How::Halted,
            How::Halted if late => How::Failed,
            how => how,
        };
        let end = ran.end;
        ran.ended(end, how)
    }

    /// Something that comes, or does not come in time; that is judged then, or later.
    fn what_comes(
        &self,
        place: &str,
        (until, judged): (Time, Time),
        not: How,
        start: Time,
        halt: Option<Time>,
    ) -> Ran {
        let comes = self.oracle.comes(place).map(|after| start + after).filter(|at| *at < until);
        let (end, how) = comes.map_or((judged, not), |at| (at, How::Done));
        match halt {
            Some(h) if h < end => Ran::at(start).ended(h.max(start), How::Halted),
            _ => Ran::at(start).ended(end, how),
        }
    }

    /// One of several that run side by side. What decided for all is not stopped by that itself.
    fn beside(
        &self,
        steps: &[Step],
        place: &str,
        start: Time,
        (halt, first): (Option<Time>, Option<Time>),
    ) -> Ran {
        let free = self.list(steps, place, start, halt);
        match first {
            Some(first) if free.end > first => {
                self.list(steps, place, start, halt.into_iter().chain([first]).min())
            }
            _ => free,
        }
    }

    /// The items of a list, as many at once as may be.
    fn lanes(
        &self,
        at_once: usize,
        count: usize,
        start: Time,
        (halt, first): (Option<Time>, Option<Time>),
        steps: &[Step],
        place: &str,
    ) -> Vec<Ran> {
        let mut free = vec![start; at_once];
        let mut lanes = Vec::new();
        for number in 0..count {
            free.sort_unstable();
            let begin = free[0];
            if halt.into_iter().chain(first).min().is_some_and(|h| h <= begin) {
                break;
            }
            let ran = self.beside(steps, &format!("{place}[{number}]"), begin, (halt, first));
            free[0] = ran.end;
            lanes.push(ran);
        }
        lanes
    }

    fn call(&self, place: &str, repeat: &str, times: u32, start: Time, halt: Option<Time>) -> Ran {
        let (mut at, mut failed, mut doubt) = (start, 0, false);
        for nth in 0.. {
            let (takes, answer) = self.oracle.answer(place, nth);
            let end = at + takes;
            let halted = halt.is_some_and(|h| h <= end);
            if matches!(answer, Answer::Good(_)) {
                return Ran::at(start).ended(end, How::Done);
            }
            failed += 1;
            doubt |= answer == Answer::Unknown && repeat == "keyed";
            let again = answer != Answer::Refused && failed <= times && !halted;
            if again && !(answer == Answer::Unknown && repeat == "never") {
                at = self.free(end + 1000 * (1 << (failed - 1)));
                match halt {
                    Some(h) if h <= at => return Ran::at(start).ended(h, How::Halted),
                    _ => continue,
                }
            }
            if !(doubt || answer == Answer::Unknown && repeat == "never") {
                return Ran::at(start).ended(end, if halted { How::Halted } else { How::Failed });
            }
            let (after, word) = self.oracle.says(place);
            let said = end + after;
            match word {
                Resolution::Done => return Ran::at(start).ended(said, How::Done),
                Resolution::Failed => return Ran::at(start).ended(said, How::Failed),
                Resolution::Again => {
                    let again = self.free(said);
                    if let Some(h) = halt.filter(|h| *h <= again) {
                        return Ran::at(start).ended(h.max(said), How::Halted);
                    }
                    at = again;
                }
            }
        }
        unreachable!("some answer is good")
    }
}

struct Beside(Ran);

fn side_by_side(all: Vec<Ran>, least: Time) -> Beside {
    let mut ran = Ran::at(least);
    ran.end = all.iter().map(|r| r.end).max().unwrap_or(least).max(least);
    for one in all {
        ran.take_in(one);
    }
    Beside(ran)
}

impl Beside {
    fn how(self, how: How) -> Ran {
        let end = self.0.end;
        self.0.ended(end, how)
    }
}

/// What a world answers, worked out from a number.
pub(super) fn mixed(seed: u64, what: &str, nth: usize) -> u64 {
    let mut x = seed ^ 0x9e37_79b9_7f4a_7c15;
    for byte in what.bytes().chain(nth.to_le_bytes()) {
        x = (x ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3);
        x ^= x >> 29;
    }
    x = (x ^ (x >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    x ^ (x >> 31)
}

/// For each place what was done there, to tell two runs apart by it.
pub(super) fn by_place(done: &[(Time, String)]) -> BTreeMap<&str, Time> {
    done.iter().map(|(at, place)| (place.as_str(), *at)).collect()
}
