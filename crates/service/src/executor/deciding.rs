//! The jobs that nobody has begun and whose first events are decided about here.

use arvok_core::JobId;
use arvok_store::jobs::ClaimedJob;
use std::{
    collections::BTreeSet,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

/// Those of this node.
#[derive(Debug, Default)]
pub(super) struct DecidingJobs(Mutex<BTreeSet<JobId>>);

impl DecidingJobs {
    fn jobs(&self) -> MutexGuard<'_, BTreeSet<JobId>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// All of them.
    pub fn all(&self) -> Vec<JobId> {
        self.jobs().iter().copied().collect()
    }

    /// Keeps jobs out of the next claims as long as what comes back is held.
    pub fn hold(all: &Arc<Self>, jobs: &[ClaimedJob]) -> Deciding {
        let jobs: Vec<JobId> = jobs.iter().map(|job| job.id).collect();
        all.jobs().extend(&jobs);
        Deciding { all: Arc::clone(all), jobs }
    }
}

/// Keeps jobs out of the next claims while their first events are decided about.
pub(super) struct Deciding {
    all: Arc<DecidingJobs>,
    jobs: Vec<JobId>,
}

impl Drop for Deciding {
    fn drop(&mut self) {
        let mut deciding = self.all.jobs();
        self.jobs.iter().for_each(|job| _ = deciding.remove(job));
    }
}
