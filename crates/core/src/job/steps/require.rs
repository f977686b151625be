//! A requirement: done at once, or failed.

use crate::{
    job::{
        Place,
        execution::{Around, Execution, StepEnd},
    },
    runbook::{JobScope, Require},
};
use serde_json::{Value, json};

pub(in crate::job) fn run<'m>(
    execution: &mut Execution<'m>,
    require: &'m Require,
    place: &Place,
    around: &Around<'m>,
) -> StepEnd {
    let condition = &require.condition;
    execution.started(place, 1, json!({ "require": condition.text() }));
    let saw = execution.see(around, |scope| condition.saw(scope));
    execution.saw(place, saw);
    match execution.see(around, |scope| unmet(require, scope)) {
        None => StepEnd::Done(Value::Bool(true)),
        Some(message) => StepEnd::failed(message),
    }
}

/// What is said of a requirement that does not hold; none if it does.
pub(super) fn unmet(require: &Require, scope: &JobScope<'_>) -> Option<String> {
    let Require { condition, otherwise } = require;
    match condition.holds(scope) {
        Ok(true) => None,
        Ok(false) => Some(match otherwise {
            Some(text) => text.fill_text(scope).unwrap_or_else(|e| e.to_string()),
            None => format!("{condition} does not hold"),
        }),
        Err(e) => Some(format!("{condition}: {e}")),
    }
}
