//! A call: tried again as its step says, waited for where the other side calls back, found out
//! about when nobody knows whether it was done.

use crate::{
    Period,
    connector::{CallEnd, Failure, Repeat},
    job::{
        CallOut, Doing, Effect, EventSelector, EventWait, Open, Place, Resolution, StepEvent,
        StepResult,
        execution::{Around, Execution, StepEnd, Turn},
    },
    runbook::{Call, FillError, FilledCall, Step},
};
use chrono::{DateTime, Utc};
use serde_json::{Value, json};
use std::hash::{DefaultHasher, Hash, Hasher};

type Calling<'m> = (&'m Step, &'m Call);

/// Begins a try.
pub(in crate::job) fn begin<'m>(
    execution: &mut Execution<'m>,
    (step, call): Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    open.doing = Doing::Calling;
    let filled = execution.see(around, |scope| call.fill(scope));
    execution.started(place, open.attempt, given(&filled));
    send(execution, (step, call), place, open, around, filled)
}

/// What a call is given, for the record; nothing where that cannot be worked out.
pub(in crate::job) fn given(filled: &Result<FilledCall, FillError>) -> Value {
    filled.as_ref().map_or(Value::Null, |filled| Value::Object(filled.give.clone()))
}

/// Sends a try that has begun.
fn send<'m>(
    execution: &mut Execution<'m>,
    (step, call): Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    filled: Result<FilledCall, FillError>,
) -> Option<StepEnd> {
    let FilledCall { target, give } = match filled {
        Ok(filled) => filled,
        Err(e) => {
            return not_sent(execution, (step, call), place, open, around, e.to_string());
        }
    };
    execution.send(CallOut {
        place: place.clone(),
        attempt: open.attempt,
        kept_with: open.attempt,
        target,
        give,
        key: format!("{}-{place}", execution.facts.key),
        timeout: open.timeout(step),
        probes: false,
        instead: None,
    });
    None
}

fn not_sent<'m>(
    execution: &mut Execution<'m>,
    calling: Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    message: String,
) -> Option<StepEnd> {
    broke(
        execution,
        calling,
        place,
        open,
        around,
        &Failure::lasting(CallEnd::NotSent, message),
        Repeat::Never,
    )
}

/// Goes on with whatever it is at.
pub(in crate::job) fn go_on<'m>(
    execution: &mut Execution<'m>,
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
            if execution.now < at || execution.paused {
                return None;
            }
            open.attempt += 1;
            begin(execution, calling, place, open, around)
        }
        Doing::Probing(why) => probing(execution, calling, place, open, around, why),
        Doing::CalledBack { until, repeat } => {
            called_back(execution, calling, place, open, around, (until, repeat))
        }
        Doing::LookingBack => looking_back(execution, calling, place, open, around),
        Doing::Unsure(_) => match execution.word_of(place)? {
            (Resolution::Done, output) => Some(StepEnd::Done(output)),
            (Resolution::Failed, _) => Some(StepEnd::failed(format!(
                "a person said that the unsure step `{}` failed",
                calling.0.id
            ))),
            (Resolution::Again, _) if around.halt => Some(StepEnd::Halted),
            (Resolution::Again, _) if execution.paused => {
                open.doing = Doing::Again(execution.now);
                None
            }
            (Resolution::Again, _) => {
                open.attempt += 1;
                begin(execution, calling, place, open, around)
            }
        },
        _ => calling_out(execution, calling, place, open, around),
    }
}

