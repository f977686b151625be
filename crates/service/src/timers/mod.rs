//! What waits for a time and has no row of its own: one loop for timers of every kind. What each
//! kind does when its time has come is a file here.
//!
//! Each node keeps the timers as it knows what is published, and handles whatever is due and no
//! other node holds. One whose handler panics fails by itself. A handler may be called twice for
//! one time, by a node that takes up what another left behind; what it does must stand once all the
//! same.

mod plan;
mod schedule;

use crate::{clock, node::Node};
use arvok_store::{
    StoreError,
    timers::{self, Timer, TimerKind},
};
use chrono::{DateTime, Utc};
use futures_util::{FutureExt, future::join_all};
use std::{panic::AssertUnwindSafe, sync::Arc, time::Duration};

/// How long a timer is held by whoever handles it, and may take.
const HOLD: Duration = Duration::from_secs(30);
/// Longest sleep, should something be heard of by nobody.
const LOOK: Duration = Duration::from_secs(30);
/// The wait after an error.
const PAUSE: Duration = Duration::from_secs(1);

/// What became of a time that had come.
enum Handled {
    /// It waits for its next.
    GoesOn(DateTime<Utc>),
    /// Nothing that is published wants it.
    Unwanted,
}

/// Handles what is due until the node stops.
pub(crate) async fn run(node: Arc<Node>) {
    let (mut stopping, mut generation) = (node.stopping.clone(), node.generation());
    let mut set_for = None;
    while !*stopping.borrow() {
        generation.mark_unchanged();
        let wait = round(&node, &mut set_for).await.unwrap_or_else(|e| {
            tracing::error!("timers: {e}");
            PAUSE
        });
        tokio::select! {
            _ = stopping.changed() => return,
            _ = generation.changed() => {}
            () = tokio::time::sleep(wait) => {}
        }
    }
}

/// Sets the timers if something else is published, and handles what is due; for how long nothing
/// is.
async fn round(node: &Node, set_for: &mut Option<i64>) -> Result<Duration, StoreError> {
    let published = node.published();
    if *set_for != Some(published.generation) {
        let (now, of) = (clock::now(), Arc::clone(&published));
        let wanted = tokio::task::spawn_blocking(move || {
            [
                (TimerKind::Schedule, schedule::wanted(&of, now)),
                (TimerKind::Plan, plan::wanted(&of, now)),
            ]
        });
        let wanted = wanted.await.map_err(|_| StoreError::BrokenOff("working out next times"))?;
        for (kind, wanted) in wanted {
            timers::set(&node.pools.work, kind, published.generation, &wanted).await?;
        }
        *set_for = Some(published.generation);
    }
    while !*node.stopping.borrow() {
        let due =
            timers::hold_due(&node.pools.work, published.generation, HOLD.as_secs_f64()).await?;
        if due.is_empty() {
            break;
        }
        let handled = join_all(due.iter().map(|timer| handle(node, timer))).await;
        handled.into_iter().collect::<Result<Vec<()>, StoreError>>()?;
    }
    let next = timers::next(&node.pools.work, published.generation).await?;
    let wait = next.map_or(LOOK, |at| (at - clock::now()).to_std().unwrap_or_default());
    Ok(wait.clamp(Duration::from_millis(10), LOOK))
}

async fn handle(node: &Node, timer: &Timer) -> Result<(), StoreError> {
    let handling = match timer.kind.0 {
        TimerKind::Schedule => schedule::handle(node, timer).boxed(),
        TimerKind::Plan => plan::handle(node, timer).boxed(),
    };
    let handling = AssertUnwindSafe(handling).catch_unwind();
    let reason = match tokio::time::timeout(HOLD, handling).await {
        Ok(Ok(Ok(Handled::GoesOn(next)))) => {
            return timers::go_on(&node.pools.work, timer, next).await.map(drop);
        }
        Ok(Ok(Ok(Handled::Unwanted))) => {
            let generation = node.published().generation;
            return timers::forget(&node.pools.work, timer, generation).await;
        }
        Ok(Ok(Err(reason))) => reason,
        Ok(Err(_)) => "ended unexpectedly; the log says where".to_owned(),
        Err(_) => format!("takes longer than {} s", HOLD.as_secs()),
    };
    tracing::warn!(kind = %timer.kind.0, key = timer.key, "a timer is tried again: {reason}");
    timers::fail(&node.pools.work, timer, &reason).await
}
