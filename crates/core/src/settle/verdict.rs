//! The words for what a rule decided.

use serde::{Deserialize, Serialize};

/// What a rule decided for one alert it matched. Every matched alert gets exactly one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// A job was made.
    Dispatched,
    /// The rule only watches; it would have dispatched.
    Watched,
    /// Joined an episode that has dispatched already.
    Folded,
    /// Within `rest` of the last dispatch.
    Resting,
}

impl Verdict {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Dispatched, Self::Watched, Self::Folded, Self::Resting];

    /// The word used in every format.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Dispatched => "dispatched",
            Self::Watched => "watched",
            Self::Folded => "folded",
            Self::Resting => "resting",
        }
    }
}
