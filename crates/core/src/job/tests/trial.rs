//! The job of a trial: it looks, and nothing that changes anything leaves it.

use super::property::drawn;
use crate::{
    JobId,
    catalog::{Catalog, Observed, check_files},
    job::{
        CallOut, ChildEnd, Effect, Event, Facts, JobEffect, JobState, Launching, Machine, Place,
        Progress, Recall, Repeats, StepEvent, StepOutputs, StepResult, Transition,
    },
    runbook::Runbook,
};
use chrono::{DateTime, Utc};
use proptest::prelude::*;
use serde_json::{Value, json};
use std::collections::BTreeMap;

const YARD: &str = r#"
connector: yard
operations:
  vm.inspect:
    request: { method: GET, path: /vm }
    gives: { size_gib: { type: number } }
  vm.grow:
    takes: { by_gib: { type: number } }
    request: { method: POST, path: /grow, body: { by: "${give.by_gib}" } }
    gives: { size_gib: { type: number, examples: [44] }, state: { type: string, enum: [grown] } }
    repeat: safe
  chat.post:
    takes: { text: { type: string } }
    request: { method: POST, path: /post, body: { text: "${give.text}" } }
---
connection: yard
connector: yard
base: https://yard.skerrow.example
---
runbook: tell
target: vm/a
steps: [ { id: post, call: chat.post, via: yard, give: { text: hello } } ]
---
runbook: grow
inputs: {}
memory: { grown: { type: integer, default: 0 } }
target: vm/a
steps:
  - { id: look, call: vm.inspect, via: yard }
  - { id: room, require: steps.look.size_gib < 64.0 }
  - id: agree
    ask:
      text: Grow the disk of ${job.target}?
      choices: { no: Leave it, yes: Grow it }
      within: 10m
      provided: choice == "yes"
      tell: { call: chat.post, via: yard, give: { text: '${decision.text}' } }
  - { id: rest, pause: 1h }
  - { id: grow, call: vm.grow, via: yard, give: { by_gib: 4 } }
  - id: grown
    check: result.size_gib >= 44.0
    call: vm.inspect
    via: yard
    every: 5s
    within: 1m
  - { id: heard, await: { kinds: disk.grown, resource: '${job.target}' }, within: 5m }
  - { id: say, emit: disk.was_grown }
  - { id: kept, remember: { grown: '${memory.grown + 1}' } }
  - { id: tell, runbook: tell }
confirm: { alarm: cleared, within: 5m }
outputs: { grown: '${memory.grown}', size_gib: '${steps.grow.size_gib}', choice: '${steps.agree.choice}', kind: '${steps.heard.kind}' }
examples:
  - answers: { look: { gives: { size_gib: 70 } } }
    expect: { state: failed }
  - answers:
      look: { gives: { size_gib: 40 } }
      agree: { gives: { choice: 'yes', by: Maren } }
      grow: { gives: { size_gib: 45 } }
      grown: { gives: { size_gib: 45 } }
      heard: { gives: { kind: disk.grown, resource: vm/a } }
      tell: { gives: {} }
    alarm: true
    meanwhile: [ { at: 1h, alarm: cleared } ]
    expect: { state: succeeded }
"#;

/// What went on in a dry job that is answered at once.
#[derive(Default)]
struct Went {
    /// Calls in their order, and what they give instead of being sent.
    calls: Vec<(String, Option<Value>)>,
    launches: usize,
    outward: Vec<Effect>,
    saw: BTreeMap<String, Value>,
    end: Option<(JobState, JobEffect, Value)>,
}

fn facts() -> Facts {
    Facts {
        id: JobId(7),
        key: "quay-7".into(),
        inputs: json!({}),
        target: "vm/a".into(),
        alert: None,
        has_alarm: true,
        created: DateTime::UNIX_EPOCH,
        memory: Value::Null,
        memory_full: false,
        announce: None,
        dry: true,
    }
}

