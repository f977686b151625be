//! A runner: makes the calls of connections near where they go, for nodes that are far away.
//!
//! It opens connections outwards only. It claims calls that it has room for, begins them at the
//! node before anything is sent, [`perform`]s them with the drivers that nodes use, says every
//! second that they go on, and ends each with what came of it. Whoever was not heard of for as long
//! as a node believes in it breaks off what it does: the node has given it up by then.

mod going;
mod own_secrets;
mod perform;
mod speak;

pub use own_secrets::{OwnSecrets, OwnSecretsError};
pub use speak::RunnerError;

use arvok_api::{
    CallNumbers, ClaimedCall, RUNNER_PROTOCOL, RunnerBegin, RunnerCall, RunnerCalls, RunnerClaim,
    RunnerEnd,
};
use arvok_connect::{CallError, Drivers, LiveOutput};
use arvok_core::Labels;
use going::GoingOn;
use perform::Described;
use speak::Speaker;
use std::{future::Future, pin::Pin, sync::Arc, time::Duration};
use tokio::{sync::Notify, task::JoinSet};

/// How long a claim waits for the first call.
const WAIT: Duration = Duration::from_secs(20);
/// How often a node is told that calls go on.
const BEAT: Duration = Duration::from_secs(1);
/// Waits between tries to reach the node: the first and the longest.
const AGAIN: (Duration, Duration) = (Duration::from_millis(200), Duration::from_secs(5));
/// How long what came of a call is tried to be told.
const TELL: Duration = Duration::from_secs(60);
/// How long calls may go on when the runner stops.
const GRACE: Duration = Duration::from_secs(30);

/// What a runner is started with.
#[derive(Debug)]
pub struct RunnerOptions {
    /// The node's address.
    pub server: String,
    /// What it shows there.
    pub token: String,
    /// The labels that it serves; none: all that it may.
    pub serves: Option<Labels>,
    /// Most calls at once.
    pub at_once: u32,
    /// The secrets that it keeps itself.
    pub secrets: OwnSecrets,
    /// The version of its program.
    pub build: String,
}

struct Runner {
    speaker: Speaker,
    drivers: Drivers,
    secrets: OwnSecrets,
    described: Described,
    going: GoingOn,
    /// A call is over, so that there is room.
    room: Notify,
}

/// Makes calls until it is to stop; those under way then have a moment to end.
///
/// # Errors
/// That the node wants nothing of this runner: its token is not known there, or the two speak
/// differently. A node that cannot be reached is tried again.
pub async fn run(
    options: RunnerOptions,
    stop: impl Future<Output = ()>,
) -> Result<(), RunnerError> {
    let RunnerOptions { server, token, serves, at_once, secrets, build } = options;
    let drivers = Drivers::new().map_err(|e: CallError| RunnerError::Here(e.to_string()))?;
    let runner = Arc::new(Runner {
        speaker: Speaker::new(server, token)?,
        drivers,
        secrets,
        described: Described::default(),
        going: GoingOn::default(),
        room: Notify::new(),
    });
    let claim = RunnerClaim {
        protocol: RUNNER_PROTOCOL,
        build,
        serves: serves.map(|labels| labels.0),
        at_once,
        room: 0,
        wait_ms: 0,
        at: chrono::Utc::now(),
    };
    let mut calls = JoinSet::new();
    let mut stop = std::pin::pin!(stop);
    let ended = tokio::select! {
        ended = claim_calls(&runner, claim, &mut calls, stop.as_mut()) => ended,
        () = beat(&runner) => Ok(()),
    };
    if ended.is_ok() && !calls.is_empty() {
        tracing::info!(calls = calls.len(), "stopping; calls under way have a moment to end");
        tokio::select! {
            () = async { while calls.join_next().await.is_some() {} } => {}
            () = beat(&runner) => {}
            () = tokio::time::sleep(GRACE) => {}
        }
    }
    calls.shutdown().await;
    runner.drivers.close().await;
    ended
}

