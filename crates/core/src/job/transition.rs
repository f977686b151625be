//! What becomes of a job after an event: the only ways in which its state changes, apart from
//! those of jobs that nobody executes.
//!
//! ```
//! use arvok_core::job::{JobChange, JobState, StateChange, Transition};
//!
//! let rests = Transition::Rest;
//! assert_eq!(rests.state(), JobState::Paused);
//! assert!(!rests.is_over());
//!
//! // Its first record lets it rest: it is told that it was started, and that it is paused.
//! let change = StateChange {
//!     from: Some(JobState::Queued),
//!     to: rests.state(),
//!     begins: true,
//!     resumed: false,
//! };
//! let events: Vec<JobChange> = change.events().collect();
//! assert_eq!(events, [JobChange::Started, JobChange::Paused]);
//! ```

use super::{JobChange, JobEffect, JobState};
use chrono::{DateTime, Utc};
use serde_json::Value;

/// What becomes of a job after an event.
#[derive(Clone, Debug, PartialEq)]
pub enum Transition {
    /// A node goes on with it: calls are out.
    GoOn {
        /// When something else goes on meanwhile; answer with [`super::Event::Tick`].
        until: Option<DateTime<Utc>>,
    },
    /// It is let go until then, or until its alarm changes.
    Wait {
        /// When it goes on.
        until: DateTime<Utc>,
        /// Whether a change of the alarm is waited for as well.
        alarm: bool,
    },
    /// It is let go until a person lets it go on.
    Rest,
    /// It is let go until a person says what became of a step.
    Unsure {
        /// What is not known.
        failure: String,
    },
    /// Its state is final.
    End {
        /// The state.
        state: JobState,
        /// Whether it helped.
        effect: JobEffect,
        /// Why it did not succeed or help.
        failure: Option<String>,
        /// What it gives.
        outputs: Value,
    },
}

impl Default for Transition {
    fn default() -> Self {
        Self::GoOn { until: None }
    }
}

impl Transition {
    /// A job that ends in a state for a reason, without a look at its effect.
    pub const fn fail(state: JobState, failure: String) -> Self {
        Self::End {
            state,
            effect: JobEffect::NotChecked,
            failure: Some(failure),
            outputs: Value::Null,
        }
    }

    /// The state in which the job is after it.
    pub const fn state(&self) -> JobState {
        match self {
            Self::GoOn { .. } => JobState::Running,
            Self::Wait { .. } => JobState::Waiting,
            Self::Rest => JobState::Paused,
            Self::Unsure { .. } => JobState::Unsure,
            Self::End { state, .. } => *state,
        }
    }

    /// Why the job does not go on, if it does not.
    pub const fn failure(&self) -> Option<&String> {
        match self {
            Self::Unsure { failure } => Some(failure),
            Self::End { failure, .. } => failure.as_ref(),
            Self::GoOn { .. } | Self::Wait { .. } | Self::Rest => None,
        }
    }

    /// Whether nothing follows it.
    pub const fn is_over(&self) -> bool {
        self.state().is_final()
    }
}

/// A change of the state of a job, as it was seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StateChange {
    /// The state before; none of a job that was made.
    pub from: Option<JobState>,
    /// The state after.
    pub to: JobState,
    /// Whether its first record was kept with it.
    pub begins: bool,
    /// Whether a person had let it go on.
    pub resumed: bool,
}

impl StateChange {
    /// What is told of it, in this order. That a node goes on with what has waited is not.
    pub fn events(self) -> impl Iterator<Item = JobChange> {
        let Self { from, to, begins, resumed } = self;
        let was_queued = from == Some(JobState::Queued);
        let started =
            (was_queued && begins && to != JobState::Running).then_some(JobChange::Started);
        let became = match (from, to) {
            (Some(JobState::Queued), JobState::Running) => Some(JobChange::Started),
            (Some(JobState::Paused), JobState::Running) => resumed.then_some(JobChange::Resumed),
            (Some(JobState::Unsure), JobState::Running) => Some(JobChange::Resolved),
            (_, JobState::Running) => None,
            (_, JobState::Queued) => Some(JobChange::Queued),
            (_, JobState::Waiting) => Some(JobChange::Waiting),
            (_, JobState::Paused) => Some(JobChange::Paused),
            (_, JobState::Unsure) => Some(JobChange::Unsure),
            (_, JobState::Succeeded) => Some(JobChange::Succeeded),
            (_, JobState::Failed) => Some(JobChange::Failed),
            (_, JobState::Cancelled) => Some(JobChange::Cancelled),
            (_, JobState::Expired) => Some(JobChange::Expired),
            (_, JobState::Refused) => Some(JobChange::Refused),
        };
        started.into_iter().chain(became)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn events(from: Option<JobState>, to: JobState, begins: bool, resumed: bool) -> String {
        let change = StateChange { from, to, begins, resumed };
        change.events().map(JobChange::as_str).collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn each_change_has_its_words() {
        use JobState::{Failed, Paused, Queued, Refused, Running, Succeeded, Unsure, Waiting};
        assert_eq!(events(None, Queued, false, false), "queued");
        assert_eq!(events(None, Refused, false, false), "refused");
        assert_eq!(events(Some(Queued), Running, false, false), "started");
        assert_eq!(events(Some(Queued), Running, true, false), "started", "once");
        assert_eq!(events(Some(Queued), Succeeded, true, false), "started succeeded");
        assert_eq!(events(Some(Queued), Failed, false, false), "failed", "nobody has begun it");
        assert_eq!(events(Some(Waiting), Running, false, false), "");
        assert_eq!(events(Some(Paused), Running, false, true), "resumed");
        assert_eq!(events(Some(Paused), Running, false, false), "", "taken up to be cancelled");
        assert_eq!(events(Some(Unsure), Running, false, false), "resolved");
        for state in JobState::ALL.into_iter().filter(|state| *state != Running) {
            assert_eq!(events(Some(Running), state, false, false), state.as_str());
        }
    }

    #[test]
    fn what_is_over_changes_no_more_and_what_waits_is_taken_up_first() {
        for from in JobState::ALL {
            for to in JobState::ALL {
                let may = from.may_become(to);
                assert!(!(may && from.is_final()), "{from} to {to}");
                assert!(!(may && from == to), "{from} to {to}");
                let rests = [JobState::Waiting, JobState::Paused, JobState::Unsure].contains(&from);
                assert!(!rests || may == (to == JobState::Running), "{from} to {to}");
            }
        }
        let ends = JobState::ALL.into_iter().filter(|to| JobState::Queued.may_become(*to));
        assert_eq!(ends.count(), 9, "all but to be made once more");
    }
}
