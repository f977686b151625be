//! A pause: over when its time has come.

use crate::{
    job::{
        Doing, Open, Place,
        execution::{Around, Execution, StepEnd},
    },
    runbook::Pause,
};
use serde_json::{Value, json};

pub(in crate::job) fn begin(
    execution: &mut Execution<'_>,
    pause: &Pause,
    place: &Place,
    open: &mut Open,
) -> Option<StepEnd> {
    let long = open.within(&pause.long);
    execution.started(place, 1, json!({ "pause": long.to_string() }));
    if execution.facts.dry {
        return Some(StepEnd::Done(Value::Null));
    }
    open.doing = Doing::Pausing(execution.now + long.delta());
    None
}

pub(in crate::job) fn go_on(
    execution: &Execution<'_>,
    open: &Open,
    around: &Around<'_>,
) -> Option<StepEnd> {
    match open.doing {
        _ if around.halt => Some(StepEnd::Halted),
        Doing::Pausing(until) if execution.now < until || execution.paused => None,
        _ => Some(StepEnd::Done(Value::Null)),
    }
}
