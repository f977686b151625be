//! Announcing what was committed: after the commit, and all that a node has to tell within a moment
//! at once.

use arvok_api::Change;
use arvok_store::{DatabaseConnection, changes};
use std::{
    sync::{Mutex, PoisonError},
    time::Duration,
};
use tokio::sync::{Notify, watch};

/// Time between two announcements of a node.
const PAUSE: Duration = Duration::from_millis(50);
/// Time until an announcement that failed is tried again.
const AGAIN: Duration = Duration::from_secs(1);
/// Handles above which everybody is told to ask for everything anew.
const MOST: usize = 2000;

/// What is to be announced.
#[derive(Debug, Default)]
pub(crate) struct Announcer {
    pending: Mutex<Change>,
    anything: Notify,
}

impl Announcer {
    /// Has a change announced soon.
    pub fn tell(&self, change: Change) {
        if change.is_empty() {
            return;
        }
        let mut pending = self.pending.lock().unwrap_or_else(PoisonError::into_inner);
        pending.merge(change);
        let handles = [&pending.alerts, &pending.alarms, &pending.jobs, &pending.proposals];
        if handles.into_iter().map(Vec::len).sum::<usize>() > MOST {
            let definitions = pending.definitions;
            *pending = Change { reset: true, definitions, ..Change::default() };
        }
        drop(pending);
        self.anything.notify_one();
    }

    fn drain(&self) -> Change {
        std::mem::take(&mut *self.pending.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Announces until the node stops, and what is left at the end. What a node did not come to
    /// announce is found in the tables by the others.
    pub async fn run(&self, db: &DatabaseConnection, mut stopping: watch::Receiver<bool>) {
        loop {
            let stops = tokio::select! {
                _ = stopping.changed() => true,
                () = self.anything.notified() => false,
            };
            let change = self.drain();
            if !change.is_empty()
                && let Err(e) = changes::announce(db, change.clone()).await
            {
                tracing::warn!("a change is announced later: {e}");
                self.tell(change);
                tokio::time::sleep(AGAIN).await;
            }
            if stops {
                return;
            }
            tokio::time::sleep(PAUSE).await;
        }
    }
}
