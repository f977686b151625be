//! A check: looks until its condition holds. A look changes nothing, so one that was lost is made
//! again, and one that is not needed any more is not waited for.

use crate::{
    job::{
        CallOut, Doing, Open, Place,
        execution::{Around, Execution, StepEnd, Turn},
    },
    period::rough,
    runbook::{Call, Check, FilledCall},
};
use serde_json::{Value, json};

pub(in crate::job) fn begin<'m>(
    execution: &mut Execution<'m>,
    check: &'m Check,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    open.doing = Doing::Looking { look: 0, next: None };
    let filled = check.call.as_ref().map(|call| execution.see(around, |scope| call.fill(scope)));
    let shown = match filled {
        Some(Ok(filled)) => json!({ "check": check.condition.text(), "give": filled.give }),
        Some(Err(_)) | None => json!({ "check": check.condition.text() }),
    };
    execution.started(place, 1, shown);
    look(execution, check, place, open, around)
}

pub(in crate::job) fn go_on<'m>(
    execution: &mut Execution<'m>,
    check: &'m Check,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    if around.halt {
        return Some(StepEnd::Halted);
    }
    let Doing::Looking { look: number, next } = open.doing else {
        return look(execution, check, place, open, around);
    };
    match next {
        // What needs no call costs nothing, and may hold as soon as the alarm has changed.
        Some(at) if !execution.paused && (execution.now >= at || check.call.is_none()) => {
            look(execution, check, place, open, around)
        }
        Some(_) => None,
        None => match (execution.turn_of(place, number), &check.call) {
            (Turn::Waits(_), _)
                if execution.now
                    < open.since + execution.held_for + open.within(&check.within).delta() =>
            {
                None
            }
            (Turn::Waits(_), Some(call)) => {
                let queue = execution.queue_of(call, around);
                let why = format!("its turn at `{queue}` has not come");
                record_look(execution, check, place, open, around, Err(why))
            }
            (Turn::Comes, Some(call)) => send(execution, call, place, number, around),
            _ => looked(execution, check, place, open, around, number),
        },
    }
}

/// The call of a look is out, or was when the job was left.
fn looked<'m>(
    execution: &mut Execution<'m>,
    check: &'m Check,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    number: u32,
) -> Option<StepEnd> {
    match execution.answer_of(place, number) {
        Some(found) => record_look(
            execution,
            check,
            place,
            open,
            around,
            found.map_err(|(failure, _)| failure.message),
        ),
        None => {
            execution.is_lost(place)?;
            look(execution, check, place, open, around)
        }
    }
}

/// One look.
fn look<'m>(
    execution: &mut Execution<'m>,
    check: &'m Check,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let number = match open.doing {
        Doing::Looking { look, .. } => look + 1,
        _ => 1,
    };
    open.doing = Doing::Looking { look: number, next: None };
    let Some(call) = &check.call else {
        return record_look(execution, check, place, open, around, Ok(Value::Null));
    };
    send(execution, call, place, number, around)
}

/// Sends the call of a look.
fn send<'m>(
    execution: &mut Execution<'m>,
    call: &'m Call,
    place: &Place,
    number: u32,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let FilledCall { target, give } = match execution.see(around, |scope| call.fill(scope)) {
        Ok(filled) => filled,
        Err(e) => return Some(StepEnd::failed(e.to_string())),
    };
    execution.send(CallOut {
        probes: false,
        instead: None,
        place: place.clone(),
        attempt: number,
        kept_with: 1,
        target,
        give,
        key: format!("{}-{place}-{number}", execution.facts.key),
        timeout: None,
    });
    None
}

/// What a look saw, or why it saw nothing.
fn record_look<'m>(
    execution: &mut Execution<'m>,
    check: &'m Check,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    found: Result<Value, String>,
) -> Option<StepEnd> {
    let Doing::Looking { look, .. } = open.doing else { return None };
    let result = found.as_ref().ok().filter(|_| check.call.is_some());
    let bound = result.map(|r| ("result", r));
    let held = match &found {
        Ok(_) => execution
            .see_with(around, bound, |scope| check.condition.holds(scope))
            .map_err(|e| e.to_string()),
        Err(message) => Err(message.clone()),
    };
    let mut saw = execution.see_with(around, bound, |scope| check.condition.saw(scope));
    // What would make it hold was not done.
    let is_passed_over = execution.facts.dry && held != Ok(true) && found.is_ok();
    if is_passed_over {
        saw.insert("trial".into(), "it does not hold, and a trial does not wait for it".into());
    }
    execution.saw(place, saw);
    if held == Ok(true) || is_passed_over {
        return Some(StepEnd::Done(result.cloned().unwrap_or(Value::Bool(true))));
    }
    let last = open.since + execution.held_for + open.within(&check.within).delta();
    if execution.now < last {
        open.doing =
            Doing::Looking { look, next: Some((execution.now + check.every.delta()).min(last)) };
        return None;
    }
    let why = held.err().map_or_else(String::new, |e| format!(": {e}"));
    let plain = format!(
        "{} did not hold within {}{why}",
        check.condition,
        rough(open.within(&check.within).delta())
    );
    Some(StepEnd::failed(match (&check.otherwise, &found) {
        (Some(text), Ok(_)) => execution
            .see_with(around, bound, |scope| text.fill_text(scope))
            .unwrap_or_else(|e| format!("{plain} (else: {e})")),
        _ => plain,
    }))
}
