//! Executes lists of steps: begins what is next, goes on with what is open, and says what a list
//! ended with.
//!
//! Everything open is visited at every event; each asks for itself whether the event, the time or a
//! halt concerns it. So it does not matter which of them came first, and an event for what is not
//! open any more finds nobody. How each kind goes on stands in `steps`.

use super::{
    Block, CallOut, Effect, Facts, Open, Place, Repeats, Resolution, StepEvent, StepOutputs,
    StepResult,
    progress::{Doing, Ending, Queued},
    sample, steps,
};
use crate::{
    Alert, Period,
    alarm::Alarm,
    connector::{CallEnd, Failure, Repeat},
    definition::Others,
    expr::Length,
    runbook::{Action, Call, JobScope, OnError, Runbook, SharedUse, Step},
    text::cut,
};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::{Map, Value, json};
use std::{
    borrow::Cow,
    cell::Cell,
    collections::{BTreeMap, BTreeSet},
};

/// Most steps that one job may begin.
pub const MAX_BEGUN: u32 = 10_000;

/// Steps that one event may begin; the others have their turn when these are recorded, so that no
/// runbook holds up a node.
const AT_A_TIME: u32 = 100;

/// Steps of evaluation after which the rest is left for the next event in the same way; a step is
/// one part of an expression visited, or 64 bytes made.
const EVALUATED_AT_A_TIME: u32 = 100_000;

/// Steps of evaluation that one look may take, as the values that one step is given.
pub(super) const EVALUATED_AT_ONCE: u32 = 200_000;

/// Errors that were passed over and are told to later steps.
const MOST_ERRORS: usize = 100;

/// Longest message of a failure, in bytes.
const LONGEST: usize = 1_000;

/// What one event leads to.
pub(super) struct Execution<'m> {
    pub now: DateTime<Utc>,
    pub runbook: &'m Runbook,
    pub facts: &'m Facts,
    /// What is published, for whom messages go to.
    pub others: Option<&'m dyn Others>,
    pub alarm: Option<&'m Alarm>,
    pub kept: &'m mut StepOutputs,
    pub effects: Vec<Effect>,
    /// What was done and can be taken back; none while it is being taken back.
    pub undo: Option<Vec<Place>>,
    pub errors: BTreeMap<String, String>,
    /// Steps that another job has done, and are not looked at yet.
    pub carried: BTreeSet<Place>,
    /// Calls that wait for their turn.
    pub queued: BTreeMap<Place, Queued>,
    pub begun: u32,
    /// How the job ends, if that is known.
    pub ending: Option<&'m Ending>,
    /// A person holds the job.
    pub paused: bool,
    /// For how long; that does not count against what steps may take.
    pub held_for: TimeDelta,
    /// Whether jobs of its own that are stopped take back what they did, and why they are stopped.
    pub stop: (bool, String),
    pub news: News,
    /// Whether more has come from outside than was read yet.
    pub unread: bool,
    /// Whether steps that change something may begin.
    pub gate: Gate,
    /// What is about to be done, where that is announced.
    pub next: Option<Value>,
    /// Steps begun by this event.
    pub now_begun: u32,
    /// Steps of evaluation taken by this event.
    pub evaluated: Cell<u32>,
}

/// The event, as far as it concerns steps.
#[derive(Default)]
pub(super) struct News {
    /// What happened to tries, and what came from outside.
    pub steps: Vec<(Place, u32, StepEvent)>,
    /// What a person said of an unsure step.
    pub word: Option<(Option<Place>, Resolution, Value)>,
    /// The job was taken up: whatever was out before is lost.
    pub taken: Option<Repeats>,
    /// What went out since.
    pub sent: BTreeSet<Place>,
}

/// Whether steps that change something may begin.
#[derive(Debug, Default, PartialEq)]
pub(super) enum Gate {
    /// They may.
    #[default]
    Open,
    /// Not while it is announced that they are about to.
    Shut,
    /// Not before that is announced: what they are, and how many more there are.
    Unannounced(Vec<String>, usize),
}

/// How it is with the turn of a call.
pub(super) enum Turn {
    /// It waits for none: it is out, or was.
    Out,
    /// It waits, since then.
    Waits(DateTime<Utc>),
    /// It may be sent now.
    Comes,
}

