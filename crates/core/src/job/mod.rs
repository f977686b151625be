//! The step machine: how a job walks through its runbook.
//!
//! [`Machine::handle`] takes the time and an event and gives effects; the runner commits the
//! progress with the effects' records first and only then performs what is outward, so that
//! after a crash the record says what may have happened. Pure: no clock, no calls.

mod machine;
mod progress;

pub use machine::{Effect, Event, Facts, Machine, Resolution, StepResult};
pub use progress::{JobEffect, JobState, Phase, Progress};

#[cfg(test)]
mod tests;
