//! Values: worked out at once.

use crate::{
    job::{
        Place,
        walk::{Around, StepEnd, Walk},
    },
    runbook::Set,
};
use serde_json::Value;

pub(in crate::job) fn run<'m>(walk: &mut Walk<'m>, set: &'m Set, place: &Place, around: &Around<'m>) -> StepEnd {
    walk.started(place, 1, Value::Object(serde_json::Map::new()));
    match walk.see(around, |scope| set.values.fill(scope)) {
        Ok(values) => StepEnd::Done(values),
        Err(e) => StepEnd::failed(format!("set: {e}")),
    }
}
