//! Jobs that nobody has begun yet begin several at once: what they need is read, their first events
//! are decided about, and then their claims and what comes of it are recorded in one commit. Until
//! then nothing of theirs is locked or written. If to decide takes long, each is claimed alone and
//! decided about by itself, so that none is another's problem.

use super::{
    deciding::Deciding,
    event::{Begun, First, PendingEvent},
    guarded_batches::{BatchOutcome, GuardedBatches},
};
use crate::{clock, node::Node};
use arvok_api::Change;
use arvok_core::{Alert, JobId};
use arvok_store::{
    StoreError,
    jobs::{self, ClaimedJob},
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

/// How long deciding about all of them may take.
const PATIENCE: Duration = Duration::from_millis(100);

/// None of so many could be begun; their turn comes again.
pub(super) struct NotOpened(pub usize);

/// Begins jobs, which are kept out of other claims until then; each as it goes on, none for one
/// that was not begun.
pub(super) async fn open(
    (node, guarded): (&Node, &GuardedBatches),
    found: Vec<ClaimedJob>,
    deciding: Deciding,
) -> Result<Vec<Option<Begun>>, NotOpened> {
    let all: Vec<JobId> = found.iter().map(|job| job.id).collect();
    let opened = open_all((node, guarded), found).await;
    drop(deciding);
    match opened {
        Ok(begun) => {
            // Those that have not begun may be held by now.
            let jobs = all.iter().map(|id| id.0).collect();
            node.announcer.tell(Change { jobs, ..Change::default() });
            return Ok(begun);
        }
        // Another on its target was quicker, deciding about it takes longer, or more is published
        // than this node knows; its turn comes.
        Err(StoreError::Behind | StoreError::Contended(_) | StoreError::Stale(_))
            if all.len() == 1 => {}
        Err(e) => match all.as_slice() {
            [id] => put_back(node, *id, &e.to_string()).await,
            _ => tracing::debug!(jobs = all.len(), "they begin one by one: {e}"),
        },
    }
    Err(NotOpened(all.len()))
}

async fn open_all(
    (node, guarded): (&Node, &GuardedBatches),
    found: Vec<ClaimedJob>,
) -> Result<Vec<Option<Begun>>, StoreError> {
    let seqs: Vec<i64> = found.iter().filter_map(|job| job.alert.map(|alert| alert.0)).collect();
    let alerts = match seqs.as_slice() {
        [] => BTreeMap::new(),
        seqs => read::whole_alerts(&node.pools.work, seqs).await?,
    };
    let mut all = Vec::new();
    for job in found {
        let alert = job.alert.and_then(|alert| alerts.get(&alert.0).cloned());
        let id = job.id;
        match first(node, job, alert).await {
            Err(e @ StoreError::Contended(_)) => return Err(e),
            first => all.push((id, first.map_err(|e| e.to_string()))),
        }
    }
    let (mut begun, mut failed) = (Vec::new(), Vec::new());
    for (id, decided) in decided(node, all).await? {
        match decided {
            Ok(one) => begun.push(Some(one)),
            Err(why) => {
                begun.push(None);
                failed.push((id, why));
            }
        }
    }
    let begun = match guarded.begin(node, begun).await {
        // What is missing was begun elsewhere meanwhile, or has ended, or is held.
        (begun, BatchOutcome::Kept(kept)) => begun
            .into_iter()
            .map(|one| one.filter(|b| kept.contains(&b.held.id)).map(Begun::opened))
            .collect(),
        // They may have been kept: what is recorded next tells.
        (begun, BatchOutcome::Unknown(why)) => {
            tracing::warn!(jobs = begun.len(), "their first records are tried again: {why}");
            begun
        }
        (_, BatchOutcome::Failed(e)) => return Err(e),
    };
    for (id, why) in failed {
        put_back(node, id, &why).await;
    }
    Ok(begun)
}

/// What is needed to decide about the first event of a job.
async fn first(node: &Node, found: ClaimedJob, alert: Option<Alert>) -> Result<First, StoreError> {
    let runbook = node.runbook(&found.runbook, found.runbook_version).await?;
    // What runs remember is read by whoever holds the target, and here nobody does yet.
    if runbook.as_ref().is_some_and(|runbook| !runbook.memory.is_empty()) {
        return Err(StoreError::Contended("what runs remember"));
    }
    PendingEvent::prepare(node, found, runbook, alert).await
}

type Decided = Vec<(JobId, Result<Begun, String>)>;

/// Decides about all of them, off the workers.
///
/// # Errors
/// [`StoreError::Contended`] if it takes longer than others wait for it: nothing was decided.
async fn decided(
    node: &Node,
    all: Vec<(JobId, Result<First, String>)>,
) -> Result<Decided, StoreError> {
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
    match tokio::time::timeout(PATIENCE, node.capacity.decide(decide)).await {
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
    if let Err(e) = jobs::put_back(&node.pools.work, id, why).await {
        tracing::error!(job = id.0, "the job cannot be put back: {e}");
    }
}
