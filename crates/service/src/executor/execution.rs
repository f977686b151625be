//! One job, from one recorded event to the next. Any number of its calls may be out at once; what
//! comes back is recorded one by one.

use super::{
    event::{Begun, Came},
    outside::{launch, put_ways, recall},
    record::Outward,
};
use crate::{
    calls::{self, CallBack, CallResult, Outgoing, ScriptOut, answer_kept},
    clock,
    node::Node,
    retry::retry,
};
use arvok_api::Change;
use arvok_connect::Called;
use arvok_core::{
    Alert, Trial,
    connector::{CALLBACK, CALLBACK_KEY, CallEnd, CallbackAt, Failure, Repeat},
    job::{CallOut, Event, StepEvent, Transition},
    runbook::{ANNOUNCED, CallTarget, Runbook},
};
use arvok_store::{
    StoreError,
    calls::Caller,
    jobs::{self, Answered, ClaimedJob, Renewed},
    outside::callbacks::Try,
    read,
};
use futures_util::FutureExt;
use serde_json::{Value, json};
use std::{panic::AssertUnwindSafe, sync::Arc};
use tokio::{
    sync::mpsc::UnboundedReceiver,
    task::{JoinError, JoinSet},
};

/// A job to be executed.
pub(super) enum Execution {
    /// Somebody has begun it, and it was taken up.
    TakenUp(Box<ClaimedJob>),
    /// It has begun.
    Begun(Box<Begun>),
}

/// Executes a claimed job until it ends, waits, or is lost to another claim. `renewed` brings what
/// people say to it, and how much has come for it from outside.
pub(super) async fn execute(
    node: &Arc<Node>,
    execution: Execution,
    renewed: UnboundedReceiver<Renewed>,
) {
    node.metrics.work.jobs_running.inc();
    let (id, claim) = match &execution {
        Execution::TakenUp(held) => (held.id, held.claim),
        Execution::Begun(begun) => begun.claim(),
    };
    let executing = async {
        let begun = match execution {
            Execution::Begun(begun) => *begun,
            Execution::TakenUp(held) => {
                let (runbook, alert) = needed(node, &held).await?;
                Begun::take_up(node, *held, runbook, alert).await?
            }
        };
        go_on_with(node, begun, renewed).await
    };
    let why = match AssertUnwindSafe(executing).catch_unwind().await {
        Ok(Ok(())) => None,
        Ok(Err(StoreError::ClaimLost)) => {
            tracing::warn!(job = id.0, "another claim has taken the job over");
            None
        }
        Ok(Err(e)) => Some(e.to_string()),
        Err(_) => Some("the execution ended unexpectedly; the log says where".to_owned()),
    };
    if let Some(why) = why {
        tracing::error!(job = id.0, "the job is let go: {why}");
        if let Err(e) = jobs::let_go(&node.pools.work, claim, &why).await {
            tracing::error!(job = id.0, "the job stands still until its lease ends: {e}");
        }
    }
    node.metrics.work.jobs_running.dec();
}

/// Keeps a record; tries again while the database cannot be worked with. The claim says whether it
/// may still be made.
async fn keep(node: &Node, begun: &Begun) -> Result<(), StoreError> {
    let (id, record) = (begun.held.id, &begun.record);
    retry(format!("the record of job {id}"), || {
        jobs::record(&node.pools.work, begun.standing(), clock::now())
    })
    .await?;
    node.vitals.committed();
    let decisions = !record.asked.is_empty() || !record.withdrawn.is_empty();
    node.announcer.tell(Change { jobs: vec![id.0], decisions, ..Change::default() });
    Ok(())
}

/// What a job needs besides its own row: its runbook, if that can still be read, and its alert.
async fn needed(
    node: &Node,
    held: &ClaimedJob,
) -> Result<(Option<Arc<Runbook>>, Option<Alert>), StoreError> {
    let runbook = node.runbook(&held.runbook, held.runbook_version).await?;
    let alert = match held.alert {
        Some(alert) => read::whole_alert(&node.pools.work, alert.0).await?,
        None => None,
    };
    Ok((runbook, alert))
}

