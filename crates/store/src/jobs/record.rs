//! What is recorded after an event of a job.

use super::Claim;
use arvok_api::StepState;
use arvok_core::{
    JobId,
    job::{Emitted, EventWait, Place, Progress, Question, Summary, Transition},
};
use chrono::{DateTime, Utc};

/// What is recorded after an event of a job, in one transaction.
#[derive(Clone, Debug, Default)]
pub struct Record {
    /// Tries that began.
    pub began: Vec<AttemptStart>,
    /// Tries that ended.
    pub ended: Vec<AttemptEnd>,
    /// What tries were answered, those as well that go on.
    pub answered: Vec<Answered>,
    /// What the conditions of tries saw.
    pub saw: Vec<Saw>,
    /// Resources that calls which begin now change, with their steps.
    pub touched: Vec<(Place, String)>,
    /// What is remembered from steps on for the runs that come after it, each time all of it.
    pub remembered: Vec<(Place, serde_json::Value)>,
    /// What lists show of it.
    pub summary: Summary,
    /// The number of the word of a person's that it has heard.
    pub heard: Option<i32>,
    /// How much has come for it from outside, as far as its execution has seen it.
    pub posts: i32,
    /// Questions that it asks.
    pub asked: Vec<Question>,
    /// Events that it begins to wait for.
    pub listens: Vec<EventWait>,
    /// Steps whose questions or events are not waited for any more.
    pub withdrawn: Vec<String>,
    /// Events that it tells of.
    pub emitted: Vec<Emitted>,
    /// What was heard of alerts, and is not what is waited for.
    pub passed_over: Vec<i64>,
    /// How far was looked for its waits.
    pub looked: Vec<Looked>,
    /// When its alarms had changed last, as it has seen them.
    pub seen: AlarmSeen,
    /// What becomes of the job.
    pub then: Transition,
}

/// A try of a step that began.
#[derive(Clone, Debug)]
pub struct AttemptStart {
    /// The step.
    pub place: Place,
    /// Which try, from one.
    pub attempt: i32,
    /// What was given.
    pub give: serde_json::Value,
    /// What is sent for it.
    pub request: Option<serde_json::Value>,
}

/// A try of a step that ended.
#[derive(Clone, Debug)]
pub struct AttemptEnd {
    /// The step.
    pub place: Place,
    /// Which try, from one.
    pub attempt: i32,
    /// How: never still under way.
    pub state: StepState,
    /// What it gave.
    pub output: Option<serde_json::Value>,
    /// What went wrong.
    pub error: Option<String>,
}

/// What a try was answered.
#[derive(Clone, Debug)]
pub struct Answered {
    /// The step.
    pub place: Place,
    /// Which try, from one.
    pub attempt: i32,
    /// As it came, without secrets.
    pub answer: serde_json::Value,
}

/// What the condition of a try saw.
#[derive(Clone, Debug)]
pub struct Saw {
    /// The step.
    pub place: Place,
    /// Which try, from one.
    pub attempt: i32,
    /// What it reads, and what that held.
    pub saw: serde_json::Value,
}

/// When the alarms of a job had changed last, as they were seen.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct AlarmSeen {
    /// That of its first alert.
    pub changed_at: Option<DateTime<Utc>>,
    /// The latest of those besides; none where there are none.
    pub others_changed_at: Option<DateTime<Utc>>,
}

/// What a claim holds, where it stands by now, and what is recorded of it.
#[derive(Clone, Copy, Debug)]
pub struct ClaimedRecord<'a> {
    /// The job.
    pub id: JobId,
    /// The claim that holds it.
    pub claim: Claim,
    /// Where it stands.
    pub progress: &'a Progress,
    /// What is recorded.
    pub record: &'a Record,
}

/// How far what is stored was looked through for a wait.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Looked {
    /// The step.
    pub place: String,
    /// The text by which is looked.
    pub key: String,
    /// The last alert that was seen.
    pub seq: i64,
    /// What comes next.
    pub next: Next,
}

/// What comes after a look.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Next {
    /// There is more.
    Further,
    /// All was seen that can be seen now: once more, when the transactions that run now are over.
    WhenTheseAreOver,
    /// Nothing more.
    Nothing,
}
