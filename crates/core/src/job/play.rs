//! Playing the examples of a runbook: its jobs in virtual time, answered as the examples say.

use super::{
    CallOut, ChildEnd, Decided, Effect, Event, EventWait, Facts, JobCommand, JobEffect, JobState,
    Launching, Machine, Place, Progress, Question, Recall, Repeats, StepEvent, StepOutputs,
    Transition,
};
use crate::{
    Alert, JobId, Principal, Severity,
    alarm::Alarm,
    alert::{NewAlert, Received},
    connector::{self, CallEnd, Failure, Repeat},
    contact::Contact,
    definition::{Definition, Kind, Others},
    runbook::{AlarmWord, AnswerDoc, Answers, CallTarget, JobExampleDoc, MeanwhileDoc, Runbook},
};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

/// Most events of one example.
const MOST_EVENTS: usize = 5_000;

/// An example that does not hold: where, and what happened instead.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unheld {
    /// A JSON pointer.
    pub pointer: String,
    /// What happened instead.
    pub message: String,
}

/// Plays all examples of a runbook; what does not hold.
pub fn play(runbook: &Runbook, others: &dyn Others) -> Vec<Unheld> {
    let one = |(i, example): (usize, &JobExampleDoc)| {
        let at = format!("/examples/{i}");
        match Play::begin(runbook, example, others) {
            Ok(play) => compare(&at, example, &play.run()),
            Err(message) => vec![Unheld { pointer: at, message }],
        }
    };
    runbook.examples.iter().enumerate().flat_map(one).collect()
}

/// How a job went.
struct ExampleRun {
    state: JobState,
    effect: Option<JobEffect>,
    failure: Option<String>,
    calls: Vec<String>,
    emits: Vec<String>,
    outputs: Value,
    /// What is remembered by then.
    memory: Value,
    /// Answers that are no events, and why.
    unread: Vec<(String, String)>,
}

fn compare(at: &str, example: &JobExampleDoc, went: &ExampleRun) -> Vec<Unheld> {
    let expect = &example.expect;
    let mut wrong = Vec::new();
    for (place, why) in &went.unread {
        let place = place.replace('~', "~0").replace('/', "~1");
        wrong.push(Unheld {
            pointer: format!("{at}/answers/{place}"),
            message: format!("is no event: {why}"),
        });
    }
    let mut say = |key: &str, message: String| {
        wrong.push(Unheld { pointer: format!("{at}/expect/{key}"), message });
    };
    let why = went.failure.as_ref().map_or_else(String::new, |f| format!(": {f}"));
    if expect.state != went.state {
        say("state", format!("the job ends {}{why}", went.state));
    }
    if expect.effect.is_some_and(|effect| Some(effect) != went.effect) {
        let told = went.effect.map_or("not known", JobEffect::as_str);
        say("effect", format!("the effect is {told}{why}"));
    }
    if let Some(words) = &expect.failure
        && !went.failure.as_deref().unwrap_or_default().contains(words.as_str())
    {
        say(
            "failure",
            went.failure
                .clone()
                .map_or_else(|| "nothing is told".to_owned(), |f| format!("it says: {f}")),
        );
    }
    for (key, wanted, were) in
        [("calls", &expect.calls, &went.calls), ("emits", &expect.emits, &went.emits)]
    {
        if wanted.as_ref().is_some_and(|wanted| wanted != were) {
            let told = if were.is_empty() { "none".to_owned() } else { were.join(", ") };
            say(
                key,
                if key == "calls" {
                    format!("the calls are {told}")
                } else {
                    format!("what it emits is {told}")
                },
            );
        }
    }
    for (key, wanted, were) in [
        ("outputs", &expect.outputs, &went.outputs),
        ("remembers", &expect.remembers, &went.memory),
    ] {
        for (name, _) in wanted.iter().flatten().filter(|(n, v)| were.get(n) != Some(v)) {
            let does = if key == "outputs" { "the job gives" } else { "what is remembered is" };
            let was = were.get(name).map_or_else(|| "nothing".to_owned(), ToString::to_string);
            say(&format!("{key}/{name}"), format!("{does} {was}"));
        }
    }
    wrong
}

/// What is still to come.
enum Coming {
    /// Something happens to the job.
    Event(Event),
    /// Something comes from outside.
    Post(Place, StepEvent),
    /// A job that waits is taken up, unless it was meanwhile.
    Due(u64),
    /// Its alarm changes.
    Alarm(bool),
}

/// What is published, but that people can be reached at any hour: an example has no time of day.
#[derive(Debug)]
struct AtAnyHour<'a> {
    others: &'a dyn Others,
    contacts: BTreeMap<String, Contact>,
}

