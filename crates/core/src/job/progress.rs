//! Where a job stands: the stage, and what is open in it. What its steps gave is kept with their
//! tries.

use super::{EventSelector, JobEffect, JobState, Place};
use crate::{JobId, Period, connector::Repeat, contact::PlannedWay, expr::Length, runbook::Step};
use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::{BTreeMap, BTreeSet};

/// Where a job stands.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Progress {
    /// When the first step began.
    pub started: Option<DateTime<Utc>>,
    /// What it is at.
    #[serde(default)]
    pub stage: Stage,
    /// When that began; moved on by the time for which it was paused.
    #[serde(default)]
    pub since: Option<DateTime<Utc>>,
    /// How long the proof may take, where that had to be worked out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proof: Option<Period>,
    /// Where the steps of the stage stand.
    #[serde(default)]
    pub block: Block,
    /// Why no further step of the stage is begun.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub halt: Option<Halt>,
    /// Since when nothing could go on but by a person's word on an unsure step.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unsure_since: Option<DateTime<Utc>>,
    /// A person holds it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub paused: Option<Paused>,
    /// What was done and can be taken back, in the order of its doing.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub undo: Vec<Place>,
    /// How it will end, once that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ending: Option<Ending>,
    /// What went wrong and was passed over, by the ids of the steps.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub errors: BTreeMap<String, String>,
    /// Steps that another job has done, from whose failure this one goes on, and that are not
    /// looked at yet.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub carried: BTreeSet<Place>,
    /// Calls that wait for their turn.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub queued: BTreeMap<Place, Queued>,
    /// Steps begun so far.
    #[serde(default)]
    pub begun: u32,
    /// How many of the runbook's own steps are done.
    #[serde(default)]
    pub done: usize,
    /// That it is about to change something, once that was announced.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub announced: Option<Announced>,
    /// It was told to stop already: told so once more, what follows a stop ends as well.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub told_to_stop: bool,
}

/// What a job is at.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Stage {
    /// Its steps.
    #[default]
    Forward,
    /// The proof of its effect.
    Confirming,
    /// What is done when the effect did not come.
    Otherwise,
    /// Taking back what was done.
    Undoing,
    /// What is done after a failure.
    Recovering,
    /// What is done whatever happened.
    Always,
    /// Nothing more.
    Over,
}

/// It was announced that a job is about to change something.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Announced {
    /// Since when.
    pub since: DateTime<Utc>,
    /// Whether an alarm was raised then for which it does so.
    pub raised: bool,
    /// The question whether somebody objects; none: it is answered.
    pub open: Option<Open>,
}

/// A person holds a job, or a halt holds all.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Paused {
    /// Since when.
    pub since: DateTime<Utc>,
    /// Who, and why.
    pub words: String,
    /// Whether it goes on when the halt of all jobs is lifted.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub by_halt: bool,
}

/// Why no further step is begun.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Halt {
    /// The time is over.
    Overdue,
    /// It may not go on.
    Failed(String),
    /// A person stops the job.
    Cancelled {
        /// Whether what was done is taken back.
        undo: bool,
        /// Who, and why.
        words: String,
    },
}

/// How a job will end.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Ending {
    /// The state.
    pub state: JobState,
    /// Whether it helped.
    pub effect: JobEffect,
    /// Why it did not succeed or help; what else is to be said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
    /// The step that failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub step: Option<Place>,
    /// Whether a step ended the job before its last one.
    #[serde(default)]
    pub early: bool,
}

/// Where a list of steps stands.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Block {
    /// The step that is next or open; as many as there are steps when all are done.
    pub at: usize,
    /// What is open of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub open: Option<Open>,
}

impl Block {
    /// Time that does not count against what its steps may take.
    pub(super) fn pass_over(&mut self, time: TimeDelta) {
        let Some(open) = &mut self.open else { return };
        // A call back counts from the moment at which the call was made.
        if !matches!(open.doing, Doing::Calling | Doing::CalledBack { .. }) {
            open.since += time;
        }
        match &mut open.doing {
            Doing::Branch(_, block) => block.pass_over(time),
            Doing::Items { open, .. } => open.values_mut().for_each(|lane| lane.pass_over(time)),
            Doing::Ways(ways) => ways.iter_mut().for_each(|way| {
                if let Way::Open(block) = way {
                    block.pass_over(time);
                }
            }),
            _ => {}
        }
    }
}

/// A call that waits for its turn.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Queued {
    /// Since when.
    pub since: DateTime<Utc>,
    /// When it is asked for again, unless it is told before.
    pub until: DateTime<Utc>,
}

/// A step that has begun and not ended.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Open {
    /// Which try, from one.
    pub attempt: u32,
    /// Tries that failed; one that was lost with its node did not.
    #[serde(default)]
    pub failed: u32,
    /// When the first try began; moved on by the time for which the job was held.
    pub since: DateTime<Utc>,
    /// Whether an earlier try may have done what it should.
    #[serde(default)]
    pub doubt: bool,
    /// How long it may take, where that had to be worked out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub timeout: Option<Period>,
    /// How long it waits, where that had to be worked out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub within: Option<Period>,
    /// What is going on.
    pub doing: Doing,
}

impl Open {
    /// The first try of a step that begins.
    pub(super) const fn begins(now: DateTime<Utc>, doing: Doing) -> Self {
        Self { attempt: 1, failed: 0, since: now, doubt: false, timeout: None, within: None, doing }
    }

    /// How long the step may take.
    pub(super) fn timeout(&self, step: &Step) -> Option<Period> {
        self.timeout.or_else(|| step.timeout.as_ref()?.written())
    }

    /// How long it waits, or lets pass.
    pub(super) fn within(&self, length: &Length) -> Period {
        self.within.or(length.written()).unwrap_or(Period::from_millis(0))
    }
}

