//! A job from its beginning to its end in virtual time: a world answers its calls, and things
//! happen to it.
//!
//! Whatever is stored goes through its stored form at every event, and what the machine keeps in
//! memory is held against what could be read from the records.

use crate::{
    Alert, Catalog, JobId,
    alarm::Alarm,
    connector::Repeat,
    job::{
        CallOut, ChildEnd, Decided, Effect, Emitted, Event, EventWait, Facts, JobCommand,
        JobEffect, JobState, Launching, Machine, Place, Progress, Question, Recall, Repeats,
        Resolution, StepEvent, StepOutputs, StepResult, Transition,
    },
    runbook::Runbook,
};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::{Value, json};
use std::{collections::BTreeMap, sync::Arc};

/// What answers the calls of a job.
pub(super) trait World {
    /// How long the answer takes, and what it is; `nth` counts the answers that this call got
    /// before.
    fn answer(&mut self, call: &CallOut, nth: usize) -> (TimeDelta, StepEvent);

    /// What a person says of an unsure step, and after which time.
    fn says(&mut self, place: &Place) -> Option<(TimeDelta, Resolution)> {
        let _ = place;
        None
    }

    /// What a person decides, and after which time.
    fn decides(&mut self, question: &Question) -> Option<(TimeDelta, Decided)> {
        let _ = question;
        None
    }

    /// What comes while an event is waited for.
    fn brings(&mut self, listening: &EventWait) -> Vec<(TimeDelta, Alert)> {
        let _ = listening;
        Vec::new()
    }

    /// How a job of its own ends, and after which time.
    fn has_done(&mut self, launching: &Launching) -> (TimeDelta, ChildEnd) {
        panic!("nobody does {launching:?}")
    }

    /// How long such a job takes to stop.
    fn stops(&mut self, place: &Place) -> TimeDelta {
        let _ = place;
        TimeDelta::zero()
    }

    /// Whether the node is lost now: all that is out is lost with it.
    fn is_lost(&mut self) -> bool {
        false
    }

    /// Whether a call waits for its turn, which comes at the same moment.
    fn is_queued(&mut self) -> bool {
        false
    }

    /// Whether what happened is told twice.
    fn doubles(&mut self) -> bool {
        false
    }
}

/// How a job ended.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Ended {
    pub state: JobState,
    pub effect: JobEffect,
    pub failure: Option<String>,
    pub outputs: Value,
}

pub(super) struct Story<'a, W> {
    runbook: &'a Runbook,
    facts: Facts,
    /// What is published.
    pub catalog: Arc<Catalog>,
    pub world: W,
    stored: Value,
    /// What the records tell that steps gave, and what is remembered.
    pub kept: StepOutputs,
    pub now: DateTime<Utc>,
    alarm: Alarm,
    pub to_come: BTreeMap<(DateTime<Utc>, u64), Happening>,
    count: u64,
    answered: BTreeMap<Place, usize>,
    /// When a call is answered, however often it is sent again.
    answers_at: BTreeMap<(Place, usize), DateTime<Utc>>,
    /// What happened, line by line.
    pub trace: Vec<String>,
    /// Every step that was done: when, in milliseconds, which, and its output.
    pub done: Vec<(i64, String, Value)>,
    pub ended: Option<Ended>,
    /// The number of the last time to be woken at.
    due: u64,
    /// How often each call was sent that must not be repeated.
    pub sent: BTreeMap<Place, usize>,
    /// Jobs of its own, and when each ends.
    children: BTreeMap<Place, (DateTime<Utc>, ChildEnd)>,
}

/// What happens at a time.
#[derive(Clone, Debug)]
pub(super) enum Happening {
    Event(Event),
    /// Something came from outside, which outlives a node.
    Post(Place, StepEvent),
    /// A job that waited is taken up, unless it was meanwhile.
    Due(u64),
    Alarm(bool),
}

