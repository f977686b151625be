//! The words for the state of a job, for whether it helped, and for what a person says of a step of
//! which nobody knows.

crate::words! {
    /// The state of a job.
    pub enum JobState("job state") {
        /// Not started yet.
        Queued = "queued",
        /// A node works on it.
        Running = "running",
        /// For a time, or for its effect.
        Waiting = "waiting",
        /// A person holds it.
        Paused = "paused",
        /// All steps are done.
        Succeeded = "succeeded",
        /// A step failed.
        Failed = "failed",
        /// A person stopped it.
        Cancelled = "cancelled",
        /// Its deadline passed before it was started.
        Expired = "expired",
        /// Its inputs were not acceptable.
        Refused = "refused",
        /// Nobody knows whether a step was done that must not be done twice; a person resolves it.
        Unsure = "unsure",
    }
}

impl JobState {
    /// Whether nothing more happens by itself.
    pub const fn is_final(self) -> bool {
        matches!(
            self,
            Self::Succeeded | Self::Failed | Self::Cancelled | Self::Expired | Self::Refused
        )
    }
}

crate::words! {
    /// Whether the job helped, apart from its steps' own success.
    pub enum JobEffect("effect of a job") {
        /// The alarm was cleared in time.
        Confirmed = "confirmed",
        /// It was not.
        Unconfirmed = "unconfirmed",
        /// The runbook asks for no proof, or there is no alarm.
        NotChecked = "not checked",
    }
}

crate::words! {
    /// What a person says of an unsure step.
    pub enum Resolution("resolution") {
        /// It was done; go on behind it.
        Done = "done",
        /// It was not done; do it again.
        Again = "again",
        /// It failed.
        Failed = "failed",
    }
}
