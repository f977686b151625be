//! A pause: over when its time has come.

use crate::{
    job::{
        Doing, Open, Place,
        walk::{Around, StepEnd, Walk},
    },
    runbook::Pause,
};
use serde_json::{Value, json};

pub(in crate::job) fn begin(walk: &mut Walk<'_>, pause: &Pause, place: &Place, open: &mut Open) -> Option<StepEnd> {
    let long = open.within(&pause.long);
    walk.started(place, 1, json!({ "pause": long.to_string() }));
    open.doing = Doing::Pausing(walk.now + long.delta());
    None
}

pub(in crate::job) fn go_on(walk: &Walk<'_>, open: &Open, around: &Around<'_>) -> Option<StepEnd> {
    match open.doing {
        _ if around.halt => Some(StepEnd::Halted),
        Doing::Pausing(until) if walk.now < until || walk.paused => None,
        _ => Some(StepEnd::Done(Value::Null)),
    }
}
