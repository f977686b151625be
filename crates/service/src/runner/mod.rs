//! Walking jobs through their steps: claims what is due, performs what the machine says.
//!
//! All decisions are the machine's in the core; here its effects are recorded and then
//! performed. The record comes first, always: what may have happened outside is known after any
//! crash.

mod walk;

use crate::node::Node;
use arvok_store::{StoreError, jobs};
use std::{sync::Arc, time::Duration};
use tokio::{sync::Semaphore, task::JoinSet};

/// How often due jobs are looked for when nobody calls.
const LOOK: Duration = Duration::from_millis(500);
/// How often leases are renewed, well within their ten seconds.
const RENEW: Duration = Duration::from_secs(3);
/// How long jobs may go on when the node stops.
const GRACE: Duration = Duration::from_secs(4);

/// Claims and walks jobs until the node stops. Those under way then have a few seconds to end;
/// what is cut off is as after a death: another node takes it up when its lease ends.
pub(crate) async fn run(node: Arc<Node>, at_once: usize) {
    let room = Arc::new(Semaphore::new(at_once.max(1)));
    let mut walks = JoinSet::new();
    let mut stopping = node.stopping.clone();
    let mut look = tokio::time::interval(LOOK);
    look.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = stopping.changed() => break,
            _ = look.tick() => expire(&node).await,
            () = node.work.notified() => {}
            Some(_) = walks.join_next() => {}
        }
        while let Ok(place) = Arc::clone(&room).try_acquire_owned() {
            match jobs::claim(&node.db, &node.name).await {
                Ok(Some(held)) => {
                    let node = Arc::clone(&node);
                    walks.spawn(async move {
                        walk::walk(&node, held).await;
                        drop(place);
                        // Its target is free now, or another of its kind may be waiting.
                        node.work.notify_one();
                    });
                }
                Ok(None) => break,
                Err(e) => {
                    complain(&e);
                    break;
                }
            }
        }
    }
    let ending = async { while walks.join_next().await.is_some() {} };
    if tokio::time::timeout(GRACE, ending).await.is_err() {
        walks.shutdown().await;
    }
}

async fn expire(node: &Node) {
    if let Err(e) = jobs::expire(&node.db).await {
        complain(&e);
    }
}

/// Renews the leases of this node's jobs until it stops.
pub(crate) async fn renew(node: Arc<Node>) {
    let mut stopping = node.stopping.clone();
    let mut tick = tokio::time::interval(RENEW);
    loop {
        tokio::select! {
            _ = stopping.changed() => return,
            _ = tick.tick() => {
                if let Err(e) = jobs::renew(&node.db, &node.name).await {
                    complain(&e);
                }
            }
        }
    }
}

fn complain(e: &StoreError) {
    tracing::error!("jobs: {e}");
}

pub(crate) use walk::settle;
