//! Reaching people: a message goes out by one way of a contact after another, each a call of its
//! own that is recorded as a try, until it need not go on.

use crate::{
    connector::CallEnd,
    contact::{Contact, ContactWay, DutyCall, Who},
    definition::Others,
    job::{
        CallOut, Place, StepResult,
        execution::{Around, Execution, Turn},
        progress::{OutgoingCall, Reaching, Stand},
    },
    runbook::CallTarget,
};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::{Map, Value, json};

/// When all is gone through once more after no message went out: at first, and at last, as each
/// time it takes twice as long.
const AGAIN: TimeDelta = TimeDelta::minutes(1);
const AGAIN_AT_LAST: TimeDelta = TimeDelta::minutes(10);
/// Most tries of one message.
const MAX_TRIES: u32 = 200;

/// What a message says: to a question belongs more.
pub(super) fn message(execution: &Execution<'_>, text: &str, question: Option<&Value>) -> Value {
    let mut message = json!({
        "text": text, "target": execution.facts.target, "job": execution.facts.id,
        "choices": {}, "until": "", "link": "", "answer_to": "",
    });
    if let (Value::Object(message), Some(Value::Object(question))) = (&mut message, question) {
        message.extend(question.clone());
    }
    message
}

/// Goes on with reaching a contact; the tries are those of `place`.
pub(super) fn go_on(
    execution: &mut Execution<'_>,
    place: &Place,
    reaching: &mut Reaching,
    around: &Around<'_>,
) {
    loop {
        let may = |at: DateTime<Utc>| execution.now >= at && !execution.paused && !around.halt;
        let goes_on = match reaching.stand {
            Stand::Over => false,
            Stand::Round(at) => may(at) && begin_round(execution, place, reaching),
            Stand::Next(at) => may(at) && next(execution, place, reaching),
            Stand::Duty => duty_told(execution, place, reaching),
            Stand::Out { .. } => sent(execution, place, reaching),
        };
        if !goes_on {
            return;
        }
    }
}

/// What is out is not waited for any more.
pub(super) fn stop(execution: &mut Execution<'_>, place: &Place, reaching: &Reaching) {
    if matches!(reaching.stand, Stand::Duty | Stand::Out { .. }) {
        execution.record(place, reaching.tries, StepResult::Stopped);
    }
}

/// The contact as it is published.
fn published<'m>(
    execution: &Execution<'m>,
    reaching: &Reaching,
) -> Option<(&'m Contact, &'m dyn Others)> {
    let others = execution.others?;
    Some((others.get::<Contact>(&reaching.contact).ok()?, others))
}

/// Works out the order of a round, or asks for it; false if nothing follows at once.
fn begin_round(execution: &mut Execution<'_>, place: &Place, reaching: &mut Reaching) -> bool {
    let Some((contact, others)) = published(execution, reaching) else {
        return gone(execution, place, reaching);
    };
    reaching.tries_before = reaching.tries;
    match asked(contact) {
        Some(asked) => {
            reaching.stand = Stand::Duty;
            let asked = &asked.lookup;
            let target = (asked.via.as_str(), asked.operation.as_str());
            let shown = json!({ "on_duty_of": contact.name });
            call(execution, place, reaching, (target, shown, asked.give.clone()));
            false
        }
        None => {
            let on_duty = contact.on_duty(others, execution.now);
            reaching.ahead = contact.ways(others, &on_duty);
            reaching.stand = Stand::Next(execution.now);
            true
        }
    }
}

/// Tries the next way whose time it is; false if nothing follows at once.
fn next(execution: &mut Execution<'_>, place: &Place, reaching: &mut Reaching) -> bool {
    let Some((contact, others)) = published(execution, reaching) else {
        return gone(execution, place, reaching);
    };
    while !reaching.ahead.is_empty() && reaching.tries < MAX_TRIES {
        let planned = reaching.ahead.remove(0);
        if let Some((person, way)) = planned.now(others, execution.now) {
            return send(execution, place, reaching, (person, way));
        }
    }
    if reaching.tries == reaching.tries_before && !reaching.is_noted {
        let why = format!("nobody of `{}` is to be reached at this time", contact.name);
        note(execution, place, reaching, why);
        reaching.is_noted = true;
    }
    reaching.round += u32::from(reaching.reached);
    let is_over = reaching.tries >= MAX_TRIES
        || reaching.round >= contact.rounds
        || !(reaching.reached || reaching.asks);
    reaching.stand = match (is_over, reaching.reached) {
        (true, _) => Stand::Over,
        (false, true) => Stand::Round(execution.now),
        // It begins anew as long as no message went out.
        (false, false) => {
            let again = AGAIN * (1 << reaching.in_vain.min(8));
            reaching.in_vain += 1;
            Stand::Round(execution.now + again.min(AGAIN_AT_LAST))
        }
    };
    !is_over && reaching.reached
}

fn asked(contact: &Contact) -> Option<&DutyCall> {
    match &contact.who {
        Who::Team(team) => team.duty.as_ref()?.asked(),
        Who::Person(_) => None,
    }
}

/// A contact that is not published any more reaches nobody.
fn gone(execution: &mut Execution<'_>, place: &Place, reaching: &mut Reaching) -> bool {
    let why = format!("there is no contact `{}` any more", reaching.contact);
    note(execution, place, reaching, why);
    reaching.stand = Stand::Over;
    false
}