/// The call is out, or was when the job was left.
fn calling_out<'m>(
    execution: &mut Execution<'m>,
    calling: Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    match execution.turn_of(place, open.attempt) {
        Turn::Out => {}
        Turn::Comes if !around.halt || was_lost(open) => {
            let filled = execution.see(around, |scope| calling.1.fill(scope));
            return send(execution, calling, place, open, around, filled);
        }
        turn => return has_no_turn(execution, calling, place, open, around, &turn),
    }
    match execution.news_of(place, open.attempt) {
        Some(StepEvent::Returned(output)) => return Some(StepEnd::Done(output)),
        Some(StepEvent::Broke { failure, repeat }) => {
            return broke(execution, calling, place, open, around, &failure, repeat);
        }
        Some(StepEvent::Later { within, repeat }) => {
            return will_call_back(execution, calling.0, place, open, (within, repeat));
        }
        _ => {}
    }
    let (step, call) = calling;
    let lost = execution.is_lost(place)?;
    // Of a dry job only what looks was ever out.
    let dry = execution.facts.dry;
    let target = execution.see(around, |scope| call.target(scope));
    let repeat = match target {
        _ if dry => Repeat::Safe,
        Ok(target) => lost.repeat_of(&target),
        Err(_) => Repeat::Never,
    };
    match repeat {
        Repeat::Never | Repeat::Probed => {
            let why =
                format!("a node was lost during step `{}`, which must not be done twice", step.id);
            find_out(execution, calling, place, open, around, (repeat, why))
        }
        // Also when nothing further is begun: what it does counts, and what it did may have to be
        // taken back.
        Repeat::Safe | Repeat::Keyed => {
            open.doubt |= repeat == Repeat::Keyed;
            execution.record(
                place,
                open.attempt,
                StepResult::Failed("its node was lost before an answer came".into()),
            );
            open.attempt += 1;
            begin(execution, calling, place, open, around)
        }
    }
}

/// Whether an earlier try was lost with its node: what it did counts, so it is made again also when
/// nothing further is begun.
const fn was_lost(open: &Open) -> bool {
    open.attempt > open.failed + 1
}

/// The call waits for its turn, as long as its own time and that of what is around it lasts.
fn has_no_turn<'m>(
    execution: &mut Execution<'m>,
    calling: Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    turn: &Turn,
) -> Option<StepEnd> {
    let step = calling.0;
    let queue = execution.queue_of(calling.1, around);
    let message = match (turn, open.timeout(step)) {
        _ if around.halt && !was_lost(open) => return Some(StepEnd::Halted),
        (Turn::Waits(since), Some(timeout))
            if execution.now >= *since + execution.held_for + timeout.delta() =>
        {
            format!("its turn at `{queue}` has not come within {timeout}")
        }
        _ => return None,
    };
    execution.queued.remove(place);
    execution.effects.push(Effect::LeaveQueue(place.clone()));
    // Of an earlier try it may not be known what became of it.
    broke(
        execution,
        calling,
        place,
        open,
        around,
        &Failure::new(CallEnd::NotSent, message),
        Repeat::Keyed,
    )
}

/// The call was taken, and is waited for as long as the operation says, or as the step gives it if
/// that is less. What comes may have come already: it counts from the step's beginning.
fn will_call_back(
    execution: &mut Execution<'_>,
    step: &Step,
    place: &Place,
    open: &mut Open,
    (within, repeat): (Period, Repeat),
) -> Option<StepEnd> {
    let within =
        open.timeout(step).map_or(within.delta(), |least| least.delta().min(within.delta()));
    let chosen = EventSelector::call_back(execution.facts.id, place, open.attempt);
    execution.effects.push(Effect::Listen(EventWait {
        place: place.clone(),
        chosen,
        since: open.since,
    }));
    open.doing = Doing::CalledBack { until: execution.now + within, repeat };
    None
}

/// Whether the other side has called back, or will not any more. What it does counts, so it is
/// waited for also when nothing further is begun.
fn called_back<'m>(
    execution: &mut Execution<'m>,
    calling: Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    (until, repeat): (DateTime<Utc>, Repeat),
) -> Option<StepEnd> {
    let chosen = EventSelector::call_back(execution.facts.id, place, open.attempt);
    let came = match execution.news_of(place, 1) {
        Some(StepEvent::Heard(alerts)) => alerts.into_iter().find(|alert| chosen.matches(alert)),
        _ => None,
    };
    let failure = match came {
        Some(alert) => {
            let called = alert.body.get("callback").cloned().unwrap_or(Value::Null);
            match (called.get("output"), called.get("failure")) {
                (_, Some(why)) => {
                    Failure::new(CallEnd::Refused, why.as_str().unwrap_or("it says that it failed"))
                }
                (output, None) => {
                    execution.effects.push(Effect::Withdraw(place.clone()));
                    return Some(StepEnd::Done(output.cloned().unwrap_or(Value::Null)));
                }
            }
        }
        None if execution.now < until => return None,
        None => Failure::lasting(CallEnd::Unknown, "it was begun, but nobody has called back"),
    };
    execution.effects.push(Effect::Withdraw(place.clone()));
    broke(execution, calling, place, open, around, &failure, repeat)
}