impl<'a> AtAnyHour<'a> {
    /// With the contacts that a runbook reaches, and the members of those.
    fn of(runbook: &Runbook, others: &'a dyn Others) -> Self {
        let named = runbook.contacts().into_iter().filter_map(|name| others.get(name).ok());
        let all = named.flat_map(|contact: &Contact| {
            let persons = contact.persons(others).into_iter().map(|(name, _)| name);
            let all: Vec<&str> = persons.chain([contact.name.as_str()]).collect();
            all
        });
        let contacts = all.filter_map(|name| {
            let contact: &Contact = others.get(name).ok()?;
            Some((name.to_owned(), contact.clone().at_any_hour()))
        });
        let contacts = contacts.collect();
        Self { others, contacts }
    }
}

impl Others for AtAnyHour<'_> {
    fn definition(&self, kind: Kind, name: &str) -> Option<&dyn Definition> {
        match self.contacts.get(name).filter(|_| kind == Kind::Contact) {
            Some(contact) => Some(contact),
            None => self.others.definition(kind, name),
        }
    }

    fn names(&self, kind: Kind) -> Vec<&str> {
        self.others.names(kind)
    }
}

struct Play<'a> {
    runbook: &'a Runbook,
    example: &'a JobExampleDoc,
    others: AtAnyHour<'a>,
    facts: Facts,
    alarm: Alarm,
    progress: Progress,
    kept: StepOutputs,
    now: DateTime<Utc>,
    coming: BTreeMap<(DateTime<Utc>, u64), Coming>,
    count: u64,
    due: u64,
    answered: BTreeMap<String, usize>,
    /// Jobs of steps, and when each ends.
    children: BTreeMap<Place, (DateTime<Utc>, ChildEnd)>,
    went: ExampleRun,
}

impl<'a> Play<'a> {
    fn begin(
        runbook: &'a Runbook,
        example: &'a JobExampleDoc,
        others: &'a dyn Others,
    ) -> Result<Self, String> {
        let prepared =
            runbook.prepare(example.inputs.clone(), others).map_err(|e| e.to_string())?;
        let memory = runbook.memory.recall(example.memory.clone());
        let memory = memory.map_err(|e| format!("memory: {e}"))?;
        let now = DateTime::UNIX_EPOCH;
        let alert = match &example.alert {
            Some(fields) => Some(alert(fields.clone(), now)?),
            None => None,
        };
        let facts = Facts {
            id: JobId(1),
            key: "example".into(),
            inputs: Value::Object(prepared.inputs),
            target: prepared.target.to_string(),
            alert,
            has_alarm: example.alarm,
            created: now,
            memory,
            memory_full: false,
            announce: None,
            dry: false,
        };
        let mut alarm = Alarm::unknown(now);
        alarm.raised = example.alarm;
        alarm.severity = facts.alert.as_ref().map_or(Severity::Major, |a| a.severity);
        let went = ExampleRun {
            state: JobState::Running,
            effect: None,
            failure: None,
            calls: Vec::new(),
            emits: Vec::new(),
            outputs: Value::Null,
            memory: Value::Null,
            unread: Vec::new(),
        };
        let mut play = Self {
            runbook,
            example,
            others: AtAnyHour::of(runbook, others),
            facts,
            alarm,
            progress: Progress::default(),
            kept: StepOutputs::default(),
            now,
            coming: BTreeMap::new(),
            count: 0,
            due: 0,
            answered: BTreeMap::new(),
            children: BTreeMap::new(),
            went,
        };
        for happening in &example.meanwhile {
            match happening.alarm {
                Some(word) if happening.at.delta().is_zero() => {
                    play.alarm.raised = word == AlarmWord::Raised
                }
                _ => play.at(now + happening.at.delta(), coming(happening)),
            }
        }
        Ok(play)
    }

    fn run(mut self) -> ExampleRun {
        let taken = self.taken(Vec::new());
        self.event(taken);
        for _ in 0..MOST_EVENTS {
            if self.went.state.is_final() {
                return self.went;
            }
            let Some(((at, _), what)) = self.coming.pop_first() else { return self.went };
            self.now = self.now.max(at);
            match what {
                Coming::Due(number) if number == self.due => self.look(),
                Coming::Due(_) => {}
                Coming::Alarm(raised) => {
                    self.alarm.raised = raised;
                    self.look();
                }
                Coming::Post(place, what) if self.is_out() => {
                    self.event(Event::Came(vec![(place, what)]))
                }
                Coming::Post(place, what) => {
                    let taken = self.taken(vec![(place, what)]);
                    self.event(taken);
                }
                Coming::Event(event) => self.event(event),
            }
        }
        self.went.failure = Some(format!("the example goes on for more than {MOST_EVENTS} events"));
        self.went
    }

