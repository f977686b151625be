//! Questions as the machine puts them: how long they may be, when their message is sent again, and choices that nobody offered.

use crate::{
    JobId,
    connector::{CallEnd, Failure, Repeat},
    definition::Defined,
    document::parse_file,
    job::{Decided, Effect, Event, Facts, Kept, Machine, Place, Progress, Repeats, What},
    runbook::Runbook,
};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::json;

/// A job whose one step asks something, at the beginning.
struct Asking {
    runbook: Runbook,
    facts: Facts,
    progress: Progress,
    kept: Kept,
    now: DateTime<Utc>,
}

impl Asking {
    fn new(text: &str) -> Self {
        let text_of_runbook = "runbook: ask
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
        let runbook = Runbook::check(&parse_file("a.yaml", text_of_runbook).expect("reads")[0]).expect("checks");
        let facts = Facts {
            id: JobId(7),
            key: "quay-7".into(),
            inputs: json!({ "text": text }),
            target: "vm/a".into(),
            alert: None,
            has_alarm: false,
            created: DateTime::UNIX_EPOCH,
        };
        Self { runbook, facts, progress: Progress::default(), kept: Kept::default(), now: DateTime::UNIX_EPOCH }
    }

    fn then(&mut self, millis: i64, event: Event) -> Vec<Effect> {
        self.now += TimeDelta::milliseconds(millis);
        let (progress, kept) = (std::mem::take(&mut self.progress), std::mem::take(&mut self.kept));
        let mut machine = Machine::new(&self.runbook, &self.facts, progress, kept);
        let effects = machine.handle(self.now, event);
        (self.progress, self.kept) = (machine.progress, machine.kept);
        effects
    }

    fn begin(&mut self) -> Vec<Effect> {
        self.then(0, Event::Taken(Repeats::default(), Vec::new()))
    }

    fn decided(&mut self, choice: &str) -> Vec<Effect> {
        let decided = Decided { choice: choice.into(), by: "Maren".into(), how: "link".into(), remark: String::new() };
        self.then(0, Event::Came(vec![(Place::new("agree"), What::Decided(decided))]))
    }
}

#[test]
fn a_question_of_four_thousand_bytes_stands_whole_and_a_longer_one_is_cut() {
    let asked = |bytes: usize| {
        let effects = Asking::new(&"x".repeat(bytes)).begin();
        effects.into_iter().find_map(|e| if let Effect::Ask(question) = e { Some(question.text) } else { None })
    };
    assert_eq!(asked(4_000), Some("x".repeat(4_000)));
    assert_eq!(asked(4_001), Some(format!("{}…", "x".repeat(4_000))));
}

#[test]
fn a_choice_that_was_not_offered_decides_nothing() {
    let withdrawn = |choice: &str| {
        let mut asking = Asking::new("Do it?");
        asking.begin();
        asking.decided(choice).iter().any(|e| matches!(e, Effect::Withdraw(_)))
    };
    assert_eq!(["yes", "no", "maybe"].map(withdrawn), [true, true, false]);
}

/// The message that goes out, and which try that is.
fn sent(effects: &[Effect]) -> Option<(String, u32)> {
    let call = effects.iter().find_map(|e| if let Effect::Call(call) = e { Some(call) } else { None });
    call.map(|call| (call.place.to_string(), call.attempt))
}

fn told(attempt: u32) -> Option<(String, u32)> {
    Some(("agree.told".to_owned(), attempt))
}

fn broke(end: CallEnd, repeat: Repeat) -> Event {
    let what = What::Broke { failure: Failure::new(end, "no"), repeat };
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
        let mut asking = Asking::new("Do it?");
        asking.begin();
        assert_eq!(sent(&asking.then(0, broke(end, repeat))), None);
        let later = sent(&asking.then(500_000, Event::Tick));
        assert_eq!(later, told(2).filter(|_| again), "{end:?} {repeat:?}");
    }
    // The same when the node is lost that sent it.
    for (repeat, again) in [(Repeat::Safe, true), (Repeat::Keyed, true), (Repeat::Never, false)] {
        let mut asking = Asking::new("Do it?");
        asking.begin();
        let repeats = Repeats([(("chat".to_owned(), "chat.post".to_owned()), repeat)].into());
        let mut effects = asking.then(1_000, Event::Taken(repeats, Vec::new()));
        effects.extend(asking.then(500_000, Event::Tick));
        assert_eq!(sent(&effects), told(2).filter(|_| again), "{repeat:?}");
    }
}

#[test]
fn a_message_that_was_refused_is_sent_again_when_its_time_has_come_and_not_before() {
    let mut asking = Asking::new("Do it?");
    assert_eq!(sent(&asking.begin()), told(1));
    assert_eq!(sent(&asking.then(0, broke(CallEnd::Refused, Repeat::Safe))), None);
    assert_eq!(sent(&asking.then(100, Event::Tick)), None, "its time has not come");
    asking.then(0, Event::Pause { words: "a look first".into() });
    assert_eq!(sent(&asking.then(600_000 - 1_000, Event::Tick)), None, "somebody holds the job");
    assert_eq!(sent(&asking.then(0, Event::Resume)), told(2));
}
