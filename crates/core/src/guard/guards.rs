//! All guards that are published.

use super::{Freeze, GuardedJob, OpenCircuit, StandingGuard};
use crate::{Alert, rule::Rule};
use chrono::{DateTime, Utc};

/// All of them.
#[derive(Clone, Debug, Default)]
pub struct Guards(Vec<StandingGuard>);

impl Guards {
    /// No guards.
    pub const NONE: Self = Self(Vec::new());

    /// Puts guards together.
    pub fn new(guards: impl IntoIterator<Item = StandingGuard>) -> Self {
        let mut all: Vec<StandingGuard> = guards.into_iter().collect();
        all.sort_by(|a, b| a.guard.name.cmp(&b.guard.name));
        Self(all)
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// All of them, in the order of their names.
    pub fn iter(&self) -> impl Iterator<Item = &StandingGuard> {
        self.0.iter()
    }

    /// One of them.
    pub fn get(&self, name: &str) -> Option<&StandingGuard> {
        self.0.iter().find(|standing| standing.guard.name == name)
    }

    /// Why a rule proposes what it would dispatch, if any of its runbooks has an open circuit.
    pub fn stop(&self, rule: &Rule, circuits: &[OpenCircuit]) -> Option<String> {
        let breaks = |open: &&OpenCircuit| {
            let standing = self.get(&open.guard).filter(|s| s.guard.circuit.is_some());
            let entries = rule.dispatch.iter().filter(|entry| entry.runbook == open.runbook);
            standing.is_some_and(|standing| {
                entries.into_iter().any(|entry| {
                    let what = (entry.runbook.as_str(), entry.urgency);
                    standing.concerns(&GuardedJob::of_rule(&rule.name, what, "", None))
                })
            })
        };
        circuits.iter().find(breaks).map(OpenCircuit::in_words)
    }

    /// Whether any of them lets nothing begin at a moment.
    pub fn freeze_at(&self, now: DateTime<Utc>) -> bool {
        self.0.iter().any(|standing| standing.freeze(now).is_some())
    }

    /// The freeze that keeps a rule from acting on an alert at a moment; of several that which ends
    /// last. The alert's resource is taken for the target of what the rule would dispatch.
    pub fn freeze_of(&self, rule: &Rule, alert: &Alert, now: DateTime<Utc>) -> Option<Freeze> {
        let (resource, labels) = (alert.resource.as_str(), Some(&alert.labels));
        let concerns = |standing: &&StandingGuard| {
            rule.dispatch.iter().any(|entry| {
                let what = (entry.runbook.as_str(), entry.urgency);
                standing.concerns(&GuardedJob::of_rule(&rule.name, what, resource, labels))
            })
        };
        let freezes = self.0.iter().filter(|s| s.guard.frozen.is_some()).filter(concerns);
        freezes.filter_map(|standing| standing.freeze(now)).max_by_key(|freeze| freeze.until)
    }

    /// Whether any of them concerns a job.
    pub fn concern(&self, job: &GuardedJob<'_>) -> bool {
        self.0.iter().any(|standing| standing.concerns(job))
    }
}
