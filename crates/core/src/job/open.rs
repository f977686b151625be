//! What a job is at: which calls are out, when something goes on, what is not known.

use super::{
    Outside, Place,
    progress::{Block, Doing, Open, Queued, Reaching, Telling, Way},
};
use crate::runbook::{Action, Step};
use chrono::{DateTime, TimeDelta, Utc};
use std::collections::BTreeMap;

/// What is open.
#[derive(Debug, Default, PartialEq)]
pub(super) struct StillOpen<'p> {
    now: DateTime<Utc>,
    /// Calls that wait for their turn.
    queued: Option<&'p BTreeMap<Place, Queued>>,
    /// Calls that are out.
    pub calls: usize,
    /// The earliest time at which something goes on.
    pub due: Option<DateTime<Utc>>,
    /// Whether something waits for what comes from outside: a decision, an event, a job.
    pub outside: Vec<(Place, Outside)>,
    /// Whether something waits for the alarm.
    pub alarm: bool,
    /// What is not known, step by step.
    pub unsure: Vec<String>,
    /// What it is at, step by step, in words.
    pub doing: Vec<String>,
    /// The steps that wait, for another try, another look or a time.
    pub waiting: Vec<Place>,
}

impl<'p> StillOpen<'p> {
    /// What is open of a list of steps, which stands at a place, with the calls that wait for their
    /// turn.
    pub(super) fn collect(
        now: DateTime<Utc>,
        steps: &[Step],
        block: &Block,
        (around, queued): (&Place, &'p BTreeMap<Place, Queued>),
    ) -> Self {
        let mut found = Self { now, queued: Some(queued), ..Self::default() };
        found.block(steps, block, around);
        found
    }

    pub(super) fn wake_at(&mut self, until: DateTime<Utc>) {
        self.due = Some(self.due.map_or(until, |due| due.min(until)));
    }

    fn block(&mut self, steps: &[Step], block: &Block, around: &Place) {
        if let (Some(step), Some(open)) = (steps.get(block.at), &block.open) {
            self.step(step, open, &around.within(&step.id));
        }
    }

    pub(super) fn step(&mut self, step: &Step, open: &Open, place: &Place) {
        let title = step.summary.as_deref().unwrap_or(place.as_str());
        match (&open.doing, &step.action) {
            (Doing::Branch(taken, block), Action::Choose(choose)) => {
                if let Some(branch) = choose.branches.get(*taken) {
                    self.block(&branch.steps, block, place);
                }
                self.time(step, open);
            }
            (Doing::Items { open: lanes, rests: Some(until), .. }, Action::Each(_))
                if lanes.is_empty() =>
            {
                self.waits_until(*until, place, format!("waits for the next wave: {title}"));
                self.time(step, open);
            }
            (Doing::Items { open: lanes, .. }, Action::Each(each)) => {
                lanes
                    .iter()
                    .for_each(|(number, lane)| self.block(&each.steps, lane, &place.item(*number)));
                self.time(step, open);
            }
            (Doing::Ways(ways), Action::Together(together)) => {
                for (way, (_, steps)) in ways.iter().zip(&together.ways) {
                    if let Way::Open(block) = way {
                        self.block(steps, block, place);
                    }
                }
                self.time(step, open);
            }
            (Doing::Probing(_), _) => {
                self.call(
                    &place.within("probe"),
                    title,
                    format!("finds out whether it was done: {title}"),
                );
            }
            (Doing::LookingBack, _) => {
                self.call(
                    &place.within("probe"),
                    title,
                    format!("looks whether it still stands: {title}"),
                );
            }
            (Doing::Looking { next: None, .. }, _) => {
                self.call(place, title, format!("looks: {title}"))
            }
            (Doing::Again(at), _) => {
                self.waits_until(*at, place, format!("waits to try again: {title}"))
            }
            (Doing::Pausing(until), _) => {
                self.waits_until(*until, place, format!("lets time pass: {title}"))
            }
            (Doing::Looking { next: Some(at), .. }, action) => {
                self.alarm |=
                    matches!(action, Action::Check(check) if check.condition.reads("alarm"));
                self.waits_until(*at, place, format!("waits to look again: {title}"));
            }
            (Doing::Asking { until, tell, reaching }, _) => {
                self.asking(*until, tell, place, title);
                if let Some(reaching) = reaching {
                    self.reaching(reaching, place);
                }
            }
            (Doing::Telling(reaching), _) => {
                self.reaching(reaching, place);
                self.doing.push(format!("reaches people: {title}"));
            }
            (Doing::Awaiting { until, .. }, _) => {
                self.wake_at(*until);
                self.waits_outside(place, Outside::Event, format!("waits for an event: {title}"));
            }
            (Doing::CalledBack { until, .. }, _) => {
                self.wake_at(*until);
                self.waits_outside(
                    place,
                    Outside::Event,
                    format!("waits to be called back: {title}"),
                );
            }
            (Doing::Child { job, recalled: true }, _) => {
                self.waits_outside(
                    place,
                    Outside::Job(*job),
                    format!("waits for the end of job {job}: {title}"),
                );
            }
            (Doing::Child { job, recalled: false }, _) => {
                self.time(step, open);
                self.waits_outside(
                    place,
                    Outside::Job(*job),
                    format!("waits for job {job}: {title}"),
                );
            }
            (Doing::Recalling { job }, _) => {
                self.outside.push((place.clone(), Outside::Job(*job)));
                self.call(place, title, title.to_owned());
            }
            (Doing::Unsure(why), _) => self.unsure.push(why.clone()),
            (Doing::Calling, Action::Call(_)) if self.is_queued(place) => {
                let since = self
                    .queued
                    .and_then(|queued| queued.get(place))
                    .map_or(self.now, |queued| queued.since);
                open.timeout(step)
                    .into_iter()
                    .for_each(|timeout| self.wake_at(since + timeout.delta()));
                self.call(place, title, title.to_owned());
            }
            (
                Doing::Launching
                | Doing::Calling
                | Doing::Branch(..)
                | Doing::Items { .. }
                | Doing::Ways(_),
                _,
            ) => {
                self.call(place, title, title.to_owned());
            }
        }
    }

    fn is_queued(&self, at: &Place) -> bool {
        self.queued.is_some_and(|queued| queued.contains_key(at))
    }

    /// A call is out, or waits for its turn.
    fn call(&mut self, at: &Place, title: &str, words: String) {
        match self.queued.and_then(|queued| queued.get(at)) {
            None => {
                self.calls += 1;
                self.doing.push(words);
            }
            Some(queued) => {
                self.wake_at(queued.until);
                self.waits_outside(
                    at,
                    Outside::Turn,
                    format!("waits for the turn of its call: {title}"),
                );
            }
        }
    }

    fn waits_until(&mut self, at: DateTime<Utc>, place: &Place, words: String) {
        self.wake_at(at);
        self.waiting.push(place.clone());
        self.doing.push(words);
    }

    fn asking(&mut self, until: DateTime<Utc>, tell: &Telling, place: &Place, title: &str) {
        match tell {
            Telling::Out { .. } => self.message(place.within("told")),
            Telling::Again { at, .. } => self.wake_at(*at),
            Telling::Over => {}
        }
        // Whoever keeps the question says when its time is over; until then it is not looked at all
        // the time.
        self.wake_at(until.max(self.now + TimeDelta::milliseconds(250)));
        self.waits_outside(place, Outside::Decision, format!("waits for a decision: {title}"));
    }

    fn reaching(&mut self, reaching: &Reaching, place: &Place) {
        reaching.due().into_iter().for_each(|at| self.wake_at(at));
        if reaching.is_out() {
            self.message(place.within("reached"));
        }
    }

    /// A message that may be out, or waits for its turn.
    fn message(&mut self, at: Place) {
        match self.queued.and_then(|queued| queued.get(&at)) {
            None => self.calls += 1,
            Some(queued) => {
                self.wake_at(queued.until);
                self.outside.push((at, Outside::Turn));
            }
        }
    }

    fn waits_outside(&mut self, place: &Place, what: Outside, words: String) {
        self.outside.push((place.clone(), what));
        self.waiting.push(place.clone());
        self.doing.push(words);
    }

    /// A step that takes too long is stopped; what it waits for then is no time.
    fn time(&mut self, step: &Step, open: &Open) {
        let over = open.timeout(step).map(|timeout| open.since + timeout.delta());
        over.filter(|over| *over > self.now).into_iter().for_each(|over| self.wake_at(over));
    }
}
