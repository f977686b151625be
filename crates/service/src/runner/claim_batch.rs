//! Jobs that nobody has begun yet begin several at once: what they need is read, their first events are decided about, and
//! what comes of that is recorded, while one transaction holds their rows. To decide takes next to no time, and if it does
//! take some the transaction is given up: then each is claimed alone and decided about outside of any, so that none is
//! another's problem.

use super::event::{Begun, First, PendingEvent};
use crate::{clock, node::Node};
use arvok_api::Change;
use arvok_core::{Alert, JobId};
use arvok_store::{
    Class, StoreError,
    jobs::{self, ClaimBatch, ClaimedJob},
    read,
};
use std::{
    collections::BTreeMap,
    panic::{AssertUnwindSafe, catch_unwind},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

/// How long deciding about all of them may take while their rows are held.
const PATIENCE: Duration = Duration::from_millis(100);

/// None of so many could be begun; their turn comes again.
pub(super) struct NotOpened(pub usize);

/// Begins jobs; each as it goes on, none for one that could not be begun.
pub(super) async fn open(
    node: &Node,
    batch: ClaimBatch,
    held: Vec<ClaimedJob>,
) -> Result<Vec<Option<Begun>>, NotOpened> {
    let all: Vec<JobId> = held.iter().map(|job| job.id).collect();
    match open_all(node, batch, held).await {
        Ok(begun) => {
            node.announcer.tell(Change { jobs: all.iter().map(|id| id.0).collect(), ..Change::default() });
            return Ok(begun);
        }
        // Another on its target was quicker, or deciding about it takes longer; its turn comes.
        Err(StoreError::Behind | StoreError::Contended(_)) if all.len() == 1 => {}
        Err(e) => match all.as_slice() {
            [id] => put_back(node, *id, &e.to_string()).await,
            _ => tracing::debug!(jobs = all.len(), "they begin one by one: {e}"),
        },
    }
    Err(NotOpened(all.len()))
}

async fn open_all(node: &Node, batch: ClaimBatch, held: Vec<ClaimedJob>) -> Result<Vec<Option<Begun>>, StoreError> {
    let seqs: Vec<i64> = held.iter().filter_map(|job| job.alert.map(|alert| alert.0)).collect();
    let alerts = match seqs.as_slice() {
        [] => BTreeMap::new(),
        seqs => read::whole_alerts(batch.db(), seqs).await?,
    };
    let mut all = Vec::new();
    for job in held {
        let alert = job.alert.and_then(|alert| alerts.get(&alert.0).cloned());
        all.push((job.id, first(node, &batch, job, alert).await.map_err(|e| e.to_string())));
    }
    let decided = match decided(node, all).await {
        Ok(decided) => decided,
        Err(e) => {
            batch.give_up().await?;
            return Err(e);
        }
    };
    let (mut begun, mut failed) = (Vec::new(), Vec::new());
    for (id, decided) in decided {
        match decided {
            Ok(one) => begun.push(Some(one)),
            Err(why) => {
                begun.push(None);
                failed.push((id, why));
            }
        }
    }
    let going = || begun.iter().flatten();
    let standing: Vec<_> = going().filter(|b| b.begins_at_once()).map(Begun::standing).collect();
    let claimed: Vec<_> = going().filter(|b| !b.begins_at_once()).map(Begun::claim).collect();
    let begun = match batch.keep(&standing, &claimed, clock::now()).await {
        Ok(()) => begun.into_iter().map(|begun| begun.map(Begun::opened)).collect(),
        // They may have been kept: what is recorded next tells.
        Err(e) if e.class() != Class::Lasting => {
            tracing::warn!(jobs = begun.len(), "their first records are tried again: {e}");
            begun
        }
        Err(e) => return Err(e),
    };
    for (id, why) in failed {
        put_back(node, id, &why).await;
    }
    Ok(begun)
}

/// What is needed to decide about the first event of a job.
async fn first(node: &Node, batch: &ClaimBatch, held: ClaimedJob, alert: Option<Alert>) -> Result<First, StoreError> {
    let runbook = node.runbook_by(batch.db(), &held.runbook, held.runbook_version).await?;
    PendingEvent::of(node, held, runbook, alert, Some(batch)).await
}

type Decided = Vec<(JobId, Result<Begun, String>)>;

/// Decides about all of them, off the workers.
///
/// # Errors
/// [`StoreError::Contended`] if it takes longer than rows may be held for it: nothing was decided.
async fn decided(node: &Node, all: Vec<(JobId, Result<First, String>)>) -> Result<Decided, StoreError> {
    let too_late = Arc::new(AtomicBool::new(false));
    let given_up = Arc::clone(&too_late);
    let now = clock::now();
    let decide = move || {
        let one = |first: First| match first {
            First::Over(begun) => Ok(*begun),
            First::Pending(pending) => catch_unwind(AssertUnwindSafe(|| pending.decide_first(now)))
                .map_err(|_| "deciding about it ended unexpectedly; the log says where".to_owned()),
        };
        let all = all.into_iter().take_while(|_| !given_up.load(Ordering::Relaxed));
        all.map(|(id, first)| (id, first.and_then(one))).collect::<Decided>()
    };
    match tokio::time::timeout(PATIENCE, node.decide(decide)).await {
        Ok(decided) => decided,
        Err(_) => {
            too_late.store(true, Ordering::Relaxed);
            Err(StoreError::Contended("the first events of jobs"))
        }
    }
}

/// It counts as left behind, so that what can never begin does not keep the others from their turn.
async fn put_back(node: &Node, id: JobId, why: &str) {
    tracing::error!(job = id.0, "the job is let go: {why}");
    if let Err(e) = jobs::put_back(&node.work_db, id, why).await {
        tracing::error!(job = id.0, "the job cannot be put back: {e}");
    }
}
