//! A call: tried again as its step says, found out about when nobody knows whether it was done.

use crate::{
    connector::{CallEnd, Failure, Repeat},
    job::{
        CallOut, Doing, Open, Place, Resolution, StepResult,
        walk::{Around, StepEnd, Walk},
    },
    runbook::{Call, Probe, Step},
};
use serde_json::{Value, json};
use std::hash::{DefaultHasher, Hash, Hasher};

type Calling<'m> = (&'m Step, &'m Call);

/// Begins a try.
pub(in crate::job) fn begin<'m>(
    walk: &mut Walk<'m>,
    (step, call): Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    open.doing = Doing::Calling;
    let given = walk.see(around, |scope| call.give.fill(scope));
    walk.started(place, open.attempt, given.as_ref().map_or(Value::Null, Clone::clone));
    let give = match given {
        Ok(Value::Object(give)) => give,
        Ok(_) => return not_sent(walk, (step, call), place, open, around, "`give` is not a map".into()),
        Err(e) => return not_sent(walk, (step, call), place, open, around, format!("give: {e}")),
    };
    walk.send(CallOut {
        place: place.clone(),
        attempt: open.attempt,
        via: call.via.clone(),
        operation: call.operation.clone(),
        give,
        key: format!("{}-{place}", walk.facts.key),
        timeout: step.timeout,
    });
    None
}

fn not_sent<'m>(
    walk: &mut Walk<'m>,
    calling: Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    message: String,
) -> Option<StepEnd> {
    broke(walk, calling, place, open, around, &Failure::lasting(CallEnd::NotSent, message), Repeat::Never)
}

/// Goes on with whatever it is at.
pub(in crate::job) fn go_on<'m>(
    walk: &mut Walk<'m>,
    calling: Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    match open.doing.clone() {
        Doing::Again(at) => {
            if around.halt {
                return Some(StepEnd::Halted);
            }
            if walk.now < at || walk.paused {
                return None;
            }
            open.attempt += 1;
            begin(walk, calling, place, open, around)
        }
        Doing::Probing(why) => probing(walk, calling, place, open, around, why),
        Doing::Unsure(_) => match walk.word_of(place)? {
            Resolution::Done => Some(StepEnd::Done(Value::Null)),
            Resolution::Failed => {
                Some(StepEnd::failed(format!("a person said that the unsure step `{}` failed", calling.0.id)))
            }
            Resolution::Again if around.halt => Some(StepEnd::Halted),
            Resolution::Again => {
                open.attempt += 1;
                begin(walk, calling, place, open, around)
            }
        },
        _ => calling_out(walk, calling, place, open, around),
    }
}

/// The call is out, or was when the job was left.
fn calling_out<'m>(
    walk: &mut Walk<'m>,
    calling: Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    match walk.answer_of(place, open.attempt) {
        Some(Ok(output)) => return Some(StepEnd::Done(output)),
        Some(Err((failure, repeat))) => return broke(walk, calling, place, open, around, &failure, repeat),
        None => {}
    }
    let (step, call) = calling;
    let repeat = walk.is_lost(place)?.of(&call.via, &call.operation);
    match repeat {
        Repeat::Never => {
            let why = format!("a node was lost during step `{}`, which must not be done twice", step.id);
            find_out(walk, calling, place, open, around, why)
        }
        // Also when nothing further is begun: what it does counts, and what it did may have to be taken back.
        Repeat::Safe | Repeat::Keyed => {
            open.doubt |= repeat == Repeat::Keyed;
            walk.record(place, open.attempt, StepResult::Failed("its node was lost before an answer came".into()));
            open.attempt += 1;
            begin(walk, calling, place, open, around)
        }
    }
}

/// What may have been done and must not be done twice is found out; what was surely not done, or may be
/// done twice, is tried again as often as the step says.
fn broke<'m>(
    walk: &mut Walk<'m>,
    calling: Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    failure: &Failure,
    repeat: Repeat,
) -> Option<StepEnd> {
    let (step, id) = (calling.0, &calling.0.id);
    open.failed += 1;
    let unknown = failure.end == CallEnd::Unknown;
    if unknown && repeat == Repeat::Never {
        let why = format!("{} during step `{id}`, which must not be done twice", failure.message);
        return find_out(walk, calling, place, open, around, why);
    }
    open.doubt |= unknown && repeat == Repeat::Keyed;
    let not_known = if open.doubt { "; whether it was done is not known" } else { "" };
    let message = format!("{}{not_known}", failure.message);
    let retry = step.retry.filter(|_| !failure.lasting && !around.halt);
    if let Some(wait) = retry.and_then(|r| r.wait_after(open.failed, chance(walk, place, open.attempt))) {
        walk.record(place, open.attempt, StepResult::Failed(message));
        open.doing = Doing::Again(walk.now + wait.max(failure.retry_after.unwrap_or(wait)).delta());
        return None;
    }
    if open.doubt && failure.end != CallEnd::Done {
        let why = format!("{} during step `{id}`{not_known}", failure.message);
        return find_out(walk, calling, place, open, around, why);
    }
    let tries = if open.failed > 1 { format!(" after {} tries", open.failed) } else { String::new() };
    let told = format!("step `{id}` failed{tries}: {message}");
    Some(StepEnd::Failed { message, told, done: failure.end == CallEnd::Done })
}