impl Went {
    fn of(runbook: &Runbook, catalog: Option<&Catalog>, look: &Value) -> Self {
        let facts = facts();
        let mut machine =
            Machine::new(runbook, &facts, Progress::default(), StepOutputs::default());
        machine.others = catalog.map(|catalog| catalog as _);
        let mut went = Self::default();
        let mut events = vec![Event::Taken(Repeats::default(), Vec::new())];
        let mut now: DateTime<Utc> = DateTime::UNIX_EPOCH;
        for _ in 0..20_000 {
            let event = if events.is_empty() { Event::Tick } else { events.remove(0) };
            for effect in machine.handle(now, event) {
                went.take(effect, look, (&mut now, &mut events));
            }
            if went.end.is_some() {
                return went;
            }
        }
        panic!("the job comes to no end")
    }

    fn take(
        &mut self,
        effect: Effect,
        look: &Value,
        (now, events): (&mut DateTime<Utc>, &mut Vec<Event>),
    ) {
        let step = |place: Place, attempt, what| Event::Step { place, attempt, what };
        match effect {
            Effect::Call(CallOut { place, attempt, instead, .. }) => {
                self.calls.push((place.to_string(), instead.clone()));
                let output = instead.unwrap_or_else(|| look.clone());
                events.push(step(place, attempt, StepEvent::Returned(output)));
            }
            Effect::Launch(Launching { place, .. }) => {
                self.launches += 1;
                let (job, outputs) = (JobId(8), json!({}));
                let (state, effect) = (JobState::Succeeded, JobEffect::NotChecked);
                let end = ChildEnd { job, state, effect, failure: None, outputs };
                events.push(step(place.clone(), 1, StepEvent::Launched(job)));
                events.push(step(place, 1, StepEvent::Ended(end)));
            }
            Effect::StepSaw { place, saw, .. } => _ = self.saw.insert(place.to_string(), saw),
            Effect::Then(Transition::End { state, effect, outputs, .. }) => {
                self.end = Some((state, effect, outputs));
            }
            Effect::Then(
                Transition::GoOn { until: Some(at) } | Transition::Wait { until: at, .. },
            ) => {
                *now = if events.is_empty() { at.max(*now) } else { *now };
            }
            Effect::Then(_) | Effect::StepStarted { .. } | Effect::LeaveQueue(_) => {}
            Effect::StepEnded { result: StepResult::Failed(why), place, .. } => {
                _ = self.saw.insert(place.to_string(), why.into());
            }
            // Of a job of its own, which is as dry.
            Effect::Recall(Recall { place, .. }) => {
                events.push(step(place, 1, StepEvent::Recalled));
            }
            Effect::StepEnded { result: StepResult::Unsure(why), .. } => panic!("unsure: {why}"),
            Effect::StepEnded { .. } => {}
            outward => self.outward.push(outward),
        }
    }
}

fn catalog() -> Catalog {
    let checked =
        check_files([("yard.yaml", YARD)], &[], &Catalog::default(), &Observed::default());
    assert!(checked.problems.is_empty(), "{:#?}", checked.problems);
    Catalog::new(checked.entries)
}

#[test]
fn a_dry_job_looks_for_real_and_goes_on_with_what_examples_and_descriptions_say() {
    let catalog = catalog();
    let runbook = catalog.get::<Runbook>("grow").expect("published").0;
    let went = Went::of(runbook, Some(&catalog), &json!({ "size_gib": 40 }));
    let calls: Vec<(&str, Option<&Value>)> =
        went.calls.iter().map(|(place, instead)| (place.as_str(), instead.as_ref())).collect();
    let (nothing, grown) = (json!({}), json!({ "size_gib": 45 }));
    assert_eq!(
        calls,
        [("look", None), ("agree.told", Some(&nothing)), ("grow", Some(&grown)), ("grown", None)],
        "what only looks is made, once, and nothing else: {:?}",
        (&went.saw, &went.end)
    );
    assert_eq!((went.launches, went.outward), (1, vec![]));
    assert_eq!(
        went.end,
        Some((
            JobState::Succeeded,
            JobEffect::NotChecked,
            json!({ "grown": 1, "size_gib": 45, "choice": "yes", "kind": "disk.grown" })
        )),
        "nobody decides, and the example says `yes`"
    );
    let saw = &went.saw["grown"];
    assert!(saw["trial"].as_str().is_some_and(|said| said.contains("does not wait")), "{saw}");
}