/// Where a list of steps stands in the tree.
#[derive(Clone)]
pub(super) struct Around<'m> {
    /// The step around it.
    pub place: Place,
    /// The loops around: the name of the item, the step that goes through the list, the item's
    /// number.
    pub items: Vec<(&'m str, Place, usize)>,
    /// Of a shared step and what takes it back: what it is given as its inputs.
    pub shared: Option<&'m SharedUse>,
    /// No further step is begun.
    pub halt: bool,
}

impl<'m> Around<'m> {
    pub(super) fn top(halt: bool) -> Self {
        Self { place: Place::new(""), items: Vec::new(), shared: None, halt }
    }

    /// The steps within one.
    pub(super) fn within(&self, place: &Place, halt: bool) -> Self {
        Self { place: place.clone(), halt: self.halt || halt, ..self.clone() }
    }

    /// The same as a step sees it.
    fn seen_by<'a>(&'a self, step: &'m Step) -> Cow<'a, Self> {
        match step.shared.as_deref() {
            None => Cow::Borrowed(self),
            shared => Cow::Owned(Self { shared, ..self.clone() }),
        }
    }

    /// The steps for one item of a list.
    pub(super) fn item(&self, name: &'m str, place: &Place, number: usize, halt: bool) -> Self {
        let mut item = self.within(&place.item(number), halt);
        item.items.push((name, place.clone(), number));
        item
    }
}

/// What a list of steps ended with.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum End {
    /// All are done.
    Done,
    /// One failed.
    Failed(Place, String),
    /// One ended the job, well.
    Finished(Option<String>),
    /// It was halted.
    Halted,
}

/// What a step ended with.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum StepEnd {
    Done(Value),
    /// Another job has done it, and it stands.
    Stands,
    Failed {
        /// As it is kept with the try.
        message: String,
        /// As it is told of the job.
        told: String,
        /// Whether it was done all the same.
        done: bool,
    },
    /// A step within it failed.
    FailedWithin(Place, String),
    Finished(Option<String>),
    Halted,
}

impl StepEnd {
    pub(super) fn failed(message: impl Into<String>) -> Self {
        let message = message.into();
        Self::Failed { told: message.clone(), message, done: false }
    }

    /// What a list of steps within a step ended with; the step itself goes on where nothing went
    /// wrong.
    pub(super) fn within(end: End, done: impl FnOnce() -> Value) -> Self {
        match end {
            End::Done => Self::Done(done()),
            End::Failed(place, told) => Self::FailedWithin(place, told),
            End::Finished(words) => Self::Finished(words),
            End::Halted => Self::Halted,
        }
    }
}

impl<'m> Execution<'m> {
    /// Goes on with a list of steps; what it ended with, if it has.
    pub(super) fn block(
        &mut self,
        steps: &'m [Step],
        block: &mut Block,
        around: &Around<'m>,
    ) -> Option<End> {
        loop {
            let Some(step) = steps.get(block.at) else { return Some(End::Done) };
            let place = around.place.within(&step.id);
            let seen = around.seen_by(step);
            let (ended, open) = match block.open.take() {
                None if around.halt => return Some(End::Halted),
                None if self.paused || self.has_enough() => return None,
                None if self.carried.contains(&place) => match &step.action {
                    Action::Call(call) if call.probe.is_some() => {
                        // What does not stand any more is done again.
                        if self.holds_back(step, &place, &seen) {
                            return None;
                        }
                        self.carried.remove(&place);
                        let doing = Doing::LookingBack;
                        let mut open = Open::begins(self.now, doing);
                        (steps::call::look_back(self, call, &place, &mut open, &seen), open)
                    }
                    _ => {
                        self.carried.remove(&place);
                        block.at += 1;
                        continue;
                    }
                },
                None => match self.is_due(step, &place, around) {
                    Ok(false) => {
                        block.at += 1;
                        continue;
                    }
                    Ok(true) if self.holds_back(step, &place, &seen) => return None,
                    due => {
                        let mut open = Open::begins(self.now, Doing::Calling);
                        let due = due.and_then(|_| self.count_begun());
                        let due = due.and_then(|()| self.check_inputs(step, around));
                        let due = due.and_then(|()| self.lengths(step, &mut open, &seen));
                        let ended = match due {
                            Ok(()) => self.begin(step, &place, &mut open, &seen),
                            Err(message) => {
                                self.started(&place, 1, Value::Null);
                                Some(StepEnd::failed(message))
                            }
                        };
                        (ended, open)
                    }
                },
                Some(mut open) => (self.go_on(step, &place, &mut open, &seen), open),
            };
            match ended {
                None => {
                    block.open = Some(open);
                    return None;
                }
                Some(ended) => {
                    if let Some(end) = self.ended(step, &place, &open, ended, block, around) {
                        return Some(end);
                    }
                }
            }
        }
    }

