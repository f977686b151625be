//! Calls whose end comes later, and what is found out about those of which nobody knows: by hand.

use crate::{
    Alert, JobId, NewAlert, Period,
    alert::Received,
    connector::{CallEnd, Failure, Repeat},
    definition::Defined,
    document::parse_file,
    job::{
        CALLED_BACK, ChildEnd, Doing, Effect, Event, EventSelector, Facts, JobCommand, JobEffect,
        JobState, Machine, Place, Progress, Repeats, StepEvent, StepOutputs, Transition,
    },
    runbook::Runbook,
};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::{Value, json};

const SAVE: &str = "
runbook: save
inputs: {}
target: vm/a
timeout: 1h
steps:
  - { id: save, call: instance.save, via: cloud, give: { name: worker-7 }, retry: { times: 1, wait: 2s } }
outputs: { at: '${steps.save.at}' }
";

/// A job that is executed by hand.
pub(super) struct Execution {
    pub runbook: Runbook,
    pub facts: Facts,
    pub progress: Progress,
    pub kept: StepOutputs,
    now: DateTime<Utc>,
}

impl Execution {
    fn new() -> Self {
        Self::of(SAVE)
    }

    pub fn of(text: &str) -> Self {
        let runbook =
            Runbook::check(&parse_file("s.yaml", text).expect("reads")[0]).expect("checks");
        let facts = Facts {
            id: JobId(7),
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
        Self {
            runbook,
            facts,
            progress: Progress::default(),
            kept: StepOutputs::default(),
            now: DateTime::UNIX_EPOCH,
        }
    }

    /// Takes an event after some seconds; the progress goes through its stored form each time.
    pub fn then(&mut self, seconds: i64, event: Event) -> Vec<Effect> {
        self.now += TimeDelta::seconds(seconds);
        let stored = serde_json::to_string(&self.progress).expect("stores");
        let progress = serde_json::from_str(&stored).expect("loads");
        let mut machine =
            Machine::new(&self.runbook, &self.facts, progress, std::mem::take(&mut self.kept));
        let effects = machine.handle(self.now, event);
        (self.progress, self.kept) = (machine.progress, machine.kept);
        effects
    }

    fn doing(&self) -> Option<Doing> {
        self.progress.block.open.as_ref().map(|open| open.doing.clone())
    }
}

fn taken(repeat: Repeat) -> Event {
    Event::Taken(
        Repeats([(("cloud".to_owned(), "instance.save".to_owned()), repeat)].into()),
        Vec::new(),
    )
}

fn step(place: &str, attempt: u32, what: StepEvent) -> Event {
    Event::Step { place: Place::new(place), attempt, what }
}

fn later(attempt: u32, repeat: Repeat) -> Event {
    step("save", attempt, StepEvent::Later { within: Period::from_secs(60), repeat })
}

/// What comes to the address of a try.
fn called(job: i64, attempt: u32, callback: Value) -> Event {
    let new: NewAlert = serde_json::from_value(json!({ "kind": CALLED_BACK,
        "resource": format!("job/{job}"),
        "severity": "indeterminate", "state": "noted", "labels": { "step": "save",
            "attempt": attempt.to_string() },
        "body": { "callback": callback } }))
    .expect("an alert");
    let alert: Alert = new
        .complete(Received { source: "arvok", received: DateTime::UNIX_EPOCH, fallback_id: "1" })
        .expect("the normal form");
    Event::Came(vec![(Place::new("save"), StepEvent::Heard(vec![alert]))])
}

fn ended(effects: &[Effect]) -> Option<(JobState, &Value)> {
    effects.iter().find_map(|e| match e {
        Effect::Then(Transition::End { state, outputs, .. }) => Some((*state, outputs)),
        _ => None,
    })
}

#[test]
fn a_call_that_calls_back_waits_for_its_own_answer_and_for_no_other() {
    let mut execution = Execution::new();
    execution.then(0, taken(Repeat::Never));
    let effects = execution.then(1, later(1, Repeat::Never));
    let [Effect::Listen(listening), .., Effect::Then(Transition::Wait { until, .. })] =
        effects.as_slice()
    else {
        panic!("{effects:?}")
    };
    assert_eq!(listening.chosen, EventSelector::call_back(JobId(7), &Place::new("save"), 1));
    let EventSelector { sources, kinds, resource, .. } = &listening.chosen;
    assert_eq!(
        [sources, kinds, resource],
        [&["arvok"], &[CALLED_BACK], &["job/7"]],
        "nobody else's"
    );
    assert_eq!(listening.since, DateTime::UNIX_EPOCH, "an answer that came at once counts");
    assert_eq!(*until, execution.now + TimeDelta::seconds(60));
    for other in [called(8, 1, json!({ "output": 1 })), called(7, 2, json!({ "output": 1 }))] {
        assert_eq!(ended(&execution.then(1, other)), None);
    }
    // Another node takes it up: nothing was lost, since nothing was out.
    execution.then(1, taken(Repeat::Never));
    assert!(matches!(execution.doing(), Some(Doing::CalledBack { .. })));
    let effects = execution.then(1, called(7, 1, json!({ "output": { "at": "store/1" } })));
    assert_eq!(
        ended(&effects),
        Some((JobState::Succeeded, &json!({ "at": "store/1" }))),
        "{effects:?}"
    );
    assert!(effects.contains(&Effect::Withdraw(Place::new("save"))));
}

#[test]
fn one_that_says_that_it_failed_is_tried_again_under_another_address() {
    let mut execution = Execution::new();
    execution.then(0, taken(Repeat::Never));
    execution.then(1, later(1, Repeat::Never));
    execution.then(1, called(7, 1, json!({ "failure": "no room" })));
    assert!(matches!(execution.doing(), Some(Doing::Again(_))));
    execution.then(2, taken(Repeat::Never));
    execution.then(1, later(2, Repeat::Never));
    assert_eq!(
        ended(&execution.then(1, called(7, 1, json!({ "output": {} })))),
        None,
        "the first try is over"
    );
    let effects = execution.then(1, called(7, 2, json!({ "failure": "no room" })));
    assert!(
        effects.iter().find_map(failed).is_some_and(|why| why.contains("no room")),
        "{effects:?}"
    );
}

#[test]
fn nobody_knows_what_became_of_one_that_is_never_called_back() {
    for (repeat, unsure) in [(Repeat::Never, true), (Repeat::Safe, false)] {
        let mut execution = Execution::new();
        execution.then(0, taken(repeat));
        execution.then(1, later(1, repeat));
        assert_eq!(ended(&execution.then(59, Event::Tick)), None, "its time is not over");
        let effects = execution.then(1, Event::Tick);
        let is_unsure = effects.iter().any(|e| {
            matches!(e, Effect::Then(Transition::Unsure { failure }) if failure.contains("nobody has called \
                back"))
        });
        assert_eq!((is_unsure, ended(&effects).is_some()), (unsure, !unsure), "{effects:?}");
    }
}

#[test]
fn a_step_waits_no_longer_to_be_called_back_than_it_may_take() {
    let mut execution = Execution::of(&SAVE.replace("retry:", "timeout: 10s, retry:"));
    execution.then(0, taken(Repeat::Safe));
    execution.then(1, later(1, Repeat::Safe));
    assert_eq!(ended(&execution.then(9, Event::Tick)), None, "its time is not over");
    assert_eq!(ended(&execution.then(1, Event::Tick)).map(|end| end.0), Some(JobState::Failed));
}

#[test]
fn an_operation_with_a_probe_is_asked_whether_it_was_done() {
    for (says, state) in [
        (json!({ "done": true, "result": { "at": "store/9" } }), Some(JobState::Succeeded)),
        (json!({ "done": false, "result": {} }), None),
        (json!({ "result": {} }), None),
    ] {
        let mut execution = Execution::new();
        execution.then(0, taken(Repeat::Probed));
        // Its node is lost with the call out.
        let effects = execution.then(5, taken(Repeat::Probed));
        let asks = effects.iter().any(|e| {
            matches!(e, Effect::Call(out) if out.probes && out.target.operation() == Some(("cloud", "instance.save")) && out.give["name"] == "worker-7")
        });
        assert!(asks, "{effects:?}");
        // A probe that is lost as well is asked again.
        let effects = execution.then(5, taken(Repeat::Probed));
        assert!(
            effects.iter().any(|e| matches!(e, Effect::Call(out) if out.probes)),
            "{effects:?}"
        );
        let effects = execution.then(1, step("save.probe", 1, StepEvent::Returned(says.clone())));
        assert_eq!(ended(&effects).map(|e| e.0), state, "{effects:?}");
        let again = says["done"] == false;
        assert_eq!(
            matches!(execution.doing(), Some(Doing::Again(_))),
            again,
            "what was not done is tried again"
        );
        let unsure = effects.iter().any(|e| matches!(e, Effect::Then(Transition::Unsure { .. })));
        assert_eq!(
            unsure,
            says.get("done").is_none(),
            "a probe that says neither leaves it to a person"
        );
    }
}

#[test]
fn a_keyed_call_whose_node_was_lost_stays_in_doubt_whatever_comes_then() {
    for (repeat, unsure) in [(Repeat::Keyed, true), (Repeat::Safe, false)] {
        let mut execution = Execution::new();
        execution.then(0, taken(repeat));
        let again = execution.then(20, taken(repeat));
        let call =
            again.iter().find_map(|e| if let Effect::Call(call) = e { Some(call) } else { None });
        let call = call.expect("it is sent again");
        assert_eq!(
            (call.attempt, call.key.as_str()),
            (2, "quay-7-save"),
            "another try under the same key"
        );
        // The second is refused, but the first may have been done.
        let failure = Failure::lasting(CallEnd::Refused, "answered 409");
        let effects = execution.then(1, step("save", 2, StepEvent::Broke { failure, repeat }));
        let is_unsure = effects.iter().any(|e| {
            matches!(e, Effect::Then(Transition::Unsure { failure }) if failure.contains("whether it was \
                done is not known"))
        });
        assert_eq!((is_unsure, ended(&effects).is_some()), (unsure, !unsure), "{effects:?}");
    }
}

#[test]
fn tries_of_many_jobs_are_spread_over_the_time_that_jitter_gives() {
    let text = SAVE
        .replace("retry: { times: 1, wait: 2s }", "retry: { times: 1, wait: 100s, jitter: 0.5 }");
    let waits: Vec<i64> = (0..40)
        .map(|n| {
            let mut execution = Execution::of(&text);
            execution.facts.key = format!("quay-{n}");
            execution.then(0, taken(Repeat::Safe));
            let failure = Failure::new(CallEnd::Refused, "answered 503");
            execution.then(0, step("save", 1, StepEvent::Broke { failure, repeat: Repeat::Safe }));
            match execution.doing() {
                Some(Doing::Again(at)) => (at - execution.now).num_seconds(),
                other => panic!("it waits for its next try: {other:?}"),
            }
        })
        .collect();
    assert!(waits.iter().all(|wait| (50..=100).contains(wait)), "{waits:?}");
    assert!(
        waits.iter().any(|wait| *wait < 65) && waits.iter().any(|wait| *wait > 85),
        "{waits:?}"
    );
}

#[test]
fn looks_are_numbered_and_the_answer_of_an_earlier_one_counts_no_more() {
    let text = "runbook: look
inputs: {}
target: vm/a
steps: [ { id: look, check: result.ok, call: vm.inspect, via: yard, give: {}, every: 5s, within: 1m } ]
outputs: { at: '${steps.look.at}' }
";
    let mut execution = Execution::of(text);
    let sent = |effects: &[Effect]| {
        let call =
            effects.iter().find_map(|e| if let Effect::Call(call) = e { Some(call) } else { None });
        call.map(|call| (call.attempt, call.key.clone()))
    };
    let gives =
        |n: u32, ok: bool| step("look", n, StepEvent::Returned(json!({ "ok": ok, "at": n })));
    for n in 1..=3 {
        let event = if n == 1 { taken(Repeat::Safe) } else { Event::Tick };
        assert_eq!(sent(&execution.then(5, event)), Some((n, format!("quay-7-look-{n}"))));
        if n < 3 {
            assert_eq!(sent(&execution.then(0, gives(n, false))), None);
        }
    }
    assert_eq!(ended(&execution.then(1, gives(2, true))), None, "the third look is out");
    let effects = execution.then(1, gives(3, true));
    assert_eq!(ended(&effects), Some((JobState::Succeeded, &json!({ "at": 3 }))));
}

const BELOW: &str = "
runbook: above
inputs: {}
target: vm/a
steps: [ { id: below, runbook: grow-disk, give: {} } ]
";

/// Why a job failed, if that is its end.
fn failed(effect: &Effect) -> Option<String> {
    match effect {
        Effect::Then(Transition::End { state: JobState::Failed, failure, .. }) => failure.clone(),
        _ => None,
    }
}

#[test]
fn a_job_of_a_step_that_cannot_be_made_fails_the_step_in_words() {
    let mut execution = Execution::of(BELOW);
    let effects = execution.then(0, taken(Repeat::Never));
    assert!(effects.iter().any(|e| matches!(e, Effect::Launch(_))), "{effects:?}");
    let failure = Failure::lasting(CallEnd::NotSent, "the input `vm` is missing");
    let effects =
        execution.then(1, step("below", 1, StepEvent::Broke { failure, repeat: Repeat::Never }));
    let failure = effects.iter().find_map(failed).expect("it fails");
    assert!(failure.contains("the input `vm` is missing"), "{failure}");
}

#[test]
fn a_job_of_a_step_is_called_back_again_if_the_node_that_did_so_is_lost() {
    let mut execution = Execution::of(BELOW);
    execution.then(0, taken(Repeat::Never));
    execution.then(1, step("below", 1, StepEvent::Launched(JobId(8))));
    let recalled = |effects: &[Effect]| {
        effects.iter().any(|e| matches!(e, Effect::Recall(r) if r.job == JobId(8)))
    };
    assert!(recalled(
        &execution
            .then(1, Event::Commanded(JobCommand::Cancel { undo: false, words: "enough".into() }))
    ));
    assert!(
        !recalled(&execution.then(1, Event::Tick)),
        "it was called back, and nothing has come of it yet"
    );
    assert!(recalled(&execution.then(20, taken(Repeat::Never))), "nobody knows whether it was");
    execution.then(1, step("below", 1, StepEvent::Recalled));
    assert!(!recalled(&execution.then(20, taken(Repeat::Never))), "it knows that it is to stop");
}

#[test]
fn a_job_of_a_step_that_somebody_stopped_or_refused_fails_the_step_saying_so() {
    for (state, was) in [
        (JobState::Cancelled, "job 8 of runbook `grow-disk` was cancelled: enough"),
        (JobState::Refused, "job 8 of runbook `grow-disk` was refused: enough"),
        (JobState::Failed, "job 8 of runbook `grow-disk` failed: enough"),
    ] {
        let mut execution = Execution::of(BELOW);
        execution.then(0, taken(Repeat::Never));
        execution.then(1, step("below", 1, StepEvent::Launched(JobId(8))));
        let failure = Some("enough".to_owned());
        let end = ChildEnd {
            job: JobId(8),
            state,
            effect: JobEffect::NotChecked,
            failure,
            outputs: json!({}),
        };
        let effects =
            execution.then(1, Event::Came(vec![(Place::new("below"), StepEvent::Ended(end))]));
        assert_eq!(effects.iter().find_map(failed), Some(was.to_owned()), "{effects:?}");
    }
}

#[test]
fn what_comes_after_a_failure_knows_at_which_step_it_was() {
    let text = "runbook: r
inputs: {}
target: vm/a
steps: [ { id: deep, each: '[1]', as: i, steps: [ { id: bad, require: 'false', else: not today } ] } ]
recover: [ { id: note, emit: it.failed, say: '${job.failed_step}: ${job.failure}' } ]
";
    let effects = Execution::of(text).then(0, taken(Repeat::Never));
    let said = effects
        .iter()
        .find_map(|e| if let Effect::Emit(event) = e { Some(event.say.as_str()) } else { None });
    assert_eq!(said, Some("deep[0]: item 1 of `deep`: not today"));
}

#[test]
fn a_list_that_stops_at_a_failure_has_failed_though_somebody_holds_the_job() {
    let text = "runbook: all
inputs: {}
target: vm/a
steps: [ { id: all, each: '[1, 2, 3]', as: n, steps: [ { id: one, call: vm.inspect, via: yard, give: {} } ] } ]
";
    let mut execution = Execution::of(text);
    execution.then(0, taken(Repeat::Safe));
    execution.then(1, Event::Commanded(JobCommand::Pause { words: "a look first".into() }));
    let failure = Failure::lasting(CallEnd::Refused, "answered 409");
    let effects = execution
        .then(1, step("all[0].one", 1, StepEvent::Broke { failure, repeat: Repeat::Safe }));
    let ended: Vec<&str> = effects
        .iter()
        .filter_map(|e| {
            if let Effect::StepEnded { place, .. } = e { Some(place.as_str()) } else { None }
        })
        .collect();
    assert_eq!(ended, ["all[0].one", "all"]);
}
