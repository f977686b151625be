//! The announcement of a job: before its first step that changes something it waits, and somebody
//! may object. Steps that only look go on meanwhile.
//!
//! It is a question (`steps/ask`) that belongs to the job and to none of its steps, so it is asked
//! once however many of them wait.

use super::{
    Effect, Emitted, Place, StepResult,
    execution::{Around, Execution, Gate, News, StepEnd},
    machine::Machine,
    progress::{Announced, Doing, Halt, Open, Stage},
    steps::ask,
};
use crate::{
    AlertState, ResourcePath, Severity,
    alert::MAX_SUMMARY,
    definition::Others,
    runbook::{ANNOUNCED, Action, Announce, Call, OBJECT, Runbook, Step, all},
    text::cut,
};
use chrono::{DateTime, SecondsFormat, TimeDelta, Utc};
use serde_json::{Map, Value, json};

/// The kind of the event that tells of it.
pub const JOB_ANNOUNCED: &str = "job.announced";

/// Steps that are named by it.
const MOST_NAMED: usize = 5;

/// Longest value that is named of what one step is given, and longest of all of them, in bytes. A
/// value is named whole or not at all: part of a secret would not be found and hidden.
const LONGEST_VALUE: usize = 100;
const LONGEST_GIVEN: usize = 300;

/// How many jobs of jobs are looked into for whether they change something.
const DEEPEST: usize = 10;

impl<'a> Machine<'a> {
    /// What is said before the job changes anything: by its rule or by its runbook, whichever gives
    /// more time.
    pub(super) fn announce(&self) -> Option<&'a Announce> {
        let said = self.facts.announce.iter().chain(&self.runbook.announce);
        said.max_by_key(|announce| announce.before)
    }

    /// Whether steps that change something may begin now. What sets things right is not announced.
    pub(super) fn gate(&self) -> Gate {
        let acts = matches!(self.progress.stage, Stage::Forward | Stage::Otherwise);
        match (&self.progress.announced, self.announce()) {
            _ if !acts => Gate::Open,
            (Some(announced), _) if announced.open.is_some() => Gate::Shut,
            (None, Some(_)) => Gate::Unannounced(Vec::new(), 0),
            (Some(_), _) | (None, None) => Gate::Open,
        }
    }

    /// The question whether somebody objects, if it is open.
    pub(super) fn open_announcement(&self) -> Option<(&'a Step, &Open)> {
        let open = self.progress.announced.as_ref()?.open.as_ref()?;
        Some((&self.announce()?.step, open))
    }

    /// For how long it is announced by now. That does not count against what steps may take.
    pub(super) fn announced_for(&self, now: DateTime<Utc>) -> TimeDelta {
        let open = self.progress.announced.as_ref().filter(|announced| announced.open.is_some());
        open.map_or(TimeDelta::zero(), |announced| (now - announced.since).max(TimeDelta::zero()))
    }

    /// Announces what is held back.
    pub(super) fn announce_next(
        &mut self,
        now: DateTime<Utc>,
        (named, more): (Vec<String>, usize),
        news: &mut News,
        effects: &mut Vec<Effect>,
    ) {
        let Some(announce) = self.announce() else { return };
        let mut next = named.join("; ");
        if more > 0 {
            next.push_str(&format!("; and {more} more"));
        }
        let mut open = Open::begins(now, Doing::Calling);
        let raised = self.raised() > 0;
        let ended = self.executing(now, news, effects, |execution| {
            execution.next = Some(next.into());
            let place = Place::new(ANNOUNCED);
            ask::begin(execution, &announce.ask, &place, &mut open, &Around::top(false))
        });
        if !self.facts.dry {
            effects.extend(self.announced_event(effects));
        }
        self.progress.announced = Some(Announced { since: now, raised, open: Some(open) });
        self.announcement_over(now, ended, effects);
    }

    /// Goes on with the question whether somebody objects.
    pub(super) fn mind_the_announcement(
        &mut self,
        now: DateTime<Utc>,
        news: &mut News,
        effects: &mut Vec<Effect>,
    ) {
        let (Some(announce), Some(announced)) = (self.announce(), &mut self.progress.announced)
        else {
            return;
        };
        let Some(mut open) = announced.open.take() else { return };
        let goes_on =
            matches!(self.progress.stage, Stage::Forward | Stage::Confirming | Stage::Otherwise);
        let stops = !goes_on || self.progress.halt.is_some() || self.is_needless();
        let ended = self.executing(now, news, effects, |execution| {
            let place = Place::new(ANNOUNCED);
            ask::go_on(execution, &announce.ask, &place, &mut open, &Around::top(stops))
        });
        if let Some(announced) = &mut self.progress.announced {
            announced.open = Some(open);
        }
        self.announcement_over(now, ended, effects);
    }

    /// What follows from the end of the announcement, if it has ended.
    fn announcement_over(
        &mut self,
        now: DateTime<Utc>,
        ended: Option<StepEnd>,
        effects: &mut Vec<Effect>,
    ) {
        let Some(ended) = ended else { return };
        let is_needless = self.is_needless();
        let took = self.announced_for(now);
        self.pass_over(took);
        self.progress.block.pass_over(took);
        if let Some(announced) = &mut self.progress.announced {
            announced.open = None;
        }
        let (result, halt) = match ended {
            StepEnd::Done(gives) if gives["choice"] == OBJECT => {
                let words = objection(&gives);
                (StepResult::Done(gives), Some(Halt::Cancelled { undo: true, words }))
            }
            _ if is_needless => {
                let words = "its alarm was cleared before it changed anything".to_owned();
                (StepResult::Stopped, Some(Halt::Cancelled { undo: true, words }))
            }
            StepEnd::Done(gives) => (StepResult::Done(gives), None),
            StepEnd::Failed { message, .. } => {
                let why = format!("what it is about to do could not be announced: {message}");
                (StepResult::Failed(message), Some(Halt::Failed(why)))
            }
            _ => (StepResult::Stopped, None),
        };
        effects.push(Effect::StepEnded { place: Place::new(ANNOUNCED), attempt: 1, result });
        if let Some(halt) = halt {
            self.progress.halt.get_or_insert(halt);
        }
    }

    /// Whether the alarms for which it acts were cleared since it was announced.
    fn is_needless(&self) -> bool {
        self.progress.announced.as_ref().is_some_and(|a| a.raised) && self.raised() == 0
    }

    /// How many of the alarms for which it acts are raised.
    pub(super) fn raised(&self) -> usize {
        let own = usize::from(self.alarm.as_ref().is_some_and(|alarm| alarm.raised));
        if self.facts.has_alarm { own + self.others_raised } else { 0 }
    }

    /// The event that tells of the question that was just asked.
    fn announced_event(&self, effects: &[Effect]) -> Option<Effect> {
        let question = effects.iter().find_map(|effect| match effect {
            Effect::Ask(question) if question.place.as_str() == ANNOUNCED => Some(question),
            _ => None,
        })?;
        let until = question.until.to_rfc3339_opts(SecondsFormat::Secs, true);
        let (id, runbook, target) = (self.facts.id, &self.runbook.name, &self.facts.target);
        let say = format!("job {id} ({runbook}) is about to act on {target}");
        let labels = [
            ("job", self.facts.id.to_string()),
            ("runbook", self.runbook.name.clone()),
            ("until", until.clone()),
        ];
        Some(Effect::Emit(Emitted {
            place: question.place.clone(),
            id: format!("{}-{ANNOUNCED}", self.facts.key),
            kind: JOB_ANNOUNCED.to_owned(),
            severity: Severity::Indeterminate,
            state: AlertState::Noted,
            resource: ResourcePath::parse(&self.facts.target).ok()?,
            say: cut(&say, MAX_SUMMARY).to_owned(),
            labels: labels.into_iter().map(|(name, text)| (name.to_owned(), text)).collect(),
            give: json!({ "until": until }),
        }))
    }
}

