//! One job, from one recorded event to the next.

use crate::{
    clock,
    metrics::EndLabel,
    node::{Node, Published, SecretScope},
};
use arvok_connect::Call;
use arvok_core::{
    Catalog, Period,
    connector::{Failure, Repeat},
    job::{Effect, Event, Facts, JobState, Machine, Phase, Settlement, StepResult},
    runbook::{Action, Runbook},
};
use arvok_store::{
    StoreError,
    jobs::{self, Began, Ended, Held, Record, Then},
    read,
};
use serde_json::{Map, Value};

/// What is to be done outside after the record.
enum Outward {
    Call { via: String, operation: String, give: Map<String, Value>, key: String, timeout: Option<Period> },
    LookAtAlarm,
    Nothing,
}

/// Walks a claimed job until it ends, waits, or is lost to another node.
pub(super) async fn walk(node: &Node, held: Held) {
    node.metrics.jobs_running.inc();
    let id = held.id;
    match go(node, held, None).await {
        Ok(()) => {}
        Err(StoreError::LeaseLost) => tracing::warn!(job = id, "another node has taken the job over"),
        Err(e) => tracing::error!(job = id, "the job stands still until its lease ends: {e}"),
    }
    node.metrics.jobs_running.dec();
}

/// Takes a person's word for an unsure job and goes on; false if it is not unsure.
pub(crate) async fn settle(node: &std::sync::Arc<Node>, id: i64, verdict: Settlement) -> Result<bool, StoreError> {
    let Some(held) = jobs::claim_unsure(&node.db, &node.name, id).await? else { return Ok(false) };
    let node = std::sync::Arc::clone(node);
    tokio::spawn(async move {
        if let Err(e) = go(&node, held, Some(Event::Settled(verdict))).await {
            tracing::error!(job = id, "{e}");
        }
        node.work.notify_one();
    });
    Ok(true)
}

async fn go(node: &Node, held: Held, first: Option<Event>) -> Result<(), StoreError> {
    let Some(runbook) = node.runbook(&held.runbook, held.runbook_version).await? else {
        let why = format!("version {} of runbook `{}` cannot be read any more", held.runbook_version, held.runbook);
        let record = Record { then: end(JobState::Failed, why), ..Record::default() };
        return jobs::record(&node.db, &node.name, held.id, &held.progress, record, clock::now()).await;
    };
    let alert = match held.alert_seq {
        Some(seq) => read::whole_alert(&node.db, seq).await?,
        None => None,
    };
    let facts = Facts {
        id: held.id,
        inputs: held.inputs.clone(),
        target: held.target.clone(),
        alert,
        has_alarm: held.alarm_id.is_some(),
    };
    let repeat = repeat_of_current(&runbook, &held, &node.published().catalog);
    let mut machine = Machine::new(&runbook, &facts, held.progress.clone());
    let mut event = first.unwrap_or(Event::Taken { repeat });
    loop {
        let now = clock::now();
        let (mut record, outward) = sort(machine.handle(now, event));
        redact(&mut record, &node.published());
        if let Then::End { state, .. } = &record.then {
            let label = EndLabel { runbook: runbook.name.clone(), state: state.as_str().to_owned() };
            node.metrics.jobs_ended.get_or_create(&label).inc();
        }
        jobs::record(&node.db, &node.name, held.id, &machine.progress, record, now).await?;
        event = match outward {
            Outward::Nothing => return Ok(()),
            Outward::LookAtAlarm => {
                let raised = match held.alarm_id {
                    Some(alarm) => jobs::alarm_raised(&node.db, alarm).await?,
                    None => false,
                };
                Event::AlarmSeen { raised }
            }
            Outward::Call { via, operation, give, key, timeout } => {
                match call(node, &via, &operation, &give, &key, timeout).await {
                    Ok(output) => Event::Returned(output),
                    Err(Failure { message, again }) => Event::Broke { message, again },
                }
            }
        };
    }
}

/// Whether the call that was under way when the job was left may be repeated.
fn repeat_of_current(runbook: &Runbook, held: &Held, catalog: &Catalog) -> Repeat {
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
fn sort(effects: Vec<Effect>) -> (Record, Outward) {
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
                outward = Outward::Call { via, operation, give, key, timeout };
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

async fn call(
    node: &Node,
    via: &str,
    operation: &str,
    give: &Map<String, Value>,
    key: &str,
    timeout: Option<Period>,
) -> Result<Value, Failure> {
    let published = node.published();
    let fixed = |message: String| Failure { message, again: false };
    let (connection, operation) = published.catalog.operation(via, operation).map_err(fixed)?;
    let scope = SecretScope { secrets: &published.secrets, settings: &node.settings };
    let base = scope.fill(&connection.base).map_err(fixed)?;
    let bearer = connection.bearer.as_ref().map(|b| scope.fill(b)).transpose().map_err(fixed)?;
    let timeout = timeout.unwrap_or(connection.timeout);
    node.http
        .call(Call {
            operation,
            give,
            key,
            base: &base,
            bearer: bearer.as_deref(),
            timeout: std::time::Duration::from_millis(timeout.millis()),
            redactor: &published.redactor,
        })
        .await
}