/// What may have been done and must not be done twice is found out; what was surely not done, or
/// may be done twice, is tried again as often as the step says.
fn broke<'m>(
    execution: &mut Execution<'m>,
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
    if unknown && !repeat.is_harmless() {
        let why = format!("{} during step `{id}`, which must not be done twice", failure.message);
        return find_out(execution, calling, place, open, around, (repeat, why));
    }
    open.doubt |= unknown && repeat == Repeat::Keyed;
    let not_known = if open.doubt { "; whether it was done is not known" } else { "" };
    let message = format!("{}{not_known}", failure.message);
    let retry = step.retry.filter(|_| !failure.lasting && !around.halt);
    if let Some(wait) =
        retry.and_then(|r| r.wait_after(open.failed, chance(execution, place, open.attempt)))
    {
        execution.record(place, open.attempt, StepResult::Failed(message));
        open.doing =
            Doing::Again(execution.now + wait.max(failure.retry_after.unwrap_or(wait)).delta());
        return None;
    }
    if open.doubt && failure.end != CallEnd::Done {
        let why = format!("{} during step `{id}`{not_known}", failure.message);
        return find_out(execution, calling, place, open, around, (repeat, why));
    }
    let tries =
        if open.failed > 1 { format!(" after {} tries", open.failed) } else { String::new() };
    let told = format!("step `{id}` failed{tries}: {message}");
    Some(StepEnd::Failed { message, told, done: failure.end == CallEnd::Done })
}

/// From 0 to 1, by the job, the step and the try: as good as chance, and the same whoever works it
/// out.
fn chance(execution: &Execution<'_>, place: &Place, attempt: u32) -> f64 {
    let mut hasher = DefaultHasher::new();
    (&execution.facts.key, place, attempt).hash(&mut hasher);
    hasher.finish() as f64 / u64::MAX as f64
}

/// Asks the step's probe whether it was done, or the operation's own, or else a person.
fn find_out<'m>(
    execution: &mut Execution<'m>,
    (_, call): Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    (repeat, why): (Repeat, String),
) -> Option<StepEnd> {
    if call.probe.is_some() || repeat == Repeat::Probed {
        return ask_probe(execution, call, place, open, around, (why, false));
    }
    unsure(execution, place, open, why)
}

fn unsure(
    execution: &mut Execution<'_>,
    place: &Place,
    open: &mut Open,
    why: String,
) -> Option<StepEnd> {
    execution.record(place, open.attempt, StepResult::Unsure(why.clone()));
    open.doing = Doing::Unsure(why);
    None
}

fn ask_probe<'m>(
    execution: &mut Execution<'m>,
    call: &'m Call,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    (why, again): (String, bool),
) -> Option<StepEnd> {
    let at = place.within("probe");
    let asked = call.probe.as_ref().map_or(call, |probe| &probe.call);
    let filled = execution.see(around, |scope| asked.fill(scope));
    // One that waited for its turn has begun already.
    if !again {
        execution.started(&at, open.attempt, given(&filled));
    }
    let FilledCall { target, give } = match filled {
        Ok(filled) => filled,
        Err(e) => {
            execution.record(&at, open.attempt, StepResult::Failed(e.to_string()));
            return unsure(execution, place, open, format!("{why}; the probe failed: {e}"));
        }
    };
    execution.send(CallOut {
        key: format!("{}-{at}", execution.facts.key),
        place: at,
        attempt: open.attempt,
        kept_with: open.attempt,
        target,
        give,
        timeout: None,
        probes: call.probe.is_none(),
        instead: None,
    });
    open.doing = Doing::Probing(why);
    None
}

