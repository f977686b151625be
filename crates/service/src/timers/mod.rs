//! What waits for a time and has no row of its own: one loop for timers of every kind, and one for
//! each kind of those that ask strangers. What each kind does when its time has come is a file
//! here.
//!
//! Each node keeps the timers as it knows what is published, and handles whatever is due and no
//! other node holds. One whose handler panics fails by itself. A handler may be called twice for
//! one time, by a node that takes up what another left behind; what it does must stand once all the
//! same.

mod asking;
mod calendar;
mod message;
mod plan;
mod poll;
mod pulse;
mod schedule;

pub(crate) use asking::versions;

use crate::{clock, node::Node};
use arvok_store::{
    StoreError,
    timers::{self, Timer, TimerKind},
};
use chrono::{DateTime, Utc};
use futures_util::FutureExt;
use std::{panic::AssertUnwindSafe, sync::Arc, time::Duration};
use tokio::task::JoinSet;

/// How long a timer is held by whoever handles it, and may take.
const HOLD: Duration = Duration::from_secs(30);
/// Longest sleep, should something be heard of by nobody.
const LOOK: Duration = Duration::from_secs(30);
/// Most timers of a loop that are handled at once.
const AT_ONCE: usize = 50;
/// The kinds of each loop: those that wait for the answer of a stranger keep no others waiting.
const OWN: [TimerKind; 2] = [TimerKind::Schedule, TimerKind::Plan];
const ASKED: [TimerKind; 1] = [TimerKind::Calendar];
const POLLED: [TimerKind; 1] = [TimerKind::Poll];
const PULSES: [TimerKind; 1] = [TimerKind::Pulse];
/// How long what is being handled may take when the node stops.
const GRACE: Duration = Duration::from_secs(5);
/// The wait after an error.
const PAUSE: Duration = Duration::from_secs(1);

/// What became of a time that had come.
enum Handled {
    /// It waits for its next.
    GoesOn(DateTime<Utc>),
    /// Nothing that is published wants it.
    Unwanted,
}

/// Handles the times of schedules and plans until the node stops.
pub(crate) async fn run(node: Arc<Node>) {
    handle_due(node, &OWN, |_| true).await;
}

/// Reads calendars from where they are kept until the node stops.
pub(crate) async fn read_calendars(node: Arc<Node>) {
    handle_due(node, &ASKED, |_| true).await;
}

/// Fetches the messages of sources until the node stops.
pub(crate) async fn poll(node: Arc<Node>) {
    handle_due(node, &POLLED, |_| true).await;
}

/// Lets those outside hear that Arvok does its work until the node stops.
pub(crate) async fn send_pulses(node: Arc<Node>) {
    handle_due(node, &PULSES, pulse::is_ready).await;
}

/// Handles what is due of some kinds until the node stops, while it may.
async fn handle_due(node: Arc<Node>, kinds: &'static [TimerKind], may: fn(&Node) -> bool) {
    let (mut stopping, mut generation) = (node.stopping.clone(), node.generation());
    let (mut set_for, mut handling) = (None, JoinSet::new());
    while !*stopping.borrow() {
        generation.mark_unchanged();
        let wait = match may(&node) {
            true => round(&node, kinds, &mut set_for, &mut handling).await.unwrap_or_else(|e| {
                tracing::error!("timers: {e}");
                PAUSE
            }),
            false => PAUSE,
        };
        tokio::select! {
            _ = stopping.changed() => {}
            _ = generation.changed() => {}
            Some(_) = handling.join_next() => {}
            () = tokio::time::sleep(wait) => {}
        }
    }
    let ending = async { while handling.join_next().await.is_some() {} };
    // What is cut off is handled by another node, once nobody holds it any more.
    let _ = tokio::time::timeout(GRACE, ending).await;
}

/// Sets the timers if something else is published, and begins what is due, each on its own, so that
/// none waits for what another asks of a stranger; for how long nothing is due.
async fn round(
    node: &Arc<Node>,
    kinds: &'static [TimerKind],
    set_for: &mut Option<i64>,
    handling: &mut JoinSet<()>,
) -> Result<Duration, StoreError> {
    let published = node.published();
    if *set_for != Some(published.generation) {
        let (now, of) = (clock::now(), Arc::clone(&published));
        let wanted = tokio::task::spawn_blocking(move || {
            let wanted = kinds.iter().map(|kind| match kind {
                TimerKind::Schedule => (*kind, schedule::wanted(&of, now)),
                TimerKind::Plan => (*kind, plan::wanted(&of, now)),
                TimerKind::Calendar => (*kind, calendar::wanted(&of, now)),
                TimerKind::Poll => (*kind, poll::wanted(&of, now)),
                TimerKind::Pulse => (*kind, pulse::wanted(&of, now)),
            });
            wanted.collect::<Vec<_>>()
        });
        let wanted = wanted.await.map_err(|_| StoreError::BrokenOff("working out next times"))?;
        for (kind, wanted) in wanted {
            timers::set(&node.pools.work, kind, published.generation, &wanted).await?;
        }
        *set_for = Some(published.generation);
    }
    while handling.try_join_next().is_some() {}
    let room = AT_ONCE.saturating_sub(handling.len());
    if room == 0 {
        // When one has ended there is room.
        return Ok(LOOK);
    }
    let (db, generation) = (&node.pools.work, published.generation);
    let due = timers::hold_due(db, kinds, generation, HOLD.as_secs_f64(), room).await?;
    let is_full = due.len() == room;
    for timer in due {
        let node = Arc::clone(node);
        handling.spawn(async move {
            if let Err(e) = handle(&node, &timer).await {
                tracing::error!(kind = %timer.kind.0, key = timer.key, "timers: {e}");
            }
        });
    }
    if is_full {
        return Ok(LOOK);
    }
    let next = timers::next(db, kinds, generation).await?;
    let wait = next.map_or(LOOK, |at| (at - clock::now()).to_std().unwrap_or_default());
    Ok(wait.clamp(Duration::from_millis(10), LOOK))
}

async fn handle(node: &Node, timer: &Timer) -> Result<(), StoreError> {
    let handling = match timer.kind.0 {
        TimerKind::Schedule => schedule::handle(node, timer).boxed(),
        TimerKind::Plan => plan::handle(node, timer).boxed(),
        TimerKind::Calendar => calendar::handle(node, timer).boxed(),
        TimerKind::Poll => poll::handle(node, timer).boxed(),
        TimerKind::Pulse => pulse::handle(node, timer).boxed(),
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