impl<'a, W: World> Story<'a, W> {
    pub(super) fn new(runbook: &'a Runbook, inputs: Value, has_alarm: bool, world: W) -> Self {
        let facts = Facts {
            id: JobId(7),
            key: "quay-7".into(),
            inputs,
            target: "vm/quill-booking-db-1".into(),
            alert: None,
            has_alarm,
            created: DateTime::UNIX_EPOCH,
            memory: Value::Null,
            memory_full: false,
            announce: None,
            dry: false,
        };
        let mut alarm = Alarm::unknown(DateTime::UNIX_EPOCH);
        alarm.raised = has_alarm;
        Self {
            runbook,
            facts,
            catalog: Arc::default(),
            world,
            stored: json!(Progress::default()),
            kept: StepOutputs::default().remembering(runbook.memory.defaults()),
            now: DateTime::UNIX_EPOCH,
            alarm,
            to_come: BTreeMap::new(),
            count: 0,
            answered: BTreeMap::new(),
            answers_at: BTreeMap::new(),
            trace: Vec::new(),
            done: Vec::new(),
            ended: None,
            due: 0,
            sent: BTreeMap::new(),
            children: BTreeMap::new(),
        }
    }

    pub(super) fn at(&mut self, at: DateTime<Utc>, what: Happening) {
        self.count += 1;
        self.to_come.insert((at, self.count), what);
    }

    /// From the beginning to the end, or until nothing more is to come.
    pub(super) fn play(&mut self) {
        self.event(self.taken());
        for _ in 0..20_000 {
            let Some(((at, _), what)) = self.to_come.pop_first() else { return };
            if self.ended.is_some() {
                return;
            }
            self.now = self.now.max(at);
            match what {
                Happening::Due(number) if number == self.due => self.look(),
                Happening::Due(_) => {}
                Happening::Alarm(raised) => {
                    self.alarm.raised = raised;
                    self.look();
                }
                Happening::Post(place, what) => {
                    let came = vec![(place, what)];
                    // While calls are out the execution is alive; else the job is taken up for it.
                    match (self.is_out(), self.taken()) {
                        (false, Event::Taken(repeats, _)) => {
                            self.event(Event::Taken(repeats, came.clone()))
                        }
                        _ => self.event(Event::Came(came.clone())),
                    }
                    if self.world.doubles() {
                        self.event(Event::Came(came));
                    }
                }
                Happening::Event(event) => {
                    if let Event::Step { place, what, .. } = &event
                        && !matches!(what, StepEvent::Queued { .. })
                    {
                        *self.answered.entry(place.clone()).or_default() += 1;
                    }
                    // Whoever asks for a turn is answered once.
                    let queued =
                        matches!(&event, Event::Step { what: StepEvent::Queued { .. }, .. });
                    if !queued && self.world.doubles() {
                        self.event(event.clone());
                    }
                    self.event(event);
                }
            }
        }
        panic!(
            "the job comes to no end: {:#?}",
            &self.trace[self.trace.len().saturating_sub(20)..]
        );
    }

    /// What the operations say of themselves: their names begin with it.
    fn taken(&self) -> Event {
        let of = |(via, operation): (&str, &str)| {
            let repeat = match operation.split('.').next() {
                Some("safe") => Repeat::Safe,
                Some("keyed") => Repeat::Keyed,
                _ => Repeat::Never,
            };
            ((via.to_owned(), operation.to_owned()), repeat)
        };
        let calls = self.runbook.possible_calls(&*self.catalog);
        Event::Taken(Repeats(calls.into_iter().map(of).collect()), Vec::new())
    }

    /// While calls are out the execution is alive; else the job is taken up.
    fn look(&mut self) {
        let event = if self.is_out() { Event::Tick } else { self.taken() };
        self.event(event);
    }

