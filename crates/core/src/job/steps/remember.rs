//! Values for the runs that come after this one: written with the record, so that none is lost or
//! written by a job that was not there. A dry job writes none, and goes on as if it had.

use crate::{
    job::{
        Effect, Place,
        execution::{Around, Execution, StepEnd},
    },
    runbook::Remember,
};
use serde_json::Value;

pub(in crate::job) fn run<'m>(
    execution: &mut Execution<'m>,
    remember: &'m Remember,
    place: &Place,
    around: &Around<'m>,
) -> StepEnd {
    let written = execution.see(around, |scope| remember.values.fill(scope));
    execution.started(place, 1, written.as_ref().map_or(Value::Null, Clone::clone));
    let after = match written {
        Ok(_) if execution.facts.memory_full => {
            let runbook = &execution.runbook.name;
            Err(format!("runs of `{runbook}` remember too many targets; have it forget some"))
        }
        Ok(Value::Object(written)) => {
            let now = &execution.kept.memory;
            execution.runbook.memory.after(now, written)
        }
        Ok(_) => Err("is not a map".to_owned()),
        Err(e) => Err(e.to_string()),
    };
    match after {
        Ok(after) => {
            if !execution.facts.dry {
                execution.effects.push(Effect::Remember(place.clone(), after.clone()));
            }
            execution.kept.memory = after.clone();
            StepEnd::Done(after)
        }
        Err(why) => StepEnd::failed(format!("remember: {why}")),
    }
}
