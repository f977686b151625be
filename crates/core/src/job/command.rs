//! What a person commands a job.

use super::{JobState, Place, Resolution};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// What a person commands a job; it stands on the job's row until whoever executes it hears it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum JobCommand {
    /// No further step is begun.
    Pause {
        /// Who, and why.
        words: String,
    },
    /// It goes on.
    Resume,
    /// It is stopped.
    Cancel {
        /// Whether what was done is taken back.
        undo: bool,
        /// Who, and why.
        words: String,
    },
    /// What became of a step that is unsure.
    Resolve {
        /// The step; none if there is only one.
        place: Option<Place>,
        /// What became of it.
        word: Resolution,
        /// What it gave, if it was done.
        #[serde(default, skip_serializing_if = "Value::is_null")]
        output: Value,
    },
}

impl JobCommand {
    /// The states of a job in which it can be given.
    pub const fn states(&self) -> &'static [JobState] {
        match self {
            Self::Pause { .. } => &[JobState::Running, JobState::Waiting],
            Self::Resume => &[JobState::Paused],
            Self::Cancel { .. } => JobState::BEGUN,
            // While others of its steps go on it waits, though one is unsure.
            Self::Resolve { .. } => &[JobState::Unsure, JobState::Waiting],
        }
    }
}
