//! A plan as the runbook that each of its runs is a job of: what is asked, which jobs are launched,
//! what is remembered.

use super::{ConsentDoc, PlanDoc};
use crate::{
    Period,
    document::Checker,
    expr::LengthDoc,
    runbook::{Failures, LaunchDoc, Runbook, RunbookDoc},
};
use serde_json::{Map, Value, json};

/// How long a run may take where its plan does not say.
const TIMEOUT: Period = Period::from_secs(24 * 3600);
/// How long it is waited for consent where a plan does not say.
const CONSENT_WITHIN: Period = Period::from_secs(8 * 3600);
/// The answers to whether it may run.
const GO_ON: &str = "go_on";
const NOT_NOW: &str = "not_now";

/// What the runs of a plan are jobs of. Its diagnostics are those of the plan.
pub(super) fn runbook(check: &mut Checker<'_>, doc: &PlanDoc) -> Option<Runbook> {
    let made = RunbookDoc {
        runbook: super::job_name(&doc.plan),
        summary: doc.summary.clone(),
        copied_from: None,
        inputs: inputs(),
        memory: doc.memory.clone(),
        target: super::job_name(&doc.plan),
        launch: doc.launch.map(|launch| LaunchDoc { role: launch.role }),
        timeout: Some(doc.timeout.clone().unwrap_or(LengthDoc::Written(TIMEOUT))),
        at_once: None,
        announce: None,
        steps: steps(doc),
        confirm: None,
        otherwise: Vec::new(),
        recover: Vec::new(),
        always: Vec::new(),
        outputs: Map::new(),
        connections: Vec::new(),
        files: Default::default(),
        examples: Vec::new(),
    };
    check.of_what_is_made(written_at);
    let runbook = Runbook::of_doc(check, made);
    check.of_what_is_made(str::to_owned);
    runbook
}

fn inputs() -> Map<String, Value> {
    let due = "The time that it runs for; nothing if somebody runs it";
    let resources = "The resources, one job each";
    let left_out = "Resources that it is not run for, as they are muted";
    let list = |description: &str| {
        json!({ "type": "array", "items": { "type": "string" }, "default": [],
            "description": description })
    };
    let inputs = json!({
        "due": { "type": "string", "default": "", "description": due },
        "resources": list(resources),
        "left_out": list(left_out),
    });
    inputs.as_object().cloned().unwrap_or_default()
}

fn steps(doc: &PlanDoc) -> Vec<Map<String, Value>> {
    let mut steps = Vec::new();
    if let Some(when) = &doc.when {
        let otherwise = doc.otherwise.clone();
        steps.push(json!({
            "id": "complete",
            "summary": "There is nothing to do",
            "when": format!("!({when})"),
            "finish": "succeeded",
            "because": otherwise.unwrap_or_else(|| format!("there is nothing to do: not {when}")),
        }));
    }
    if let Some(consent) = &doc.consent {
        steps.push(question(doc, consent));
        steps.push(json!({
            "id": "declined",
            "summary": "It was declined",
            "when": format!("steps.consent.choice != {GO_ON:?}"),
            "finish": "succeeded",
            "because": "${steps.consent.silent ? 'nobody agreed in time' : steps.consent.by + \
                ' said: not now'}${steps.consent.remark == '' ? '' : ': ' + steps.consent.remark}",
        }));
    }
    match &doc.of {
        None => {
            steps.push(launched(doc, "run"));
            steps.push(helped("run"));
        }
        Some(_) => steps.push(json!({
            "id": "run",
            "summary": format!("Runbook {} for each", doc.runbook),
            "each": "inputs.resources",
            "as": "resource",
            "at_once": doc.at_once.unwrap_or(1),
            "waves": doc.waves,
            "between": doc.between,
            "failures": Failures::Report,
            "stop_after": doc.stop_after.unwrap_or(1),
            "gives": "steps.job",
            "steps": [launched(doc, "job"), helped("job")],
        })),
    }
    if !doc.remember.is_empty() {
        steps.push(json!({
            "id": "kept",
            "summary": "What the next run finds",
            "remember": doc.remember,
        }));
    }
    steps.into_iter().filter_map(without_nulls).collect()
}

fn without_nulls(step: Value) -> Option<Map<String, Value>> {
    let Value::Object(mut step) = step else { return None };
    step.retain(|_, value| !value.is_null());
    Some(step)
}

fn question(doc: &PlanDoc, consent: &ConsentDoc) -> Value {
    let many = if doc.of.is_some() { " on ${size(inputs.resources)} resources" } else { "" };
    let text = format!("May plan {} run runbook {}{many}?", doc.plan, doc.runbook);
    let mut ask = json!({
        "to": consent.to,
        "text": consent.text.clone().unwrap_or(text),
        "choices": { GO_ON: "Run it", NOT_NOW: "Not now" },
        "within": consent.within.clone().unwrap_or(LengthDoc::Written(CONSENT_WITHIN)),
        "unanswered": NOT_NOW,
        "by_link": consent.by_link,
    });
    if let Some(ask) = ask.as_object_mut() {
        ask.retain(|_, value| !value.is_null());
    }
    json!({ "id": "consent", "summary": "Somebody agrees", "ask": ask })
}

fn launched(doc: &PlanDoc, id: &str) -> Value {
    json!({ "id": id, "summary": format!("Runbook {}", doc.runbook), "runbook": doc.runbook,
        "give": doc.give })
}

fn helped(id: &str) -> Value {
    json!({
        "id": "helped",
        "summary": "It helped",
        "require": format!("steps.{id}.effect != \"unconfirmed\""),
        "else": format!("job ${{steps.{id}.job}} did not have its effect"),
    })
}

/// Where that stands in the plan which stands at a pointer of its runbook.
pub(super) fn written_at(pointer: &str) -> String {
    let mut at = pointer;
    while let Some(below) = at.strip_prefix("/steps/") {
        at = below.find('/').map_or("", |end| &below[end..]);
    }
    match at.strip_prefix("/ask") {
        Some(below) => format!("/consent{below}"),
        None if at == "/because" => "/else".to_owned(),
        None => at.to_owned(),
    }
}
