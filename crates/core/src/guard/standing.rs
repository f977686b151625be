//! A guard that is published, with the group that it takes shares of.

use super::{Guard, GuardedJob, KnownTimes};
use crate::group::Group;
use std::sync::Arc;

/// A guard with its group.
#[derive(Clone, Debug)]
pub struct StandingGuard {
    /// The guard.
    pub guard: Arc<Guard>,
    /// The group that its targets belong to, if it names one.
    pub group: Option<Arc<Group>>,
    /// The times at which none begins.
    pub frozen: Option<KnownTimes>,
    /// The times at which alone they begin.
    pub only: Option<KnownTimes>,
    /// The guard's version.
    pub version: i32,
    /// The group's version; 0 if it names none.
    pub group_version: i32,
}

impl StandingGuard {
    /// How many resources its group has.
    pub fn size(&self) -> Option<u32> {
        self.group.as_ref().and_then(|group| group.size())
    }

    /// What its jobs are counted as: for this version of it and of its group, and for no other.
    pub fn counted_as(&self) -> String {
        format!("{}@{}.{}", self.guard.name, self.version, self.group_version)
    }

    /// Whether it concerns a job.
    pub fn concerns(&self, job: &GuardedJob<'_>) -> bool {
        self.guard.concerns.hold_for(job) && self.has_in_group(job.target)
    }

    /// Whether a resource that a job touches is one of those that it counts, besides the job's
    /// target.
    pub fn counts_touched(&self, resource: &str) -> bool {
        let stands_in = self.guard.redundant.iter().any(|set| set.contains(resource));
        stands_in || (self.guard.concerns.selects(resource) && self.has_in_group(resource))
    }

    fn has_in_group(&self, resource: &str) -> bool {
        match (&self.guard.concerns.group, &self.group) {
            (None, _) => true,
            (Some(_), Some(group)) => group.has(resource),
            // Whom it concerns is not known: rather too many are counted than one is passed over.
            (Some(_), None) => true,
        }
    }
}