/// The next renewal that brings something new: a person's word is brought again until it is
/// recorded as heard, and that all jobs are halted until it is paused for it.
async fn news(
    renewed: &mut UnboundedReceiver<Renewed>,
    last_heard: i32,
    posts: i32,
    paused: Option<bool>,
) -> Option<Renewed> {
    loop {
        let mut renewed = renewed.recv().await?;
        renewed.said = renewed.said.filter(|said| said.0 > last_heard);
        let halts = match paused {
            None => renewed.halted.is_some(),
            Some(by_halt) => by_halt && renewed.halted.is_none(),
        };
        if renewed.said.is_some() || renewed.posts != posts || halts {
            return Some(renewed);
        }
    }
}

async fn go_on_with(
    node: &Arc<Node>,
    mut begun: Begun,
    mut renewed: UnboundedReceiver<Renewed>,
) -> Result<(), StoreError> {
    let held = Arc::clone(&begun.held);
    let mut out = Out::new();
    loop {
        if !begun.is_kept {
            keep(node, &begun).await?;
        }
        begun.count_end(node);
        let Begun { progress, record, outward, executed, .. } = begun;
        leave_queues(node, &held, &outward).await;
        let (Transition::GoOn { until }, Some(mut executed)) = (record.then, executed) else {
            return Ok(());
        };
        let paused = progress.paused.as_ref().map(|paused| paused.by_halt);
        let wake = until.map(|at| (at - clock::now()).to_std().unwrap_or_default());
        send(node, &held, outward, &mut out);
        let (event, said) = tokio::select! {
            Some(answered) = out.join_next() => (ended(answered)?, None),
            () = tokio::time::sleep(wake.unwrap_or_default()),
                if wake.is_some() => (Event::Tick.into(), None),
            Some(new) = news(&mut renewed, executed.last_heard, executed.posts, paused) => {
                executed.posts = new.posts;
                executed.last_heard = new.said.as_ref().map_or(executed.last_heard, |said| said.0);
                let event = match (new.said.is_some(), paused, new.halted) {
                    (false, None, Some(words)) => Event::Halted { words },
                    (false, Some(true), None) => Event::Lifted,
                    _ => Event::Tick,
                };
                (event.into(), new.said)
            }
            else => return Err(StoreError::BrokenOff("the execution of a job that waits for \
                nothing")),
        };
        begun = executed.pending(node, progress, (event, said)).await?.decide(node).await?;
    }
}

/// Leaves the queues in which its calls stood that are not needed any more. Who did not come when
/// told is passed over anyway.
async fn leave_queues(node: &Node, held: &ClaimedJob, outward: &Outward) {
    if outward.left.is_empty() {
        return;
    }
    if let Err(e) = arvok_store::calls::leave(&node.pools.work, held.id, outward.left.clone()).await
    {
        tracing::warn!(job = held.id.0, "a place in a queue of calls ends by itself later: {e}");
    }
}

/// What is out: calls, and jobs of steps that are made or told to stop. Each goes on by itself: one
/// that has a connection to the database in hand would keep it for as long as its execution waits
/// for another. All end with the execution.
type Out = JoinSet<Result<Came, StoreError>>;

/// Sends out what is to be done outside.
fn send(node: &Arc<Node>, held: &Arc<ClaimedJob>, outward: Outward, out: &mut Out) {
    let Outward { calls, launches, recalls, .. } = outward;
    let both = || (Arc::clone(node), Arc::clone(held));
    for one in calls {
        let (node, held) = both();
        out.spawn(async move { Ok(call(&node, &held, one).await) });
    }
    for one in launches {
        let (node, held) = both();
        out.spawn(async move { launch(&node, &held, one).await.map(Came::from) });
    }
    for one in recalls {
        let (node, _) = both();
        out.spawn(async move { recall(&node, one).await.map(Came::from) });
    }
}

/// What came back. What went wrong in it unexpectedly is its execution's.
fn ended(answered: Result<Result<Came, StoreError>, JoinError>) -> Result<Came, StoreError> {
    match answered {
        Ok(came) => came,
        Err(e) if e.is_panic() => std::panic::resume_unwind(e.into_panic()),
        Err(_) => Err(StoreError::BrokenOff("what a job had out")),
    }
}

