//! The machine, walked by hand: no clock, no calls.

use super::*;
use crate::{
    Period,
    connector::{CallEnd, Failure, Repeat},
    definition::Defined,
    document::parse_file,
    runbook::Runbook,
};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::{Value, json};

const GROW: &str = "
runbook: grow-disk
inputs: { vm: { type: string }, ceiling_gib: { type: integer, default: 64 } }
target: ${inputs.vm}
timeout: 10m
steps:
  - { id: look, call: vm.inspect, via: yard, give: { vm: '${inputs.vm}' }, retry: { times: 1, wait: 2s } }
  - { id: room, require: steps.look.size_gib + 4 <= inputs.ceiling_gib, else: 'at its ceiling of ${inputs.ceiling_gib} GiB' }
  - { id: grow, call: vm.grow_disk, via: yard, give: { disk: '${steps.look.disk}' } }
confirm: { alarm: cleared, within: 5m }
outputs: { size_gib: '${steps.grow.size_gib}' }
";

struct Walk {
    runbook: Runbook,
    facts: Facts,
    progress: Progress,
    now: DateTime<Utc>,
    said: Vec<String>,
}

impl Walk {
    fn new() -> Self {
        let runbook = Runbook::check(&parse_file("g.yaml", GROW).expect("reads")[0]).expect("checks");
        let inputs = json!({"vm": "vm/quill-booking-db-1", "ceiling_gib": 64});
        let facts = Facts {
            id: crate::JobId(7),
            key: "quay-7".into(),
            inputs,
            target: "vm/quill-booking-db-1".into(),
            alert: None,
            has_alarm: true,
        };
        Self { runbook, facts, progress: Progress::default(), now: DateTime::UNIX_EPOCH, said: Vec::new() }
    }

    /// Takes an event after some seconds; the progress goes through its stored form each time.
    fn then(mut self, seconds: i64, event: Event) -> Self {
        self.now += TimeDelta::seconds(seconds);
        let stored = serde_json::to_string(&self.progress).expect("stores");
        let progress = serde_json::from_str(&stored).expect("loads");
        let mut machine = Machine::new(&self.runbook, &self.facts, progress);
        let effects = machine.handle(self.now, event);
        self.said.extend(effects.iter().map(|e| format!("{e:?}")));
        self.said.push("--".into());
        self.progress = machine.progress;
        self
    }

    fn told(self) -> String {
        self.said.join("\n").replace("String(", "(").replace("Object ", "")
    }
}

fn broke(failure: Failure, repeat: Repeat) -> Event {
    Event::Broke { failure, repeat }
}

fn taken() -> Event {
    Event::Taken { repeat: Repeat::Safe }
}

fn looked(size: i64) -> Event {
    Event::Returned(json!({"disk": "data", "size_gib": size}))
}

#[test]
fn the_time_of_a_runbook_is_over_when_more_of_it_has_passed() {
    let at_its_end = Walk::new().then(0, taken()).then(600, looked(40));
    assert!(at_its_end.told().contains("vm.grow_disk"));
    let after = Walk::new().then(0, taken()).then(601, looked(40));
    assert!(after.told().contains("the runbook's time of 10m is over"));
}

