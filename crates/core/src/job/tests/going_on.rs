//! A job that goes on from where another failed.

use super::later::Execution;
use crate::{
    connector::{CallEnd, Failure, Repeat},
    job::{
        Effect, Event, JobCommand, JobState, Place, Progress, Repeats, StepEvent, StepResult,
        Transition, Tried, going_on,
    },
};
use serde_json::json;

const GROW: &str = "
runbook: grow
target: vm/a
steps:
  - { id: save, call: vm.save, via: yard, undo: { call: vm.drop } }
  - { id: size, set: { gib: 40 } }
  - id: grow
    call: vm.grow
    via: yard
    probe: { call: vm.look, done: result.gib > 40 }
    undo: { call: vm.shrink }
  - { id: tell, call: chat.post, via: chat }
  - { id: end, set: { all: '${steps.size.gib}' } }
";

fn tried(done: &[&str]) -> Vec<Tried> {
    done.iter().map(|place| Tried { place: Place::new(*place), done: true }).collect()
}

fn failed_at(step: usize) -> Progress {
    Progress { done: step, ..Progress::default() }
}

fn from(
    execution: &Execution,
    step: usize,
    done: &[&str],
) -> Result<(Vec<String>, String), String> {
    let going = going_on(&execution.runbook, &failed_at(step), JobState::Failed, &tried(done))?;
    Ok((going.stand, going.from))
}

#[test]
fn what_was_done_stands_up_to_what_failed_or_was_taken_back() {
    let execution = Execution::of(GROW);
    let stands = |of: &[&str], from: &str| {
        Ok((of.iter().map(|s| (*s).to_owned()).collect::<Vec<_>>(), from.to_owned()))
    };
    assert_eq!(
        from(&execution, 3, &["save", "size", "grow"]),
        stands(&["save", "size", "grow"], "tell")
    );
    assert_eq!(
        from(&execution, 3, &["save", "size", "grow", "grow.undo"]),
        stands(&["save", "size"], "grow")
    );
    assert!(
        from(&execution, 3, &["save", "size", "grow", "grow.undo", "save.undo"])
            .is_err_and(|e| e.contains("`save`"))
    );
    assert!(from(&execution, 5, &[]).is_err(), "all were done");
    let running = going_on(&execution.runbook, &failed_at(2), JobState::Succeeded, &[]);
    assert!(running.is_err_and(|e| e.starts_with("it is succeeded")));
}

/// A job that goes on behind `grow`, as it begins.
fn gone_on() -> (Execution, Vec<Effect>) {
    let mut execution = Execution::of(GROW);
    let done = ["save", "size", "grow"];
    execution.progress =
        going_on(&execution.runbook, &failed_at(3), JobState::Failed, &tried(&done))
            .expect("goes on")
            .progress;
    execution.kept.output(&Place::new("size"), json!({ "gib": 40 }));
    let effects = execution.then(0, Event::Taken(Repeats::default(), Vec::new()));
    (execution, effects)
}

fn called(effects: &[Effect]) -> Vec<String> {
    effects
        .iter()
        .filter_map(
            |e| if let Effect::Call(call) = e { Some(call.place.to_string()) } else { None },
        )
        .collect()
}

fn came(execution: &mut Execution, place: &str, what: StepEvent) -> Vec<Effect> {
    execution.then(1, Event::Step { place: Place::new(place), attempt: 1, what })
}

#[test]
fn what_has_a_probe_is_looked_at_and_not_done_again_where_it_stands() {
    let (mut execution, effects) = gone_on();
    assert_eq!(called(&effects), ["grow.probe"]);
    let effects = came(&mut execution, "grow.probe", StepEvent::Returned(json!({ "gib": 44 })));
    assert_eq!(called(&effects), ["tell"], "and goes on behind it");
    let effects = came(&mut execution, "tell", StepEvent::Returned(json!({})));
    let end = effects.iter().find_map(|e| match e {
        Effect::StepEnded { place, result: StepResult::Done(output), .. }
            if place.as_str() == "end" =>
        {
            Some(output)
        }
        _ => None,
    });
    assert_eq!(end, Some(&json!({ "all": 40 })), "later steps read what the other job's gave");
    assert!(matches!(
        effects.last(),
        Some(Effect::Then(Transition::End { state: JobState::Succeeded, .. }))
    ));
}

#[test]
fn what_does_not_stand_is_done_again_and_what_stands_is_taken_back_with_the_rest() {
    let (mut execution, _) = gone_on();
    let effects = came(&mut execution, "grow.probe", StepEvent::Returned(json!({ "gib": 40 })));
    assert_eq!(called(&effects), ["grow"]);
    let failure = Failure::lasting(CallEnd::Refused, "answered 409");
    let effects = came(&mut execution, "grow", StepEvent::Broke { failure, repeat: Repeat::Keyed });
    assert_eq!(called(&effects), ["save.undo"], "of what stands, and not of what does not");
}

#[test]
fn whether_it_stands_is_said_by_a_person_where_the_probe_does_not_tell() {
    let (mut execution, _) = gone_on();
    let failure = Failure::new(CallEnd::Unknown, "timed out");
    let effects =
        came(&mut execution, "grow.probe", StepEvent::Broke { failure, repeat: Repeat::Safe });
    assert!(
        matches!(effects.last(), Some(Effect::Then(Transition::Unsure { failure })) if failure.contains("still \
            stands is not known"))
    );
    let word = crate::job::Resolution::Done;
    let effects = execution.then(
        1,
        Event::Commanded(JobCommand::Resolve { place: None, word, output: json!({ "gib": 44 }) }),
    );
    assert_eq!(called(&effects), ["tell"]);
    assert_eq!(
        execution.kept.in_lane("").find(|(id, _)| *id == "grow").map(|(_, v)| v.clone()),
        Some(json!({ "gib": 44 }))
    );
    // A node that dies while it looks has another look again.
    let (mut execution, _) = gone_on();
    assert_eq!(
        called(&execution.then(1, Event::Taken(Repeats::default(), Vec::new()))),
        ["grow.probe"]
    );
}
