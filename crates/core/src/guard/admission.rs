//! Whether a job may begin, by what a guard knows of the jobs before it.
//!
//! A [`GuardState`] is what stands in the records at one moment, while nobody else can begin a job
//! of the guard. [`StandingGuard::admit`] decides about one job, and [`StandingGuard::count`] adds
//! what was admitted, so that several are decided about one after another by the same state.

use super::{AHEAD, Ceiling, GuardedJob, LaunchedBy, Otherwise, StandingGuard};
use crate::{JobId, Period, share::Share};
use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::{
    cmp::{Ordering, Reverse},
    collections::{BTreeMap, BTreeSet},
};

/// How many targets are named where a guard holds something.
const NAMED: usize = 3;

/// What a guard knows of jobs that it concerns.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct GuardState {
    /// The jobs that are under way, with their targets.
    pub under_way: Vec<(JobId, String)>,
    /// What these have touched besides.
    pub touched: Vec<(JobId, String)>,
    /// When those began that count for `per`, the newest first; no more than it allows.
    pub begun: Vec<DateTime<Utc>>,
    /// What those within the time of `ceiling` have together.
    pub used: f64,
    /// When the first of these began.
    pub used_since: Option<DateTime<Utc>>,
    /// The last job that failed or did not help, and when.
    pub failed: Option<(JobId, DateTime<Utc>)>,
    /// How many jobs of each runbook failed or did not help, since its circuit was closed last.
    pub failures: BTreeMap<String, u32>,
    /// The circuits that are open.
    pub circuits: Vec<OpenCircuit>,
    /// The first of those that it holds.
    pub first_held: Option<QueuePlace>,
}

/// A circuit that is open: rules propose the jobs of a runbook, and dispatch none.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OpenCircuit {
    /// The guard.
    pub guard: String,
    /// The runbook.
    pub runbook: String,
    /// Since when.
    pub since: DateTime<Utc>,
    /// How many jobs had failed or not helped.
    pub failures: u32,
}

/// Where a job stands in the queue: what is more urgent comes first, then what has to begin sooner,
/// then what was made first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct QueuePlace {
    /// How urgent it is: the stored number.
    pub urgency: i16,
    /// Until when it has to begin.
    pub deadline: Option<DateTime<Utc>>,
    /// Its number.
    pub id: JobId,
}

impl QueuePlace {
    /// Which of two stands first.
    pub fn order(&self, other: &Self) -> Ordering {
        let key = |place: &Self| {
            let deadline = place.deadline.unwrap_or(DateTime::<Utc>::MAX_UTC);
            (Reverse(place.urgency), deadline, place.id)
        };
        key(self).cmp(&key(other))
    }
}

/// Why a job is held, and until when if that is known.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct GuardHold {
    /// The guard.
    pub guard: String,
    /// Why, with the numbers.
    pub why: String,
    /// When it is looked at anew at the latest, if that is known.
    pub until: Option<DateTime<Utc>>,
}

/// Whether a job may begin.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Admission {
    /// It may.
    Admit,
    /// It waits.
    Hold(GuardHold),
    /// It never will.
    Refuse(GuardHold),
}

