//! Where a number ends something: how many steps a job begins, how long a question may be, when a message is sent again; and
//! choices that nobody offered.

use crate::{
    Catalog, JobId,
    connector::{CallEnd, Failure, Repeat},
    definition::Defined,
    document::parse_file,
    job::{Decided, Effect, Event, Facts, Kept, MAX_BEGUN, Machine, Place, Progress, Repeats, What, play},
    runbook::Runbook,
};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::json;

fn runbook(text: &str) -> Runbook {
    Runbook::check(&parse_file("b.yaml", text).expect("reads")[0]).expect("checks")
}

/// A runbook that begins one step for the loop, one for each of a hundred, one for each of 98 in these, one for a second loop, and
/// one for each of its items.
fn many(items: usize, expect: &str) -> Runbook {
    let list = |n: usize| (0..n).map(|n| n.to_string()).collect::<Vec<_>>().join(", ");
    runbook(&format!(
        "runbook: many
inputs: {{ outer: {{ type: array }}, inner: {{ type: array }}, last: {{ type: array }} }}
target: vm/a
timeout: 10h
steps:
  - id: outer
    each: inputs.outer
    as: o
    at_once: 50
    gives: o
    steps: [ {{ id: inner, each: inputs.inner, as: i, at_once: 50, gives: i, steps: [ {{ id: one, set: {{ n: 1 }} }} ] }} ]
  - {{ id: last, each: inputs.last, as: l, at_once: 50, gives: l, steps: [ {{ id: two, set: {{ n: 1 }} }} ] }}
examples:
  - inputs: {{ outer: [{}], inner: [{}], last: [{}] }}
    expect: {expect}
",
        list(100),
        list(98),
        list(items)
    ))
}

#[test]
fn ten_thousand_steps_may_be_begun_and_not_one_more() {
    assert_eq!(MAX_BEGUN, 1 + 100 * (1 + 98) + 1 + 98);
    assert_eq!(play(&many(98, "{ state: succeeded }"), &Catalog::default()), []);
    let too_many = many(99, "{ state: failed, failure: has begun 10000 steps }");
    assert_eq!(play(&too_many, &Catalog::default()), []);
}

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
        let runbook = runbook(
            "runbook: ask
inputs: { text: { type: string } }
target: vm/a
steps:
  - id: agree
    ask:
      text: '${inputs.text}'
      choices: { yes: Do it, no: Leave it }
      within: 10m
      tell: { call: chat.post, via: chat, give: { text: '${decision.text}' } }
",
        );
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

#[test]
fn a_message_that_was_refused_is_sent_again_when_its_time_has_come_and_not_before() {
    let sent = |effects: &[Effect]| {
        let call = effects.iter().find_map(|e| if let Effect::Call(call) = e { Some(call) } else { None });
        call.map(|call| (call.place.to_string(), call.attempt))
    };
    let told = |attempt: u32| Some(("agree.told".to_owned(), attempt));
    let mut asking = Asking::new("Do it?");
    assert_eq!(sent(&asking.begin()), told(1));
    let failure = Failure::new(CallEnd::Refused, "answered 503");
    let what = What::Broke { failure, repeat: Repeat::Safe };
    assert_eq!(sent(&asking.then(0, Event::Step { place: Place::new("agree.told"), attempt: 1, what })), None);
    assert_eq!(sent(&asking.then(100, Event::Tick)), None, "its time has not come");
    asking.then(0, Event::Pause { words: "a look first".into() });
    assert_eq!(sent(&asking.then(600_000 - 1_000, Event::Tick)), None, "somebody holds the job");
    assert_eq!(sent(&asking.then(0, Event::Resume)), told(2));
}
