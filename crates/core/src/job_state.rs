//! The words for the state of a job, for whether it helped, and for what a person says of a step of which nobody knows.

use serde::{Deserialize, Serialize};

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
    /// A person holds it.
    Paused,
    /// All steps are done.
    Succeeded,
    /// A step failed.
    Failed,
    /// A person stopped it.
    Cancelled,
    /// Its deadline passed before it was started.
    Expired,
    /// Its inputs were not acceptable.
    Refused,
    /// Nobody knows whether a step was done that must not be done twice; a person resolves it.
    Unsure,
}

impl JobState {
    /// All of them.
    pub const ALL: [Self; 10] = [
        Self::Queued,
        Self::Running,
        Self::Waiting,
        Self::Paused,
        Self::Succeeded,
        Self::Failed,
        Self::Cancelled,
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
            Self::Paused => "paused",
            Self::Succeeded => "succeeded",
            Self::Failed => "failed",
            Self::Cancelled => "cancelled",
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
        matches!(self, Self::Succeeded | Self::Failed | Self::Cancelled | Self::Expired | Self::Refused)
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

/// What a person says of an unsure step.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Resolution {
    /// It was done; go on behind it.
    Done,
    /// It was not done; do it again.
    Again,
    /// It failed.
    Failed,
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
    use serde_json::Value;

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
        let ends = [JobState::Succeeded, JobState::Failed, JobState::Cancelled, JobState::Expired, JobState::Refused];
        assert_eq!(last, ends);
    }
}
