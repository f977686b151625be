//! Values: worked out at once.

use crate::{
    job::{
        Place,
        execution::{Around, Execution, StepEnd},
    },
    runbook::Set,
};
use serde_json::Value;

pub(in crate::job) fn run<'m>(
    execution: &mut Execution<'m>,
    set: &'m Set,
    place: &Place,
    around: &Around<'m>,
) -> StepEnd {
    execution.started(place, 1, Value::Object(serde_json::Map::new()));
    match execution.see(around, |scope| set.values.fill(scope)) {
        Ok(values) => StepEnd::Done(values),
        Err(e) => StepEnd::failed(format!("set: {e}")),
    }
}
