//! Jobs that guards are asked for begin under locks that are held until the commit, so one batch
//! after the other, over all nodes. The batches of a node that come while one begins wait for their
//! turn here, and then begin together in one commit: what a commit costs is shared by all of them.

use super::event::Begun;
use crate::{clock, node::Node};
use arvok_core::JobId;
use arvok_store::{Class, StoreError, jobs};
use std::{
    collections::{BTreeSet, VecDeque},
    sync::{Mutex, MutexGuard, PoisonError},
};
use tokio::sync::oneshot::{self, error::TryRecvError};

/// Most jobs that begin in one commit.
const TOGETHER: usize = 64;

/// What became of a batch.
pub(super) enum BatchOutcome {
    /// These jobs have begun.
    Kept(BTreeSet<JobId>),
    /// The database went away: all may have begun, and what is recorded next tells.
    Unknown(String),
    /// None has begun.
    Failed(StoreError),
}

/// Jobs that are to begin; none where one could not be decided about.
type Batch = Vec<Option<Begun>>;

/// The batches of a node that wait for their turn.
#[derive(Default)]
pub(super) struct GuardedBatches {
    waiting: Mutex<VecDeque<Waiting>>,
    turn: tokio::sync::Mutex<()>,
}

struct Waiting {
    batch: Batch,
    answer: oneshot::Sender<(Batch, BatchOutcome)>,
}

impl Waiting {
    /// Tells whoever waits for it; nobody, if that was cut off.
    fn answer(self, outcome: BatchOutcome) {
        let _ = self.answer.send((self.batch, outcome));
    }
}

impl GuardedBatches {
    /// Begins a batch, at once if no guard is asked for any of it.
    pub async fn begin(&self, node: &Node, batch: Batch) -> (Batch, BatchOutcome) {
        let guards = &node.published().guards;
        if !batch.iter().flatten().any(|begun| jobs::guards::concerned(guards, &begun.held)) {
            let outcome = begin(node, [&batch].into_iter()).await;
            return (batch, outcome);
        }
        let (answer, mut answered) = oneshot::channel();
        self.waiting().push_back(Waiting { batch, answer });
        let _turn = self.turn.lock().await;
        loop {
            match answered.try_recv() {
                Ok(answered) => return answered,
                // Whoever began it was cut off: its jobs are found again.
                Err(TryRecvError::Closed) => {
                    let cut_off = StoreError::Contended("the turn of a batch");
                    return (Vec::new(), BatchOutcome::Failed(cut_off));
                }
                Err(TryRecvError::Empty) => self.begin_next(node).await,
            }
        }
    }

    /// Begins what waits longest, as much of it as may begin together.
    async fn begin_next(&self, node: &Node) {
        let next = self.next();
        match begin(node, next.iter().map(|waiting| &waiting.batch)).await {
            // What stands in the way of one of them is not the others' problem.
            BatchOutcome::Failed(_) if next.len() > 1 => {
                for waiting in next {
                    let outcome = begin(node, [&waiting.batch].into_iter()).await;
                    waiting.answer(outcome);
                }
            }
            BatchOutcome::Kept(kept) => next
                .into_iter()
                .for_each(|waiting| waiting.answer(BatchOutcome::Kept(kept.clone()))),
            BatchOutcome::Unknown(why) => next
                .into_iter()
                .for_each(|waiting| waiting.answer(BatchOutcome::Unknown(why.clone()))),
            failed @ BatchOutcome::Failed(_) => {
                if let Some(waiting) = next.into_iter().next() {
                    waiting.answer(failed);
                }
            }
        }
    }

    fn next(&self) -> Vec<Waiting> {
        let (mut waiting, mut next, mut jobs) = (self.waiting(), Vec::new(), 0);
        while let Some(first) =
            waiting.pop_front_if(|first| next.is_empty() || jobs + first.batch.len() <= TOGETHER)
        {
            jobs += first.batch.len();
            next.push(first);
        }
        next
    }

    fn waiting(&self) -> MutexGuard<'_, VecDeque<Waiting>> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Begins batches in one commit.
async fn begin<'b>(node: &Node, batches: impl Iterator<Item = &'b Batch>) -> BatchOutcome {
    let firsts = batches.flatten().flatten().map(Begun::first).collect();
    let published = node.published();
    let limited = published.limited();
    match jobs::begin(&node.pools.work, &node.name, firsts, limited, clock::now()).await {
        Ok(kept) => BatchOutcome::Kept(kept),
        Err(e) if e.class() != Class::Lasting => BatchOutcome::Unknown(e.to_string()),
        Err(e) => BatchOutcome::Failed(e),
    }
}
