//! What a job is at, and its steps: the tree of its runbook's steps, each with its tries.

use arvok_api::{Attempt, JobItem, JobPart, JobStep, SelectiveHalt, StepState};
use arvok_core::{
    halt::{HaltLines, HaltedJobs},
    job::{JobState, Place, item_label},
    runbook::{ANNOUNCED, Action, Choose, Each, GO_ON, OBJECT, Runbook, Step},
};
use serde_json::Value;
use std::{cell::Cell, collections::BTreeMap};

/// Items of a list that are shown one by one; of more, those at the beginning and those that failed
/// or are open. The others are counted.
const ITEMS_SHOWN: usize = 100;
/// Steps of all items that are shown at their beginnings: of lists within lists there is no end.
const STEPS_SHOWN: usize = 2_000;
/// Steps that are shown of all items, also of those that failed or are open.
const MOST_STEPS: usize = 20_000;
/// What is done where people are reached.
const REACH: &str = "Reach people, one way after another";

/// Sets for each job what it does or waits for, or how it ended, where its state says more than its
/// steps; what no node takes up says which halt it is.
pub(super) fn set_doing<'j>(
    jobs: impl IntoIterator<Item = &'j mut JobItem>,
    halts: &[SelectiveHalt],
) {
    let halts: Vec<_> = halts
        .iter()
        .filter_map(|halt| Some((halt, HaltLines::from(halt.covers.clone()).check().ok()?)))
        .collect();
    for job in jobs {
        let concerns = |concerned: &HaltedJobs| {
            concerned.concerns(&job.runbook, job.rule.as_deref(), &job.target)
        };
        let halted = halts.iter().find(|(_, concerned)| concerns(concerned));
        let halted = halted.map(|(halt, _)| {
            format!("halted by {}: {} (halt {})", halt.by.shown(), halt.reason, halt.id)
        });
        match job.state {
            JobState::Queued => {
                let held = job.held.as_ref();
                let held = held.map(|held| format!("held by guard {}: {}", held.guard, held.why));
                job.doing = halted.or(held).unwrap_or_else(|| "waits for its turn".into());
            }
            JobState::Waiting => job.doing = halted.unwrap_or_else(|| job.doing.clone()),
            JobState::Running | JobState::Paused => {}
            JobState::Unsure => job.doing = "waits for a person to resolve it".into(),
            JobState::Succeeded => {
                job.doing = job.effect.map_or_else(String::new, |e| e.to_string())
            }
            JobState::Failed | JobState::Cancelled | JobState::Expired | JobState::Refused => {
                job.doing = job.failure.clone().unwrap_or_default();
            }
        }
    }
}

/// The connection through which the last try was sent.
fn via(attempts: &[Attempt]) -> Option<&str> {
    attempts.iter().rev().find_map(|attempt| attempt.request.as_ref()?.via.as_deref())
}

/// What is known of a job's steps.
pub(super) struct JobSteps {
    attempts: BTreeMap<String, Vec<Attempt>>,
    /// Steps that wait, for another try, another look or a time.
    waiting: Vec<Place>,
    /// Nothing more is begun.
    over: bool,
    /// Jobs of steps, each with its runbook, and decisions, by their places.
    jobs: BTreeMap<String, (i64, String)>,
    decisions: BTreeMap<String, i64>,
    /// Steps that were looked at.
    read: Cell<usize>,
}

impl JobSteps {
    /// What stands of before has the numbers of steps as their places.
    pub(super) fn new(
        attempts: Vec<(String, Attempt)>,
        waiting: Vec<Place>,
        over: bool,
        runbook: &Runbook,
    ) -> Self {
        let (jobs, decisions) = (BTreeMap::new(), BTreeMap::new());
        let mut tree =
            Self { attempts: BTreeMap::new(), waiting, over, jobs, decisions, read: Cell::new(0) };
        for (place, attempt) in attempts {
            let counted = place.strip_prefix('#').and_then(|n| n.parse::<usize>().ok());
            let place = counted.and_then(|n| runbook.steps.get(n)).map_or(place, |s| s.id.clone());
            tree.attempts.entry(place).or_default().push(attempt);
        }
        // What was taken over from another job counts as long as it was not done again.
        for tries in tree.attempts.values_mut().filter(|tries| tries.len() > 1) {
            tries.retain(|a| a.attempt > 0);
        }
        tree
    }

