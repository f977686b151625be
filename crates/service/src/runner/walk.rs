//! One job, from one recorded event to the next.

use crate::{
    clock,
    metrics::EndLabel,
    node::{Node, Published, SecretScope},
};
use arvok_api::Change;
use arvok_connect::Call;
use arvok_core::{
    Alert, Catalog, JobId, Kind, Period,
    connector::{CallEnd, Failure, Repeat},
    job::{Effect, Event, Facts, JobState, Machine, Phase, Progress, Resolution, StepResult},
    runbook::{Action, Runbook},
};
use arvok_store::{
    Class, ConnectionTrait, StoreError,
    jobs::{self, Began, ClaimedJob, Ended, Opening, Record, Then},
    read,
};
use futures_util::FutureExt;
use serde_json::{Map, Value};
use std::{
    panic::AssertUnwindSafe,
    sync::Arc,
    time::{Duration, Instant},
};

/// What is to be done outside after the record.
enum Outward {
    Call(Outgoing),
    LookAtAlarm,
    Nothing,
}

/// A call that is to be made.
struct Outgoing {
    via: String,
    operation: String,
    give: Map<String, Value>,
    key: String,
    timeout: Option<Period>,
}

/// Walks a claimed job until it ends, waits, or is lost to another claim. `first` is what a person
/// said of an unsure step.
pub(super) async fn walk(node: &Node, held: ClaimedJob, opening: Option<Opening>, first: Option<Event>) {
    node.metrics.jobs_running.inc();
    let (id, claim, opens) = (held.id, held.claim, opening.is_some());
    let walking = AssertUnwindSafe(walk_on(node, held, opening, first)).catch_unwind();
    let why = match walking.await {
        Ok(Ok(())) => None,
        Ok(Err(StoreError::ClaimLost)) => {
            tracing::warn!(job = id.0, "another claim has taken the job over");
            None
        }
        Ok(Err(e)) => Some(e.to_string()),
        Err(_) => Some("the walk ended unexpectedly; the log says where".to_owned()),
    };
    if let Some(why) = why {
        tracing::error!(job = id.0, "the job is let go: {why}");
        if let Err(e) = jobs::let_go(&node.work_db, claim, &why).await {
            tracing::error!(job = id.0, "the job stands still until its lease ends: {e}");
        }
        if opens && let Err(e) = jobs::put_back(&node.work_db, id, &why).await {
            tracing::error!(job = id.0, "the job cannot be put back: {e}");
        }
    }
    node.metrics.jobs_running.dec();
}

/// Takes a person's word for an unsure job and goes on; false if it is not unsure.
pub(crate) async fn resolve(node: &Arc<Node>, id: JobId, word: Resolution) -> Result<bool, StoreError> {
    let Some(held) = jobs::claim_unsure(&node.work_db, &node.name, id).await? else { return Ok(false) };
    let alive = node.keep_alive(held.claim);
    let node = Arc::clone(node);
    tokio::spawn(async move {
        walk(&node, held, None, Some(Event::Resolved(word))).await;
        drop(alive);
        node.work.notify_one();
    });
    Ok(true)
}

/// How long a record is tried again while the database cannot be worked with. The claim says
/// whether it may still be made.
const INSIST: Duration = Duration::from_secs(60);

/// Keeps a record; tries again while the database cannot be worked with. A job under way outlives a
/// database that is away for a while.
async fn keep(
    node: &Node,
    held: &ClaimedJob,
    opening: Option<Opening>,
    progress: &Progress,
    record: &Record,
) -> Result<(), StoreError> {
    let begun = Instant::now();
    let mut pause = Duration::from_millis(50);
    let mut first = match opening {
        None => None,
        Some(opening) if matches!(record.then, Then::Wait(_)) => {
            opening.commit().await?;
            None
        }
        opening => opening,
    };
    loop {
        let now = clock::now();
        let kept = match first.take() {
            Some(opening) => opening.record((held.id, held.claim), progress, record, now).await,
            None => jobs::record(&node.work_db, (held.id, held.claim), progress, record, now).await,
        };
        match kept {
            Err(e) if e.class() != Class::Lasting && begun.elapsed() < INSIST => {
                tracing::warn!(job = held.id.0, "its record is tried again: {e}");
                tokio::time::sleep(pause).await;
                pause = (pause * 2).min(Duration::from_secs(1));
            }
            Err(e) => return Err(e),
            Ok(()) => {
                node.announcer.tell(Change { jobs: vec![held.id.0], ..Change::default() });
                return Ok(());
            }
        }
    }
}

/// What a job needs besides its own row: its runbook, if that can still be read, and its alert.
async fn needed(
    node: &Node,
    db: &impl ConnectionTrait,
    held: &ClaimedJob,
) -> Result<(Option<Runbook>, Option<Alert>), StoreError> {
    let runbook = node.runbook_by(db, &held.runbook, held.runbook_version).await?;
    let alert = match held.alert {
        Some(alert) => read::whole_alert(db, alert.0).await?,
        None => None,
    };
    Ok((runbook, alert))
}