    fn at(&mut self, at: DateTime<Utc>, what: Coming) {
        self.count += 1;
        self.coming.insert((at, self.count), what);
    }

    fn repeat(&self, via: &str, operation: &str) -> Repeat {
        connector::operation(self.others.others, via, operation)
            .map_or(Repeat::Never, |(_, operation)| operation.repeat)
    }

    fn taken(&self, came: Vec<(Place, StepEvent)>) -> Event {
        Event::Taken(Repeats::of(self.runbook, self.others.others), came)
    }

    /// While calls are out the execution is alive; else the job is taken up.
    fn look(&mut self) {
        let event = if self.is_out() { Event::Tick } else { self.taken(Vec::new()) };
        self.event(event);
    }

    fn is_out(&self) -> bool {
        self.coming.values().any(|what| matches!(what, Coming::Event(Event::Step { .. })))
    }

    fn event(&mut self, event: Event) {
        let (progress, kept) = (std::mem::take(&mut self.progress), std::mem::take(&mut self.kept));
        let mut machine = Machine::new(self.runbook, &self.facts, progress, kept);
        machine.others = Some(&self.others);
        machine.alarm = self.facts.has_alarm.then(|| self.alarm.clone());
        let effects = machine.handle(self.now, event);
        (self.progress, self.kept) = (machine.progress, machine.kept);
        self.went.memory = self.kept.memory.clone();
        effects.into_iter().for_each(|effect| self.effect(effect));
    }

    fn effect(&mut self, effect: Effect) {
        match effect {
            Effect::Call(call) => self.called(call),
            Effect::Ask(question) => self.asked(&question),
            Effect::Listen(listening) => self.listens(&listening),
            Effect::Launch(launching) => self.launched(launching),
            Effect::Recall(recall) => self.recalled(recall),
            Effect::Emit(emitted) => self.went.emits.push(emitted.kind),
            Effect::StepStarted { .. }
            | Effect::Remember(..)
            | Effect::StepSaw { .. }
            | Effect::StepEnded { .. }
            | Effect::Withdraw(_)
            | Effect::LeaveQueue(_) => {}
            Effect::Then(transition) => self.becomes(transition),
        }
    }

    fn becomes(&mut self, transition: Transition) {
        self.due += 1;
        self.went.state = transition.state();
        match transition {
            Transition::GoOn { until: None } | Transition::Rest => {}
            Transition::GoOn { until: Some(until) } | Transition::Wait { until, .. } => {
                self.went.state = JobState::Waiting;
                self.at(until, Coming::Due(self.due));
            }
            Transition::Unsure { failure } => self.went.failure = Some(failure),
            Transition::End { effect, failure, outputs, .. } => {
                self.went.effect = Some(effect);
                (self.went.failure, self.went.outputs) = (failure, outputs);
            }
        }
    }

    /// What comes to a step the next time.
    fn next(&mut self, place: &Place) -> Option<AnswerDoc> {
        let n = self.answered.entry(place.to_string()).or_default();
        let nth = *n;
        *n += 1;
        let answers = self
            .example
            .answers
            .get(place.as_str())
            .or_else(|| self.example.answers.get(place.id()));
        answers.and_then(|all| all.nth(nth)).cloned()
    }

    fn called(&mut self, call: CallOut) {
        self.went.calls.push(call.place.to_string());
        let answer = self.next(&call.place).unwrap_or_default();
        let repeat = match &call.target {
            CallTarget::Operation { via, operation } => self.repeat(via, operation),
            CallTarget::Script(script) => script.repeat(),
        };
        let broke = |failure: Failure| StepEvent::Broke { failure, repeat };
        let after = after(&answer);
        let what = match answer {
            AnswerDoc { refused: Some(why), .. } => broke(Failure::lasting(CallEnd::Refused, why)),
            AnswerDoc { busy: Some(why), .. } => broke(Failure::new(CallEnd::Refused, why)),
            AnswerDoc { unknown: Some(why), .. } => broke(Failure::new(CallEnd::Unknown, why)),
            AnswerDoc { gives, .. } => StepEvent::Returned(gives.unwrap_or_else(|| json!({}))),
        };
        self.at(
            self.now + after,
            Coming::Event(Event::Step { place: call.place, attempt: call.attempt, what }),
        );
    }

