//! Ends jobs that may not be started any more, and those that nobody gets any further with.
//!
//! However many there are, they are ended a batch at a time with a rest after each, beside the loop
//! that claims: to end a job costs as much as to execute a short one, and those that still may
//! begin come first.

use super::complain;
use crate::node::Node;
use arvok_api::Change;
use arvok_store::jobs;
use std::{
    sync::Arc,
    time::{Duration, Instant},
};

/// How long after a batch the next is ended, at least.
const LOOK: Duration = Duration::from_millis(500);
/// The rest after a batch, in the time that the batch took.
const REST: u32 = 3;

/// Ends what is overdue until the node stops.
pub(crate) async fn end_overdue(node: Arc<Node>) {
    let mut stopping = node.stopping.clone();
    loop {
        let begun = Instant::now();
        for ended in [jobs::expire(&node.pools.work).await, jobs::give_up(&node.pools.work).await] {
            match ended {
                Ok(ended) => {
                    let jobs = ended.into_iter().map(|job| job.0).collect();
                    node.announcer.tell(Change { jobs, ..Change::default() });
                }
                Err(e) => complain(&e),
            }
        }
        tokio::select! {
            _ = stopping.changed() => return,
            () = tokio::time::sleep(LOOK.max(begun.elapsed() * REST)) => {}
        }
    }
}