    fn event(&mut self, event: Event) {
        if self.ended.is_some() {
            return;
        }
        let progress = Progress::read(self.stored.clone()).expect("loads");
        let (facts, catalog) = (self.facts.clone(), Arc::clone(&self.catalog));
        let mut machine = Machine::new(self.runbook, &facts, progress, self.kept.clone());
        machine.alarm = Some(self.alarm.clone());
        machine.others = Some(&*catalog);
        let effects = machine.handle(self.now, event);
        self.stored = serde_json::to_value(&machine.progress).expect("stores");
        let lost = self.world.is_lost();
        for effect in effects {
            self.effect(effect, lost);
        }
        assert_eq!(machine.kept, self.kept, "what is kept in memory is what the records tell");
        if lost && self.ended.is_none() {
            self.to_come.retain(|_, what| !matches!(what, Happening::Event(Event::Step { .. })));
            self.trace.push(format!("{} the node is lost", self.clock()));
            let taken = self.taken();
            self.event(taken);
        }
    }

    /// Whether an answer is to come.
    fn is_out(&self) -> bool {
        self.to_come.values().any(|what| matches!(what, Happening::Event(Event::Step { .. })))
    }

    fn clock(&self) -> String {
        let ms = (self.now - DateTime::UNIX_EPOCH).num_milliseconds();
        if ms % 1000 == 0 {
            format!("{}s", ms / 1000)
        } else {
            format!("{}.{:03}s", ms / 1000, ms % 1000)
        }
    }

    fn asked(&mut self, question: &Question) {
        let clock = self.clock();
        let Question { place, to, text, choices, unanswered, .. } = question;
        self.trace.push(format!(
            "{clock} {place} asks {to:?}: {text} {choices:?}, unanswered {unanswered:?}"
        ));
        let (at, what) = match self.world.decides(question) {
            Some((after, decided)) if self.now + after < question.until => {
                (self.now + after, StepEvent::Decided(decided))
            }
            _ => (question.until, StepEvent::Silent),
        };
        self.at(at, Happening::Post(place.clone(), what));
    }

    /// However often it is launched, it is one job.
    fn launched(&mut self, launching: &Launching) {
        let place = launching.place.clone();
        if !self.children.contains_key(&place) {
            let (after, end) = self.world.has_done(launching);
            let clock = self.clock();
            self.trace.push(format!(
                "{clock} {place} launches {} {}",
                launching.runbook,
                json!(launching.give)
            ));
            self.at(
                self.now + after,
                Happening::Post(place.clone(), StepEvent::Ended(end.clone())),
            );
            self.children.insert(place.clone(), (self.now + after, end));
        }
        let what = StepEvent::Launched(self.children[&place].1.job);
        self.at(self.now, Happening::Event(Event::Step { place, attempt: 1, what }));
    }

    fn recalled(&mut self, recall: Recall) {
        let Recall { place, job, undo, words } = recall;
        let stopped = self.now + self.world.stops(&place);
        let (ends, end) = self.children[&place].clone();
        if end.state != JobState::Cancelled {
            let clock = self.clock();
            self.trace.push(format!("{clock} {place} recalls job {job}, undo {undo}: {words}"));
            if stopped < ends {
                self.to_come
                    .retain(|_, what| !matches!(what, Happening::Post(p, _) if *p == place));
                let end = ChildEnd { state: JobState::Cancelled, failure: Some(words), ..end };
                self.at(stopped, Happening::Post(place.clone(), StepEvent::Ended(end.clone())));
                self.children.insert(place.clone(), (stopped, end));
            }
        }
        self.at(
            self.now,
            Happening::Event(Event::Step { place, attempt: 1, what: StepEvent::Recalled }),
        );
    }