#[test]
fn where_no_example_says_it_the_description_does() {
    let catalog = catalog();
    let mut runbook = catalog.get::<Runbook>("grow").expect("published").0.clone();
    runbook.examples.clear();
    let went = Went::of(&runbook, Some(&catalog), &json!({ "size_gib": 40 }));
    let end = went.end.expect("ends");
    assert_eq!(end.0, JobState::Failed, "the first choice is `no`, which `provided` refuses");
    let sample = catalog.operation("yard", "vm.grow").expect("an operation").1.sample();
    assert_eq!(sample, json!({ "size_gib": 44, "state": "grown" }));
}

#[test]
fn what_a_look_finds_decides_in_a_trial_as_well() {
    let catalog = catalog();
    let runbook = catalog.get::<Runbook>("grow").expect("published").0;
    let went = Went::of(runbook, Some(&catalog), &json!({ "size_gib": 64 }));
    assert_eq!(went.calls, [("look".to_owned(), None)]);
    assert_eq!(went.end.expect("ends").0, JobState::Failed);
}

#[test]
fn a_node_that_dies_in_a_trial_leaves_nothing_unsure() {
    let catalog = catalog();
    let runbook = catalog.get::<Runbook>("grow").expect("published").0;
    let facts = facts();
    let mut machine = Machine::new(runbook, &facts, Progress::default(), StepOutputs::default());
    machine.others = Some(&catalog);
    let mut event = Event::Taken(Repeats::default(), Vec::new());
    let mut lost = 0;
    for _ in 0..50 {
        let effects = machine.handle(DateTime::UNIX_EPOCH, event);
        let call = effects.iter().find_map(|effect| match effect {
            Effect::Call(call) => Some(call.clone()),
            _ => None,
        });
        if let Some(Effect::Then(Transition::End { state, .. })) = effects.last() {
            assert_eq!(*state, JobState::Succeeded);
            assert!(lost > 0, "a call that must not be repeated was lost");
            return;
        }
        event = match call {
            // The first of each is lost, with the node that would have made it.
            Some(call) if call.attempt == 1 && call.place.as_str() == "grow" => {
                lost += 1;
                Event::Taken(Repeats::default(), Vec::new())
            }
            Some(CallOut { place, attempt, instead, .. }) => {
                let output = instead.unwrap_or_else(|| json!({ "size_gib": 40 }));
                Event::Step { place, attempt, what: StepEvent::Returned(output) }
            }
            None => match effects.iter().find_map(|effect| match effect {
                Effect::Launch(launching) => Some(launching.place.clone()),
                _ => None,
            }) {
                Some(place) => {
                    let (state, effect) = (JobState::Succeeded, JobEffect::NotChecked);
                    let job = JobId(8);
                    let end = ChildEnd { job, state, effect, failure: None, outputs: json!({}) };
                    let step = |what| Event::Step { place: place.clone(), attempt: 1, what };
                    machine.handle(DateTime::UNIX_EPOCH, step(StepEvent::Launched(job)));
                    step(StepEvent::Ended(end))
                }
                None => Event::Tick,
            },
        };
    }
    panic!("the job comes to no end")
}

proptest! {
    #[test]
    fn nothing_leaves_a_dry_job(seed in any::<u64>()) {
        // Nothing is published: of no operation it is known that it only looks.
        let went = Went::of(&drawn(seed, true), None, &Value::Null);
        prop_assert!(went.outward.is_empty(), "{:?}", went.outward);
        prop_assert!(went.calls.iter().all(|(_, instead)| instead.is_some()), "{:?}", went.calls);
    }
}
