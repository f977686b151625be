//! What steps give in a dry job though they are not done: what an example of the runbook says of
//! the step, else what the operation or the script declares. A dry job is that of a trial: it makes
//! the calls that only look, sends no other, asks and tells nobody and waits for nothing.

use super::{CallOut, EventSelector, Place};
use crate::{
    AlertState, Severity,
    connector::{self, Operation},
    definition::Others,
    glob::Glob,
    job_state::JobState,
    runbook::{AnswerDoc, CallTarget, JobExampleDoc, Runbook},
};
use serde_json::{Map, Value, json};

/// What a call gives that is not sent; none if it only looks, and is made.
pub(super) fn answer(
    runbook: &Runbook,
    others: Option<&dyn Others>,
    call: &CallOut,
) -> Option<Value> {
    let example = || of_examples(runbook, &call.place);
    let gives = |declared: Value| Some(example().unwrap_or(declared));
    if others.is_some_and(|others| call.target.only_looks(others)) {
        return None;
    }
    match &call.target {
        CallTarget::Script(script) => gives(script.sample()),
        CallTarget::Operation { via, operation } => {
            let found = others.and_then(|others| connector::operation(others, via, operation).ok());
            match found {
                Some(_) if call.probes => None,
                found => gives(found.map_or_else(|| json!({}), |(_, o)| Operation::sample(o))),
            }
        }
    }
}

/// What an example says that a step gives: of those in which the job succeeds, if there is one.
pub(super) fn of_examples(runbook: &Runbook, place: &Place) -> Option<Value> {
    let said = |example: &JobExampleDoc| {
        let answers = &example.answers;
        let answers = answers.get(place.as_str()).or_else(|| answers.get(place.id()))?;
        answers.all().iter().find_map(|AnswerDoc { gives, .. }| gives.clone())
    };
    let goes_well = |example: &&JobExampleDoc| example.expect.state == JobState::Succeeded;
    let all = || runbook.examples.iter();
    all().filter(goes_well).find_map(said).or_else(|| all().find_map(said))
}

/// The event that would be waited for: what is asked of it, and what an example says of it.
pub(super) fn event(runbook: &Runbook, place: &Place, chosen: &EventSelector) -> Value {
    let exact = |texts: &[String]| {
        texts.iter().find_map(|text| Some(Glob::parse(text).ok()?.exact()?.to_owned()))
    };
    let labels: Map<String, Value> = chosen
        .labels
        .iter()
        .filter_map(|(name, texts)| Some((name.clone(), exact(texts)?.into())))
        .collect();
    let mut event = json!({
        "id": "made up", "source": exact(&chosen.sources).unwrap_or_default(),
        "kind": exact(&chosen.kinds).unwrap_or_default(),
        "severity": Severity::Indeterminate,
        "state": chosen.states.first().copied().unwrap_or(AlertState::Noted),
        "resource": exact(&chosen.resource).unwrap_or_default(),
        "summary": "an event that a trial does not wait for", "value": null, "labels": labels,
        "body": null,
    });
    if let (Some(Value::Object(said)), Value::Object(event)) =
        (of_examples(runbook, place), &mut event)
    {
        event.extend(said);
    }
    event
}
