//! Jobs that nobody has begun yet begin several at once: what they need is read, and what comes of their first events is
//! recorded, in the transaction that holds them. If that fails, each begins alone, so that none is another's problem.

use super::walk::Begun;
use crate::{clock, node::Node};
use arvok_api::Change;
use arvok_core::{Alert, JobId};
use arvok_store::{
    Class, StoreError,
    jobs::{self, ClaimedJob, Opening},
    read,
};
use futures_util::FutureExt;
use std::{collections::BTreeMap, panic::AssertUnwindSafe};

/// None of so many could be begun; their turn comes again.
pub(super) struct NotOpened(pub usize);

/// Begins jobs; each as it goes on, none for one that could not be begun.
pub(super) async fn open(
    node: &Node,
    opening: Opening,
    held: Vec<ClaimedJob>,
) -> Result<Vec<Option<Begun>>, NotOpened> {
    let all: Vec<JobId> = held.iter().map(|job| job.id).collect();
    match open_all(node, opening, held).await {
        Ok(begun) => {
            node.announcer.tell(Change { jobs: all.iter().map(|id| id.0).collect(), ..Change::default() });
            return Ok(begun);
        }
        // Another on its target was quicker; its turn comes.
        Err(StoreError::Behind) if all.len() == 1 => {}
        Err(e) => match all.as_slice() {
            [id] => put_back(node, *id, &e.to_string()).await,
            _ => tracing::debug!(jobs = all.len(), "they begin one by one: {e}"),
        },
    }
    Err(NotOpened(all.len()))
}

async fn open_all(node: &Node, opening: Opening, held: Vec<ClaimedJob>) -> Result<Vec<Option<Begun>>, StoreError> {
    let seqs: Vec<i64> = held.iter().filter_map(|job| job.alert.map(|alert| alert.0)).collect();
    let alerts = match seqs.as_slice() {
        [] => BTreeMap::new(),
        seqs => read::whole_alerts(opening.db(), seqs).await?,
    };
    let (mut begun, mut failed) = (Vec::new(), Vec::new());
    for job in held {
        let id = job.id;
        let alert = job.alert.and_then(|alert| alerts.get(&alert.0).cloned());
        let why = match AssertUnwindSafe(begin(node, &opening, job, alert)).catch_unwind().await {
            Ok(Ok(one)) => {
                begun.push(Some(one));
                continue;
            }
            Ok(Err(e)) => e.to_string(),
            Err(_) => "the walk ended unexpectedly; the log says where".to_owned(),
        };
        begun.push(None);
        failed.push((id, why));
    }
    let going = || begun.iter().flatten();
    let standing: Vec<_> = going().filter(|b| b.begins_at_once()).map(Begun::standing).collect();
    let claimed: Vec<_> = going().filter(|b| !b.begins_at_once()).map(Begun::claim).collect();
    let begun = match opening.keep(&standing, &claimed, clock::now()).await {
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

async fn begin(node: &Node, opening: &Opening, held: ClaimedJob, alert: Option<Alert>) -> Result<Begun, StoreError> {
    let runbook = node.runbook_by(opening.db(), &held.runbook, held.runbook_version).await?;
    Begun::of(node, held, runbook, alert, Some(opening)).await
}

/// It counts as left behind, so that what can never begin does not keep the others from their turn.
async fn put_back(node: &Node, id: JobId, why: &str) {
    tracing::error!(job = id.0, "the job is let go: {why}");
    if let Err(e) = jobs::put_back(&node.work_db, id, why).await {
        tracing::error!(job = id.0, "the job cannot be put back: {e}");
    }
}