/// What stands for the answer of a call that is not to be sent; none of one that is. A dry job
/// sends only what looks, whoever decided otherwise.
fn instead(node: &Node, held: &ClaimedJob, out: &CallOut) -> Option<StepEvent> {
    if let Some(output) = &out.instead {
        return Some(StepEvent::Returned(output.clone()));
    }
    let looks = out.probes || out.target.only_looks(&*node.published().catalog);
    (held.trial == Some(Trial::Dry) && !looks).then(|| {
        let why = "it changes something, and the job is a trial";
        let failure = Failure::lasting(CallEnd::NotSent, why);
        StepEvent::Broke { failure, repeat: Repeat::Never }
    })
}

/// Calls; what happened then. A link to a decision, or the address of a call back, is put in here
/// and taken out of the answer, so that no record has it.
async fn call(node: &Node, held: &ClaimedJob, mut out: CallOut) -> Came {
    if let Some(what) = instead(node, held, &out) {
        return Event::Step { place: out.place, attempt: out.attempt, what }.into();
    }
    let not_sent = |out: &CallOut, why: String| {
        let failure = Failure::new(CallEnd::NotSent, why);
        let what = StepEvent::Broke { failure, repeat: Repeat::Never };
        Came::from(Event::Step { place: out.place.clone(), attempt: out.attempt, what })
    };
    let mut given = Value::Object(std::mem::take(&mut out.give));
    // No author has written what an announcement says: it is hidden there what no page may show.
    if out.place.as_str().starts_with(ANNOUNCED) && out.place.asks().is_some() {
        given = node.published().redactor.value(given);
    }
    let mut hidden = Vec::new();
    let given = match put_ways(node, held.id, &out.place, given, &mut hidden).await {
        Ok(given) => given,
        Err(why) => return not_sent(&out, why),
    };
    if let Value::Object(given) = given {
        out.give = given;
    }
    let callback = match callback(node, held, &out) {
        None => None,
        Some(Ok(at)) => Some(at),
        Some(Err(why)) => return not_sent(&out, why),
    };
    hidden.extend(callback.iter().map(|at| (at.address.clone(), CALLBACK)));
    hidden.extend(callback.iter().map(|at| (at.key.clone(), CALLBACK_KEY)));
    let caller = Caller::Step { job: held.id, place: out.place.clone(), attempt: out.attempt };
    let (give, timeout) = (&out.give, out.timeout);
    let (made, repeat) = match &out.target {
        CallTarget::Script(script) => {
            let hidden = &hidden;
            let runbook = &held.runbook;
            let out = ScriptOut { runbook, script, give, timeout, caller, hidden };
            calls::run_script(node, out).await
        }
        CallTarget::Operation { via, operation } => {
            let outgoing = Outgoing {
                via,
                operation,
                give,
                key: &out.key,
                timeout,
                callback: callback.as_ref(),
                caller,
                hidden: &hidden,
                trace: held.trace,
            };
            match out.probes {
                true => calls::probe(node, outgoing).await,
                false => calls::call(node, outgoing).await,
            }
        }
    };
    let ended = match made {
        CallResult::Ended(ended) => *ended,
        CallResult::Queued(until) => {
            return Event::Step {
                place: out.place,
                attempt: out.attempt,
                what: StepEvent::Queued { until },
            }
            .into();
        }
    };
    let answered = ended.answer.map(|answer| Answered {
        place: out.place.clone(),
        attempt: i32::try_from(out.kept_with).unwrap_or(i32::MAX),
        answer: json!(answer_kept(answer)),
    });
    let what = match ended.called {
        Ok(Called::Output(output)) => StepEvent::Returned(output),
        Ok(Called::Later(within)) => StepEvent::Later { within, repeat },
        Err(failure) => StepEvent::Broke { failure, repeat },
    };
    Came { event: Event::Step { place: out.place, attempt: out.attempt, what }, answered }
}

/// The address at which the other side calls back, if the operation is one that does.
fn callback(node: &Node, held: &ClaimedJob, out: &CallOut) -> Option<Result<CallbackAt, String>> {
    let published = node.published();
    let (via, name) = out.target.operation()?;
    let (_, operation) = published.catalog.operation(via, name).ok()?;
    operation.callback().filter(|_| !out.probes)?;
    let of = Try {
        job: held.id,
        created: held.created_at,
        place: out.place.clone(),
        attempt: out.attempt,
    };
    Some(CallBack { of, via: via.to_owned(), operation: name.to_owned() }.at(node))
}
