//! A job of its own: launched, waited for, and recalled when it is not needed any more. What it
//! does counts, so its end is waited for then as well.

use crate::{
    job::{
        ChildEnd, Doing, Effect, JobState, Launching, Open, Place, Recall, StepEvent,
        execution::{Around, Execution, StepEnd},
    },
    runbook::{Child, Step},
};
use serde_json::{Value, json};

type Children<'m> = (&'m Step, &'m Child);

pub(in crate::job) fn begin<'m>(
    execution: &mut Execution<'m>,
    of: Children<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let given = execution.see(around, |scope| of.1.give.fill(scope));
    execution.started(place, 1, given.as_ref().map_or(Value::Null, Clone::clone));
    open.doing = Doing::Launching;
    let runbook = match execution.see(around, |scope| of.1.runbook.resolve(scope)) {
        Ok(runbook) => runbook,
        Err(e) => return Some(StepEnd::failed(format!("runbook: {e}"))),
    };
    match given {
        Ok(Value::Object(give)) => {
            launch(execution, runbook, place, give);
            None
        }
        Ok(_) => Some(StepEnd::failed("`give` is not a map")),
        Err(e) => Some(StepEnd::failed(format!("give: {e}"))),
    }
}

fn launch(
    execution: &mut Execution<'_>,
    runbook: String,
    place: &Place,
    give: serde_json::Map<String, Value>,
) {
    execution.news.sent.insert(place.clone());
    execution.effects.push(Effect::Launch(Launching { place: place.clone(), runbook, give }));
}

pub(in crate::job) fn go_on<'m>(
    execution: &mut Execution<'m>,
    of: Children<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let (step, child) = of;
    let over = execution.over_time(step, open);
    let news = execution.news_of(place, open.attempt);
    match (&open.doing, news) {
        (Doing::Launching, Some(StepEvent::Launched(job))) => {
            open.doing = Doing::Child { job, recalled: false }
        }
        (Doing::Launching, Some(StepEvent::Broke { failure, .. })) => {
            return Some(StepEnd::failed(failure.message));
        }
        (Doing::Launching, _) => {
            // Launched or not: the same launch makes one job.
            execution.is_lost(place)?;
            return begin_again(execution, of, place, around);
        }
        (Doing::Child { .. } | Doing::Recalling { .. }, Some(StepEvent::Ended(end))) => {
            // What it did counts, however late; only if it did not is it stopped, or too late.
            let stopped = around.halt && end.state == JobState::Cancelled;
            let late = over.filter(|_| end.state != JobState::Succeeded);
            let end = match stopped || late.is_some() {
                true => StepEnd::Halted,
                false => ended(&name(execution, child, around), end),
            };
            return Some(Execution::timed_out(step, late, around, end));
        }
        (Doing::Recalling { job }, Some(StepEvent::Recalled)) => {
            open.doing = Doing::Child { job: *job, recalled: true }
        }
        (Doing::Recalling { job }, _) => {
            let job = *job;
            execution.is_lost(place)?;
            recall(execution, place, job);
        }
        _ => {}
    }
    if let Doing::Child { job, recalled: false } = open.doing
        && (around.halt || over.is_some())
    {
        open.doing = Doing::Recalling { job };
        recall(execution, place, job);
    }
    None
}

fn begin_again<'m>(
    execution: &mut Execution<'m>,
    of: Children<'m>,
    place: &Place,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let given = execution.see(around, |scope| of.1.give.fill(scope));
    let runbook = execution.see(around, |scope| of.1.runbook.resolve(scope));
    match (runbook, given) {
        (Ok(runbook), Ok(Value::Object(give))) => launch(execution, runbook, place, give),
        _ => {
            return Some(StepEnd::failed("what it was given cannot be worked out any more"));
        }
    }
    None
}

fn recall(execution: &mut Execution<'_>, place: &Place, job: crate::JobId) {
    let (undo, words) = execution.stop.clone();
    execution.news.sent.insert(place.clone());
    execution.effects.push(Effect::Recall(Recall { place: place.clone(), job, undo, words }));
}

/// The name of the runbook, as far as it can still be worked out.
fn name(execution: &Execution<'_>, child: &Child, around: &Around<'_>) -> String {
    let name = execution.see(around, |scope| child.runbook.resolve(scope));
    name.unwrap_or_else(|_| child.runbook.to_string())
}

fn ended(runbook: &str, end: ChildEnd) -> StepEnd {
    let ChildEnd { job, state, effect, failure, outputs } = end;
    if state == JobState::Succeeded {
        return StepEnd::Done(json!({ "job": job, "effect": effect, "gives": outputs }));
    }
    let why = failure.map_or_else(String::new, |f| format!(": {f}"));
    let was = match state {
        JobState::Cancelled | JobState::Refused => format!("was {state}"),
        _ => state.to_string(),
    };
    StepEnd::failed(format!("job {job} of runbook `{runbook}` {was}{why}"))
}