/// Asks the probe of a step that another job has done whether that still stands.
pub(in crate::job) fn look_back<'m>(
    execution: &mut Execution<'m>,
    call: &'m Call,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let why = "whether what an earlier job did still stands is not known".to_owned();
    let sent = ask_probe(execution, call, place, open, around, (why, false));
    // Where it could not be sent a person says.
    match open.doing {
        Doing::Unsure(_) => execution.started(place, open.attempt, Value::Null),
        _ => open.doing = Doing::LookingBack,
    }
    sent
}

fn looking_back<'m>(
    execution: &mut Execution<'m>,
    calling: Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let (at, call) = (place.within("probe"), calling.1);
    if around.halt {
        return Some(StepEnd::Halted);
    }
    match execution.turn_of(&at, open.attempt) {
        Turn::Out => {}
        Turn::Waits(_) => return None,
        Turn::Comes => return look_back(execution, call, place, open, around),
    }
    let stands = match execution.answer_of(&at, open.attempt) {
        Some(Ok(result)) => {
            let done = call.probe.as_ref().map_or(Ok(true), |probe| {
                execution
                    .see_with(around, Some(("result", &result)), |scope| probe.done.holds(scope))
                    .map_err(|e| format!("{}: {e}", probe.done))
            });
            execution.record(
                &at,
                open.attempt,
                StepResult::Done(json!({ "done": done.as_ref().ok(), "result": result })),
            );
            done
        }
        Some(Err((failure, _))) => {
            execution.record(&at, open.attempt, StepResult::Failed(failure.message.clone()));
            Err(failure.message)
        }
        None => {
            execution.is_lost(&at)?;
            return look_back(execution, call, place, open, around);
        }
    };
    match stands {
        Ok(true) => Some(StepEnd::Stands),
        Ok(false) => {
            execution.does_not_stand(place);
            begin(execution, calling, place, open, around)
        }
        Err(why) => {
            execution.started(place, open.attempt, Value::Null);
            unsure(
                execution,
                place,
                open,
                format!("whether what an earlier job did still stands is not known: {why}"),
            )
        }
    }
}

fn probing<'m>(
    execution: &mut Execution<'m>,
    calling: Calling<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    why: String,
) -> Option<StepEnd> {
    let (step, call) = calling;
    let at = place.within("probe");
    match execution.turn_of(&at, open.attempt) {
        Turn::Out => {}
        Turn::Waits(_) => return None,
        Turn::Comes => return ask_probe(execution, call, place, open, around, (why, true)),
    }
    let result = match execution.answer_of(&at, open.attempt) {
        Some(Ok(result)) => result,
        Some(Err((failure, _))) => {
            execution.record(&at, open.attempt, StepResult::Failed(failure.message.clone()));
            return unsure(
                execution,
                place,
                open,
                format!("{why}; the probe failed: {}", failure.message),
            );
        }
        None => {
            // A probe changes nothing, so one that was lost is sent again.
            execution.is_lost(&at)?;
            return ask_probe(execution, call, place, open, around, (why, false));
        }
    };
    let (done, result) = match &call.probe {
        Some(probe) => {
            let done = execution
                .see_with(around, Some(("result", &result)), |scope| probe.done.holds(scope));
            (done.map_err(|e| format!("{}: {e}", probe.done)), result)
        }
        None => {
            let done = result.get("done").and_then(Value::as_bool);
            (
                done.ok_or_else(|| "it says neither".to_owned()),
                result.get("result").cloned().unwrap_or(Value::Null),
            )
        }
    };
    execution.record(
        &at,
        open.attempt,
        StepResult::Done(json!({ "done": done.as_ref().ok(), "result": result })),
    );
    match done {
        Ok(true) => Some(StepEnd::Done(result)),
        Err(e) => unsure(execution, place, open, format!("{why}; the probe does not tell: {e}")),
        Ok(false) => {
            (open.doubt, open.failed) = (false, open.failed.max(1));
            let message = format!("{why}; the probe says that it was not done");
            let retry = step.retry.filter(|_| !around.halt);
            match retry
                .and_then(|r| r.wait_after(open.failed, chance(execution, place, open.attempt)))
            {
                Some(wait) => {
                    execution.record(place, open.attempt, StepResult::Failed(message));
                    open.doing = Doing::Again(execution.now + wait.delta());
                    None
                }
                None => Some(StepEnd::failed(message)),
            }
        }
    }
}