/// Records a try that sent nothing.
fn note(execution: &mut Execution<'_>, place: &Place, reaching: &mut Reaching, why: String) {
    reaching.tries += 1;
    execution.started(place, reaching.tries, json!({ "contact": reaching.contact }));
    execution.record(place, reaching.tries, StepResult::Failed(why));
}

fn send(
    execution: &mut Execution<'_>,
    place: &Place,
    reaching: &mut Reaching,
    (person, way): (&Contact, &ContactWay),
) -> bool {
    let shown = json!({ "contact": person.name });
    match way.fill(person, &reaching.message) {
        Ok(give) => {
            let (contact, via) = (person.name.clone(), way.via.clone());
            reaching.stand = Stand::Out { contact, via, wait: way.wait };
            let target = (way.via.as_str(), way.operation.as_str());
            call(execution, place, reaching, (target, shown, give));
            false
        }
        Err(why) => {
            reaching.tries += 1;
            execution.started(place, reaching.tries, shown);
            execution.record(place, reaching.tries, StepResult::Failed(why));
            true
        }
    }
}

/// Makes a call as the next try.
fn call(
    execution: &mut Execution<'_>,
    place: &Place,
    reaching: &mut Reaching,
    ((via, operation), mut shown, give): ((&str, &str), Value, Map<String, Value>),
) {
    reaching.tries += 1;
    shown["via"] = via.into();
    execution.started(place, reaching.tries, shown);
    reaching.out =
        Some(OutgoingCall { via: via.to_owned(), operation: operation.to_owned(), give });
    send_out(execution, place, reaching);
}

/// Sends what is out; of a call that waited for its turn once more.
fn send_out(execution: &mut Execution<'_>, place: &Place, reaching: &Reaching) {
    let Some(OutgoingCall { via, operation, give }) = reaching.out.clone() else { return };
    execution.send(CallOut {
        place: place.clone(),
        attempt: reaching.tries,
        target: CallTarget::Operation { via, operation },
        give,
        // Each try is a message of its own.
        key: format!("{}-{place}-{}", execution.facts.key, reaching.tries),
        timeout: None,
        kept_with: reaching.tries,
        probes: false,
        instead: None,
    });
}

/// What came of the call that is out.
enum Answered {
    Nothing,
    Output(Value),
    /// Why not, and whether it may have been done all the same.
    Failed(String, bool),
}

fn answer(execution: &mut Execution<'_>, place: &Place, reaching: &Reaching) -> Answered {
    match execution.turn_of(place, reaching.tries) {
        Turn::Out => {}
        Turn::Waits(_) => return Answered::Nothing,
        Turn::Comes => {
            send_out(execution, place, reaching);
            return Answered::Nothing;
        }
    }
    match execution.answer_of(place, reaching.tries) {
        Some(Ok(output)) => Answered::Output(output),
        Some(Err((failure, _))) => {
            Answered::Failed(failure.message, failure.end == CallEnd::Unknown)
        }
        None if execution.is_lost(place).is_some() => {
            Answered::Failed("its node was lost before an answer came".to_owned(), true)
        }
        None => Answered::Nothing,
    }
}

/// Whoever is on duty by what was answered comes first; if that is not known, all come in the order
/// in which they are written.
fn duty_told(execution: &mut Execution<'_>, place: &Place, reaching: &mut Reaching) -> bool {
    let answered = answer(execution, place, reaching);
    if matches!(answered, Answered::Nothing) {
        return false;
    }
    reaching.out = None;
    let Some((contact, others)) = published(execution, reaching) else {
        execution.record(place, reaching.tries, StepResult::Stopped);
        return gone(execution, place, reaching);
    };
    let people = match (answered, asked(contact)) {
        (Answered::Output(result), Some(asked)) => asked.people(&result, &contact.persons(others)),
        (Answered::Failed(why, _), _) => Err(why),
        _ => Ok(Vec::new()),
    };
    let result = match &people {
        Ok(people) => StepResult::Done(json!({ "on_duty": people })),
        Err(why) => StepResult::Failed(why.clone()),
    };
    execution.record(place, reaching.tries, result);
    reaching.ahead = contact.ways(others, &people.unwrap_or_default());
    // To have asked who is on duty is to have reached nobody.
    reaching.tries_before = reaching.tries;
    reaching.stand = Stand::Next(execution.now);
    true
}

/// A message that went out, or may have, leaves time for an answer; after any other the next way
/// is tried at once.
fn sent(execution: &mut Execution<'_>, place: &Place, reaching: &mut Reaching) -> bool {
    let Stand::Out { contact, via, wait } = reaching.stand.clone() else { return false };
    let (went, result) = match answer(execution, place, reaching) {
        Answered::Nothing => return false,
        Answered::Output(output) => (true, StepResult::Done(output)),
        Answered::Failed(why, may_have) => (may_have, StepResult::Failed(why)),
    };
    if matches!(result, StepResult::Done(_)) {
        reaching.by = Some((contact, via));
    }
    execution.record(place, reaching.tries, result);
    reaching.out = None;
    reaching.reached |= went;
    let waits = went && reaching.asks;
    let wait = if waits { wait.delta() } else { TimeDelta::zero() };
    reaching.stand = Stand::Next(execution.now + wait);
    // Where nobody is asked, one message is enough.
    !waits && reaching.by.is_none()
}