/// What is going on in a step.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Doing {
    /// A call may be out.
    Calling,
    /// A call that finds out whether the step was done may be out; why that is asked.
    Probing(String),
    /// Another job has done it; a call that finds out whether it still stands may be out.
    LookingBack,
    /// It is tried again at this time.
    Again(DateTime<Utc>),
    /// It goes on at this time.
    Pausing(DateTime<Utc>),
    /// It is looked again and again.
    Looking {
        /// The number of the last look, from one.
        look: u32,
        /// When the next is; none while the call of the last may be out.
        next: Option<DateTime<Utc>>,
    },
    /// A person must say what became of it.
    Unsure(String),
    /// A question is open.
    Asking {
        /// Until when.
        until: DateTime<Utc>,
        /// The message that tells of it.
        tell: Telling,
        /// How those who may decide are reached; none: nobody is.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        reaching: Option<Box<Reaching>>,
    },
    /// A message goes to people.
    Telling(Box<Reaching>),
    /// An event is waited for.
    Awaiting {
        /// Until when.
        until: DateTime<Utc>,
        /// Which.
        chosen: EventSelector,
    },
    /// A call was taken, and is over when the other side calls back.
    CalledBack {
        /// Until when.
        until: DateTime<Utc>,
        /// Whether doing it twice is harmless.
        repeat: Repeat,
    },
    /// A job may have been made.
    Launching,
    /// A job is waited for.
    Child {
        /// The job.
        job: JobId,
        /// Whether it was told to stop.
        recalled: bool,
    },
    /// A job may have been told to stop.
    Recalling {
        /// The job.
        job: JobId,
    },
    /// A branch is taken.
    Branch(usize, Box<Block>),
    /// A list is gone through.
    Items {
        /// The next that is not begun.
        next: usize,
        /// Those under way, by their numbers.
        open: BTreeMap<usize, Block>,
        /// Those that failed, and why.
        #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
        failed: BTreeMap<usize, String>,
        /// Until when no further wave begins.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        rests: Option<DateTime<Utc>>,
    },
    /// Several ways are gone side by side.
    Ways(Vec<Way>),
}

/// A message that tells of a question.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Telling {
    /// It may be out.
    Out {
        /// Which try, from one.
        attempt: u32,
        /// What it tells.
        decision: Value,
    },
    /// It is sent again.
    Again {
        /// When.
        at: DateTime<Utc>,
        /// Which try there was last.
        attempt: u32,
        /// What it tells.
        decision: Value,
    },
    /// There is none, it was sent, or it could not be.
    Over,
}

/// How people are reached: by one way after another.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Reaching {
    /// The contact.
    pub contact: String,
    /// What the message says.
    pub message: Value,
    /// Whether somebody is asked, and so one who was reached leaves others to be reached.
    pub asks: bool,
    /// The ways that are still ahead in this round.
    #[serde(default)]
    pub ahead: Vec<PlannedWay>,
    /// Rounds that are over, of those in which a message went out.
    #[serde(default)]
    pub round: u32,
    /// Tries so far, and how many there were before this round.
    #[serde(default)]
    pub tries: u32,
    /// See `tries`.
    #[serde(default)]
    pub tries_before: u32,
    /// Rounds in a row in which no message went out.
    #[serde(default)]
    pub in_vain: u32,
    /// Whether a message went out, or may have.
    #[serde(default)]
    pub reached: bool,
    /// Whether it is noted that it is nobody's time.
    #[serde(default)]
    pub is_noted: bool,
    /// Where it stands.
    pub stand: Stand,
    /// The call that is out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub out: Option<OutgoingCall>,
    /// The person and the connection of the last message that went out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<(String, String)>,
}

/// Where it stands that people are reached.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Stand {
    /// A round begins at this time.
    Round(DateTime<Utc>),
    /// The call that says who is on duty may be out.
    Duty,
    /// The next way is tried at this time.
    Next(DateTime<Utc>),
    /// A message may be out.
    Out {
        /// To whom.
        contact: String,
        /// Through which connection.
        via: String,
        /// How long an answer is waited for.
        wait: Period,
    },
    /// Nothing more is tried.
    Over,
}

/// A call of an operation that is not one of the runbook.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct OutgoingCall {
    /// The connection.
    pub via: String,
    /// The operation.
    pub operation: String,
    /// What it is given.
    pub give: Map<String, Value>,
}

impl Reaching {
    pub(super) fn begins(now: DateTime<Utc>, contact: &str, message: Value, asks: bool) -> Self {
        Self {
            contact: contact.to_owned(),
            message,
            asks,
            ahead: Vec::new(),
            round: 0,
            tries: 0,
            tries_before: 0,
            in_vain: 0,
            reached: false,
            is_noted: false,
            stand: Stand::Round(now),
            out: None,
            by: None,
        }
    }

    /// When something goes on by itself.
    pub(super) const fn due(&self) -> Option<DateTime<Utc>> {
        match self.stand {
            Stand::Round(at) | Stand::Next(at) => Some(at),
            Stand::Duty | Stand::Out { .. } | Stand::Over => None,
        }
    }

    /// Whether a call may be out.
    pub(super) const fn is_out(&self) -> bool {
        matches!(self.stand, Stand::Duty | Stand::Out { .. })
    }
}

/// One of several ways.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Way {
    /// It is gone.
    Open(Block),
    /// It is at its end.
    Done,
    /// It failed, and why.
    Failed(String),
    /// It was stopped.
    Stopped,
}

impl Progress {
    /// What is stored of a job.
    ///
    /// # Errors
    /// If it is none.
    pub fn read(stored: Value) -> Result<Self, serde_json::Error> {
        serde_json::from_value(stored)
    }
}
