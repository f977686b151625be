//! A requirement: done at once, or failed.

use crate::{
    job::{
        Place,
        execution::{Around, Execution, StepEnd},
    },
    runbook::Require,
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
    let held = execution.see(around, |scope| match condition.holds(scope) {
        Ok(true) => Ok(()),
        Ok(false) => Err(match &require.otherwise {
            Some(text) => text.fill_text(scope).unwrap_or_else(|e| e.to_string()),
            None => format!("{condition} does not hold"),
        }),
        Err(e) => Err(format!("{condition}: {e}")),
    });
    match held {
        Ok(()) => StepEnd::Done(Value::Bool(true)),
        Err(message) => StepEnd::failed(message),
    }
}
