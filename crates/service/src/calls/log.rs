//! The last calls of each connection: noted when they are over, and written some at a time. A node
//! that dies takes the latest of them along; what jobs have tried stands in their own records.

use crate::node::Node;
use arvok_store::{DatabaseConnection, calls};
use std::{sync::Arc, time::Duration};

/// Time between two writings.
const EVERY: Duration = Duration::from_millis(500);

/// Writes what was noted until the node stops.
pub(crate) async fn run(node: Arc<Node>) {
    let mut stopping = node.stopping.clone();
    let mut tick = tokio::time::interval(EVERY);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        let stops = tokio::select! {
            _ = stopping.changed() => true,
            _ = tick.tick() => false,
        };
        write(&node, &node.pools.work).await;
        if stops {
            return;
        }
    }
}

/// Writes what was noted so far; whoever asks for the last calls sees those of a moment ago.
pub(crate) async fn write(node: &Node, db: &DatabaseConnection) {
    let noted = node.calls.log.drain();
    if !noted.is_empty()
        && let Err(e) = calls::keep(db, &noted).await
    {
        tracing::warn!("the last calls are not kept: {e}");
    }
}
