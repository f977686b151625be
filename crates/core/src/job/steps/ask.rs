//! A question: open until a person decides, or nobody did in time. Whether the time is over is told
//! from outside, where decisions are kept, so that none is taken and passed over.

use super::{call::given, reach, require::unmet};
use crate::{
    connector::CallEnd,
    contact::Contact,
    job::{
        CallOut, Decided, Decider, Doing, Effect, Open, Place, Question, Reaching, StepEvent,
        StepResult, Telling,
        execution::{Around, Execution, StepEnd, Turn},
        progress::Stand,
        sample,
    },
    runbook::{ANSWER_TO, Ask, FilledCall, LINK, TELL, To},
    text::cut,
};
use chrono::SecondsFormat;
use serde_json::{Map, Value, json};

/// Longest question, in bytes.
const LONGEST: usize = 4_000;

pub(in crate::job) fn begin<'m>(
    execution: &mut Execution<'m>,
    ask: &'m Ask,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let question = match question(execution, ask, place, open, around) {
        Ok(question) => question,
        Err(e) => {
            execution.started(place, 1, Value::Null);
            return Some(StepEnd::failed(format!("ask: {e}")));
        }
    };
    let choices: Map<String, Value> =
        question.choices.iter().map(|(n, w)| (n.clone(), w.clone().into())).collect();
    execution.started(place, 1, json!({ "text": question.text, "choices": choices }));
    open.doing = Doing::Asking { until: question.until, tell: Telling::Over, reaching: None };
    let decision = json!({
        "text": question.text, "choices": choices, "link": LINK,
        "answer_to": ANSWER_TO,
        "until": question.until.to_rfc3339_opts(SecondsFormat::Secs, true),
    });
    if let (To::Contact(to), Doing::Asking { reaching, .. }) = (&ask.to, &mut open.doing) {
        let message = reach::message(execution, &question.text, Some(&decision));
        *reaching = Some(Box::new(Reaching::begins(execution.now, &to.contact, message, true)));
    }
    if !execution.facts.dry {
        execution.effects.push(Effect::Ask(question));
    }
    send_message(execution, ask, place, open, around, (1, &decision));
    reach(execution, place, open, around);
    choice_of_trial(execution, ask, place, open, around)
}

/// What a trial goes on with, which asks nobody: the choice of an example, else the first. What
/// would be sent to tell of the question comes before that.
fn choice_of_trial<'m>(
    execution: &Execution<'m>,
    ask: &'m Ask,
    place: &Place,
    open: &Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let Doing::Asking { tell, reaching, .. } = &open.doing else { return None };
    let is_out =
        reaching.as_ref().is_some_and(|r| matches!(r.stand, Stand::Duty | Stand::Out { .. }));
    if !execution.facts.dry || is_out || matches!(tell, Telling::Out { .. }) {
        return None;
    }
    let written = |choice: &&str| ask.choices.iter().any(|(name, _)| name == choice);
    let example = sample::of_examples(execution.runbook, place);
    let chosen = |said: &'_ Value| said.as_str().or(said["choice"].as_str()).map(str::to_owned);
    let example = example.as_ref().and_then(chosen).filter(|choice| written(&choice.as_str()));
    let choice = example.or(ask.choices.first().map(|(name, _)| name.clone()));
    let gives =
        json!({ "choice": choice, "by": "", "how": "trial", "remark": "", "silent": false });
    Some(decided_on(execution, ask, around, gives))
}

