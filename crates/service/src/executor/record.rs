//! What is recorded of a job after an event, out of the effects that the machine has told; and what
//! is outward.

use crate::{
    calls::{LONGEST_BODY, body_kept},
    node::Published,
};
use arvok_api::StepState;
use arvok_core::{
    connector::ShownRequest,
    job::{CallOut, Effect, Launching, Recall, StepResult, Transition},
    runbook::CallTarget,
    script::Script,
    text::cut,
};
use arvok_store::jobs::{AlarmSeen, AttemptEnd, AttemptStart, Record, Saw};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::{Value, json};

/// What is recorded at this moment cannot be seen yet: it is looked at again soon.
pub(super) fn look_again(record: &mut Record, now: DateTime<Utc>) {
    let soon = now + TimeDelta::seconds(1);
    match &mut record.then {
        Transition::Wait { until, .. } => *until = soon.min(*until),
        Transition::GoOn { until } => *until = Some(until.map_or(soon, |until| until.min(soon))),
        Transition::Rest | Transition::Unsure { .. } | Transition::End { .. } => {}
    }
}

/// What is to be done outside after the record.
#[derive(Default)]
pub(super) struct Outward {
    pub calls: Vec<CallOut>,
    pub launches: Vec<Launching>,
    pub recalls: Vec<Recall>,
    /// Steps whose calls wait for no turn any more.
    pub left: Vec<String>,
}

/// Records on one side, what is outward on the other; `seen` is when its alarms had changed last.
pub(super) fn divide(effects: Vec<Effect>, seen: AlarmSeen) -> (Record, Outward) {
    let mut record = Record { seen, ..Record::default() };
    let mut outward = Outward::default();
    for effect in effects {
        match effect {
            Effect::StepStarted { place, attempt, give } => {
                record.began.push(AttemptStart {
                    place,
                    attempt: number(attempt),
                    give,
                    request: None,
                });
            }
            Effect::StepEnded { place, attempt, result } => {
                let (state, output, error) = match result {
                    StepResult::Done(output) => (StepState::Done, Some(output), None),
                    StepResult::Failed(error) => (StepState::Failed, None, Some(error)),
                    StepResult::Unsure(error) => (StepState::Unsure, None, Some(error)),
                    StepResult::Stopped => (StepState::Stopped, None, None),
                    StepResult::Skipped => {
                        let attempt = number(attempt);
                        record.began.push(AttemptStart {
                            place: place.clone(),
                            attempt,
                            give: Value::Null,
                            request: None,
                        });
                        (StepState::Skipped, None, None)
                    }
                };
                record.ended.push(AttemptEnd {
                    place,
                    attempt: number(attempt),
                    state,
                    output,
                    error,
                });
            }
            Effect::StepSaw { place, attempt, saw } => {
                record.saw.push(Saw { place, attempt: number(attempt), saw })
            }
            Effect::Call(call) => outward.calls.push(call),
            Effect::Launch(launching) => outward.launches.push(launching),
            Effect::Recall(recall) => outward.recalls.push(recall),
            Effect::Ask(question) => record.asked.push(question),
            Effect::Listen(listening) => record.listens.push(listening),
            Effect::Withdraw(place) => record.withdrawn.push(place.to_string()),
            Effect::LeaveQueue(place) => outward.left.push(place.to_string()),
            Effect::Emit(event) => record.emitted.push(event),
            Effect::Remember(place, memory) => record.remembered.push((place, memory)),
            Effect::Then(transition) => record.then = transition,
        }
    }
    (record, outward)
}

fn number(n: u32) -> i32 {
    i32::try_from(n).unwrap_or(i32::MAX)
}

/// Completes what is recorded by what is sent for it, and hides secrets in what is text for people.
/// What later steps work with (what was given to lists, what steps gave, events) is recorded as it
/// is.
pub(super) fn complete(record: &mut Record, calls: &[CallOut], published: &Published) {
    note_requests(record, calls, published);
    for question in &mut record.asked {
        question.text = published.redactor.text(&question.text);
        question.choices.iter_mut().for_each(|(_, words)| *words = published.redactor.text(words));
    }
}

/// Notes with each try that begins now what is sent for it, hidden before it is cut, and what that
/// changes.
fn note_requests(record: &mut Record, calls: &[CallOut], published: &Published) {
    for call in calls {
        let began = record
            .began
            .iter_mut()
            .find(|b| b.place == call.place && b.attempt == number(call.attempt));
        let planned = match &call.target {
            CallTarget::Script(script) => {
                if call.instead.is_none() {
                    let touches = Script::touches(&call.give).unwrap_or_default();
                    record.touched.extend(touches.into_iter().map(|at| (call.place.clone(), at)));
                }
                script.shown(&call.give).ok()
            }
            CallTarget::Operation { via, operation } => {
                let operation = published.catalog.operation(via, operation).ok();
                let operation = operation.map(|(_, operation)| operation);
                if let Some(operation) = operation.filter(|_| call.instead.is_none()) {
                    let touches = operation.touches(&call.give).unwrap_or_default();
                    record.touched.extend(touches.into_iter().map(|at| (call.place.clone(), at)));
                }
                operation.and_then(|operation| operation.request(&call.give, &call.key).ok())
            }
        };
        let via = call.target.operation().map(|(via, _)| via);
        if let (Some(began), Some(ShownRequest { method, target, body })) = (began, planned) {
            let target = published.redactor.text(&target);
            let body = body.map(|body| body_kept(published.redactor.value(body)));
            began.request =
                Some(json!({ "method": method, "target": cut(&target, LONGEST_BODY), "body": body,
                    "via": via, "unsent": call.instead.is_some() }));
        }
    }
}
