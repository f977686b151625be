//! What happens to a job, and what is to be done then.

use super::{
    ChildEnd, Decided, Emitted, EventWait, JobCommand, Launching, Place, Question, Recall,
    Transition,
};
use crate::{
    Alert, JobId, Period,
    connector::{self, Failure, Repeat},
    definition::Others,
    runbook::{Announce, CallTarget, Runbook},
};
use chrono::{DateTime, Utc};
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// What does not change about a job.
#[derive(Clone, Debug)]
pub struct Facts {
    /// Its number.
    pub id: JobId,
    /// What the keys of its calls begin with: no other job has the same, neither of another
    /// installation nor after a restore.
    pub key: String,
    /// Its inputs, a map.
    pub inputs: Value,
    /// Its target.
    pub target: String,
    /// What set it off.
    pub alert: Option<Alert>,
    /// Whether that alert belongs to an alarm.
    pub has_alarm: bool,
    /// When it was made.
    pub created: DateTime<Utc>,
    /// What runs before have remembered for it; null: nothing.
    pub memory: Value,
    /// Whether there is no room to remember anything of another target.
    pub memory_full: bool,
    /// What its rule says before it changes anything.
    pub announce: Option<Announce>,
    /// Whether it is that of a trial which must not act: it makes the calls that only look, and
    /// leaves all else undone.
    pub dry: bool,
}

impl Facts {
    /// What it finds remembered.
    pub(super) fn remembered(&self, runbook: &Runbook) -> Value {
        match &self.memory {
            Value::Null => runbook.memory.defaults(),
            remembered => remembered.clone(),
        }
    }
}

/// What happens to a job.
#[derive(Clone, Debug, PartialEq)]
pub enum Event {
    /// A node took it up, for the first time, after a wait, or after another node's death. With it
    /// comes what has come from outside meanwhile.
    Taken(Repeats, Vec<(Place, StepEvent)>),
    /// Something came from outside while a node executes it.
    Came(Vec<(Place, StepEvent)>),
    /// Nothing but that time has passed; what is out is still out.
    Tick,
    /// Something happened to one try of a step. What is not open any more is passed over.
    Step {
        /// The step.
        place: Place,
        /// Which try, from one.
        attempt: u32,
        /// What happened.
        what: StepEvent,
    },
    /// A person commands it.
    Commanded(JobCommand),
    /// All jobs are halted, and it with them: as if somebody paused it until that is over.
    Halted {
        /// Who, and why.
        words: String,
    },
    /// The halt of all jobs is over.
    Lifted,
}

/// Whether the operations of a runbook may be called twice, by connection and operation.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Repeats(pub BTreeMap<(String, String), Repeat>);

impl Repeats {
    /// Those of all operations that the steps of a runbook may call.
    pub fn of(runbook: &Runbook, others: &dyn Others) -> Self {
        let of = |(via, name): (&str, &str)| {
            let found = connector::operation(others, via, name);
            let repeat = found.map_or(Repeat::Never, |(_, operation)| operation.repeat);
            ((via.to_owned(), name.to_owned()), repeat)
        };
        Self(runbook.possible_calls(others).into_iter().map(of).collect())
    }

    /// Whether something may be called twice; an operation that is not known must not be.
    pub fn repeat_of(&self, target: &CallTarget) -> Repeat {
        match target {
            CallTarget::Operation { via, operation } => {
                self.0.get(&(via.clone(), operation.clone())).copied().unwrap_or(Repeat::Never)
            }
            CallTarget::Script(script) => script.repeat(),
        }
    }
}

/// What happened to a step: to its call, or to what it waits for.
#[derive(Clone, Debug, PartialEq)]
pub enum StepEvent {
    /// It gave its output.
    Returned(Value),
    /// It was taken, and the other side calls back.
    Later {
        /// How long that may take.
        within: Period,
        /// Whether doing it twice is harmless.
        repeat: Repeat,
    },
    /// It failed.
    Broke {
        /// Why, and what is known of the other side.
        failure: Failure,
        /// Whether doing it twice is harmless.
        repeat: Repeat,
    },
    /// The call was not made: others of its connection come first.
    Queued {
        /// When its turn is asked for again, unless it is told before.
        until: DateTime<Utc>,
    },
    /// The turn of the call has come.
    Turn,
    /// A person decided.
    Decided(Decided),
    /// The question was withdrawn, since nobody decided in time.
    Silent,
    /// Alerts came that may be what is waited for.
    Heard(Vec<Alert>),
    /// The job of the step was made.
    Launched(JobId),
    /// The job of the step was told to stop.
    Recalled,
    /// The job of the step ended.
    Ended(ChildEnd),
}

/// What is to be done. Records come first; the last says what becomes of the job.
#[derive(Clone, Debug, PartialEq)]
pub enum Effect {
    /// Record that a try of a step begins.
    StepStarted {
        /// The step.
        place: Place,
        /// Which try, from one.
        attempt: u32,
        /// What it is given.
        give: Value,
    },
    /// Record how a try of a step ended.
    StepEnded {
        /// The step.
        place: Place,
        /// Which try, from one.
        attempt: u32,
        /// How it ended.
        result: StepResult,
    },
    /// Record what the condition of a try saw: what it reads, and what that held.
    StepSaw {
        /// The step.
        place: Place,
        /// Which try, from one.
        attempt: u32,
        /// A map.
        saw: Value,
    },
    /// Call an operation; answer with [`Event::Step`]. Of a call that waited for its turn it comes
    /// again.
    Call(CallOut),
    /// Record a question to a person; answer with [`StepEvent::Decided`] or [`StepEvent::Silent`].
    Ask(Question),
    /// Record that an event is waited for; answer with [`StepEvent::Heard`], as often as there is
    /// something.
    Listen(EventWait),
    /// Record that a question, or an event, is not waited for any more.
    Withdraw(Place),
    /// A call that waits for its turn is not needed any more.
    LeaveQueue(Place),
    /// Record what is remembered from this step on, for the runs that come after this one.
    Remember(Place, Value),
    /// Record an event of the job's own.
    Emit(Emitted),
    /// Make a job, unless this was done before; answer with [`StepEvent::Launched`] or
    /// [`StepEvent::Broke`], and later with [`StepEvent::Ended`].
    Launch(Launching),
    /// Tell a job to stop; answer with [`StepEvent::Recalled`].
    Recall(Recall),
    /// What becomes of the job.
    Then(Transition),
}

/// A call that is to be made.
#[derive(Clone, Debug, PartialEq)]
pub struct CallOut {
    /// The step.
    pub place: Place,
    /// Which try, from one.
    pub attempt: u32,
    /// What is called.
    pub target: CallTarget,
    /// What it is given.
    pub give: Map<String, Value>,
    /// The same for every try of the same step.
    pub key: String,
    /// How long the try may take.
    pub timeout: Option<Period>,
    /// With which try its answer is kept: of a check that looks again and again with its only one.
    pub kept_with: u32,
    /// Not the operation is called, but its own probe: whether a call with this was done. Its
    /// output is `done`, and the probe's own as `result`.
    pub probes: bool,
    /// It is not sent, but only shown: this is its answer. Of a dry job.
    pub instead: Option<Value>,
}

/// How a try of a step ended.
#[derive(Clone, Debug, PartialEq)]
pub enum StepResult {
    /// With an output.
    Done(Value),
    /// With an error.
    Failed(String),
    /// Not known.
    Unsure(String),
    /// It was passed over, since its condition does not hold.
    Skipped,
    /// It was not needed any more.
    Stopped,
}
