//! Looking at what is due: rules that wait for time to pass.
//!
//! Any node may take any due time. This one sleeps until the next that it knows of, but never
//! long, since others make due times too.

use crate::{clock, node::Node};
use arvok_store::intake;
use chrono::{DateTime, Utc};
use std::{sync::Arc, time::Duration};

/// Longest sleep.
const LOOK: Duration = Duration::from_millis(500);

/// Settles what is due until the node stops.
pub(crate) async fn watch_due(node: Arc<Node>) {
    let mut stopping = node.stopping.clone();
    loop {
        let next = settle_all(&node).await;
        let sleep = next.and_then(|at| (at - clock::now()).to_std().ok()).unwrap_or(LOOK).min(LOOK);
        tokio::select! {
            _ = stopping.changed() => return,
            () = node.due.notified() => {}
            () = tokio::time::sleep(sleep) => {}
        }
    }
}

/// Takes what is due, batch by batch; when the next is.
async fn settle_all(node: &Node) -> Option<DateTime<Utc>> {
    loop {
        let published = node.published();
        match intake::settle_due(&node.db, published.rules(), clock::now()).await {
            Ok(done) => {
                if !done.jobs.is_empty() {
                    node.work.notify_one();
                }
                if done.taken == 0 {
                    return done.next;
                }
            }
            Err(e) => {
                tracing::error!("due times: {e}");
                return None;
            }
        }
    }
}
