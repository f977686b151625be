//! The machine, executed by hand: no clock, no calls.

use crate::{
    Period,
    alarm::Alarm,
    connector::{CallEnd, Failure, Repeat},
    definition::Defined,
    document::parse_file,
    job::{
        Doing, Effect, Event, Facts, JobCommand, JobState, Machine, Place, Progress, Repeats,
        Resolution, Stage, StepEvent, StepOutputs, Transition,
    },
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

struct Execution {
    runbook: Runbook,
    facts: Facts,
    progress: Progress,
    kept: StepOutputs,
    raised: bool,
    now: DateTime<Utc>,
    said: Vec<String>,
}

impl Execution {
    fn new() -> Self {
        let runbook =
            Runbook::check(&parse_file("g.yaml", GROW).expect("reads")[0]).expect("checks");
        let inputs = json!({"vm": "vm/quill-booking-db-1", "ceiling_gib": 64});
        let facts = Facts {
            id: crate::JobId(7),
            key: "quay-7".into(),
            inputs,
            target: "vm/quill-booking-db-1".into(),
            alert: None,
            has_alarm: true,
            created: DateTime::UNIX_EPOCH,
            memory: Value::Null,
            memory_full: false,
            announce: None,
            dry: false,
        };
        Self {
            runbook,
            facts,
            progress: Progress::default(),
            kept: StepOutputs::default(),
            raised: true,
            now: DateTime::UNIX_EPOCH,
            said: Vec::new(),
        }
    }

    /// Takes an event after some seconds; the progress goes through its stored form each time.
    fn then(mut self, seconds: i64, event: Event) -> Self {
        self.now += TimeDelta::seconds(seconds);
        let stored = serde_json::to_string(&self.progress).expect("stores");
        let progress = serde_json::from_str(&stored).expect("loads");
        let mut machine = Machine::new(&self.runbook, &self.facts, progress, self.kept);
        let mut alarm = Alarm::unknown(self.now);
        alarm.raised = self.raised;
        machine.alarm = Some(alarm);
        let effects = machine.handle(self.now, event);
        self.said.extend(effects.iter().map(|e| match e {
            Effect::Then(transition) => format!("{transition:?}"),
            other => format!("{other:?}"),
        }));
        self.said.push("--".into());
        self.progress = machine.progress;
        self.kept = machine.kept;
        self
    }

    fn cleared(mut self) -> Self {
        self.raised = false;
        self
    }

    fn told(self) -> String {
        self.said.join("\n").replace("String(", "(").replace("Object ", "").replace("Place(", "(")
    }
}

fn step(place: &str, attempt: u32, what: StepEvent) -> Event {
    Event::Step { place: Place::new(place), attempt, what }
}

fn broke(place: &str, attempt: u32, failure: Failure, repeat: Repeat) -> Event {
    step(place, attempt, StepEvent::Broke { failure, repeat })
}

/// Looking may be repeated, growing must not.
fn taken() -> Event {
    let of = |operation: &str, repeat| (("yard".to_owned(), operation.to_owned()), repeat);
    Event::Taken(
        Repeats([of("vm.inspect", Repeat::Safe), of("vm.grow_disk", Repeat::Never)].into()),
        Vec::new(),
    )
}

fn looked(size: i64) -> Event {
    step("look", 1, StepEvent::Returned(json!({"disk": "data", "size_gib": size})))
}

fn grown() -> Event {
    step("grow", 1, StepEvent::Returned(json!({"size_gib": 44})))
}

fn resolved(word: Resolution) -> Event {
    Event::Commanded(JobCommand::Resolve { place: None, word, output: Value::Null })
}

/// What it is at in the list of its stage.
fn doing(execution: &Execution) -> Option<Doing> {
    execution.progress.block.open.as_ref().map(|o| o.doing.clone())
}

#[test]
fn the_time_of_a_runbook_is_over_when_more_of_it_has_passed() {
    let at_its_end = Execution::new().then(0, taken()).then(600, looked(40));
    assert!(at_its_end.told().contains("vm.grow_disk"));
    let after = Execution::new().then(0, taken()).then(601, looked(40));
    assert!(after.told().contains("the runbook's time of 10m is over"));
}

#[test]
fn the_whole_way_to_a_confirmed_effect() {
    let execution = Execution::new()
        .then(0, taken())
        .then(1, looked(40))
        .then(1, grown())
        .then(10, taken())
        .cleared()
        .then(30, taken());
    insta::assert_snapshot!(execution.told(), @r#"
    StepStarted { place: ("look"), attempt: 1, give: {"vm": ("vm/quill-booking-db-1")} }
    Call(CallOut { place: ("look"), attempt: 1, target: Operation { via: "yard", operation: "vm.inspect" }, give: {"vm": ("vm/quill-booking-db-1")}, key: "quay-7-look", timeout: None, kept_with: 1, probes: false, instead: None })
    GoOn { until: Some(1970-01-01T00:10:00.001Z) }
    --
    StepEnded { place: ("look"), attempt: 1, result: Done({"disk": ("data"), "size_gib": Number(40)}) }
    StepStarted { place: ("room"), attempt: 1, give: {"require": ("steps.look.size_gib + 4 <= inputs.ceiling_gib")} }
    StepSaw { place: ("room"), attempt: 1, saw: {"steps.look.size_gib": Number(40), "inputs.ceiling_gib": Number(64)} }
    StepEnded { place: ("room"), attempt: 1, result: Done(Bool(true)) }
    StepStarted { place: ("grow"), attempt: 1, give: {"disk": ("data")} }
    Call(CallOut { place: ("grow"), attempt: 1, target: Operation { via: "yard", operation: "vm.grow_disk" }, give: {"disk": ("data")}, key: "quay-7-grow", timeout: None, kept_with: 1, probes: false, instead: None })
    GoOn { until: Some(1970-01-01T00:10:00.001Z) }
    --
    StepEnded { place: ("grow"), attempt: 1, result: Done({"size_gib": Number(44)}) }
    Wait { until: 1970-01-01T00:05:02Z, alarm: true }
    --
    Wait { until: 1970-01-01T00:05:02Z, alarm: true }
    --
    End { state: Succeeded, effect: Confirmed, failure: None, outputs: {"size_gib": Number(44)} }
    --
    "#);
}

#[test]
fn a_requirement_that_does_not_hold_ends_the_job_in_words() {
    insta::assert_snapshot!(Execution::new().then(0, taken()).then(1, looked(62)).told(), @r#"
    StepStarted { place: ("look"), attempt: 1, give: {"vm": ("vm/quill-booking-db-1")} }
    Call(CallOut { place: ("look"), attempt: 1, target: Operation { via: "yard", operation: "vm.inspect" }, give: {"vm": ("vm/quill-booking-db-1")}, key: "quay-7-look", timeout: None, kept_with: 1, probes: false, instead: None })
    GoOn { until: Some(1970-01-01T00:10:00.001Z) }
    --
    StepEnded { place: ("look"), attempt: 1, result: Done({"disk": ("data"), "size_gib": Number(62)}) }
    StepStarted { place: ("room"), attempt: 1, give: {"require": ("steps.look.size_gib + 4 <= inputs.ceiling_gib")} }
    StepSaw { place: ("room"), attempt: 1, saw: {"steps.look.size_gib": Number(62), "inputs.ceiling_gib": Number(64)} }
    StepEnded { place: ("room"), attempt: 1, result: Failed("at its ceiling of 64 GiB") }
    End { state: Failed, effect: NotChecked, failure: Some("at its ceiling of 64 GiB"), outputs: Null }
    --
    "#);
}

#[test]
fn a_failed_call_is_tried_again_as_often_as_allowed() {
    let busy =
        |n| broke("look", n, Failure::new(CallEnd::Unknown, "answered 503: busy"), Repeat::Safe);
    let execution = Execution::new()
        .then(0, taken())
        .then(1, busy(1))
        .then(1, taken())
        .then(1, taken())
        .then(0, busy(2));
    insta::assert_snapshot!(execution.told(), @r#"
    StepStarted { place: ("look"), attempt: 1, give: {"vm": ("vm/quill-booking-db-1")} }
    Call(CallOut { place: ("look"), attempt: 1, target: Operation { via: "yard", operation: "vm.inspect" }, give: {"vm": ("vm/quill-booking-db-1")}, key: "quay-7-look", timeout: None, kept_with: 1, probes: false, instead: None })
    GoOn { until: Some(1970-01-01T00:10:00.001Z) }
    --
    StepEnded { place: ("look"), attempt: 1, result: Failed("answered 503: busy") }
    Wait { until: 1970-01-01T00:00:03Z, alarm: false }
    --
    Wait { until: 1970-01-01T00:00:03Z, alarm: false }
    --
    StepStarted { place: ("look"), attempt: 2, give: {"vm": ("vm/quill-booking-db-1")} }
    Call(CallOut { place: ("look"), attempt: 2, target: Operation { via: "yard", operation: "vm.inspect" }, give: {"vm": ("vm/quill-booking-db-1")}, key: "quay-7-look", timeout: None, kept_with: 2, probes: false, instead: None })
    GoOn { until: Some(1970-01-01T00:10:00.001Z) }
    --
    StepEnded { place: ("look"), attempt: 2, result: Failed("answered 503: busy") }
    End { state: Failed, effect: NotChecked, failure: Some("step `look` failed after 2 tries: answered 503: busy"), outputs: Null }
    --
    "#);
}

#[test]
fn after_a_death_a_harmless_step_is_repeated_with_the_same_key() {
    let execution = Execution::new().then(0, taken()).then(20, taken());
    let told = execution.told();
    assert_eq!(told.matches("key: \"quay-7-look\"").count(), 2, "{told}");
}

#[test]
fn after_a_death_any_other_step_leaves_the_job_unsure_until_a_person_settles_it() {
    let unsure = || Execution::new().then(0, taken()).then(1, looked(40)).then(20, taken());
    assert!(matches!(doing(&unsure()), Some(Doing::Unsure(_))));
    let again = unsure().then(60, resolved(Resolution::Again));
    assert_eq!((doing(&again), again.progress.block.at), (Some(Doing::Calling), 2));
    let done = unsure().then(60, resolved(Resolution::Done));
    assert_eq!((done.progress.stage, done.progress.done), (Stage::Confirming, 3));
    let failed = unsure().then(60, resolved(Resolution::Failed));
    assert_eq!((failed.progress.stage, failed.progress.done), (Stage::Over, 2));
}

#[test]
fn an_alarm_that_stays_raised_leaves_the_effect_unconfirmed() {
    let execution =
        Execution::new().then(0, taken()).then(1, looked(40)).then(1, grown()).then(300, taken());
    assert!(execution.told().contains(
        "effect: Unconfirmed, failure: Some(\"the alarm is still raised 5 min 0 s after the \
            last step\")"
    ));
}

#[test]
fn the_runbooks_time_is_a_limit() {
    let told = Execution::new().then(0, taken()).then(601, looked(40)).told();
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
fn growing() -> Execution {
    Execution::new().then(0, taken()).then(1, looked(40))
}

fn ended(execution: &Execution) -> (Stage, Option<&String>) {
    (execution.progress.stage, execution.said.iter().rev().nth(1))
}

#[test]
fn what_may_have_been_done_and_must_not_be_done_twice_is_unsure() {
    let execution = growing()
        .then(1, broke("grow", 1, Failure::new(CallEnd::Unknown, "answered 502"), Repeat::Never));
    let (_, last) = ended(&execution);
    assert!(matches!(doing(&execution), Some(Doing::Unsure(_))));
    assert!(
        last.is_some_and(
            |l| l.contains("answered 502 during step `grow`, which must not be done twice")
        ),
        "{last:?}"
    );
    for end in [CallEnd::NotSent, CallEnd::Refused, CallEnd::Done] {
        let execution =
            growing().then(1, broke("grow", 1, Failure::lasting(end, "no"), Repeat::Never));
        assert_eq!(execution.progress.stage, Stage::Over, "{end:?}");
    }
}

#[test]
fn a_lasting_failure_is_not_tried_again_and_a_wish_to_wait_is_heard() {
    let looking = || Execution::new().then(0, taken());
    let execution = looking().then(
        1,
        broke("look", 1, Failure::lasting(CallEnd::Refused, "answered 404"), Repeat::Safe),
    );
    assert_eq!(execution.progress.stage, Stage::Over);
    let busy = Failure {
        retry_after: Some(Period::from_secs(30)),
        ..Failure::new(CallEnd::Refused, "answered 429")
    };
    let execution = looking().then(1, broke("look", 1, busy, Repeat::Safe));
    assert_eq!(
        doing(&execution),
        Some(Doing::Again(DateTime::UNIX_EPOCH + TimeDelta::seconds(31)))
    );
}

#[test]
fn a_job_taken_up_for_a_persons_word_and_left_is_unsure_again() {
    let execution = growing().then(30, taken()).then(60, taken());
    let (_, last) = ended(&execution);
    assert!(
        last.is_some_and(
            |l| l.starts_with("Unsure { failure: \"a node was lost during step `grow`")
        ),
        "{last:?}"
    );
    assert_eq!(execution.then(1, resolved(Resolution::Failed)).progress.stage, Stage::Over);
}

#[test]
fn time_for_which_a_job_was_unsure_or_held_is_not_its_own() {
    let unsure = growing().then(30, taken()).then(3600, resolved(Resolution::Again));
    assert_eq!(doing(&unsure), Some(Doing::Calling), "ten minutes are not over");
    let held = Execution::new()
        .then(0, taken())
        .then(1, Event::Commanded(JobCommand::Pause { words: "held by pat".into() }))
        .then(1, looked(40));
    assert_eq!(
        ended(&held).1.map(String::as_str),
        Some("Rest"),
        "what was under way came to its end"
    );
    let held = held.then(3600, Event::Commanded(JobCommand::Resume));
    assert_eq!((doing(&held), held.progress.block.at), (Some(Doing::Calling), 2));
}

#[test]
fn without_an_alarm_there_is_nothing_to_prove() {
    let mut execution = Execution::new();
    execution.facts.has_alarm = false;
    let execution = execution.then(0, taken()).then(1, looked(40)).then(1, grown());
    let last = execution.said.iter().rev().nth(1).cloned();
    let ended = "End { state: Succeeded, effect: NotChecked, failure: None, outputs: Object \
        {\"size_gib\": Number(44)} }";
    assert_eq!(last.as_deref(), Some(ended));
}

#[test]
fn how_often_it_was_tried_is_told_where_it_was_more_than_once() {
    let never = Failure::lasting(CallEnd::Refused, "answered 404");
    let told =
        Execution::new().then(0, taken()).then(1, broke("look", 1, never, Repeat::Safe)).told();
    assert!(told.contains("step `look` failed: answered 404"), "{told}");
    let busy = |n| broke("look", n, Failure::new(CallEnd::Refused, "answered 503"), Repeat::Safe);
    let told =
        Execution::new().then(0, taken()).then(1, busy(1)).then(2, taken()).then(1, busy(2)).told();
    assert!(told.contains("step `look` failed after 2 tries: answered 503"), "{told}");
}

fn first(runbook: &Runbook) -> (Facts, Progress) {
    let facts = Facts {
        id: crate::JobId(7),
        key: "quay-7".into(),
        inputs: json!({}),
        target: "vm/a".into(),
        alert: None,
        has_alarm: false,
        created: DateTime::UNIX_EPOCH,
        memory: Value::Null,
        memory_full: false,
        announce: None,
        dry: false,
    };
    assert!(runbook.steps.len() == 1, "one loop");
    (facts, Progress::default())
}

#[test]
fn many_steps_at_once_are_recorded_a_hundred_at_a_time() {
    let text = "runbook: r\ntarget: vm/a\nsteps:\n  - id: pool\n    each: \
        '[0,1,2,3,4,5,6,7,8,9].map(n, [0,1,2,3,4,5,6,7,8,9]).flatten()'\n    as: n\n    at_once: \
        50\n    failures: report\n    gives: 'true'\n    steps:\n      - { id: a, set: { x: 1 } \
        }\n      - { id: b, require: '1 > 2', on_error: continue }\n      - { id: c, require: '1 > \
        2', else: 'no' }\n";
    let checked = Runbook::check(&parse_file("r.yaml", text).expect("reads")[0]);
    let runbook = checked.unwrap_or_else(|e| panic!("{e:#?}"));
    let (facts, progress) = first(&runbook);
    let mut machine = Machine::new(&runbook, &facts, progress, StepOutputs::default());
    let (mut events, mut event) = (0, taken());
    loop {
        let effects = machine.handle(DateTime::UNIX_EPOCH, event);
        let begun = effects.iter().filter(|e| matches!(e, Effect::StepStarted { .. })).count();
        assert!(begun <= 150, "{begun} at once");
        events += 1;
        match effects.last() {
            Some(Effect::Then(Transition::GoOn { until: Some(at) })) => {
                assert_eq!(*at, DateTime::UNIX_EPOCH, "at once")
            }
            Some(Effect::Then(Transition::End { state, .. })) => {
                break assert_eq!(*state, JobState::Succeeded);
            }
            other => panic!("{other:?}"),
        }
        event = Event::Tick;
    }
    assert!(events > 3, "in {events} turns");
    assert_eq!(machine.progress.errors.len(), 100, "of 100 items' errors; more would not be kept");
    assert_eq!(machine.progress.begun, 301);
}

#[test]
fn a_job_that_begins_too_many_steps_fails_and_keeps_few_of_its_errors() {
    let hundred = "[0,1,2,3,4,5,6,7,8,9].map(n, [0,1,2,3,4,5,6,7,8,9]).flatten()";
    let text = format!(
        "runbook: r\ntarget: vm/a\nsteps:\n  - id: pool\n    each: '{hundred}'\n    as: n\n    \
        at_once: 50\n    steps:\n      - id: inner\n        each: '{hundred}'\n        as: m\n        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        at_once: 50\n        failures: report\n        steps:\n          - {{ id: a, require: '1 > \
        2', on_error: continue }}\n"
    );
    let checked = Runbook::check(&parse_file("r.yaml", &text).expect("reads")[0]);
    let runbook = checked.unwrap_or_else(|e| panic!("{e:#?}"));
    let (facts, progress) = first(&runbook);
    let mut machine = Machine::new(&runbook, &facts, progress, StepOutputs::default());
    let mut event = taken();
    let failure = loop {
        match machine.handle(DateTime::UNIX_EPOCH, event).pop() {
            Some(Effect::Then(Transition::GoOn { .. })) => event = Event::Tick,
            Some(Effect::Then(Transition::End { failure, .. })) => {
                break failure.unwrap_or_default();
            }
            other => panic!("{other:?}"),
        }
    };
    assert!(failure.contains("has begun 10000 steps, the most that one may"), "{failure}");
    assert_eq!(machine.progress.errors.len(), 100);
}

/// A job of a runbook without an alarm, over a few events.
fn told_of(text: &str, inputs: Value, events: Vec<(i64, Event)>) -> Vec<Effect> {
    let runbook = Runbook::check(&parse_file("r.yaml", text).expect("reads")[0]).expect("checks");
    let facts = Facts {
        id: crate::JobId(7),
        key: "quay-7".into(),
        inputs,
        target: "vm/a".into(),
        alert: None,
        has_alarm: false,
        created: DateTime::UNIX_EPOCH,
        memory: Value::Null,
        memory_full: false,
        announce: None,
        dry: false,
    };
    let mut machine = Machine::new(&runbook, &facts, Progress::default(), StepOutputs::default());
    let mut all = Vec::new();
    for (seconds, event) in events {
        all.extend(machine.handle(DateTime::UNIX_EPOCH + TimeDelta::seconds(seconds), event));
    }
    all
}

#[test]
fn what_goes_wrong_is_kept_in_a_thousand_bytes_and_not_one_less() {
    let require = "runbook: r\ninputs: { why: { type: string } }\ntarget: vm/a\nsteps: [ { id: \
        need, require: 1 > 2, else: '${inputs.why}' } ]\n";
    let said = |length: usize| {
        let effects = told_of(require, json!({ "why": "x".repeat(length) }), vec![(0, taken())]);
        let end = effects.into_iter().find_map(|e| match e {
            Effect::Then(Transition::End { failure, .. }) => failure,
            _ => None,
        });
        end.expect("a failure")
    };
    assert_eq!(said(1_000), "x".repeat(1_000));
    assert_eq!(said(1_001), format!("{}…", "x".repeat(1_000)));
}

#[test]
fn a_job_begins_ten_thousand_steps_and_no_more() {
    let each = |items: usize| {
        let text =
            "runbook: r\ntarget: vm/a\ninputs: { n: { type: array }, m: { type: array } }\nsteps:
  - id: a\n    each: inputs.n\n    as: n\n    gives: '1'\n    steps:
      - { id: b, each: inputs.m, as: m, gives: '1', steps: [ { id: c, set: { x: 1 } } ] }\n";
        // One for `a`, ten for `b`, and as many as there are for `c`.
        let inputs = json!({ "n": vec![1; 10], "m": vec![1; items] });
        let mut events = vec![(0, taken())];
        events.extend((0..110).map(|_| (0, Event::Tick)));
        told_of(text, inputs, events)
    };
    let ends = |effects: &[Effect]| {
        effects.iter().find_map(|e| match e {
            Effect::Then(Transition::End { state, failure, .. }) => {
                Some((*state, failure.clone().unwrap_or_default()))
            }
            _ => None,
        })
    };
    assert_eq!(ends(&each(998)), Some((JobState::Succeeded, String::new())), "9,991 steps");
    let (state, why) = ends(&each(1_000)).expect("ends");
    assert_eq!(state, JobState::Failed);
    assert!(why.contains("has begun 10000 steps, the most that one may"), "{why}");
}

#[test]
fn a_finish_leaves_out_outputs_of_steps_that_did_not_run_and_no_other_mistake() {
    let finish = |output: &str| {
        let text = format!(
            "runbook: r\ntarget: vm/a\nsteps:\n  - {{ id: a, set: {{ n: 0 }} }}\n  - {{ id: end, \
            when: 'true', finish: succeeded }}\n  - {{ id: b, set: {{ n: 1 }} }}\noutputs: {{ a: \
            '${{steps.a.n}}', b: \"{output}\" }}\n"
        );
        told_of(&text, json!({}), vec![(0, taken())]).into_iter().find_map(|e| match e {
            Effect::Then(Transition::End { outputs, failure, .. }) => Some((outputs, failure)),
            _ => None,
        })
    };
    assert_eq!(
        finish("${steps.b.n}"),
        Some((json!({ "a": 0 }), None)),
        "what did not run gives nothing"
    );
    let (outputs, failure) = finish("${1 / steps.a.n}").expect("ends");
    assert_eq!(outputs, Value::Null);
    assert!(
        failure.is_some_and(|f| f.contains("the outputs cannot be made: b")),
        "a mistake is told"
    );
}

#[test]
fn what_a_job_is_at_is_told_for_lists() {
    let at = |execution: &Execution| {
        let machine = Machine::new(
            &execution.runbook,
            &execution.facts,
            execution.progress.clone(),
            execution.kept.clone(),
        );
        let summary = machine.summary(execution.now);
        (summary.done, summary.total, summary.doing)
    };
    let execution = Execution::new().then(0, taken());
    assert_eq!(at(&execution), (0, 3, "look".into()));
    let execution =
        execution.then(1, Event::Commanded(JobCommand::Pause { words: "held by pat".into() }));
    assert_eq!(at(&execution), (0, 3, "held by pat; look".into()));
    let execution = execution
        .then(1, Event::Commanded(JobCommand::Resume))
        .then(1, looked(40))
        .then(1, grown());
    assert_eq!(at(&execution), (3, 3, "waits for its effect".into()));
    // The proof has a time of its own, however long ago the steps began.
    assert_eq!(execution.progress.stage, Stage::Confirming);
    let execution = execution.then(11 * 60, Event::Tick);
    assert_ne!(execution.progress.stage, Stage::Confirming, "five minutes are over");
}

#[test]
fn a_call_that_waits_for_its_turn_waits_no_longer_than_its_own_time() {
    let mut execution = super::later::Execution::of(
        "runbook: r\ntarget: vm/a\nsteps: [ { id: say, call: chat.post, via: chat, timeout: 2s } \
        ]\n",
    );
    execution.then(0, Event::Taken(Repeats::default(), Vec::new()));
    let at = |seconds: i64| DateTime::UNIX_EPOCH + TimeDelta::seconds(seconds);
    let told = |until| Event::Step {
        place: Place::new("say"),
        attempt: 1,
        what: StepEvent::Queued { until },
    };
    let rests = execution.then(0, told(at(60)));
    assert_eq!(rests.last(), Some(&Effect::Then(Transition::Wait { until: at(2), alarm: false })));
    let over = execution.then(2, Event::Taken(Repeats::default(), Vec::new()));
    let failed = |e: &Effect| {
        matches!(e, Effect::Then(Transition::End { failure: Some(why),
        .. }) if why.contains("its turn at `chat` has not come within 2s"))
    };
    assert!(over.iter().any(failed), "{over:?}");
    assert!(over.contains(&Effect::LeaveQueue(Place::new("say"))));
}
