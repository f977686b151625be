//! The machine itself: from stage to stage, and what becomes of the job after each event.

use super::{
    Effect, Event, Facts, JobCommand, JobEffect, JobState, Outside, Place, Progress, StepOutputs,
    Transition,
    execution::{Around, End, Execution, Gate, News},
    open::StillOpen,
    progress::{Block, Ending, Halt, Paused, Stage},
};
use crate::{
    Period,
    alarm::Alarm,
    definition::Others,
    period::rough,
    runbook::{Action, Confirm, Runbook, Step, all},
};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::{Map, Value};
use std::{
    cell::Cell,
    collections::{BTreeMap, BTreeSet},
};

/// A job at work.
#[derive(Debug)]
pub struct Machine<'a> {
    pub(super) runbook: &'a Runbook,
    pub(super) facts: &'a Facts,
    /// How long the steps may take together.
    timeout: Period,
    /// To be kept after every event.
    pub progress: Progress,
    /// What the steps gave so far.
    pub kept: StepOutputs,
    /// What is published, for steps whose messages go to people.
    pub others: Option<&'a dyn Others>,
    /// The alarm as it stands; to be looked at anew before every event, where the runbook reads it.
    pub alarm: Option<Alarm>,
    /// How many alarms stand besides, of a job that is for several.
    pub others_raised: usize,
    /// Whether more has come from outside than it is told: then no time is over for what may be
    /// among it.
    pub unread: bool,
}

/// What lists show of a job.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Summary {
    /// Steps of the runbook that are done; those within others are not counted.
    pub done: usize,
    /// Of how many.
    pub total: usize,
    /// What it is at, in words.
    pub doing: String,
}

impl<'a> Machine<'a> {
    /// A job where it stands.
    pub fn new(
        runbook: &'a Runbook,
        facts: &'a Facts,
        progress: Progress,
        mut kept: StepOutputs,
    ) -> Self {
        if kept.memory.is_null() {
            kept.memory = facts.remembered(runbook);
        }
        let timeout = runbook.timeout_with(&facts.inputs);
        Self {
            runbook,
            facts,
            timeout,
            progress,
            kept,
            others: None,
            alarm: None,
            others_raised: 0,
            unread: false,
        }
    }

    /// What follows from an event. Whatever has happened meanwhile is dealt with as well.
    pub fn handle(&mut self, now: DateTime<Utc>, event: Event) -> Vec<Effect> {
        if self.progress.stage == Stage::Over {
            return Vec::new();
        }
        self.progress.started.get_or_insert(now);
        self.progress.since.get_or_insert(now);
        if let Some(unsure) = self.progress.unsure_since.take() {
            self.pass_over(now - unsure);
        }
        let mut news = News::default();
        match event {
            Event::Tick => {}
            Event::Taken(repeats, came) => {
                news.taken = Some(repeats);
                news.steps = came.into_iter().map(|(place, what)| (place, 1, what)).collect();
            }
            Event::Came(came) => {
                news.steps = came.into_iter().map(|(place, what)| (place, 1, what)).collect()
            }
            Event::Step { place, attempt, what } => news.steps.push((place, attempt, what)),
            Event::Commanded(JobCommand::Resolve { place, word, output }) => {
                news.word = Some((place, word, output))
            }
            Event::Commanded(JobCommand::Pause { words }) => self.pause(now, words, false),
            Event::Halted { words } => self.pause(now, words, true),
            Event::Lifted if self.progress.paused.as_ref().is_some_and(|p| p.by_halt) => {
                self.resume(now)
            }
            Event::Lifted => {}
            Event::Commanded(JobCommand::Resume) => self.resume(now),
            Event::Commanded(JobCommand::Cancel { undo, words }) => self.cancel(now, undo, words),
        }
        let mut effects = Vec::new();
        while self.progress.stage != Stage::Over {
            self.mind_the_time(now);
            self.mind_the_announcement(now, &mut news, &mut effects);
            let (end, more, held_back) = self.execute(now, &mut news, &mut effects);
            if end.is_none() && more {
                self.note_done();
                effects.push(Effect::Then(Transition::GoOn { until: Some(now) }));
                return effects;
            }
            self.note_done();
            match held_back {
                Gate::Unannounced(named, more) if end.is_none() && !named.is_empty() => {
                    self.announce_next(now, (named, more), &mut news, &mut effects);
                }
                _ if !self.next_stage(now, end) => break,
                _ => {}
            }
        }
        let rest = self.rest(now);
        if matches!(rest, Transition::Unsure { .. }) {
            self.progress.unsure_since = Some(now);
        }
        effects.push(Effect::Then(rest));
        effects
    }

