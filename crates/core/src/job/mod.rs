//! The step machine: how a job goes through its runbook.
//!
//! [`Machine::handle`] takes the time and an event and gives effects; the executor commits the
//! progress with the effects' records first and only then performs what is outward, so that
//! after a crash the record says what may have happened. Pure: no clock, no calls.
//!
//! `machine` goes from stage to stage, `execution` through a list of steps, and `steps` has a file
//! for how each kind of step goes on; `open` tells what a job is at, `outside` what it waits for
//! outside of it, `announcing` how it says beforehand that it is about to change something,
//! `continuation` how a job begins that goes on from where another failed. `dry_run`
//! works out what a job would do, `sample` what steps of a trial give that are not done, `play`
//! plays the examples of a runbook.
//!
//! ```
//! use arvok_core::{
//!     JobId,
//!     definition::Defined,
//!     document::parse_file,
//!     job::{Effect, Event, Facts, JobState, Machine, Progress, Repeats, StepOutputs, Transition},
//!     runbook::Runbook,
//! };
//! use chrono::DateTime;
//! use serde_json::json;
//!
//! let text = "runbook: sums\ntarget: group/one\nsteps:\n  \
//!     - { id: a, set: { n: 40 } }\n  - { id: b, set: { n: '${steps.a.n + 2}' } }\n\
//!     outputs: { sum: '${steps.b.n}' }\n";
//! let runbook = Runbook::check(&parse_file("r.yaml", text).expect("is YAML")[0]).expect("checks");
//! let facts = Facts {
//!     id: JobId(1),
//!     key: "installation-1".into(),
//!     inputs: json!({}),
//!     target: "group/one".into(),
//!     alert: None,
//!     has_alarm: false,
//!     created: DateTime::UNIX_EPOCH,
//!     memory: json!(null),
//!     memory_full: false,
//!     announce: None,
//!     dry: false,
//! };
//! let mut machine =
//!     Machine::new(&runbook, &facts, Progress::default(), StepOutputs::default());
//! let taken = Event::Taken(Repeats::default(), Vec::new());
//! let mut effects = machine.handle(DateTime::UNIX_EPOCH, taken);
//! let Some(Effect::Then(Transition::End { state, outputs, .. })) = effects.pop() else {
//!     panic!("it does not end")
//! };
//! assert_eq!((state, outputs), (JobState::Succeeded, json!({ "sum": 42 })));
//! ```

mod announcing;
mod answer;
mod command;
mod continuation;
mod deadlock;
mod dry_run;
mod event;
mod execution;
mod machine;
mod open;
mod outputs;
mod outside;
mod place;
mod play;
mod progress;
mod sample;
mod steps;
mod transition;

pub use announcing::JOB_ANNOUNCED;
pub use answer::MailAnswer;
pub use command::JobCommand;
pub use continuation::{GoingOn, Tried, going_on};
pub use deadlock::{BlockedChild, deadlocks};
pub use dry_run::{DryPart, DryRun, DryStep, Operations, Preview, StepTrial, dry_run, item_label};
pub use event::{CallOut, Effect, Event, Facts, Repeats, StepEvent, StepResult};
pub use execution::MAX_BEGUN;
pub use machine::{Machine, Summary};
pub use outputs::{MAX_OUTPUTS, StepOutputs};
pub use outside::{
    CALLED_BACK, ChildEnd, Decided, Decider, Emitted, EventSelector, EventWait, Launching, Outside,
    Question, Recall,
};
pub use place::Place;
pub use play::{Unheld, play};
pub use progress::{
    Announced, Block, Doing, Ending, Halt, Open, OutgoingCall, Paused, Progress, Reaching, Stage,
    Stand, Telling, Way,
};

pub use transition::{StateChange, Transition};

pub use crate::job_state::{JobChange, JobEffect, JobState, Resolution};

#[cfg(test)]
mod tests;
