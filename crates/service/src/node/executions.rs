//! The executions of jobs that are alive in this process.

use arvok_store::jobs::{Claim, Renewed};
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError},
};
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};

/// The claims of executions that are alive, and how each is told what people say and what came.
#[derive(Clone, Debug, Default)]
pub(crate) struct Executions(Arc<Mutex<BTreeMap<Claim, UnboundedSender<Renewed>>>>);

/// An execution that is alive.
#[derive(Debug)]
pub(crate) struct Alive {
    executions: Executions,
    claim: Claim,
}

impl Executions {
    /// The claims of those that are alive.
    pub fn claims(&self) -> Vec<Claim> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).keys().copied().collect()
    }

    /// Counts a claim among those alive until the guard is dropped, however the execution ends.
    /// What people say to the job, and how much came for it, comes out beside it at each renewal.
    pub fn keep_alive(&self, claim: Claim) -> (Alive, UnboundedReceiver<Renewed>) {
        let (tell, hear) = unbounded_channel();
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(claim, tell);
        (Alive { executions: self.clone(), claim }, hear)
    }

    /// Tells one that is alive that its claim was renewed, and what is new for its job.
    pub fn tell(&self, renewed: Renewed) {
        if let Some(execution) =
            self.0.lock().unwrap_or_else(PoisonError::into_inner).get(&renewed.claim)
        {
            let _ = execution.send(renewed);
        }
    }
}

impl Drop for Alive {
    fn drop(&mut self) {
        self.executions.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.claim);
    }
}