    fn note_done(&mut self) {
        if self.progress.stage == Stage::Forward {
            self.progress.done = self.progress.block.at;
        }
    }

    /// What lists show of it.
    pub fn summary(&self, now: DateTime<Utc>) -> Summary {
        let confirming = "waits for its effect".to_owned();
        let doing = match self.progress.stage {
            _ if self.progress.paused.is_some() => {
                let open = self.still_open(now).doing;
                let paused = self.progress.paused.iter().map(|p| p.words.clone());
                paused.chain(open).collect::<Vec<_>>().join("; ")
            }
            Stage::Confirming if self.progress.block.open.is_none() => confirming,
            _ => self.still_open(now).doing.join("; "),
        };
        Summary { done: self.progress.done, total: self.runbook.steps.len(), doing }
    }

    /// A person's word, or that of the job above, that it is to stop. What is taken back by then,
    /// and what follows a failure, goes on: it is what sets things right. Only whoever has stopped
    /// it already, and says so again without taking back, ends that too.
    fn cancel(&mut self, now: DateTime<Utc>, undo: bool, words: String) {
        // Whoever stops a job that is held holds it no longer.
        self.resume(now);
        let sets_right = matches!(
            self.progress.stage,
            Stage::Undoing | Stage::Recovering | Stage::Otherwise | Stage::Always
        );
        let ends = !sets_right || (!undo && self.progress.told_to_stop);
        self.progress.told_to_stop = true;
        if ends {
            self.progress.halt = Some(Halt::Cancelled { undo, words });
        }
    }

    /// Whoever pauses a job that a halt holds pauses it for longer than the halt lasts.
    fn pause(&mut self, now: DateTime<Utc>, words: String, by_halt: bool) {
        match &mut self.progress.paused {
            None => self.progress.paused = Some(Paused { since: now, words, by_halt }),
            Some(paused) if paused.by_halt && !by_halt => {
                (paused.words, paused.by_halt) = (words, false);
            }
            Some(_) => {}
        }
    }

    /// Time for which it was held does not count, neither for the stage nor for what is open in it.
    fn resume(&mut self, now: DateTime<Utc>) {
        if let Some(paused) = self.progress.paused.take() {
            self.pass_over(now - paused.since);
            self.progress.block.pass_over((now - paused.since).max(TimeDelta::zero()));
        }
    }

    pub(super) fn pass_over(&mut self, time: TimeDelta) {
        if let Some(since) = &mut self.progress.since {
            *since += time.max(TimeDelta::zero());
        }
    }

    fn mind_the_time(&mut self, now: DateTime<Utc>) {
        let over = self.limit().is_some_and(|limit| now > limit);
        if over && self.progress.paused.is_none() && self.progress.halt.is_none() {
            self.progress.halt = Some(Halt::Overdue);
        }
    }

    /// Until when the stage may take; the proof has a time of its own.
    fn limit(&self) -> Option<DateTime<Utc>> {
        match self.progress.stage {
            Stage::Confirming | Stage::Over => None,
            _ if self.open_announcement().is_some() => None,
            _ => self.progress.since.map(|since| since + self.timeout.delta()),
        }
    }

    /// The steps of the stage, and where they stand.
    fn steps(&self) -> (&'a [Step], Around<'a>) {
        self.progress.steps(self.runbook)
    }