    /// With the jobs of steps, each with its runbook, and the decisions that steps ask for, by
    /// their places.
    pub(super) fn with(
        self,
        jobs: BTreeMap<String, (i64, String)>,
        decisions: BTreeMap<String, i64>,
    ) -> Self {
        Self { jobs, decisions, ..self }
    }

    /// A list of steps that stands at a place.
    pub(super) fn steps(&self, steps: &[Step], around: &Place) -> Vec<JobStep> {
        steps.iter().map(|step| self.step(step, &around.within(&step.id))).collect()
    }

    /// What a job does beside its own steps, as far as its runbook has it.
    pub(super) fn further(&self, runbook: &Runbook) -> Vec<JobPart> {
        let lists = runbook.lists().into_iter().skip(1).filter(|(_, steps)| !steps.is_empty());
        let part = |(at, steps): (&str, &[Step])| {
            let steps = self.steps(steps, &Place::new(""));
            let taken = steps.iter().any(|s| !s.attempts.is_empty());
            JobPart { label: at.trim_start_matches('/').to_owned(), taken, steps }
        };
        self.announced().into_iter().chain(lists.map(part)).collect()
    }

    /// What was said before it changes anything, by its runbook or by its rule, once that was done.
    fn announced(&self) -> Option<JobPart> {
        let at = Place::new(ANNOUNCED);
        let what = "Say what it is about to do; somebody may object";
        let choices = format!("{GO_ON} or {OBJECT}");
        let mut part = self.beside(&at, "ask", (ANNOUNCED, what), choices)?;
        let reached = self.beside(&at.within("reached"), "call", ("reached", REACH), String::new());
        for step in &mut part.steps {
            if step.state == StepState::Running {
                step.state = StepState::Waiting;
            }
            step.decision = self.decisions.get(at.as_str()).copied();
            step.parts.extend(reached.clone());
        }
        part.label = "announce".to_owned();
        Some(part)
    }

    fn step(&self, step: &Step, place: &Place) -> JobStep {
        self.read.set(self.read.get() + 1);
        let attempts = self.attempts.get(place.as_str()).cloned().unwrap_or_default();
        let state = match attempts.last() {
            Some(last) if self.waiting.contains(place) => match last.state {
                StepState::Failed => StepState::Again,
                _ => StepState::Waiting,
            },
            Some(last) => last.state,
            None if self.over => StepState::NotRun,
            None => StepState::Next,
        };
        let mut left_out = 0;
        let mut parts = match &step.action {
            Action::Choose(choose) => self.branches(choose, place, attempts.last()),
            Action::Each(each) => {
                let (items, all) = self.items(each, place, attempts.last());
                left_out = all - items.len();
                items
            }
            Action::Together(together) => {
                let way = |(name, steps): &(String, Vec<Step>)| JobPart {
                    label: name.clone(),
                    taken: !attempts.is_empty(),
                    steps: self.steps(steps, place),
                };
                together.ways.iter().map(way).collect()
            }
            _ => Vec::new(),
        };
        let beside = match &step.action {
            Action::Call(call) => call
                .probe
                .as_ref()
                .map(|p| ("probe", "Find out whether it was done", p.call.does())),
            Action::Ask(ask) => {
                ask.tell.as_ref().map(|tell| ("told", "Tell of the question", tell.does()))
            }
            _ => None,
        };
        let reached =
            step.action.recipient().map(|to| ("reached", REACH, format!("to {}", to.contact)));
        let beside = beside.into_iter().chain(reached);
        parts.extend(beside.filter_map(|(id, what, does)| {
            self.beside(&place.within(id), "call", (id, what), does)
        }));
        parts.extend(step.undo.as_ref().map(|undo| {
            let undo = self.step(undo, &place.within("undo"));
            JobPart { label: "undo".into(), taken: !undo.attempts.is_empty(), steps: vec![undo] }
        }));
        let job = self.jobs.get(place.as_str());
        let does = match (&step.action, via(&attempts), job) {
            (Action::Child(_), _, Some((_, runbook))) => runbook.clone(),
            (action, Some(via), _) => action.does_via(via),
            (action, None, _) => action.does(),
        };
        JobStep {
            place: place.to_string(),
            id: step.id.clone(),
            kind: step.action.kind().into(),
            summary: step.summary.clone(),
            does,
            when: step.when.as_ref().map(|w| w.text().to_owned()),
            state,
            job: job.map(|(id, _)| *id),
            decision: self.decisions.get(place.as_str()).copied(),
            attempts,
            parts,
            left_out,
        }
    }