impl StandingGuard {
    /// Whether a job that it concerns may begin.
    pub fn admit(
        &self,
        now: DateTime<Utc>,
        state: &GuardState,
        (job, place): (&GuardedJob<'_>, &QueuePlace),
    ) -> Admission {
        if job.overruled.iter().any(|name| *name == self.guard.name) {
            return Admission::Admit;
        }
        let held = |why: String, until| GuardHold { guard: self.guard.name.clone(), why, until };
        if let Some(why) = self.never(job) {
            return Admission::Refuse(held(why, None));
        }
        let Some((why, until)) = self.obstacle(now, state, job, place) else {
            return Admission::Admit;
        };
        match self.guard.otherwise {
            Otherwise::Hold => Admission::Hold(held(why, until)),
            Otherwise::Refuse => Admission::Refuse(held(why, until)),
        }
    }

    /// Adds a job that begins to what is known.
    pub fn count(&self, now: DateTime<Utc>, state: &mut GuardState, job: &GuardedJob<'_>) {
        if self.guard.counts_targets() {
            state.under_way.push((job.id, job.target.to_owned()));
        }
        if self.guard.per.is_some() {
            state.begun.insert(0, now);
        }
        if let Some(amount) = self.amount(job) {
            state.used += amount;
            state.used_since = state.used_since.or(Some(now));
        }
    }

    /// How many that it holds may begin as far as is known, at most so many.
    pub fn room(&self, now: DateTime<Utc>, state: &GuardState, most: usize) -> usize {
        let mut room = most;
        if let Some(share) = self.guard.at_once {
            let busy: BTreeSet<&str> = self.in_use(state).map(|(_, t)| t.as_str()).collect();
            room = room.min((share.of(self.size()) as usize).saturating_sub(busy.len()));
        }
        if let Some((most, begun)) = self.begun_within(now, state) {
            room = room.min(most.saturating_sub(begun.len()));
        }
        if self.after_failure(now, state).is_some() || self.not_now(now).is_some() {
            room = 0;
        }
        room
    }

    /// The input that is added up, as far as a job has it.
    pub fn amount(&self, job: &GuardedJob<'_>) -> Option<f64> {
        let ceiling = self.guard.ceiling.as_ref()?;
        // What takes something away makes no room for others.
        job.inputs.get(&ceiling.input).and_then(Value::as_f64).filter(|amount| *amount > 0.0)
    }

    /// The circuit of a runbook that opens by what is known; none if it is open.
    pub fn opens(&self, now: DateTime<Utc>, state: &GuardState) -> Vec<OpenCircuit> {
        let Some(circuit) = self.guard.circuit else { return Vec::new() };
        let is_open = |runbook: &str| state.circuits.iter().any(|open| open.runbook == runbook);
        let opened = |(runbook, failures): (&String, &u32)| OpenCircuit {
            guard: self.guard.name.clone(),
            runbook: runbook.clone(),
            since: now,
            failures: *failures,
        };
        let over = state.failures.iter().filter(|(_, failures)| **failures >= circuit.failures);
        over.filter(|(runbook, _)| !is_open(runbook)).map(opened).collect()
    }

    /// Why a job will never begin.
    fn never(&self, job: &GuardedJob<'_>) -> Option<String> {
        let (ceiling, amount) = (self.guard.ceiling.as_ref()?, self.amount(job)?);
        (amount > ceiling.most).then(|| {
            let (input, most, within) = (&ceiling.input, ceiling.most, ceiling.within);
            format!("it asks for {amount} of {input}, and {most} within {within} is all there is")
        })
    }

    /// What stands in the way of a job, and until when if that is known.
    fn obstacle(
        &self,
        now: DateTime<Utc>,
        state: &GuardState,
        job: &GuardedJob<'_>,
        place: &QueuePlace,
    ) -> Option<(String, Option<DateTime<Utc>>)> {
        if let Some(obstacle) = self.not_now(now) {
            return Some(obstacle);
        }
        if let Some(why) = self.open_circuit(state, job) {
            return Some((why, None));
        }
        if let Some(why) = self.too_many(state, job).or_else(|| self.stands_in(state, job)) {
            return Some((why, None));
        }
        if let Some((most, begun)) = self.begun_within(now, state)
            && begun.len() >= most
        {
            let within = self.guard.per.map_or(Period::from_secs(0), |per| per.within);
            let frees = begun.get(most.saturating_sub(1)).map(|at| *at + within.delta());
            let why = format!("{} of {most} jobs began within {within}", begun.len());
            return Some((why, frees));
        }
        if let Some(obstacle) = self.after_failure(now, state) {
            return Some(obstacle);
        }
        if let Some(obstacle) = self.touched(now, job) {
            return Some(obstacle);
        }
        if let Some(obstacle) = self.used_up(state, job) {
            return Some(obstacle);
        }
        // Who came first begins first, where the first that waits is the first that may begin.
        let waits = state.first_held.filter(|first| {
            let is_its_own = job.let_back_by == Some(self.guard.name.as_str());
            !self.guard.is_selective() && !is_its_own && first.order(place) == Ordering::Less
        });
        waits.map(|first| (format!("job {} waits for the same before it", first.id), None))
    }

    /// Why none begins at this time.
    fn not_now(&self, now: DateTime<Utc>) -> Option<(String, Option<DateTime<Utc>>)> {
        let mut times = self.frozen.iter().chain(&self.only);
        if let Some(unknown) = times.find(|times| !times.reach(now)) {
            let why = format!("what is on in calendar {} is not known yet", unknown.calendar);
            return Some((why, None));
        }
        if let Some(freeze) = self.freeze(now) {
            return Some((freeze.in_words(), Some(freeze.until)));
        }
        let only = self.only.as_ref().filter(|only| only.on_at(now).is_none())?;
        let next = only.next_after(now);
        let next_words = next.map_or_else(
            || format!("none comes within {AHEAD}"),
            |next| format!("{} is next", next.summary),
        );
        let why = format!("none begins outside of calendar {}; {next_words}", only.calendar);
        Some((why, next.map(|next| next.from)))
    }

    /// The freeze that stands at a moment.
    pub fn freeze(&self, now: DateTime<Utc>) -> Option<Freeze> {
        let frozen = self.frozen.as_ref()?;
        let event = frozen.on_at(now)?;
        Some(Freeze {
            guard: self.guard.name.clone(),
            calendar: frozen.calendar.clone(),
            event: event.summary.clone(),
            until: event.until,
        })
    }

    /// Targets that are under way, but for those of the jobs above, which wait for this one.
    fn busy<'s>(
        &'s self,
        state: &'s GuardState,
        job: &'s GuardedJob<'_>,
    ) -> impl Iterator<Item = &'s (JobId, String)> {
        self.in_use(state)
            .filter(|(id, target)| *id != job.id && !job.above.contains(id) && target != job.target)
    }

    /// Targets that are under way, and what their jobs have touched of what it counts.
    pub(super) fn in_use<'s>(
        &'s self,
        state: &'s GuardState,
    ) -> impl Iterator<Item = &'s (JobId, String)> {
        let touched = state.touched.iter().filter(|(_, resource)| self.counts_touched(resource));
        state.under_way.iter().chain(touched)
    }

    /// Whether another job touches the target, or has touched it lately.
    fn touched(
        &self,
        now: DateTime<Utc>,
        job: &GuardedJob<'_>,
    ) -> Option<(String, Option<DateTime<Utc>>)> {
        let (untouched, touch) = (self.guard.untouched?, job.touched?);
        let until = touch.until(untouched, now)?;
        let why = format!("{}; it is left alone for {untouched}", touch.in_words());
        Some((why, touch.ended.map(|_| until)))
    }

    fn too_many(&self, state: &GuardState, job: &GuardedJob<'_>) -> Option<String> {
        let most = self.guard.at_once?.of(self.size()) as usize;
        let busy: BTreeMap<&str, JobId> =
            self.busy(state, job).map(|(id, target)| (target.as_str(), *id)).collect();
        (busy.len() >= most).then(|| {
            let named = busy.iter().take(NAMED).map(|(target, id)| format!("{target} (job {id})"));
            let mut named = named.collect::<Vec<_>>().join(", ");
            if busy.len() > NAMED {
                named.push_str(&format!(" and {} more", busy.len() - NAMED));
            }
            format!("{} of {} under way: {named}", busy.len(), self.most_targets(most))
        })
    }

    /// How many targets there may be, in words.
    fn most_targets(&self, most: usize) -> String {
        let targets = if most == 1 { "target" } else { "targets" };
        match (self.guard.at_once, self.group.as_ref().and_then(|g| Some((g, g.size()?)))) {
            (Some(Share::Percent(percent)), Some((group, size))) => {
                format!("{most} {targets} ({percent} % of the {size} of group {})", group.name)
            }
            _ => format!("{most} {targets} at once"),
        }
    }

    fn stands_in(&self, state: &GuardState, job: &GuardedJob<'_>) -> Option<String> {
        let sets = self.guard.redundant.iter().filter(|set| set.contains(job.target));
        sets.flat_map(|set| {
            self.busy(state, job).filter(|(_, target)| set.contains(target.as_str()))
        })
        .map(|(id, target)| format!("{target} stands in for it, and is under way (job {id})"))
        .next()
    }

    /// How many may begin within the time of `per`, and when those began that have.
    fn begun_within<'s>(
        &self,
        now: DateTime<Utc>,
        state: &'s GuardState,
    ) -> Option<(usize, &'s [DateTime<Utc>])> {
        let per = self.guard.per?;
        let most = per.jobs.of(self.size()) as usize;
        let from = now - per.within.delta();
        let within = state.begun.iter().take_while(|at| **at > from).count();
        Some((most, &state.begun[..within]))
    }

    fn after_failure(
        &self,
        now: DateTime<Utc>,
        state: &GuardState,
    ) -> Option<(String, Option<DateTime<Utc>>)> {
        let (after, (id, at)) = (self.guard.after_failure?, state.failed?);
        let until = at + after.delta();
        (now < until).then(|| {
            let why = format!("job {id} failed or did not help, and none begins for {after} after");
            (why, Some(until))
        })
    }

    fn used_up(
        &self,
        state: &GuardState,
        job: &GuardedJob<'_>,
    ) -> Option<(String, Option<DateTime<Utc>>)> {
        let (ceiling, amount) = (self.guard.ceiling.as_ref()?, self.amount(job)?);
        (rounded(state.used + amount) > ceiling.most).then(|| {
            let Ceiling { input, most, within } = ceiling;
            let why = format!(
                "{} of {most} of {input} are used within {within}, and it asks for {amount}",
                rounded(state.used)
            );
            (why, state.used_since.map(|since| since + within.delta()))
        })
    }

    fn open_circuit(&self, state: &GuardState, job: &GuardedJob<'_>) -> Option<String> {
        self.guard.circuit.filter(|_| job.launched_by != LaunchedBy::People)?;
        let open = state.circuits.iter().find(|open| open.runbook == job.runbook)?;
        Some(open.in_words())
    }
}