    fn still_open(&self, now: DateTime<Utc>) -> StillOpen<'_> {
        let (steps, around) = self.steps();
        let (block, queued) = (&self.progress.block, &self.progress.queued);
        let mut open = StillOpen::collect(now, steps, block, (&around.place, queued));
        if let Some((step, asked)) = self.open_announcement() {
            open.alarm |= self.progress.announced.as_ref().is_some_and(|a| a.raised);
            open.step(step, asked, &Place::new(&step.id));
        }
        open
    }

    /// The steps that wait for something outside of the job.
    pub fn outside(&self, now: DateTime<Utc>) -> Vec<(Place, Outside)> {
        self.still_open(now).outside
    }

    /// Goes on with the steps of the stage; what they ended with, whether there is more to begin at
    /// once, and what was held back.
    fn execute(
        &mut self,
        now: DateTime<Utc>,
        news: &mut News,
        effects: &mut Vec<Effect>,
    ) -> (Option<End>, bool, Gate) {
        let (steps, around) = self.steps();
        let mut block = std::mem::take(&mut self.progress.block);
        let went = self.executing(now, news, effects, |execution| {
            let end = execution.block(steps, &mut block, &around);
            let more = execution.has_enough() && !execution.paused;
            (end, more, std::mem::take(&mut execution.gate))
        });
        self.progress.block = block;
        went
    }

    /// Has an execution go on with something, and takes over what came of it.
    pub(super) fn executing<'m, T>(
        &'m mut self,
        now: DateTime<Utc>,
        news: &mut News,
        effects: &mut Vec<Effect>,
        go_on: impl FnOnce(&mut Execution<'m>) -> T,
    ) -> T {
        let (stop, gate) = (self.stop(), self.gate());
        let announced_for = self.announced_for(now);
        let progress = &mut self.progress;
        let forward = progress.stage == Stage::Forward;
        let held_for = progress.paused.as_ref().map_or(TimeDelta::zero(), |p| now - p.since);
        let mut execution = Execution {
            now,
            runbook: self.runbook,
            facts: self.facts,
            others: self.others,
            alarm: self.alarm.as_ref(),
            kept: &mut self.kept,
            effects: std::mem::take(effects),
            undo: forward.then(|| std::mem::take(&mut progress.undo)),
            errors: std::mem::take(&mut progress.errors),
            carried: std::mem::take(&mut progress.carried),
            queued: std::mem::take(&mut progress.queued),
            begun: progress.begun,
            ending: progress.ending.as_ref(),
            paused: progress.paused.is_some(),
            held_for: held_for.max(announced_for),
            stop,
            news: std::mem::take(news),
            unread: self.unread,
            gate,
            next: None,
            now_begun: 0,
            evaluated: Cell::default(),
        };
        let went = go_on(&mut execution);
        let Execution { effects: told, undo, errors, carried, queued, begun, news: left, .. } =
            execution;
        (*effects, *news) = (told, left);
        progress.errors = errors;
        progress.queued = queued;
        progress.carried = carried;
        progress.begun = begun;
        if let Some(undo) = undo {
            progress.undo = undo;
        }
        went
    }

    /// Whether jobs of its own that are stopped take back what they did, and why they are stopped.
    fn stop(&self) -> (bool, String) {
        match &self.progress.halt {
            Some(Halt::Cancelled { undo, words }) => {
                (*undo, format!("job {} was {words}", self.facts.id))
            }
            Some(Halt::Overdue) => (true, format!("the time of job {} is over", self.facts.id)),
            Some(Halt::Failed(why)) => (true, why.clone()),
            None => (true, format!("job {} does not need it any more", self.facts.id)),
        }
    }

    /// Goes on from a stage that is at its end; false if it is not.
    fn next_stage(&mut self, now: DateTime<Utc>, end: Option<End>) -> bool {
        if self.progress.stage == Stage::Confirming {
            return self.confirmed(now, end);
        }
        let Some(end) = end else { return false };
        let halt = self.progress.halt.take();
        match self.progress.stage {
            Stage::Forward => self.forward_over(now, end, halt),
            Stage::Undoing => self.taken_back(now, end, halt),
            Stage::Recovering | Stage::Otherwise => {
                self.note(end, halt);
                self.enter(now, Stage::Always);
            }
            Stage::Always => {
                self.note(end, halt);
                self.enter(now, Stage::Over);
            }
            Stage::Confirming | Stage::Over => {}
        }
        true
    }

    fn enter(&mut self, now: DateTime<Utc>, stage: Stage) {
        self.progress.stage = stage;
        self.progress.since = Some(now);
        self.progress.block = Block::default();
        self.progress.halt = None;
    }

    fn forward_over(&mut self, now: DateTime<Utc>, end: End, halt: Option<Halt>) {
        let ending = |state, failure| Ending {
            state,
            effect: JobEffect::NotChecked,
            failure,
            step: None,
            early: false,
        };
        let (ending, next) = match (end, halt) {
            // Also when all that was left was under way: a person wants it stopped.
            (End::Done | End::Halted, Some(Halt::Cancelled { undo, words })) => (
                ending(JobState::Cancelled, Some(words)),
                if undo { Stage::Undoing } else { Stage::Always },
            ),
            (End::Done | End::Halted, Some(Halt::Failed(why))) => {
                (ending(JobState::Failed, Some(why)), Stage::Undoing)
            }
            (End::Done, _) if self.is_to_be_proved() => return self.prove(now),
            (End::Done, _) => (ending(JobState::Succeeded, None), Stage::Always),
            (End::Finished(words), _) => {
                (Ending { early: true, ..ending(JobState::Succeeded, words) }, Stage::Always)
            }
            (End::Failed(step, told), _) => (
                Ending { step: Some(step), ..ending(JobState::Failed, Some(told)) },
                Stage::Undoing,
            ),
            (End::Halted, _) => (ending(JobState::Failed, Some(self.overdue())), Stage::Undoing),
        };
        self.progress.ending = Some(ending);
        self.enter(now, next);
    }

    fn overdue(&self) -> String {
        format!("the runbook's time of {} is over", self.timeout)
    }

    fn is_to_be_proved(&self) -> bool {
        let confirm = self.runbook.confirm.as_ref();
        !self.facts.dry
            && confirm.is_some_and(|c| !c.check.is_empty() || (c.alarm && self.facts.has_alarm))
    }

    /// Goes on to the proof of the effect, if it can be said how long that may take.
    fn prove(&mut self, now: DateTime<Utc>) {
        let made =
            self.runbook.confirm.as_ref().filter(|c| c.within.written().is_none()).map(|confirm| {
                let mut kept = self.kept.clone();
                let execution = self.looking_on(now, &mut kept);
                execution
                    .see(&Around::top(false), |scope| confirm.within.at(scope))
                    .map_err(|e| e.to_string())
            });
        match made.transpose() {
            Ok(proof) => {
                self.progress.proof = proof;
                self.enter(now, Stage::Confirming);
            }
            Err(e) => {
                let (state, effect) = (JobState::Succeeded, JobEffect::Unconfirmed);
                let failure = Some(format!("confirm: within: {e}"));
                self.progress.ending =
                    Some(Ending { state, effect, failure, step: None, early: false });
                self.enter(now, Stage::Otherwise);
            }
        }
    }

    /// How long the proof may take.
    fn proof(&self, confirm: &Confirm) -> TimeDelta {
        self.progress.proof.or(confirm.within.written()).map_or(TimeDelta::zero(), Period::delta)
    }

    /// One step is taken back, or could not be; the next one before it.
    fn taken_back(&mut self, now: DateTime<Utc>, end: End, halt: Option<Halt>) {
        let stopped = end == End::Halted || matches!(halt, Some(Halt::Cancelled { .. }));
        let of = self.progress.undo.pop();
        match (end, of) {
            (End::Failed(_, told), Some(of)) => {
                self.add_failure(format!("`{of}` could not be taken back: {told}"))
            }
            (end, _) => self.note(end, halt),
        }
        if stopped {
            let left: Vec<String> =
                self.progress.undo.drain(..).rev().map(|place| format!("`{place}`")).collect();
            if !left.is_empty() {
                self.add_failure(format!("not taken back: {}", left.join(", ")));
            }
        }
        let failed = self.progress.ending.as_ref().is_some_and(|e| e.state == JobState::Failed);
        match (self.progress.undo.is_empty(), failed) {
            (false, _) => self.progress.block = Block::default(),
            (true, true) => self.enter(now, Stage::Recovering),
            (true, false) => self.enter(now, Stage::Always),
        }
    }

    /// Adds what went wrong behind the steps to what is told of the job.
    fn note(&mut self, end: End, halt: Option<Halt>) {
        let stage = self.progress.stage;
        match (end, halt) {
            (End::Failed(_, told), _) => self.add_failure(format!("{}: {told}", words(stage))),
            (End::Halted | End::Done, Some(Halt::Cancelled { words: by, .. })) => {
                self.add_failure(format!("{}: {by}", words(stage)))
            }
            (End::Halted | End::Done, Some(Halt::Failed(why))) => {
                self.add_failure(format!("{}: {why}", words(stage)))
            }
            (End::Halted, _) => self.add_failure(format!("{}: {}", words(stage), self.overdue())),
            (End::Done | End::Finished(_), _) => {}
        }
    }

    fn add_failure(&mut self, more: String) {
        if let Some(ending) = &mut self.progress.ending {
            ending.failure = Some(match ending.failure.take() {
                Some(failure) => format!("{failure}; {more}"),
                None => more,
            });
        }
    }

    /// Whether the proof is over, one way or the other.
    fn confirmed(&mut self, now: DateTime<Utc>, end: Option<End>) -> bool {
        let Some(confirm) = &self.runbook.confirm else { return false };
        let raised = if confirm.alarm { self.raised() } else { 0 };
        let since = self.progress.since.unwrap_or(now);
        let proof = self.proof(confirm);
        let within = rough(proof);
        let ending = |effect, failure| Ending {
            state: JobState::Succeeded,
            effect,
            failure,
            step: None,
            early: false,
        };
        let (ending, next) = match (end, self.progress.halt.take()) {
            (_, Some(Halt::Cancelled { undo, words })) => {
                let ending = Ending {
                    state: JobState::Cancelled,
                    ..ending(JobEffect::NotChecked, Some(words))
                };
                (ending, if undo { Stage::Undoing } else { Stage::Always })
            }
            (Some(End::Failed(_, told)), _) => {
                (ending(JobEffect::Unconfirmed, Some(told)), Stage::Otherwise)
            }
            (Some(End::Done), _) if raised == 0 => {
                (ending(JobEffect::Confirmed, None), Stage::Always)
            }
            // A check ends by itself, and says why.
            (Some(_), _) if now >= since + proof && self.progress.paused.is_none() => {
                let which = if raised == 1 {
                    "the alarm is".to_owned()
                } else {
                    format!("{raised} alarms are")
                };
                let told = format!("{which} still raised {within} after the last step");
                (ending(JobEffect::Unconfirmed, Some(told)), Stage::Otherwise)
            }
            _ => return false,
        };
        self.progress.ending = Some(ending);
        self.enter(now, next);
        true
    }

    /// What becomes of the job until the next event.
    fn rest(&self, now: DateTime<Utc>) -> Transition {
        if self.progress.stage == Stage::Over {
            return self.end(now);
        }
        let mut open = self.still_open(now);
        if let (Stage::Confirming, Some(confirm)) = (self.progress.stage, &self.runbook.confirm) {
            // A check has a time of its own.
            if self.progress.block.open.is_none() {
                open.wake_at(self.progress.since.unwrap_or(now) + self.proof(confirm));
            }
            open.alarm |= confirm.alarm;
        }
        // At the limit itself it is not over yet.
        let limit = self
            .limit()
            .filter(|_| self.progress.halt.is_none())
            .map(|l| l + TimeDelta::milliseconds(1));
        let held = self.progress.paused.is_some();
        if open.calls > 0 {
            let until = open.due.into_iter().chain(limit).min().filter(|_| !held);
            return Transition::GoOn { until };
        }
        if held {
            return Transition::Rest;
        }
        if !open.outside.is_empty() {
            // What comes wakes it; without that it is looked at again now and then.
            open.wake_at(now + TimeDelta::hours(1));
        }
        match (open.due, open.unsure.is_empty()) {
            (Some(due), _) => Transition::Wait {
                until: limit.map_or(due, |limit| limit.min(due)),
                alarm: open.alarm,
            },
            (None, false) => Transition::Unsure { failure: open.unsure.join("; ") },
            // Cannot be; but a job that stands still is looked at again.
            (None, true) => Transition::Wait { until: now + TimeDelta::minutes(1), alarm: false },
        }
    }

    fn end(&self, now: DateTime<Utc>) -> Transition {
        let ending = self.progress.ending.clone().unwrap_or(Ending {
            state: JobState::Failed,
            effect: JobEffect::NotChecked,
            failure: Some("there was nothing left to do".into()),
            step: None,
            early: false,
        });
        let Ending { state, effect, mut failure, early, .. } = ending;
        let mut outputs = Value::Null;
        if state == JobState::Succeeded {
            match self.outputs(now, early) {
                Ok(made) => outputs = made,
                Err(e) => {
                    failure = Some(
                        [failure, Some(e)].into_iter().flatten().collect::<Vec<_>>().join("; "),
                    )
                }
            }
        }
        Transition::End { state, effect, failure, outputs }
    }

    /// What the job gives. If a step ended it early, what steps behind would have given is left
    /// out.
    fn outputs(&self, now: DateTime<Utc>, early: bool) -> Result<Value, String> {
        let mut kept = self.kept.clone();
        let execution = self.looking_on(now, &mut kept);
        let mut made = Map::new();
        for (name, template) in self.runbook.outputs.entries() {
            match execution.see(&Around::top(false), |scope| template.fill(scope)) {
                Ok(value) => _ = made.insert(name.to_owned(), value),
                Err(e) if early && e.missing => {}
                Err(e) => return Err(format!("the outputs cannot be made: {name}: {e}")),
            }
        }
        Ok(Value::Object(made))
    }

    /// An execution on which nothing is done: expressions are seen as from behind the steps.
    fn looking_on<'m>(&'m self, now: DateTime<Utc>, kept: &'m mut StepOutputs) -> Execution<'m> {
        Execution {
            now,
            runbook: self.runbook,
            facts: self.facts,
            others: self.others,
            alarm: self.alarm.as_ref(),
            kept,
            effects: Vec::new(),
            undo: None,
            errors: self.progress.errors.clone(),
            queued: BTreeMap::new(),
            carried: BTreeSet::new(),
            begun: 0,
            ending: None,
            paused: false,
            held_for: TimeDelta::zero(),
            stop: (false, String::new()),
            news: News::default(),
            unread: false,
            gate: Gate::Open,
            next: None,
            now_begun: 0,
            evaluated: Cell::default(),
        }
    }
}