#[test]
fn the_whole_way_to_a_confirmed_effect() {
    let walk = Walk::new()
        .then(0, taken())
        .then(1, looked(40))
        .then(1, Event::Returned(json!({"size_gib": 44})))
        .then(0, Event::AlarmSeen { raised: true })
        .then(30, taken())
        .then(0, Event::AlarmSeen { raised: false });
    insta::assert_snapshot!(walk.told(), @r#"
    StepStarted { index: 0, attempt: 1, give: {"vm": ("vm/quill-booking-db-1")} }
    Call { via: "yard", operation: "vm.inspect", give: {"vm": ("vm/quill-booking-db-1")}, key: "quay-7-look", timeout: None }
    --
    StepEnded { index: 0, attempt: 1, result: Done({"disk": ("data"), "size_gib": Number(40)}) }
    StepStarted { index: 1, attempt: 1, give: {"require": ("steps.look.size_gib + 4 <= inputs.ceiling_gib")} }
    StepEnded { index: 1, attempt: 1, result: Done(Bool(true)) }
    StepStarted { index: 2, attempt: 1, give: {"disk": ("data")} }
    Call { via: "yard", operation: "vm.grow_disk", give: {"disk": ("data")}, key: "quay-7-grow", timeout: None }
    --
    StepEnded { index: 2, attempt: 1, result: Done({"size_gib": Number(44)}) }
    LookAtAlarm
    --
    Wait { until: 1970-01-01T00:05:02Z }
    --
    LookAtAlarm
    --
    End { state: Succeeded, effect: Some(Confirmed), failure: None, outputs: {"size_gib": Number(44)} }
    --
    "#);
}

#[test]
fn a_requirement_that_does_not_hold_ends_the_job_in_words() {
    insta::assert_snapshot!(Walk::new().then(0, taken()).then(1, looked(62)).told(), @r#"
    StepStarted { index: 0, attempt: 1, give: {"vm": ("vm/quill-booking-db-1")} }
    Call { via: "yard", operation: "vm.inspect", give: {"vm": ("vm/quill-booking-db-1")}, key: "quay-7-look", timeout: None }
    --
    StepEnded { index: 0, attempt: 1, result: Done({"disk": ("data"), "size_gib": Number(62)}) }
    StepStarted { index: 1, attempt: 1, give: {"require": ("steps.look.size_gib + 4 <= inputs.ceiling_gib")} }
    StepEnded { index: 1, attempt: 1, result: Failed("at its ceiling of 64 GiB") }
    End { state: Failed, effect: Some(NotChecked), failure: Some("at its ceiling of 64 GiB"), outputs: Null }
    --
    "#);
}

#[test]
fn a_failed_call_is_tried_again_as_often_as_allowed() {
    let busy = || broke(Failure::new(CallEnd::Unknown, "answered 503: busy"), Repeat::Safe);
    let walk = Walk::new().then(0, taken()).then(1, busy()).then(1, taken()).then(1, taken()).then(0, busy());
    insta::assert_snapshot!(walk.told(), @r#"
    StepStarted { index: 0, attempt: 1, give: {"vm": ("vm/quill-booking-db-1")} }
    Call { via: "yard", operation: "vm.inspect", give: {"vm": ("vm/quill-booking-db-1")}, key: "quay-7-look", timeout: None }
    --
    StepEnded { index: 0, attempt: 1, result: Failed("answered 503: busy") }
    Wait { until: 1970-01-01T00:00:03Z }
    --
    Wait { until: 1970-01-01T00:00:03Z }
    --
    StepStarted { index: 0, attempt: 2, give: {"vm": ("vm/quill-booking-db-1")} }
    Call { via: "yard", operation: "vm.inspect", give: {"vm": ("vm/quill-booking-db-1")}, key: "quay-7-look", timeout: None }
    --
    StepEnded { index: 0, attempt: 2, result: Failed("answered 503: busy") }
    End { state: Failed, effect: Some(NotChecked), failure: Some("step `look` failed after 2 tries: answered 503: busy"), outputs: Null }
    --
    "#);
}

#[test]
fn after_a_death_a_harmless_step_is_repeated_with_the_same_key() {
    let walk = Walk::new().then(0, taken()).then(20, taken());
    let told = walk.told();
    assert_eq!(told.matches("key: \"quay-7-look\"").count(), 2, "{told}");
}

#[test]
fn after_a_death_any_other_step_leaves_the_job_unsure_until_a_person_settles_it() {
    let never = || Event::Taken { repeat: Repeat::Never };
    let unsure = || Walk::new().then(0, taken()).then(1, looked(40)).then(20, never());
    assert_eq!(unsure().progress.phase, Phase::Unsure);
    let state = |walk: Walk| (walk.progress.phase, walk.progress.step);
    assert_eq!(state(unsure().then(60, Event::Resolved(Resolution::Again))), (Phase::UnderWay, 2));
    assert!(matches!(state(unsure().then(60, Event::Resolved(Resolution::Done))), (Phase::Confirming { .. }, 3)));
    assert_eq!(state(unsure().then(60, Event::Resolved(Resolution::Failed))), (Phase::Ended, 2));
}

#[test]
fn an_alarm_that_stays_raised_leaves_the_effect_unconfirmed() {
    let walk = Walk::new()
        .then(0, taken())
        .then(1, looked(40))
        .then(1, Event::Returned(json!({"size_gib": 44})))
        .then(300, Event::AlarmSeen { raised: true });
    assert!(walk.told().contains(
        "effect: Some(Unconfirmed), failure: Some(\"the alarm is still raised 5 min 0 s after the last step\")"
    ));
}

#[test]
fn the_runbooks_time_is_a_limit() {
    let told = Walk::new().then(0, taken()).then(601, looked(40)).told();
    assert!(told.contains("the runbook's time of 10m is over"), "{told}");
}

#[test]
fn states_have_one_word_each() {
    for state in JobState::ALL {
        assert_eq!(JobState::parse(state.as_str()), Some(state));
        assert_eq!(json!(state), Value::from(state.as_str()));
    }
}

/// The step that grows the disk, which must not be done twice, is under way.
fn growing() -> Walk {
    Walk::new().then(0, taken()).then(1, looked(40))
}

fn ended(walk: &Walk) -> (Phase, Option<&String>) {
    (walk.progress.phase, walk.said.iter().rev().nth(1))
}

#[test]
fn what_may_have_been_done_and_must_not_be_done_twice_is_unsure() {
    let walk = growing().then(1, broke(Failure::new(CallEnd::Unknown, "answered 502"), Repeat::Never));
    let (phase, last) = ended(&walk);
    assert_eq!(phase, Phase::Unsure);
    assert!(
        last.is_some_and(|l| l.contains("answered 502 during step `grow`, which must not be done twice")),
        "{last:?}"
    );
    for end in [CallEnd::NotSent, CallEnd::Refused, CallEnd::Done] {
        let walk = growing().then(1, broke(Failure::lasting(end, "no"), Repeat::Never));
        assert_eq!(walk.progress.phase, Phase::Ended, "{end:?}");
    }
}

#[test]
fn a_lasting_failure_is_not_tried_again_and_a_wish_to_wait_is_heard() {
    let looking = || Walk::new().then(0, taken());
    let walk = looking().then(1, broke(Failure::lasting(CallEnd::Refused, "answered 404"), Repeat::Safe));
    assert_eq!(walk.progress.phase, Phase::Ended);
    let busy = Failure { retry_after: Some(Period::from_secs(30)), ..Failure::new(CallEnd::Refused, "answered 429") };
    let walk = looking().then(1, broke(busy, Repeat::Safe));
    assert_eq!(walk.progress.phase, Phase::Again { at: DateTime::UNIX_EPOCH + TimeDelta::seconds(31) });
}

#[test]
fn a_job_taken_up_for_a_persons_word_and_left_is_unsure_again() {
    let walk = growing().then(30, Event::Taken { repeat: Repeat::Never }).then(60, taken());
    let (phase, last) = ended(&walk);
    assert_eq!(phase, Phase::Unsure);
    assert!(last.is_some_and(|l| l.contains("state: Unsure") && l.contains("nobody has said yet")), "{last:?}");
    assert_eq!(walk.then(1, Event::Resolved(Resolution::Failed)).progress.phase, Phase::Ended);
}

#[test]
fn without_an_alarm_there_is_nothing_to_prove() {
    let mut walk = Walk::new();
    walk.facts.has_alarm = false;
    let walk = walk.then(0, taken()).then(1, looked(40)).then(1, Event::Returned(json!({"size_gib": 44})));
    let last = walk.said.iter().rev().nth(1).cloned();
    let ended =
        "End { state: Succeeded, effect: Some(NotChecked), failure: None, outputs: Object {\"size_gib\": Number(44)} }";
    assert_eq!(last.as_deref(), Some(ended));
}

#[test]
fn how_often_it_was_tried_is_told_where_it_was_more_than_once() {
    let never = Failure::lasting(CallEnd::Refused, "answered 404");
    let told = Walk::new().then(0, taken()).then(1, broke(never, Repeat::Safe)).told();
    assert!(told.contains("step `look` failed: answered 404"), "{told}");
    let busy = || broke(Failure::new(CallEnd::Refused, "answered 503"), Repeat::Safe);
    let told = Walk::new().then(0, taken()).then(1, busy()).then(2, taken()).then(1, busy()).told();
    assert!(told.contains("step `look` failed after 2 tries: answered 503"), "{told}");
}