fn question<'m>(
    execution: &Execution<'m>,
    ask: &'m Ask,
    place: &Place,
    open: &Open,
    around: &Around<'m>,
) -> Result<Question, String> {
    let (to, mut by_mail) = match &ask.to {
        To::Contact(to) => who_decides(execution, &to.contact)?,
        To::Role(role) => (Some(Decider::Role(*role)), Vec::new()),
        To::Person(_) => (None, Vec::new()),
    };
    by_mail.splice(0..0, ask.by_mail.iter().cloned());
    let next = execution.next.as_ref().map(|next| ("next", next));
    execution.see_with(around, next, |scope| {
        let fill = |t: &'m crate::expr::Template| -> Result<String, String> {
            let text = t.fill_text(scope).map_err(|e| e.to_string())?;
            Ok(if text.len() > LONGEST { format!("{}…", cut(&text, LONGEST)) } else { text })
        };
        let choices = ask.choices.iter().map(|(name, words)| Ok((name.clone(), fill(words)?)));
        Ok(Question {
            place: place.clone(),
            to: match (to, &ask.to) {
                (Some(to), _) => to,
                (None, To::Person(person)) => Decider::Person(fill(person)?),
                (None, _) => return Err("nobody may decide".to_owned()),
            },
            text: fill(&ask.text)?,
            choices: choices.collect::<Result<_, String>>()?,
            until: execution.now + open.within(&ask.within).delta(),
            unanswered: ask.unanswered.clone(),
            by_link: ask.by_link,
            by_mail,
        })
    })
}

/// Who decides where a contact is asked, and the addresses from which they may answer by mail.
fn who_decides(
    execution: &Execution<'_>,
    name: &str,
) -> Result<(Option<Decider>, Vec<String>), String> {
    let others = execution.others.ok_or("nothing is published")?;
    let contact: &Contact = others.get(name).map_err(|missing| missing.to_string())?;
    let persons = contact.persons(others);
    if persons.is_empty() {
        return Err(format!("nobody of `{name}` is published"));
    }
    let tokens = persons.iter().map(|(_, person)| person.token.clone()).collect();
    let by_mail = persons.iter().flat_map(|(_, person)| person.mail.clone()).collect();
    Ok((Some(Decider::Contact { name: name.to_owned(), tokens }), by_mail))
}

/// Goes on with reaching those who may decide.
fn reach(execution: &mut Execution<'_>, place: &Place, open: &mut Open, around: &Around<'_>) {
    if let Doing::Asking { reaching: Some(reaching), .. } = &mut open.doing {
        reach::go_on(execution, &place.within("reached"), reaching, around);
    }
}

/// Sends the message that tells of the question, if there is one. If it does not go out the
/// question stands all the same.
fn send_message<'m>(
    execution: &mut Execution<'m>,
    ask: &'m Ask,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
    (attempt, decision): (u32, &Value),
) {
    let Some(call) = &ask.tell else { return };
    let at = place.within("told");
    // One that waited for its turn has begun already.
    let begun = matches!(open.doing, Doing::Asking { tell: Telling::Out { .. }, .. });
    let filled = execution.see_with(around, Some(("decision", decision)), |scope| call.fill(scope));
    if !begun {
        execution.started(&at, attempt, given(&filled));
    }
    let next = match filled {
        Ok(FilledCall { target, give }) => {
            execution.send(CallOut {
                probes: false,
                instead: None,
                key: format!("{}-{at}", execution.facts.key),
                place: at,
                attempt,
                kept_with: attempt,
                target,
                give,
                timeout: None,
            });
            Telling::Out { attempt, decision: decision.clone() }
        }
        Err(e) => {
            execution.record(&at, attempt, StepResult::Failed(e.to_string()));
            Telling::Over
        }
    };
    if let Doing::Asking { tell, .. } = &mut open.doing {
        *tell = next;
    }
}