/// A stage in words, for what went wrong in it.
const fn words(stage: Stage) -> &'static str {
    match stage {
        Stage::Forward => "steps",
        Stage::Confirming => "confirm",
        Stage::Otherwise => "otherwise",
        Stage::Undoing => "undo",
        Stage::Recovering => "recover",
        Stage::Always => "always",
        Stage::Over => "over",
    }
}

impl Progress {
    /// The steps of its stage, and where they stand. Of what is taken back the last comes first.
    fn steps<'r>(&self, runbook: &'r Runbook) -> (&'r [Step], Around<'r>) {
        let top = Around::top(self.halt.is_some());
        match self.stage {
            Stage::Forward => (&runbook.steps, top),
            Stage::Confirming => (runbook.confirm.as_ref().map_or(&[], |c| &c.check), top),
            Stage::Otherwise => (&runbook.otherwise, top),
            Stage::Recovering => (&runbook.recover, top),
            Stage::Always => (&runbook.always, top),
            Stage::Over => (&[], top),
            Stage::Undoing => match self.undo.last() {
                None => (&[], top),
                Some(place) => {
                    let step = find(runbook, place.id());
                    let undo = step.and_then(|s| s.undo.as_deref());
                    let items = place.items().into_iter().filter_map(|(list, number)| {
                        let Action::Each(each) = &find(runbook, list.id())?.action else {
                            return None;
                        };
                        Some((each.name.as_str(), list, number))
                    });
                    let around = Around {
                        place: place.clone(),
                        items: items.collect(),
                        shared: step.and_then(|step| step.shared.as_deref()),
                        halt: top.halt,
                    };
                    (undo.map_or(&[], std::slice::from_ref), around)
                }
            },
        }
    }

    /// The steps that wait, for another try, another look or a time.
    pub fn waiting(&self, runbook: &Runbook, now: DateTime<Utc>) -> Vec<Place> {
        let (steps, around) = self.steps(runbook);
        StillOpen::collect(now, steps, &self.block, (&around.place, &self.queued)).waiting
    }
}

/// A step of a runbook by its id.
fn find<'a>(runbook: &'a Runbook, id: &str) -> Option<&'a Step> {
    runbook.lists().into_iter().flat_map(|(_, steps)| all(steps)).find(|s| s.id == id)
}
