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

    /// Whether it concerns a job.
    pub fn concerns(&self, job: &GuardedJob<'_>) -> bool {
        let in_group = || match (&self.guard.concerns.group, &self.group) {
            (None, _) => true,
            (Some(_), Some(group)) => group.has(job.target),
            // Whom it concerns is not known: rather too many are counted than one is passed over.
            (Some(_), None) => true,
        };
        self.guard.concerns.hold_for(job) && in_group()
    }
}
