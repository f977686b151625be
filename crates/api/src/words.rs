//! The words that go over the wire are the core's own: here is how the description of the API tells them.

use arvok_core::{
    AlertState, Severity, Verdict,
    job::{JobEffect, JobState},
    rule::{Stance, Urgency},
};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::fmt;
use utoipa::{
    ToSchema,
    openapi::schema::{Object, ObjectBuilder, SchemaType, Type},
};

fn words<const N: usize>(words: [&'static str; N]) -> Object {
    ObjectBuilder::new().schema_type(Type::String).enum_values(Some(words)).build()
}

fn words_or_none<const N: usize>(words: [&'static str; N]) -> Object {
    let values = words.map(Value::from).into_iter().chain([Value::Null]);
    ObjectBuilder::new()
        .schema_type(SchemaType::from_iter([Type::String, Type::Null]))
        .enum_values(Some(values.collect::<Vec<_>>()))
        .build()
}

pub(crate) fn severity() -> Object {
    words(Severity::ALL.map(Severity::as_str))
}

pub(crate) fn alert_state() -> Object {
    words(AlertState::ALL.map(AlertState::as_str))
}

pub(crate) fn verdict() -> Object {
    words(Verdict::ALL.map(Verdict::as_str))
}

pub(crate) fn stance() -> Object {
    words(Stance::ALL.map(Stance::as_str))
}

pub(crate) fn stance_or_none() -> Object {
    words_or_none(Stance::ALL.map(Stance::as_str))
}

pub(crate) fn urgency() -> Object {
    words(Urgency::ALL.map(Urgency::as_str))
}

pub(crate) fn urgency_or_none() -> Object {
    words_or_none(Urgency::ALL.map(Urgency::as_str))
}

pub(crate) fn job_state() -> Object {
    words(JobState::ALL.map(JobState::as_str))
}

pub(crate) fn job_state_or_none() -> Object {
    words_or_none(JobState::ALL.map(JobState::as_str))
}

pub(crate) fn effect_or_none() -> Object {
    words_or_none(JobEffect::ALL.map(JobEffect::as_str))
}

/// How a step of a job, or a try of it, stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum StepState {
    /// Its turn has not come.
    Next,
    /// Under way.
    Running,
    /// Waits to be tried again.
    Again,
    /// Waits for a time, a decision, an event or a job.
    Waiting,
    /// Done.
    Done,
    /// Failed.
    Failed,
    /// Nobody knows whether it was done.
    Unsure,
    /// Passed over, since its condition did not hold.
    Skipped,
    /// Not needed any more.
    Stopped,
    /// The job ended before its turn.
    #[serde(rename = "not run")]
    NotRun,
}

impl StepState {
    const ALL: [Self; 10] = [
        Self::Next,
        Self::Running,
        Self::Again,
        Self::Waiting,
        Self::Done,
        Self::Failed,
        Self::Unsure,
        Self::Skipped,
        Self::Stopped,
        Self::NotRun,
    ];

    /// The words used in every format.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Next => "next",
            Self::Running => "running",
            Self::Again => "again",
            Self::Waiting => "waiting",
            Self::Done => "done",
            Self::Failed => "failed",
            Self::Unsure => "unsure",
            Self::Skipped => "skipped",
            Self::Stopped => "stopped",
            Self::NotRun => "not run",
        }
    }

    /// The state named by its words.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.as_str() == text)
    }
}

impl fmt::Display for StepState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// What became of a decision.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum DecisionState {
    /// Waits for a person.
    Open,
    /// A person decided.
    Taken,
    /// Nobody did in time.
    Silent,
    /// The job does not ask any more.
    Withdrawn,
}

impl DecisionState {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Open, Self::Taken, Self::Silent, Self::Withdrawn];

    /// The word used in every format.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Taken => "taken",
            Self::Silent => "silent",
            Self::Withdrawn => "withdrawn",
        }
    }

    /// The state named by a word.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.as_str() == text)
    }
}

impl fmt::Display for DecisionState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// What became of a proposal.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ProposalState {
    /// Waits for a person.
    Open,
    /// Became a job.
    Launched,
    /// A person said no.
    Dismissed,
    /// Its alarm was cleared, its rule withdrawn, or another took its place.
    Withdrawn,
    /// Its inputs were refused.
    Faulty,
}

impl ProposalState {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Open, Self::Launched, Self::Dismissed, Self::Withdrawn, Self::Faulty];

    /// The word used in every format.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Launched => "launched",
            Self::Dismissed => "dismissed",
            Self::Withdrawn => "withdrawn",
            Self::Faulty => "faulty",
        }
    }

    /// The state named by a word.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.as_str() == text)
    }
}

impl fmt::Display for ProposalState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// How it stands with a subscriber.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum SubscriberState {
    /// Its address is asked whether it wants events.
    Asked,
    /// Its address has agreed; events are sent.
    Confirmed,
    /// Its address has said that it wants no more (410).
    Gone,
    /// Nothing can be sent to it as it is written.
    Faulty,
}

impl SubscriberState {
    /// The word used in every format.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Asked => "asked",
            Self::Confirmed => "confirmed",
            Self::Gone => "gone",
            Self::Faulty => "faulty",
        }
    }
}

impl fmt::Display for SubscriberState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// What became of an event for a subscriber.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum OutgoingState {
    /// Waits for its first or next try.
    Waiting,
    /// Was taken.
    Delivered,
    /// Was tried for a day.
    GivenUp,
}

impl OutgoingState {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Waiting, Self::Delivered, Self::GivenUp];

    /// The word used in every format.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Delivered => "delivered",
            Self::GivenUp => "given-up",
        }
    }

    /// The state named by a word.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.as_str() == text)
    }
}

impl fmt::Display for OutgoingState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// How a call of a connection ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum CallState {
    /// It gave its output.
    Done,
    /// It was taken, and the other side calls back.
    Later,
    /// It never left, or nobody was there to take it.
    NotSent,
    /// The other side said no.
    Refused,
    /// Nobody knows whether it was done.
    Unknown,
    /// It was done, but what came back cannot be used.
    Useless,
}

impl CallState {
    /// All of them.
    pub const ALL: [Self; 6] = [Self::Done, Self::Later, Self::NotSent, Self::Refused, Self::Unknown, Self::Useless];

    /// The word used in every format.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::Later => "later",
            Self::NotSent => "not-sent",
            Self::Refused => "refused",
            Self::Unknown => "unknown",
            Self::Useless => "useless",
        }
    }

    /// The state named by a word.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.as_str() == text)
    }

    /// Whether all went well.
    pub const fn is_well(self) -> bool {
        matches!(self, Self::Done | Self::Later)
    }
}

impl fmt::Display for CallState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}