pub(in crate::job) fn go_on<'m>(
    execution: &mut Execution<'m>,
    ask: &'m Ask,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    telling(execution, ask, place, open, around);
    reach(execution, place, open, around);
    let end = match execution.news_of(place, open.attempt) {
        Some(StepEvent::Decided(decided))
            if ask.choices.iter().any(|(name, _)| *name == decided.choice) =>
        {
            let Decided { choice, by, how, remark } = decided;
            let gives = json!({ "choice": choice, "by": by.shown(), "how": how, "remark": remark,
                "silent": false });
            Some(decided_on(execution, ask, around, gives))
        }
        Some(StepEvent::Silent) => Some(match &ask.unanswered {
            Some(choice) => {
                let gives = json!({ "choice": choice, "by": "", "how": "silence", "remark": "",
                    "silent": true });
                decided_on(execution, ask, around, gives)
            }
            None => StepEnd::failed(format!("nobody decided within {}", open.within(&ask.within))),
        }),
        _ if around.halt => Some(StepEnd::Halted),
        _ => choice_of_trial(execution, ask, place, open, around),
    };
    if end.is_some() {
        if !execution.facts.dry {
            execution.effects.push(Effect::Withdraw(place.clone()));
        }
        if let Doing::Asking { tell: Telling::Out { attempt, .. }, .. } = open.doing {
            execution.record(&place.within("told"), attempt, StepResult::Stopped);
        }
        if let Doing::Asking { reaching: Some(reaching), .. } = &open.doing {
            reach::stop(execution, &place.within("reached"), reaching);
        }
    }
    end
}

/// What a decision comes to: what it gives, or a failure where what it was `provided` does not hold
/// any more.
fn decided_on<'m>(
    execution: &Execution<'m>,
    ask: &'m Ask,
    around: &Around<'m>,
    gives: Value,
) -> StepEnd {
    let Some(provided) = &ask.provided else { return StepEnd::Done(gives) };
    let choice = Some(("choice", &gives["choice"]));
    let Some(why) = execution.see_with(around, choice, |scope| unmet(provided, scope)) else {
        return StepEnd::Done(gives);
    };
    let text = |of: &str| gives[of].as_str().unwrap_or_default();
    StepEnd::failed(match text("by") {
        "" => format!("nobody decided, which is `{}`; {why}", text("choice")),
        by => format!("{by} chose `{}`; {why}", text("choice")),
    })
}

/// Goes on with the message.
fn telling<'m>(
    execution: &mut Execution<'m>,
    ask: &'m Ask,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) {
    let at = place.within("told");
    let Doing::Asking { tell: state, .. } = &open.doing else { return };
    match state.clone() {
        Telling::Over => {}
        Telling::Again { at: then, attempt, decision }
            if execution.now >= then && !around.halt && !execution.paused =>
        {
            send_message(execution, ask, place, open, around, (attempt + 1, &decision));
        }
        Telling::Again { .. } => {}
        Telling::Out { attempt, decision } => {
            match execution.turn_of(&at, attempt) {
                Turn::Out => {}
                Turn::Waits(_) => return,
                Turn::Comes => {
                    return send_message(execution, ask, place, open, around, (attempt, &decision));
                }
            }
            let next = match execution.answer_of(&at, attempt) {
                Some(Ok(output)) => {
                    execution.record(&at, attempt, StepResult::Done(output));
                    Telling::Over
                }
                Some(Err((failure, repeat))) => {
                    let may = failure.end != CallEnd::Unknown || repeat.is_harmless();
                    execution.record(&at, attempt, StepResult::Failed(failure.message));
                    match TELL.wait_after(attempt, 0.0).filter(|_| may && !failure.lasting) {
                        Some(wait) => {
                            let wait = wait.max(failure.retry_after.unwrap_or(wait));
                            Telling::Again { at: execution.now + wait.delta(), attempt, decision }
                        }
                        None => Telling::Over,
                    }
                }
                None => {
                    let Some(call) = &ask.tell else { return };
                    let Some(repeats) = execution.is_lost(&at) else { return };
                    let target = execution.see(around, |scope| call.target(scope));
                    let never =
                        !target.is_ok_and(|target| repeats.repeat_of(&target).is_harmless());
                    let lost = "its node was lost before an answer came".to_owned();
                    execution.record(&at, attempt, StepResult::Failed(lost));
                    if never {
                        Telling::Over
                    } else {
                        Telling::Again { at: execution.now, attempt, decision }
                    }
                }
            };
            let again = matches!(&next, Telling::Again { at, .. } if *at <= execution.now);
            if let Doing::Asking { tell, .. } = &mut open.doing {
                *tell = next;
            }
            if again {
                telling(execution, ask, place, open, around);
            }
        }
    }
}