impl<'m> Execution<'m> {
    /// Whether a step must not begin yet, since it changes something and that is not announced, or
    /// somebody may still object.
    pub(super) fn holds_back(
        &mut self,
        step: &'m Step,
        place: &Place,
        around: &Around<'m>,
    ) -> bool {
        if self.gate == Gate::Open || !changes(step, self.others, DEEPEST) {
            return false;
        }
        let names = matches!(&self.gate, Gate::Unannounced(named, _) if named.len() < MOST_NAMED);
        let words = names.then(|| self.in_words(step, place, around));
        if let Gate::Unannounced(named, more) = &mut self.gate {
            match words {
                Some(words) => named.push(words),
                None => *more += 1,
            }
        }
        true
    }

    /// What a step is about to do, for people.
    fn in_words(&self, step: &'m Step, place: &Place, around: &Around<'m>) -> String {
        let call = step.action.call();
        let filled = call.and_then(|call| self.see(around, |scope| call.fill(scope)).ok());
        let via = filled.as_ref().and_then(|filled| Some(filled.target.operation()?.0));
        let does = via.map_or_else(|| step.action.does(), |via| step.action.does_via(via));
        let mut words = format!("`{place}`: {does}");
        if let Some(summary) = &step.summary {
            words.push_str(&format!(" ({summary})"));
        }
        if let Some(given) = filled.and_then(|filled| named(&filled.give)) {
            words.push_str(&format!(", with {given}"));
        }
        words
    }
}

/// What a step is given, as far as it is short; none if that is nothing.
fn named(given: &Map<String, Value>) -> Option<String> {
    if given.is_empty() {
        return None;
    }
    let mut all = String::new();
    for (name, value) in given {
        let value = value.to_string();
        let value = if value.len() > LONGEST_VALUE { "…" } else { &value };
        let one = format!("{}{name}: {value}", if all.is_empty() { "" } else { ", " });
        if all.len() + one.len() > LONGEST_GIVEN {
            all.push_str(", …");
            break;
        }
        all.push_str(&one);
    }
    Some(all)
}

/// Whether a step may change something by itself, and not by steps within it.
fn changes(step: &Step, others: Option<&dyn Others>, deep: usize) -> bool {
    let acts = |call: &Call| others.is_none_or(|others| !call.callee.only_looks(others));
    match &step.action {
        Action::Call(call) => acts(call),
        Action::Check(check) => check.call.as_ref().is_some_and(acts),
        Action::Child(child) => {
            // Of one that is worked out nobody knows what it does.
            let name = child.runbook.written();
            let runbook =
                others.zip(name).and_then(|(others, name)| others.get::<Runbook>(name).ok());
            let Some(runbook) = runbook.filter(|_| deep > 0) else { return true };
            let steps = runbook.lists().into_iter().flat_map(|(_, steps)| all(steps));
            steps.into_iter().any(|step| changes(step, others, deep - 1))
        }
        _ => false,
    }
}

/// Who objected, and why.
fn objection(gives: &Value) -> String {
    let text = |of: &str| gives[of].as_str().unwrap_or_default();
    match text("remark") {
        "" => format!("objected to by {}", text("by")),
        remark => format!("objected to by {}: {remark}", text("by")),
    }
}