    fn asked(&mut self, question: &Question) {
        let place = question.place.clone();
        let answer = self.next(&place).and_then(|a| Some((after(&a), a.gives?)));
        let text = |v: &Value, key: &str| v[key].as_str().unwrap_or_default().to_owned();
        let (at, what) = match answer {
            Some((after, gives)) if self.now + after < question.until => {
                let choice = gives.as_str().map_or_else(|| text(&gives, "choice"), str::to_owned);
                let (by, remark) = (Principal::token(&text(&gives, "by")), text(&gives, "remark"));
                (
                    self.now + after,
                    StepEvent::Decided(Decided { choice, by, how: "example".into(), remark }),
                )
            }
            _ => (question.until, StepEvent::Silent),
        };
        self.at(at, Coming::Post(place, what));
    }

    fn listens(&mut self, listening: &EventWait) {
        let place = &listening.place;
        let key = if self.example.answers.contains_key(place.as_str()) {
            place.as_str()
        } else {
            place.id()
        };
        let many = match self.example.answers.get(key) {
            Some(Answers::Several(all)) => all.len(),
            Some(Answers::One(_)) => 1,
            None => 0,
        };
        for _ in 0..many {
            let Some(answer) = self.next(place) else { continue };
            let Some(Value::Object(fields)) = answer.gives.clone() else { continue };
            match alert(fields, self.now) {
                Ok(alert) => self.at(
                    self.now + after(&answer),
                    Coming::Post(place.clone(), StepEvent::Heard(vec![alert])),
                ),
                Err(why) => self.went.unread.push((key.to_owned(), why)),
            }
        }
    }

    fn launched(&mut self, launching: Launching) {
        let place = launching.place;
        let known = self.children.get(&place).map(|(_, end)| end.job);
        let job = known.unwrap_or(JobId(2 + self.children.len() as i64));
        // That it was launched is known before how it ended.
        self.at(
            self.now,
            Coming::Event(Event::Step {
                place: place.clone(),
                attempt: 1,
                what: StepEvent::Launched(job),
            }),
        );
        if known.is_none() {
            let answer = self.next(&place).unwrap_or_default();
            let failed = answer.refused.clone();
            let end = ChildEnd {
                job,
                state: if failed.is_some() { JobState::Failed } else { JobState::Succeeded },
                effect: JobEffect::NotChecked,
                failure: failed,
                outputs: answer.gives.clone().unwrap_or_else(|| json!({})),
            };
            let ends = self.now + after(&answer);
            self.at(ends, Coming::Post(place.clone(), StepEvent::Ended(end.clone())));
            self.children.insert(place, (ends, end));
        }
    }

    fn recalled(&mut self, recall: Recall) {
        let place = recall.place;
        let stops = self.example.answers.get(place.as_str()).and_then(|a| a.nth(0)?.stops);
        let stopped = self.now + stops.map_or(TimeDelta::zero(), |p| p.delta());
        if let Some((ends, end)) = self.children.get_mut(&place)
            && stopped < *ends
            && end.state != JobState::Cancelled
        {
            *ends = stopped;
            *end = ChildEnd { state: JobState::Cancelled, ..end.clone() };
            let what = StepEvent::Ended(end.clone());
            self.coming.retain(|_, what| !matches!(what, Coming::Post(p, _) if *p == place));
            self.at(stopped, Coming::Post(place.clone(), what));
        }
        self.at(
            self.now,
            Coming::Event(Event::Step { place, attempt: 1, what: StepEvent::Recalled }),
        );
    }
}

fn after(answer: &AnswerDoc) -> TimeDelta {
    answer.after.map_or(TimeDelta::zero(), |p| p.delta())
}

/// An alert from fields of the normal form, and its source.
fn alert(mut fields: Map<String, Value>, now: DateTime<Utc>) -> Result<Alert, String> {
    let source =
        fields.remove("source").and_then(|s| s.as_str().map(str::to_owned)).unwrap_or_default();
    let new = NewAlert::from_value(&Value::Object(fields)).map_err(|e| format!("alert: {e}"))?;
    new.complete(Received { source: &source, received: now, fallback_id: "example" })
        .map_err(|e| format!("alert: {e}"))
}

fn coming(happening: &MeanwhileDoc) -> Coming {
    let event = match happening {
        MeanwhileDoc { alarm: Some(word), .. } => return Coming::Alarm(*word == AlarmWord::Raised),
        MeanwhileDoc { resolve: Some(word), .. } => {
            Event::Commanded(JobCommand::Resolve { place: None, word: *word, output: Value::Null })
        }
        MeanwhileDoc { pause: Some(words), .. } => {
            Event::Commanded(JobCommand::Pause { words: words.clone() })
        }
        MeanwhileDoc { resume: true, .. } => Event::Commanded(JobCommand::Resume),
        MeanwhileDoc { cancel: Some(words), undo, .. } => {
            Event::Commanded(JobCommand::Cancel { undo: *undo, words: words.clone() })
        }
        _ => Event::Tick,
    };
    Coming::Event(event)
}