    fn effect(&mut self, effect: Effect, lost: bool) {
        let clock = self.clock();
        match effect {
            Effect::StepStarted { place, attempt, give } => {
                if let Some(items) = give["each"].as_array() {
                    self.kept.list(&place, items.clone());
                }
                let again = if attempt > 1 { format!(" again ({attempt})") } else { String::new() };
                let to = match (&give["contact"], &give["via"], &give["on_duty_of"]) {
                    (Value::String(contact), Value::String(via), _) => {
                        format!(": {contact} via {via}")
                    }
                    (_, _, Value::String(team)) => format!(": who of {team} is on duty"),
                    _ => String::new(),
                };
                self.trace.push(format!("{clock} {place} begins{again}{to}"));
            }
            Effect::StepEnded { place, result, .. } => {
                if let (StepResult::Unsure(why), Some((after, word))) =
                    (&result, self.world.says(&place))
                {
                    let word =
                        if why.contains("a node was lost") { Resolution::Again } else { word };
                    let after =
                        if why.contains("a node was lost") { TimeDelta::zero() } else { after };
                    self.at(
                        self.now + after,
                        Happening::Event(Event::Commanded(JobCommand::Resolve {
                            place: Some(place.clone()),
                            word,
                            output: Value::Null,
                        })),
                    );
                }
                self.trace.push(match &result {
                    StepResult::Done(output) => format!("{clock} {place} done {output}"),
                    StepResult::Failed(why) => format!("{clock} {place} failed: {why}"),
                    StepResult::Unsure(why) => format!("{clock} {place} unsure: {why}"),
                    StepResult::Skipped => format!("{clock} {place} skipped"),
                    StepResult::Stopped => format!("{clock} {place} stopped"),
                });
                if let StepResult::Done(output) = result {
                    let ms = (self.now - DateTime::UNIX_EPOCH).num_milliseconds();
                    self.done.push((ms, place.to_string(), output.clone()));
                    if place.is_step() {
                        self.kept.output(&place, output);
                    }
                }
            }
            Effect::Call(_) if lost => {}
            Effect::Call(call) if self.world.is_queued() => {
                let what = StepEvent::Queued { until: self.now };
                self.at(
                    self.now,
                    Happening::Event(Event::Step {
                        place: call.place,
                        attempt: call.attempt,
                        what,
                    }),
                );
            }
            Effect::Call(call) => {
                if call.target.operation().expect("an operation").1.starts_with("never") {
                    *self.sent.entry(call.place.clone()).or_default() += 1;
                }
                let nth = self.answered.get(&call.place).copied().unwrap_or_default();
                let (after, what) = self.world.answer(&call, nth);
                let at =
                    *self.answers_at.entry((call.place.clone(), nth)).or_insert(self.now + after);
                self.at(
                    at.max(self.now),
                    Happening::Event(Event::Step {
                        place: call.place,
                        attempt: call.attempt,
                        what,
                    }),
                );
            }
            Effect::Ask(question) => self.asked(&question),
            Effect::Listen(listening) => {
                for (after, alert) in self.world.brings(&listening) {
                    let heard = StepEvent::Heard(vec![alert]);
                    self.at(self.now + after, Happening::Post(listening.place.clone(), heard));
                }
            }
            Effect::Withdraw(_) | Effect::LeaveQueue(_) | Effect::StepSaw { .. } => {}
            Effect::Remember(place, memory) => {
                self.trace.push(format!("{clock} {place} remembers {memory}"));
                self.kept.memory = memory;
            }
            Effect::Emit(event) => {
                let Emitted { kind, resource, severity, state, say, labels, give, place, .. } =
                    event;
                self.trace.push(format!(
                    "{clock} {place} tells {kind} of {resource}, {severity}, {state}: {say} {} \
                    {give}",
                    json!(labels)
                ));
            }
            Effect::Launch(_) | Effect::Recall(_) if lost => {}
            Effect::Launch(launching) => self.launched(&launching),
            Effect::Recall(recall) => self.recalled(recall),
            Effect::Then(Transition::GoOn { until: None }) | Effect::Then(Transition::Rest) => {
                self.due += 1
            }
            Effect::Then(Transition::GoOn { until: Some(until) })
            | Effect::Then(Transition::Wait { until, .. }) => {
                self.due += 1;
                self.at(until, Happening::Due(self.due));
            }
            Effect::Then(Transition::Unsure { failure }) => {
                self.due += 1;
                self.trace.push(format!("{clock} unsure: {failure}"));
            }
            Effect::Then(Transition::End { state, effect, failure, outputs }) => {
                let why = failure.as_ref().map_or_else(String::new, |f| format!(": {f}"));
                self.trace.push(format!("{clock} {state}, {effect}{why}"));
                self.ended = Some(Ended { state, effect, failure, outputs });
            }
        }
    }
}
