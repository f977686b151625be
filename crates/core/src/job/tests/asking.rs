//! Questions as the machine puts them: how long they may be, when their message is sent again, and
//! choices that nobody offered.

use super::later::Execution;
use crate::{
    Principal,
    connector::{CallEnd, Failure, Repeat},
    job::{Decided, Effect, Event, JobCommand, Place, Repeats, StepEvent},
};
use serde_json::json;

const ASK: &str = "
runbook: ask
inputs: { text: { type: string } }
target: vm/a
steps:
  - id: agree
    ask:
      text: '${inputs.text}'
      choices: { yes: Do it, no: Leave it }
      within: 10m
      tell: { call: chat.post, via: chat, give: { text: '${decision.text}' } }
";

/// A job whose one step asks this, and what it does at the beginning.
fn asking(text: &str) -> (Execution, Vec<Effect>) {
    let mut execution = Execution::of(ASK);
    execution.facts.inputs = json!({ "text": text });
    let effects = execution.then(0, Event::Taken(Repeats::default(), Vec::new()));
    (execution, effects)
}

fn decided(choice: &str) -> Event {
    let decided = Decided {
        choice: choice.into(),
        by: Principal::token("Maren"),
        how: "link".into(),
        remark: String::new(),
    };
    Event::Came(vec![(Place::new("agree"), StepEvent::Decided(decided))])
}

#[test]
fn a_question_of_four_thousand_bytes_stands_whole_and_a_longer_one_is_cut() {
    let asked = |bytes: usize| {
        asking(&"x".repeat(bytes))
            .1
            .into_iter()
            .find_map(|e| if let Effect::Ask(question) = e { Some(question.text) } else { None })
    };
    assert_eq!(asked(4_000), Some("x".repeat(4_000)));
    assert_eq!(asked(4_001), Some(format!("{}…", "x".repeat(4_000))));
}

#[test]
fn a_choice_that_was_not_offered_decides_nothing() {
    let withdrawn = |choice: &str| {
        asking("Do it?").0.then(0, decided(choice)).iter().any(|e| matches!(e, Effect::Withdraw(_)))
    };
    assert_eq!(["yes", "no", "maybe"].map(withdrawn), [true, true, false]);
}

/// The message that goes out, and which try that is.
fn sent(effects: &[Effect]) -> Option<(String, u32)> {
    let call =
        effects.iter().find_map(|e| if let Effect::Call(call) = e { Some(call) } else { None });
    call.map(|call| (call.place.to_string(), call.attempt))
}

fn told(attempt: u32) -> Option<(String, u32)> {
    Some(("agree.told".to_owned(), attempt))
}

fn broke(end: CallEnd, repeat: Repeat) -> Event {
    let what = StepEvent::Broke { failure: Failure::new(end, "no"), repeat };
    Event::Step { place: Place::new("agree.told"), attempt: 1, what }
}

#[test]
fn a_message_of_which_nobody_knows_is_sent_again_only_if_that_is_harmless() {
    for (end, repeat, again) in [
        (CallEnd::Refused, Repeat::Never, true),
        (CallEnd::NotSent, Repeat::Never, true),
        (CallEnd::Unknown, Repeat::Safe, true),
        (CallEnd::Unknown, Repeat::Keyed, true),
        (CallEnd::Unknown, Repeat::Never, false),
    ] {
        let (mut execution, _) = asking("Do it?");
        assert_eq!(sent(&execution.then(0, broke(end, repeat))), None);
        let later = sent(&execution.then(500, Event::Tick));
        assert_eq!(later, told(2).filter(|_| again), "{end:?} {repeat:?}");
    }
    // The same when the node is lost that sent it.
    for (repeat, again) in [(Repeat::Safe, true), (Repeat::Keyed, true), (Repeat::Never, false)] {
        let (mut execution, _) = asking("Do it?");
        let repeats = Repeats([(("chat".to_owned(), "chat.post".to_owned()), repeat)].into());
        let mut effects = execution.then(1, Event::Taken(repeats, Vec::new()));
        effects.extend(execution.then(500, Event::Tick));
        assert_eq!(sent(&effects), told(2).filter(|_| again), "{repeat:?}");
    }
}

#[test]
fn a_message_that_was_refused_is_sent_again_when_its_time_has_come_and_not_before() {
    let (mut execution, begun) = asking("Do it?");
    assert_eq!(sent(&begun), told(1));
    assert_eq!(sent(&execution.then(0, broke(CallEnd::Refused, Repeat::Safe))), None);
    assert_eq!(sent(&execution.then(1, Event::Tick)), None, "its time has not come");
    execution.then(0, Event::Commanded(JobCommand::Pause { words: "a look first".into() }));
    assert_eq!(sent(&execution.then(598, Event::Tick)), None, "somebody holds the job");
    assert_eq!(sent(&execution.then(0, Event::Commanded(JobCommand::Resume))), told(2));
}

#[test]
fn what_the_condition_of_an_await_asks_of_a_field_narrows_which_alerts_are_looked_at() {
    let chosen = |lines: &str| {
        let text = format!(
            "runbook: hears\ninputs: {{ vm: {{ type: string }} }}\ntarget: vm/a\nsteps:\n  - {{ \
            id: up, await: {{ {lines} }}, within: 10m }}\n"
        );
        let mut execution = Execution::of(&text);
        execution.facts.inputs = json!({ "vm": "vm/quill-1" });
        let effects = execution.then(0, Event::Taken(Repeats::default(), Vec::new()));
        effects
            .into_iter()
            .find_map(|e| if let Effect::Listen(l) = e { Some(json!(l.chosen)) } else { None })
    };
    let kinds = json!(["vm.up"]);
    assert_eq!(
        chosen("kinds: vm.up, where: 'event.labels.vm == inputs.vm && event.value > 3.0'"),
        Some(json!({ "kinds": kinds, "labels": { "vm": ["vm/quill-1"] } }))
    );
    assert_eq!(
        chosen(
            "kinds: vm.up, where: \"inputs.vm == event.resource && event.labels['site'] in \
            ['quill', 'brack']\""
        ),
        Some(json!({ "kinds": kinds, "resource": ["vm/quill-1"], "labels": { "site": ["quill",
                "brack"] } }))
    );
    // Not what one of several may be, what reads the event on both sides, or what would be taken
    // for a pattern.
    for open in [
        "event.resource == inputs.vm || event.value > 3.0",
        "event.resource == event.labels.vm",
        "event.resource == inputs.vm + '*'",
        "!(event.resource == inputs.vm)",
        "event.severity == major",
    ] {
        assert_eq!(
            chosen(&format!("kinds: vm.up, where: \"{open}\"")),
            Some(json!({ "kinds": kinds })),
            "{open}"
        );
    }
}