impl OpenCircuit {
    /// Why rules do not dispatch, in words.
    pub fn in_words(&self) -> String {
        let Self { guard, runbook, since, failures } = self;
        let since = since.format("%H:%M:%S UTC");
        format!(
            "{failures} jobs of {runbook} failed or did not help by {since}; rules propose it until \
            somebody says that it goes on (arvok guard resume {guard})"
        )
    }
}

/// A guard that lets none begin while an event of a calendar is on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Freeze {
    /// The guard.
    pub guard: String,
    /// The calendar.
    pub calendar: String,
    /// What the event is called.
    pub event: String,
    /// When it ends.
    pub until: DateTime<Utc>,
}

impl Freeze {
    /// Why none begins, in words.
    pub fn in_words(&self) -> String {
        format!("frozen by {} of calendar {}", self.event, self.calendar)
    }
}

/// The time that is waited for at the least before what is held is looked at anew.
pub fn look_again(now: DateTime<Utc>, held: &GuardHold) -> DateTime<Utc> {
    let latest = now + TimeDelta::seconds(30);
    held.until.map_or(latest, |until| until.clamp(now + TimeDelta::milliseconds(100), latest))
}

/// A sum without the dust of adding.
pub(super) fn rounded(sum: f64) -> f64 {
    (sum * 1e6).round() / 1e6
}
