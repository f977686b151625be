//! Looking at what is due: rules that wait for time to pass.
//!
//! Any node may take any due time. This one sleeps until the next that it knows of, but never
//! long, since others make due times too.

use crate::{clock, node::Node};
use arvok_store::{
    StoreError,
    intake::{self, Slots},
    mutes,
};
use chrono::{DateTime, Utc};
use std::{collections::BTreeSet, sync::Arc, time::Duration};

/// Longest sleep.
const LOOK: Duration = Duration::from_millis(500);

/// Rules that this node does not know, in the generation of which it does not.
#[derive(Default)]
struct Unknown {
    generation: i64,
    rules: BTreeSet<String>,
}

/// Settles what is due until the node stops.
pub(crate) async fn watch_due(node: Arc<Node>) {
    let mut stopping = node.stopping.clone();
    let mut unknown = Unknown::default();
    loop {
        let mut next = None;
        if let Err(e) = mutes::release(&node.pools.work).await {
            tracing::error!("what was muted: {e}");
        }
        for slots in [Slots::Tallies, Slots::Pools] {
            match settle_all(&node, slots, &mut unknown).await {
                Ok(at) => next = [next, at].into_iter().flatten().min(),
                Err(e) => tracing::error!("due times: {e}"),
            }
        }
        let sleep = next
            .and_then(|at: DateTime<Utc>| (at - clock::now()).to_std().ok())
            .unwrap_or(LOOK)
            .min(LOOK);
        tokio::select! {
            _ = stopping.changed() => return,
            () = node.wakeups.due.notified() => {}
            () = tokio::time::sleep(sleep.max(Duration::from_millis(1))) => {}
        }
    }
}

/// Takes what is due, batch by batch; when the next is.
async fn settle_all(
    node: &Node,
    slots: Slots,
    unknown: &mut Unknown,
) -> Result<Option<DateTime<Utc>>, StoreError> {
    loop {
        let published = node.published();
        if unknown.generation != published.generation {
            *unknown = Unknown { generation: published.generation, rules: BTreeSet::new() };
        }
        let done = intake::settle_due(
            &node.pools.work,
            published.rules(),
            slots,
            &unknown.rules,
            clock::now(),
        )
        .await;
        let done = match done {
            Err(StoreError::Stale(generation)) => {
                node.know(generation).await?;
                continue;
            }
            done => done?,
        };
        if !done.change.jobs.is_empty() {
            node.wakeups.jobs.notify_one();
        }
        node.announcer.tell(done.change);
        for (rule, key, reason) in &done.aside {
            node.metrics.intake.set_aside.inc();
            tracing::error!(rule, key, "what was due cannot be handled and is set aside: {reason}");
        }
        if !done.unknown.is_empty() {
            tracing::warn!(rules = ?done.unknown, "due times of rules that this node does not know \
                are left to others");
            unknown.rules.extend(done.unknown);
            continue;
        }
        if done.taken == 0 {
            return Ok(done.next);
        }
    }
}