/// From 0 to 1, by the job, the step and the try: as good as chance, and the same whoever works it out.
fn chance(walk: &Walk<'_>, place: &Place, attempt: u32) -> f64 {
    let mut hasher = DefaultHasher::new();
    (&walk.facts.key, place, attempt).hash(&mut hasher);
    hasher.finish() as f64 / u64::MAX as f64
}

/// Asks the step's probe whether it was done, or else a person.
fn find_out<'m>(
    walk: &mut Walk<'m>,
    (_, call): Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    why: String,
) -> Option<StepEnd> {
    match &call.probe {
        Some(probe) => ask_probe(walk, probe, place, open, around, why),
        None => unsure(walk, place, open, why),
    }
}

fn unsure(walk: &mut Walk<'_>, place: &Place, open: &mut Open, why: String) -> Option<StepEnd> {
    walk.record(place, open.attempt, StepResult::Unsure(why.clone()));
    open.doing = Doing::Unsure(why);
    None
}

fn ask_probe<'m>(
    walk: &mut Walk<'m>,
    probe: &'m Probe,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    why: String,
) -> Option<StepEnd> {
    let at = place.within("probe");
    let given = walk.see(around, |scope| probe.call.give.fill(scope));
    walk.started(&at, open.attempt, given.as_ref().map_or(Value::Null, Clone::clone));
    let Ok(Value::Object(give)) = given else {
        let message = given.err().map_or_else(|| "`give` is not a map".to_owned(), |e| format!("give: {e}"));
        walk.record(&at, open.attempt, StepResult::Failed(message.clone()));
        return unsure(walk, place, open, format!("{why}; the probe failed: {message}"));
    };
    walk.send(CallOut {
        key: format!("{}-{at}", walk.facts.key),
        place: at,
        attempt: open.attempt,
        via: probe.call.via.clone(),
        operation: probe.call.operation.clone(),
        give,
        timeout: None,
    });
    open.doing = Doing::Probing(why);
    None
}

fn probing<'m>(
    walk: &mut Walk<'m>,
    calling: Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    why: String,
) -> Option<StepEnd> {
    let (step, call) = calling;
    let at = place.within("probe");
    let Some(probe) = &call.probe else { return unsure(walk, place, open, why) };
    let result = match walk.answer_of(&at, open.attempt) {
        Some(Ok(result)) => result,
        Some(Err((failure, _))) => {
            walk.record(&at, open.attempt, StepResult::Failed(failure.message.clone()));
            return unsure(walk, place, open, format!("{why}; the probe failed: {}", failure.message));
        }
        None => {
            // A probe changes nothing, so one that was lost is sent again.
            walk.is_lost(&at)?;
            return ask_probe(walk, probe, place, open, around, why);
        }
    };
    let done = walk.see_with(around, Some(("result", &result)), |scope| probe.done.holds(scope));
    walk.record(&at, open.attempt, StepResult::Done(json!({ "done": done.as_ref().ok(), "result": result })));
    match done {
        Ok(true) => Some(StepEnd::Done(result)),
        Err(e) => unsure(walk, place, open, format!("{why}; the probe does not tell: {}: {e}", probe.done)),
        Ok(false) => {
            (open.doubt, open.failed) = (false, open.failed.max(1));
            let message = format!("{why}; the probe says that it was not done");
            let retry = step.retry.filter(|_| !around.halt);
            match retry.and_then(|r| r.wait_after(open.failed, chance(walk, place, open.attempt))) {
                Some(wait) => {
                    walk.record(place, open.attempt, StepResult::Failed(message));
                    open.doing = Doing::Again(walk.now + wait.delta());
                    None
                }
                None => Some(StepEnd::failed(message)),
            }
        }
    }
}
