//! The words for what a rule decided.

use schemars::JsonSchema;

crate::words! {
    /// What a rule decided for one alert it matched. Every matched alert has exactly one; one that
    /// holds an alert back is replaced when its time has come.
    #[derive(JsonSchema)]
    pub enum Verdict("verdict") {
        /// A job was made.
        Dispatched = "dispatched",
        /// A job was proposed; a person launches it.
        Proposed = "proposed",
        /// The rule only watches; it would have dispatched.
        Watched = "watched",
        /// No entry of `dispatch` applies.
        Idle = "idle",
        /// Joined an episode that has dispatched already, or is held.
        Folded = "folded",
        /// Waits for more alerts or for time to pass.
        Waiting = "waiting",
        /// Within `rest` of the last dispatch.
        Resting = "resting",
        /// Over the `cap` of jobs.
        Capped = "capped",
        /// Its alarm comes and goes too often.
        Flapping = "flapping",
        /// A person keeps the rule from acting for a time.
        Muted = "muted",
        /// A guard lets nothing begin at this time.
        Frozen = "frozen",
        /// Explained by an alarm upstream.
        Symptom = "symptom",
        /// The rule could not decide: a condition, a fold or an input goes wrong over this alert.
        Broken = "broken",
    }
}

impl Verdict {
    /// Those that hold an alert back for a time.
    pub const HELD: [Self; 7] = [
        Self::Waiting,
        Self::Resting,
        Self::Capped,
        Self::Flapping,
        Self::Muted,
        Self::Frozen,
        Self::Symptom,
    ];

    /// Whether the rule is kept from acting until a time.
    pub const fn is_suspended(self) -> bool {
        matches!(self, Self::Muted | Self::Frozen)
    }

    /// Whether something was done, or would have been.
    pub const fn fires(self) -> bool {
        matches!(self, Self::Dispatched | Self::Proposed | Self::Watched)
    }
}