async fn walk_on(
    node: &Node,
    held: ClaimedJob,
    mut opening: Option<Opening>,
    first: Option<Event>,
) -> Result<(), StoreError> {
    let (runbook, alert) = match &opening {
        Some(opening) => needed(node, opening.db(), &held).await?,
        None => needed(node, &node.work_db, &held).await?,
    };
    let Some(runbook) = runbook else {
        let why = format!("version {} of runbook `{}` cannot be read any more", held.runbook_version, held.runbook);
        let record = Record { then: end(JobState::Failed, why), ..Record::default() };
        return keep(node, &held, opening, &held.progress, &record).await;
    };
    let facts = Facts {
        id: held.id,
        key: key(node, &held),
        inputs: held.inputs.clone(),
        target: held.target.clone(),
        alert,
        has_alarm: held.alarm.is_some(),
    };
    let repeat = repeat_of_current(&runbook, &held, &node.published().catalog);
    let mut machine = Machine::new(&runbook, &facts, held.progress.clone());
    let mut event = first.unwrap_or(Event::Taken { repeat });
    loop {
        let (mut record, outward) = divide(machine.handle(clock::now(), event));
        redact(&mut record, &node.published());
        if matches!((&outward, &record.then), (Outward::Nothing, Then::GoOn)) {
            // Cannot be; but a job that nobody walks must not look as if somebody did.
            record.then = end(JobState::Failed, "there was nothing left to do".into());
        }
        keep(node, &held, opening.take(), &machine.progress, &record).await?;
        if let Then::End { state, .. } = &record.then {
            let label = EndLabel { runbook: runbook.name.clone(), state: state.as_str().to_owned() };
            node.metrics.jobs_ended.get_or_create(&label).inc();
        }
        event = match outward {
            Outward::Nothing => return Ok(()),
            Outward::LookAtAlarm => {
                let raised = match held.alarm {
                    Some(alarm) => jobs::alarm_raised(&node.work_db, alarm).await?,
                    None => false,
                };
                Event::AlarmSeen { raised }
            }
            Outward::Call(outward) => match call(node, &outward).await {
                (Ok(output), _) => Event::Returned(output),
                (Err(failure), repeat) => Event::Broke { failure, repeat },
            },
        };
    }
}

/// What the keys of a job's calls begin with. Numbers of jobs begin anew in another installation,
/// and go back when a backup is restored; with the moment of the dispatch they are never the same.
fn key(node: &Node, held: &ClaimedJob) -> String {
    format!("{}-{}-{:x}", node.installation, held.id, held.created_at.timestamp_micros())
}

/// Whether the call that was under way when the job was left may be repeated.
fn repeat_of_current(runbook: &Runbook, held: &ClaimedJob, catalog: &Catalog) -> Repeat {
    if held.progress.phase != Phase::UnderWay {
        return Repeat::Safe;
    }
    match runbook.steps.get(held.progress.step).map(|s| &s.action) {
        Some(Action::Call { operation, via, .. }) => {
            catalog.operation(via, operation).map_or(Repeat::Never, |(_, op)| op.repeat)
        }
        _ => Repeat::Safe,
    }
}

fn end(state: JobState, failure: String) -> Then {
    Then::End {
        state,
        effect: Some(arvok_core::job::JobEffect::NotChecked),
        failure: Some(failure),
        outputs: Value::Null,
    }
}

fn number(n: usize) -> i32 {
    i32::try_from(n).unwrap_or(i32::MAX)
}

/// Records on one side, what is outward on the other.
fn divide(effects: Vec<Effect>) -> (Record, Outward) {
    let mut record = Record::default();
    let mut outward = Outward::Nothing;
    for effect in effects {
        match effect {
            Effect::StepStarted { index, attempt, give } => {
                record.began.push(Began { step: number(index), attempt: number(attempt as usize), give })
            }
            Effect::StepEnded { index, attempt, result } => {
                let (state, output, error) = match result {
                    StepResult::Done(output) => ("done", Some(output), None),
                    StepResult::Failed(error) => ("failed", None, Some(error)),
                    StepResult::Unsure(error) => ("unsure", None, Some(error)),
                };
                record.ended.push(Ended {
                    step: number(index),
                    attempt: number(attempt as usize),
                    state,
                    output,
                    error,
                });
            }
            Effect::Call { via, operation, give, key, timeout } => {
                outward = Outward::Call(Outgoing { via, operation, give, key, timeout });
            }
            Effect::LookAtAlarm => outward = Outward::LookAtAlarm,
            Effect::Wait { until } => record.then = Then::Wait(until),
            Effect::End { state, effect, failure, outputs } => {
                record.then = Then::End { state, effect, failure, outputs }
            }
        }
    }
    (record, outward)
}

/// Inputs may come from an alert that carries what it should not.
fn redact(record: &mut Record, published: &Published) {
    for began in &mut record.began {
        began.give = published.redactor.value(began.give.take());
    }
}

/// Calls; what came of it, and whether doing it twice is harmless.
async fn call(node: &Node, outward: &Outgoing) -> (Result<Value, Failure>, Repeat) {
    let published = node.published();
    let unsent = |message: String| (Err(Failure::lasting(CallEnd::NotSent, message)), Repeat::Never);
    let (connection, operation) = match published.catalog.operation(&outward.via, &outward.operation) {
        Ok(found) => found,
        Err(missing) => return unsent(missing.to_string()),
    };
    let scope = SecretScope::of(&published, &node.settings, Kind::Connection, &connection.name);
    let base = scope.fill(&connection.base);
    let credential = connection.credential.as_ref().map(|c| c.open(|template| scope.fill(template))).transpose();
    let (base, credential) = match (base, credential) {
        (Ok(base), Ok(credential)) => (base, credential),
        (Err(wrong), _) | (_, Err(wrong)) => return unsent(wrong),
    };
    let timeout = outward.timeout.unwrap_or(connection.timeout);
    let call = Call {
        operation,
        give: &outward.give,
        key: &outward.key,
        base: &base,
        credential: credential.as_ref(),
        timeout: Duration::from_millis(timeout.millis()),
        redactor: &published.redactor,
    };
    (node.http.call(call).await, operation.repeat)
}