    /// What belongs to a step, or to the job, once it was begun.
    fn beside(
        &self,
        place: &Place,
        kind: &str,
        (id, what): (&str, &str),
        does: String,
    ) -> Option<JobPart> {
        let attempts = self.attempts.get(place.as_str())?.clone();
        let step = JobStep {
            place: place.to_string(),
            id: id.to_owned(),
            kind: kind.to_owned(),
            summary: Some(what.to_owned()),
            does,
            when: None,
            state: attempts.last().map_or(StepState::Next, |a| a.state),
            job: None,
            decision: None,
            attempts,
            parts: Vec::new(),
            left_out: 0,
        };
        Some(JobPart { label: id.to_owned(), taken: true, steps: vec![step] })
    }

    fn branches(&self, choose: &Choose, place: &Place, last: Option<&Attempt>) -> Vec<JobPart> {
        let taken = last.and_then(|a| a.give["branch"].as_u64());
        let over = Self {
            attempts: BTreeMap::new(),
            waiting: Vec::new(),
            over: last.is_some() || self.over,
            jobs: BTreeMap::new(),
            decisions: BTreeMap::new(),
            read: Cell::new(0),
        };
        let branch = |(i, branch): (usize, &arvok_core::runbook::Branch)| {
            let mine = taken == Some(i as u64 + 1);
            JobPart {
                label: branch
                    .when
                    .as_ref()
                    .map_or_else(|| "else".to_owned(), |w| w.text().to_owned()),
                taken: mine,
                steps: if mine { self } else { &over }.steps(&branch.steps, place),
            }
        };
        choose.branches.iter().enumerate().map(branch).collect()
    }

    /// The items that are shown, and how many there are.
    fn items(&self, each: &Each, place: &Place, last: Option<&Attempt>) -> (Vec<JobPart>, usize) {
        let Some(items) = last.and_then(|a| a.give["each"].as_array()) else {
            let steps = self.steps(&each.steps, &place.item(0));
            return (vec![JobPart { label: each.name.clone(), taken: false, steps }], 1);
        };
        let part = |(number, item): (usize, &Value)| {
            let place = place.item(number);
            let at_first = number < ITEMS_SHOWN && self.read.get() < STEPS_SHOWN;
            let tells = self.tells(&place);
            if !at_first && !tells {
                return None;
            }
            // What failed is named in any case.
            let steps = if self.read.get() < MOST_STEPS {
                self.steps(&each.steps, &place)
            } else {
                Vec::new()
            };
            let taken = tells || steps.iter().any(|s| !s.attempts.is_empty());
            Some(JobPart { label: item_label(number, item), taken, steps })
        };
        (items.iter().enumerate().filter_map(part).collect(), items.len())
    }

    /// Whether anything within an item is open or went wrong.
    fn tells(&self, item: &Place) -> bool {
        let within = format!("{item}.");
        let begun = self
            .attempts
            .range(within.clone()..)
            .take_while(|(place, _)| place.starts_with(&within));
        begun.filter_map(|(_, attempts)| attempts.last()).any(|last| match last.state {
            StepState::Running
            | StepState::Again
            | StepState::Waiting
            | StepState::Failed
            | StepState::Unsure => true,
            StepState::Next
            | StepState::Done
            | StepState::Skipped
            | StepState::Stopped
            | StepState::NotRun => false,
        })
    }
}
