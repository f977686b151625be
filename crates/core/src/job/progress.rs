//! What is kept of a job between events, and the words for its state.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// The state of a job.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum JobState {
    /// Not started yet.
    Queued,
    /// A node works on it.
    Running,
    /// For a time, or for its effect.
    Waiting,
    /// All steps are done.
    Succeeded,
    /// A step failed.
    Failed,
    /// Its deadline passed before it was started.
    Expired,
    /// Its inputs were not acceptable.
    Refused,
    /// A node died while a step that must not be repeated was under way; a person resolves it.
    Unsure,
}

impl JobState {
    /// All of them.
    pub const ALL: [Self; 8] = [
        Self::Queued,
        Self::Running,
        Self::Waiting,
        Self::Succeeded,
        Self::Failed,
        Self::Expired,
        Self::Refused,
        Self::Unsure,
    ];

    /// The word used in every format.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Queued => "queued",
            Self::Running => "running",
            Self::Waiting => "waiting",
            Self::Succeeded => "succeeded",
            Self::Failed => "failed",
            Self::Expired => "expired",
            Self::Refused => "refused",
            Self::Unsure => "unsure",
        }
    }

    /// The state named by a word.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.as_str() == text)
    }

    /// Whether nothing more happens by itself.
    pub const fn is_final(self) -> bool {
        matches!(self, Self::Succeeded | Self::Failed | Self::Expired | Self::Refused)
    }
}

/// Whether the job helped, apart from its steps' own success.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub enum JobEffect {
    /// The alarm was cleared in time.
    #[serde(rename = "confirmed")]
    Confirmed,
    /// It was not.
    #[serde(rename = "unconfirmed")]
    Unconfirmed,
    /// The runbook asks for no proof, or there is no alarm.
    #[serde(rename = "not checked")]
    NotChecked,
}

impl JobEffect {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Confirmed, Self::Unconfirmed, Self::NotChecked];

    /// The effect named by its words.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|e| e.as_str() == text)
    }

    /// The words used in every format.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Confirmed => "confirmed",
            Self::Unconfirmed => "unconfirmed",
            Self::NotChecked => "not checked",
        }
    }
}

/// Where a job stands within its steps.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Progress {
    /// When the first step began.
    pub started: Option<DateTime<Utc>>,
    /// The step that is next, under way or failed; as many as there are steps when all are done.
    pub step: usize,
    /// Tries of that step so far.
    pub attempt: u32,
    /// What is going on.
    pub phase: Phase,
    /// Outputs of the steps done, by their ids.
    pub outputs: Map<String, Value>,
}

/// What is going on within a job.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Phase {
    /// Between steps.
    #[default]
    Ready,
    /// A call may be out; its result is not known.
    UnderWay,
    /// Waiting to try again.
    Again {
        /// When it is tried again.
        at: DateTime<Utc>,
    },
    /// The steps are done; the effect is awaited.
    Confirming {
        /// Until when.
        until: DateTime<Utc>,
    },
    /// A person must say what became of the call that was out.
    Unsure,
    /// Nothing more to do.
    Ended,
}

impl std::fmt::Display for JobState {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.as_str())
    }
}

impl std::fmt::Display for JobEffect {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.as_str())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_read_back_as_what_they_stand_for() {
        for state in JobState::ALL {
            assert_eq!((JobState::parse(state.as_str()), json(state)), (Some(state), state.to_string()));
        }
        for effect in JobEffect::ALL {
            assert_eq!((JobEffect::parse(effect.as_str()), json(effect)), (Some(effect), effect.to_string()));
        }
    }

    fn json(word: impl Serialize) -> String {
        match serde_json::to_value(word) {
            Ok(Value::String(text)) => text,
            other => panic!("{other:?} is no text"),
        }
    }

    #[test]
    fn of_what_is_unsure_or_under_way_more_is_to_come() {
        let last = JobState::ALL.into_iter().filter(|s| s.is_final()).collect::<Vec<_>>();
        assert_eq!(last, [JobState::Succeeded, JobState::Failed, JobState::Expired, JobState::Refused]);
    }
}
