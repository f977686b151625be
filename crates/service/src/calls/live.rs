//! What a call of a job writes while it runs: its last whole lines, put where all nodes see them,
//! twice a second at most. What is over soon is never put anywhere.

use crate::node::Node;
use arvok_api::Change;
use arvok_connect::{LiveOutput, OutputTail, last_lines};
use arvok_store::{
    calls::Caller,
    live_output::{self, LiveCall},
};
use std::{
    sync::{Mutex, MutexGuard, PoisonError},
    time::Duration,
};
use tokio::sync::Notify;

/// Time between two looks at what was written.
const EVERY: Duration = Duration::from_millis(500);
/// Performs a call of a step; what it writes meanwhile is shown to whoever looks at the job.
pub(super) async fn shown_live<T>(
    node: &Node,
    caller: &Caller,
    call: impl AsyncFnOnce(LiveOutput<'_>) -> T,
) -> T {
    let Caller::Step { job, place, attempt } = caller else {
        return call(LiveOutput::NOBODY).await;
    };
    let call_of = LiveCall { job: *job, place: place.clone(), attempt: *attempt };
    let written = Mutex::new(OutputTail::default());
    let over = Notify::new();
    let wrote = |bytes: &[u8]| held(&written).push(bytes);
    let performing = async {
        let result = call(LiveOutput(&wrote)).await;
        over.notify_one();
        result
    };
    // What is being put comes to its end: broken off, it could still arrive after the removal.
    let showing = async {
        let mut put = 0;
        while tokio::time::timeout(EVERY, over.notified()).await.is_err() {
            let (text, lines) = {
                let written = held(&written);
                (written.whole(), written.lines())
            };
            if lines == put {
                continue;
            }
            put = lines;
            let text = last_lines(&node.published().redactor.text(&text));
            match live_output::put(&node.pools.work, &call_of, &text, lines).await {
                Ok(()) => node.announcer.tell(Change { jobs: vec![job.0], ..Change::default() }),
                Err(e) => tracing::debug!(job = job.0, "its output is not shown: {e}"),
            }
        }
        put
    };
    let (result, put) = tokio::join!(performing, showing);
    if put > 0
        && let Err(e) = live_output::remove(&node.pools.work, &call_of).await
    {
        tracing::debug!(job = job.0, "its output is removed later: {e}");
    }
    result
}

fn held<T>(what: &Mutex<T>) -> MutexGuard<'_, T> {
    what.lock().unwrap_or_else(PoisonError::into_inner)
}