    /// Whether the rest is left for the next event.
    pub(super) fn has_enough(&self) -> bool {
        self.now_begun >= AT_A_TIME || self.evaluated.get() >= EVALUATED_AT_A_TIME
    }

    /// Whether a step is to be begun, or passed over.
    fn is_due(
        &mut self,
        step: &'m Step,
        place: &Place,
        around: &Around<'m>,
    ) -> Result<bool, String> {
        if let Some(when) = &step.when {
            let due = self
                .see(around, |scope| when.holds(scope))
                .map_err(|e| format!("when: {when}: {e}"))?;
            if !due {
                let saw = self.see(around, |scope| when.saw(scope));
                self.saw(place, saw);
                self.record(place, 1, StepResult::Skipped);
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Counts a step that begins.
    fn count_begun(&mut self) -> Result<(), String> {
        self.begun += 1;
        self.now_begun += 1;
        match self.begun > MAX_BEGUN {
            true => Err(format!("the job has begun {MAX_BEGUN} steps, the most that one may")),
            false => Ok(()),
        }
    }

    /// That what a shared step is given fits it.
    fn check_inputs(&self, step: &'m Step, around: &Around<'m>) -> Result<(), String> {
        let checked = |shared: &SharedUse| self.see(around, |scope| shared.check_given(scope));
        step.shared.as_deref().map_or(Ok(()), checked)
    }

    /// Works out how long a step that begins may take and waits.
    fn lengths(&self, step: &'m Step, open: &mut Open, around: &Around<'m>) -> Result<(), String> {
        let made = |name: &str, length: Option<&'m Length>| {
            let length = length.filter(|length| length.written().is_none());
            let made = length.map(|length| self.see(around, |scope| length.at(scope)));
            made.transpose().map_err(|e| format!("{name}: {e}"))
        };
        open.timeout = made("timeout", step.timeout.as_ref())?;
        let name = if matches!(step.action, Action::Pause(_)) { "pause" } else { "within" };
        open.within = made(name, step.action.within())?;
        Ok(())
    }

    /// Begins a step; what it ended with, if it has.
    fn begin(
        &mut self,
        step: &'m Step,
        place: &Place,
        open: &mut Open,
        around: &Around<'m>,
    ) -> Option<StepEnd> {
        match &step.action {
            Action::Call(call) => steps::call::begin(self, (step, call), place, open, around),
            Action::Require(require) => Some(steps::require::run(self, require, place, around)),
            Action::Set(set) => Some(steps::set::run(self, set, place, around)),
            Action::Remember(remember) => Some(steps::remember::run(self, remember, place, around)),
            Action::Check(check) => steps::check::begin(self, check, place, open, around),
            Action::Choose(choose) => {
                steps::choose::begin(self, (step, choose), place, open, around)
            }
            Action::Each(each) => steps::each::begin(self, (step, each), place, open, around),
            Action::Together(together) => {
                steps::together::begin(self, (step, together), place, open, around)
            }
            Action::Ask(ask) => steps::ask::begin(self, ask, place, open, around),
            Action::Await(event) => steps::awaiting::begin(self, event, place, open, around),
            Action::Pause(pause) => steps::pause::begin(self, pause, place, open),
            Action::Child(child) => steps::child::begin(self, (step, child), place, open, around),
            Action::Tell(tell) => steps::tell::begin(self, tell, place, open, around),
            Action::Emit(emit) => Some(steps::emit::run(self, emit, place, around)),
            Action::Finish(finish) => Some(steps::finish::run(self, finish, place, around)),
        }
    }

    /// Goes on with a step that is open.
    fn go_on(
        &mut self,
        step: &'m Step,
        place: &Place,
        open: &mut Open,
        around: &Around<'m>,
    ) -> Option<StepEnd> {
        match &step.action {
            Action::Call(call) => steps::call::go_on(self, (step, call), place, open, around),
            Action::Check(check) => steps::check::go_on(self, check, place, open, around),
            Action::Choose(choose) => {
                steps::choose::go_on(self, (step, choose), place, open, around)
            }
            Action::Each(each) => steps::each::go_on(self, (step, each), place, open, around),
            Action::Together(together) => {
                steps::together::go_on(self, (step, together), place, open, around)
            }
            Action::Ask(ask) => steps::ask::go_on(self, ask, place, open, around),
            Action::Await(event) => steps::awaiting::go_on(self, event, place, open, around),
            Action::Pause(_) => steps::pause::go_on(self, open, around),
            Action::Child(child) => steps::child::go_on(self, (step, child), place, open, around),
            Action::Tell(_) => steps::tell::go_on(self, place, open, around),
            // These end as they begin.
            Action::Require(_)
            | Action::Set(_)
            | Action::Remember(_)
            | Action::Emit(_)
            | Action::Finish(_) => Some(StepEnd::Halted),
        }
    }

    /// Keeps how a step ended, and says what that means for the list that it stands in.
    fn ended(
        &mut self,
        step: &Step,
        place: &Place,
        open: &Open,
        ended: StepEnd,
        block: &mut Block,
        around: &Around<'m>,
    ) -> Option<End> {
        self.leave_queue(place);
        let short = |text: String| {
            if text.len() > LONGEST { format!("{}…", cut(&text, LONGEST)) } else { text }
        };
        // How the last try ended was recorded when it was decided to try again.
        let recorded = matches!(open.doing, Doing::Again(_));
        let (at, told) = match ended {
            StepEnd::Done(output) => {
                self.done(place, open.attempt, output);
                self.note_undo(step, place);
                block.at += 1;
                let too_much = self.kept.is_too_much();
                return too_much.then(|| {
                    End::Failed(place.clone(), "the steps gave more than a job may keep".into())
                });
            }
            StepEnd::Stands => {
                block.at += 1;
                return None;
            }
            StepEnd::Finished(words) => {
                self.done(place, open.attempt, json!(words));
                return Some(End::Finished(words));
            }
            StepEnd::Halted => {
                if !recorded {
                    self.record(place, open.attempt, StepResult::Stopped);
                }
                return Some(End::Halted);
            }
            StepEnd::Failed { message, told, done } => {
                self.record(place, open.attempt, StepResult::Failed(short(message)));
                if done {
                    self.note_undo(step, place);
                }
                (place.clone(), short(told))
            }
            StepEnd::FailedWithin(at, told) => {
                let told = short(told);
                self.record(place, open.attempt, StepResult::Failed(told.clone()));
                (at, told)
            }
        };
        self.failed(step, place, (at, told), block, around)
    }

    /// What follows from the failure of a step for the list that it stands in.
    fn failed(
        &mut self,
        step: &Step,
        place: &Place,
        (at, told): (Place, String),
        block: &mut Block,
        around: &Around<'m>,
    ) -> Option<End> {
        if around.halt {
            return Some(End::Halted);
        }
        let next = match step.on_error {
            OnError::Stop => return Some(End::Failed(at, told)),
            OnError::Continue => block.at + 1,
            OnError::GoTo(to) => to,
        };
        if self.errors.len() < MOST_ERRORS {
            self.errors.insert(place.as_str().to_owned(), told);
        }
        block.at = next;
        None
    }

    fn done(&mut self, place: &Place, attempt: u32, output: Value) {
        self.record(place, attempt, StepResult::Done(output.clone()));
        if place.is_step() {
            self.kept.output(place, output);
        }
    }

    fn note_undo(&mut self, step: &Step, place: &Place) {
        if let (Some(undo), Some(_)) = (&mut self.undo, &step.undo) {
            undo.push(place.clone());
        }
    }

    pub(super) fn started(&mut self, place: &Place, attempt: u32, give: Value) {
        self.effects.push(Effect::StepStarted { place: place.clone(), attempt, give });
    }

    pub(super) fn record(&mut self, place: &Place, attempt: u32, result: StepResult) {
        self.effects.push(Effect::StepEnded { place: place.clone(), attempt, result });
    }

    /// What a condition saw: what it reads, and what that held.
    pub(super) fn saw(&mut self, place: &Place, saw: Map<String, Value>) {
        if !saw.is_empty() {
            self.effects.push(Effect::StepSaw {
                place: place.clone(),
                attempt: 1,
                saw: Value::Object(saw),
            });
        }
    }

    /// Sends a call out.
    pub(super) fn send(&mut self, mut call: CallOut) {
        if self.facts.dry {
            call.instead = sample::answer(self.runbook, self.others, &call);
        }
        self.news.sent.insert(call.place.clone());
        self.effects.push(Effect::Call(call));
    }

    /// What another job has done at a place does not stand any more: it is done again, and so is
    /// all that comes behind it.
    pub(super) fn does_not_stand(&mut self, place: &Place) {
        let carried = std::mem::take(&mut self.carried);
        let is_of = |done: &Place, top: &Place| {
            done.as_str()
                .strip_prefix(top.as_str())
                .is_some_and(|rest| rest.is_empty() || rest.starts_with(['.', '[']))
        };
        if let Some(undo) = &mut self.undo {
            undo.retain(|done| !carried.iter().chain([place]).any(|top| is_of(done, top)));
        }
    }

    /// How it is with the turn of a call. Whose turn has come is sent by whoever asks.
    pub(super) fn turn_of(&mut self, place: &Place, attempt: u32) -> Turn {
        let told = self.news.steps.iter().position(|(p, a, what)| {
            p == place
                && (*what == StepEvent::Turn
                    || *a == attempt && matches!(what, StepEvent::Queued { .. }))
        });
        match told.map(|at| self.news.steps.remove(at).2) {
            Some(StepEvent::Queued { until }) => {
                let queued =
                    self.queued.entry(place.clone()).or_insert(Queued { since: self.now, until });
                queued.until = until;
            }
            Some(_) => {
                self.queued.get_mut(place).into_iter().for_each(|queued| queued.until = self.now)
            }
            None => {}
        }
        match self.queued.get(place) {
            None => Turn::Out,
            Some(queued) if queued.until <= self.now && !self.paused => {
                self.queued.remove(place);
                Turn::Comes
            }
            Some(queued) => Turn::Waits(queued.since),
        }
    }

    /// Neither a step that has ended nor what belongs to it waits for a turn any more.
    fn leave_queue(&mut self, place: &Place) {
        if self.queued.is_empty() {
            return;
        }
        let parts = ["probe", "told", "reached"].map(|part| place.within(part));
        for place in parts.into_iter().chain([place.clone()]) {
            if self.queued.remove(&place).is_some() {
                self.effects.push(Effect::LeaveQueue(place));
            }
        }
    }

    /// What happened to a try, if that is the event.
    pub(super) fn news_of(&mut self, place: &Place, attempt: u32) -> Option<StepEvent> {
        let mine = self.news.steps.iter().position(|(p, a, _)| p == place && *a == attempt)?;
        Some(self.news.steps.remove(mine).2)
    }

    /// What came of a call, if that is the event.
    pub(super) fn answer_of(
        &mut self,
        place: &Place,
        attempt: u32,
    ) -> Option<Result<Value, (Failure, Repeat)>> {
        match self.news_of(place, attempt)? {
            StepEvent::Returned(output) => Some(Ok(output)),
            StepEvent::Broke { failure, repeat } => Some(Err((failure, repeat))),
            // Only a step of its own waits for that.
            StepEvent::Later { repeat, .. } => Some(Err((
                Failure::lasting(CallEnd::Unknown, "it will call back, and nobody waits for that"),
                repeat,
            ))),
            _ => None,
        }
    }

    /// What a person says of an unsure step, if that is the event.
    pub(super) fn word_of(&mut self, place: &Place) -> Option<(Resolution, Value)> {
        let mine =
            matches!(&self.news.word, Some((p, ..)) if p.as_ref().is_none_or(|p| p == place));
        if mine { self.news.word.take().map(|(_, word, output)| (word, output)) } else { None }
    }

    /// Whether a call that was out is lost, and whether it may be repeated.
    pub(super) fn is_lost(&self, place: &Place) -> Option<&Repeats> {
        self.news
            .taken
            .as_ref()
            .filter(|_| !self.news.sent.contains(place) && !self.queued.contains_key(place))
    }

    /// The time of a step as a whole, if that is over.
    pub(super) fn over_time(&self, step: &Step, open: &Open) -> Option<Period> {
        open.timeout(step).filter(|t| self.now >= open.since + self.held_for + t.delta())
    }

    /// What ended because the time of the step around it was over has failed, unless more is
    /// halted.
    pub(super) fn timed_out(
        step: &Step,
        over: Option<Period>,
        around: &Around<'_>,
        end: StepEnd,
    ) -> StepEnd {
        match (end, over) {
            (StepEnd::Halted, Some(timeout)) if !around.halt => {
                StepEnd::failed(format!("step `{}` took longer than {timeout}", step.id))
            }
            (end, _) => end,
        }
    }

    /// Evaluates something as it is seen from a list of steps.
    pub(super) fn see<T>(&self, around: &Around<'_>, read: impl FnOnce(&JobScope<'_>) -> T) -> T {
        self.look(around, None, None, read)
    }

    /// Who says when the turn of a call has come, for people.
    pub(super) fn queue_of(&self, call: &Call, around: &Around<'_>) -> String {
        let target = self.see(around, |scope| call.target(scope));
        target.map_or_else(|_| call.does(), |target| target.queue().to_owned())
    }

    /// The same, with one more name.
    pub(super) fn see_with<T>(
        &self,
        around: &Around<'_>,
        bound: Option<(&str, &Value)>,
        read: impl FnOnce(&JobScope<'_>) -> T,
    ) -> T {
        self.look(around, bound, None, read)
    }

    /// The same, with an event that may be the one that is waited for.
    pub(super) fn see_event<T>(
        &self,
        around: &Around<'_>,
        event: &Alert,
        read: impl FnOnce(&JobScope<'_>) -> T,
    ) -> T {
        self.look(around, None, Some(event), read)
    }

    fn look<T>(
        &self,
        around: &Around<'_>,
        bound: Option<(&str, &Value)>,
        event: Option<&Alert>,
        read: impl FnOnce(&JobScope<'_>) -> T,
    ) -> T {
        let lanes = around.items.iter().map(|(_, place, number)| place.item(*number));
        let lanes: Vec<Place> = [Place::new("")].into_iter().chain(lanes).collect();
        let items = around
            .items
            .iter()
            .filter_map(|(name, place, n)| Some((*name, self.kept.item(place, *n)?)));
        let steps = lanes.iter().flat_map(|lane| self.kept.in_lane(lane.as_str())).collect();
        let job = json!({
            "id": self.facts.id, "runbook": self.runbook.name, "target": self.facts.target,
            "failure": self.ending.and_then(|e| e.failure.as_ref()),
                "failed_step": self.ending.and_then(|e| e.step.as_ref()),
            "state": self.ending.map(|e| e.state), "effect": self.ending.map(|e| e.effect),
                "errors": self.errors,
        });
        let (inputs, alert, alarm) = (&self.facts.inputs, self.facts.alert.as_ref(), self.alarm);
        let items: Vec<(&str, &Value)> = items.collect();
        let outside = JobScope {
            inputs,
            steps,
            job: &job,
            alert,
            alarm,
            memory: &self.kept.memory,
            event,
            bound: items.clone(),
            left: Cell::new(EVALUATED_AT_ONCE),
        };
        let shared = around.shared.map(|shared| shared.inputs(&outside));
        let shared = shared.iter().map(|inputs| ("inputs", inputs));
        let bound = items.into_iter().chain(shared).chain(bound).collect();
        let scope = JobScope { bound, ..outside };
        let seen = read(&scope);
        let spent = EVALUATED_AT_ONCE - scope.left.get();
        self.evaluated.set(self.evaluated.get().saturating_add(spent));
        seen
    }
}
