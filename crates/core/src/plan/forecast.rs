//! What freezes would hold back of the runs to come.

use super::{Plan, job_name};
use crate::{
    JobId, Kind,
    calendar::NamedCalendar,
    definition::Others,
    group::Group,
    guard::{AtTimes, Guard, GuardedJob, KnownTimes, LaunchedBy},
    rule::Urgency,
    runbook::{Action, Runbook},
};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::Value;

/// A guard that lets nothing of a plan begin at a time at which it runs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlannedFreeze {
    /// The guard.
    pub guard: String,
    /// Why, in words.
    pub because: String,
    /// When the run, or what it launches, may begin, if that is known.
    pub until: Option<DateTime<Utc>>,
}

/// A guard with times, as far as it concerns a plan.
struct Timed {
    guard: String,
    frozen: Option<KnownTimes>,
    only: Option<KnownTimes>,
}

/// How far behind the last time the end of a freeze is looked for.
const BEHIND: TimeDelta = TimeDelta::days(31);

impl Plan {
    /// Of each time, which come one after another, what holds a run back that is due then.
    pub fn freezes(
        &self,
        others: &dyn Others,
        times: &[DateTime<Utc>],
    ) -> Vec<Option<PlannedFreeze>> {
        let (Some(first), Some(last)) = (times.first(), times.last()) else { return Vec::new() };
        let guards = others.names(Kind::Guard).into_iter();
        let timed: Vec<Timed> = guards
            .filter_map(|name| others.get::<Guard>(name).ok())
            .filter(|guard| guard.frozen.is_some() || guard.only.is_some())
            .filter(|guard| self.is_concern_of(guard, others))
            .map(|guard| {
                let known = |at: &Option<AtTimes>| {
                    let at = at.as_ref()?;
                    let named = others.get::<NamedCalendar>(&at.calendar).ok()?;
                    let events = named.calendar.within(*first, *last + BEHIND);
                    Some(at.times(Some(&events), *first))
                };
                Timed {
                    guard: guard.name.clone(),
                    frozen: known(&guard.frozen),
                    only: known(&guard.only),
                }
            })
            .collect();
        let at = |time: &DateTime<Utc>| timed.iter().find_map(|guard| guard.holds(*time));
        times.iter().map(at).collect()
    }

    /// Whether a guard concerns its runs, or what they launch.
    fn is_concern_of(&self, guard: &Guard, others: &dyn Others) -> bool {
        let own = job_name(&self.name);
        let group = guard.concerns.group.as_ref();
        let group = group.and_then(|name| others.get::<Group>(name).ok());
        let concerns = |runbook: &str, target: &str| {
            let job = GuardedJob {
                id: JobId(0),
                runbook,
                target,
                rule: None,
                launched_by: LaunchedBy::Plans,
                urgency: Urgency::Normal,
                inputs: &Value::Null,
                above: &[],
                overruled: &[],
                labels: None,
                touched: None,
                let_back_by: None,
            };
            guard.concerns.hold_for(&job) && group.is_none_or(|group| group.has(target))
        };
        if concerns(&own, &own) {
            return true;
        }
        let resources = self.resources(others).unwrap_or_default();
        if self.of.is_some() {
            return resources.into_iter().any(|resource| concerns(&self.runs, resource));
        }
        self.only_target(others).is_some_and(|target| concerns(&self.runs, &target))
    }

    /// What its one job acts on, if that does not depend on what a run finds.
    pub(super) fn only_target(&self, others: &dyn Others) -> Option<String> {
        let runbook = others.get::<Runbook>(&self.runs).ok()?;
        let child = self.runbook.steps.iter().find_map(|step| match &step.action {
            Action::Child(child) => Some(child),
            _ => None,
        })?;
        let Some(Value::Object(given)) = child.give.fixed() else { return None };
        Some(runbook.prepare(given, others).ok()?.target.to_string())
    }
}

impl Timed {
    fn holds(&self, at: DateTime<Utc>) -> Option<PlannedFreeze> {
        let found = |because: String, until: Option<DateTime<Utc>>| {
            Some(PlannedFreeze { guard: self.guard.clone(), because, until })
        };
        if let Some((frozen, event)) = self.frozen.as_ref().and_then(|f| Some((f, f.on_at(at)?))) {
            let words = format!("frozen by {} of calendar {}", event.summary, frozen.calendar);
            return found(words, Some(event.until));
        }
        match &self.only {
            Some(only) if only.on_at(at).is_none() => found(
                format!("only during calendar {}", only.calendar),
                only.next_after(at).map(|event| event.from),
            ),
            _ => None,
        }
    }
}
