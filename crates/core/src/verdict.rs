//! The words for what a rule decided.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What a rule decided for one alert it matched. Every matched alert has exactly one; one that
/// holds an alert back is replaced when its time has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// A job was made.
    Dispatched,
    /// A job was proposed; a person launches it.
    Proposed,
    /// The rule only watches; it would have dispatched.
    Watched,
    /// No entry of `dispatch` applies.
    Idle,
    /// Joined an episode that has dispatched already, or is held.
    Folded,
    /// Waits for more alerts or for time to pass.
    Waiting,
    /// Within `rest` of the last dispatch.
    Resting,
    /// Over the `cap` of jobs.
    Capped,
    /// Its alarm comes and goes too often.
    Flapping,
    /// Explained by an alarm upstream.
    Symptom,
    /// The rule could not decide: a condition, a fold or an input goes wrong over this alert.
    Broken,
}

impl Verdict {
    /// All of them.
    pub const ALL: [Self; 11] = [
        Self::Dispatched,
        Self::Proposed,
        Self::Watched,
        Self::Idle,
        Self::Folded,
        Self::Waiting,
        Self::Resting,
        Self::Capped,
        Self::Flapping,
        Self::Symptom,
        Self::Broken,
    ];

    /// Those that hold an alert back for a time.
    pub const HELD: [Self; 5] = [Self::Waiting, Self::Resting, Self::Capped, Self::Flapping, Self::Symptom];

    /// The word used in every format.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Dispatched => "dispatched",
            Self::Proposed => "proposed",
            Self::Watched => "watched",
            Self::Idle => "idle",
            Self::Folded => "folded",
            Self::Waiting => "waiting",
            Self::Resting => "resting",
            Self::Capped => "capped",
            Self::Flapping => "flapping",
            Self::Symptom => "symptom",
            Self::Broken => "broken",
        }
    }

    /// The verdict named by a word.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|v| v.as_str() == text)
    }

    /// Whether something was done, or would have been.
    pub const fn fires(self) -> bool {
        matches!(self, Self::Dispatched | Self::Proposed | Self::Watched)
    }
}

impl std::fmt::Display for Verdict {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.as_str())
    }
}
