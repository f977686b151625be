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
        /// Its inputs were not acceptable, or a guard refused it.
        Refused = "refused",
        /// Nobody knows whether a step was done that must not be done twice; a person resolves it.
        Unsure = "unsure",
    }
}

impl JobState {
    /// Somebody has begun it, and it is not over: it keeps others from its target.
    pub const BEGUN: &[Self] = &[Self::Running, Self::Waiting, Self::Paused, Self::Unsure];
    /// It is over.
    pub const FINAL: &[Self] =
        &[Self::Succeeded, Self::Failed, Self::Cancelled, Self::Expired, Self::Refused];
    /// It is not over.
    pub const OPEN: &[Self] =
        &[Self::Queued, Self::Running, Self::Waiting, Self::Paused, Self::Unsure];
    /// It is over, and somebody should look at it.
    pub const ENDED_BADLY: &[Self] = &[Self::Failed, Self::Refused, Self::Expired];
    /// Somebody should look at it: it ended badly, or nobody knows how.
    pub const GRAVE: &[Self] = &[Self::Failed, Self::Refused, Self::Expired, Self::Unsure];
    /// It is not over, and nothing is in doubt.
    pub const UNDER_WAY: &[Self] = &[Self::Queued, Self::Running, Self::Waiting, Self::Paused];
    /// It goes on by itself, now or later.
    pub const GOES_ON: &[Self] = &[Self::Queued, Self::Running, Self::Waiting];
    /// A node executes it, or will when what it waits for has come.
    pub const EXECUTED: &[Self] = &[Self::Running, Self::Waiting];
    /// A person has to say how it goes on.
    pub const WITH_PEOPLE: &[Self] = &[Self::Paused, Self::Unsure];

    /// Whether nothing more happens by itself.
    pub const fn is_final(self) -> bool {
        matches!(
            self,
            Self::Succeeded | Self::Failed | Self::Cancelled | Self::Expired | Self::Refused
        )
    }

    /// Whether it is one of [`Self::GRAVE`].
    pub fn is_grave(self) -> bool {
        Self::GRAVE.contains(&self)
    }

    /// Whether the state of a job may change from this one to another. What is queued may end with
    /// the first that is recorded of it, or before anybody has begun it; what rests is taken up
    /// before anything else becomes of it. The database takes no other change.
    pub const fn may_become(self, to: Self) -> bool {
        match self {
            Self::Queued => !matches!(to, Self::Queued),
            Self::Running => {
                !matches!(to, Self::Running | Self::Queued | Self::Expired | Self::Refused)
            }
            Self::Waiting | Self::Paused | Self::Unsure => matches!(to, Self::Running),
            Self::Succeeded | Self::Failed | Self::Cancelled | Self::Expired | Self::Refused => {
                false
            }
        }
    }
}

crate::words! {
    /// What is told of the life of a job: the last part of the kind of an event.
    pub enum JobChange("change of a job") {
        /// It was dispatched or launched.
        Queued = "queued",
        /// A node took it up for the first time.
        Started = "started",
        /// It waits.
        Waiting = "waiting",
        /// A person holds it.
        Paused = "paused",
        /// A person let it go on.
        Resumed = "resumed",
        /// Nobody knows what became of a step.
        Unsure = "unsure",
        /// A person said what became of it.
        Resolved = "resolved",
        /// All steps are done.
        Succeeded = "succeeded",
        /// A step failed.
        Failed = "failed",
        /// A person stopped it.
        Cancelled = "cancelled",
        /// Its deadline passed before it was started.
        Expired = "expired",
        /// Its inputs were not acceptable, or a guard refused it.
        Refused = "refused",
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