/// Claims calls until it is to stop, for as long as the node wants something of this runner. What
/// is being begun meanwhile is made: broken off, nobody would know what became of it.
async fn claim_calls(
    runner: &Arc<Runner>,
    claim: RunnerClaim,
    calls: &mut JoinSet<()>,
    mut stop: Pin<&mut impl Future<Output = ()>>,
) -> Result<(), RunnerError> {
    let (mut wait, mut was_there) = (AGAIN.0, None);
    loop {
        while calls.try_join_next().is_some() {}
        let under_way = u32::try_from(calls.len()).unwrap_or(u32::MAX);
        let room = claim.at_once.saturating_sub(under_way);
        if room == 0 {
            tokio::select! {
                () = runner.room.notified() => {}
                () = tokio::time::sleep(WAIT) => {}
                () = &mut stop => return Ok(()),
            }
        }
        // The first claim says soon that the runner is there.
        let patience = if was_there == Some(true) { WAIT } else { Duration::ZERO };
        let wait_ms = if room == 0 { 0 } else { u64::try_from(patience.as_millis()).unwrap_or(0) };
        let asked = RunnerClaim { room, wait_ms, at: chrono::Utc::now(), ..claim.clone() };
        let answer = tokio::select! {
            answer = runner.speaker.ask::<RunnerCalls>("claim", &asked, patience) => answer,
            () = &mut stop => return Ok(()),
        };
        match answer {
            Ok(found) => {
                if was_there.replace(true) != Some(true) {
                    tracing::info!("the node is there");
                }
                wait = AGAIN.0;
                if !found.calls.is_empty() {
                    take_up(runner, found.calls, calls).await;
                }
            }
            Err(e) if e.is_for_good() => return Err(e),
            Err(e) => {
                if was_there.replace(false) != Some(false) {
                    tracing::warn!("the node cannot be asked for calls, and is tried again: {e}");
                }
                tokio::select! {
                    () = tokio::time::sleep(wait) => {}
                    () = &mut stop => return Ok(()),
                }
                wait = (wait * 2).min(AGAIN.1);
            }
        }
    }
}

/// Begins calls at the node and makes those that it agrees to.
async fn take_up(runner: &Arc<Runner>, claimed: Vec<RunnerCall>, calls: &mut JoinSet<()>) {
    let named = |call: &RunnerCall| ClaimedCall { id: call.id, claim: call.claim.clone() };
    let begin = RunnerBegin { calls: claimed.iter().map(named).collect() };
    let agreed = match runner.speaker.ask::<CallNumbers>("begin", &begin, Duration::ZERO).await {
        Ok(agreed) => agreed.calls,
        // If the node heard it, they are unknown there, and nothing was sent.
        Err(e) => return tracing::warn!("calls that were claimed are not made: {e}"),
    };
    for call in claimed.into_iter().filter(|call| agreed.contains(&call.id)) {
        let runner = Arc::clone(runner);
        calls.spawn(async move {
            make(&runner, call).await;
            runner.room.notify_one();
        });
    }
}

/// Makes a call and tells what came of it, unless nobody wants it any more.
async fn make(runner: &Runner, call: RunnerCall) {
    let named = ClaimedCall { id: call.id, claim: call.claim };
    let going = runner.going.begin(named.clone());
    let made = async {
        let wrote = |bytes: &[u8]| going.wrote(bytes);
        let made = perform::perform(
            &runner.drivers,
            &runner.described,
            &runner.secrets,
            &call.work,
            LiveOutput(&wrote),
        );
        let (result, answer) = made.await;
        tell(runner, &RunnerEnd { call: named, result, answer }).await;
    };
    tokio::select! {
        () = made => {}
        () = going.over() => tracing::info!(call = call.id, "broken off: nobody waits for it any more"),
    }
}

/// Tells what came of a call, again and again while the node cannot be reached.
async fn tell(runner: &Runner, end: &RunnerEnd) {
    let telling = async {
        let mut wait = AGAIN.0;
        loop {
            match runner.speaker.tell("end", end).await {
                Ok(()) => return,
                Err(e) if e.is_refusal() => {
                    return tracing::warn!(call = end.call.id, "what came of it is not taken: {e}");
                }
                Err(_) => tokio::time::sleep(wait).await,
            }
            wait = (wait * 2).min(AGAIN.1);
        }
    };
    if tokio::time::timeout(TELL, telling).await.is_err() {
        tracing::warn!(call = end.call.id, "what came of it could not be told");
    }
}

/// Tells the node every second which calls go on, and breaks off those that it does not want any
/// more.
async fn beat(runner: &Runner) {
    let mut tick = tokio::time::interval(BEAT);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tick.tick().await;
        for some in runner.going.beats(&runner.secrets) {
            match runner.speaker.ask::<CallNumbers>("beat", &some, Duration::ZERO).await {
                Ok(over) => runner.going.note_answer(&some, &over.calls),
                Err(e) if e.is_refusal() => {
                    tracing::debug!("the node does not want to hear of calls: {e}");
                }
                Err(_) => {}
            }
        }
        runner.going.give_up();
    }
}
