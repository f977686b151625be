//! What goes over the wire: request and response types, shared by the service and its clients.
//!
//! One file for each part of the API. Times are RFC 3339 in UTC; numbers named `seq` or `id`
//! are the handles that the command and the console use.
//!
//! ```
//! use arvok_api::{AlertFilter, Launch};
//!
//! let launch = r#"{ "runbook": "grow-disk", "inputs": { "vm": "vm/quill-booking-db-1" } }"#;
//! let launch: Launch = serde_json::from_str(launch).expect("is a launch");
//! assert_eq!(launch.inputs["vm"], "vm/quill-booking-db-1");
//!
//! // A word that there is not is refused where it is read, and by what it says.
//! let wrong = serde_json::from_str::<Launch>(r#"{ "runbook": "grow-disk", "urgency": "soon" }"#);
//! assert!(wrong.expect_err("is no urgency").to_string().contains("urgent"));
//!
//! // A filter that says nothing leaves nothing out.
//! let all: AlertFilter = serde_json::from_str("{}").expect("is a filter");
//! assert!(all.source.is_none() && all.limit.is_none());
//! ```

pub mod access;
pub mod alarms;
pub mod alerts;
pub mod audit;
pub mod connections;
pub mod contacts;
pub mod decisions;
pub mod definitions;
pub mod filters;
pub mod guards;
pub mod halt;
pub mod jobs;
mod launch;
pub mod library;
pub mod listeners;
pub mod memory;
pub mod mutes;
pub mod nodes;
pub mod plans;
pub mod rules;
pub mod runbooks;
pub mod runners;
pub mod sources;
pub mod storage;
pub mod subscribers;
pub mod trials;
pub mod watch;
mod words;

pub use access::{AutomationRight, NewToken, SignIn, TokenItem, TokenMade, Who};
pub use alarms::{AlarmActItem, AlarmDetail, AlarmItem, NewAlarmAct, WriteBackItem};
pub use alerts::{
    AlertDetail, AlertItem, DeliveryAnswer, KeptItem, Retried, RetryRequest, TakenAlert,
    UnreadableItem, VerdictItem, VerdictMark,
};
pub use audit::{AuditFilter, AuditItem};
pub use connections::{
    CallFilter, CallItem, ConnectionDetail, ConnectionItem, ConnectionTest, DescribedOperation,
    HostKeyItem, HostKeyState, ImportRequest, Imported, Machine, NeededSecret, OfferedOperation,
    PulseStatus, TriedOperation, TrustKey, TrustedMachine, TryOperation,
};
pub use contacts::{ContactItem, ContactWayItem};
pub use decisions::{ByLink, Choice, DecisionFilter, DecisionItem, Take, TakeByLink};
pub use definitions::{
    ActsByItself, CalendarEventItem, CalendarState, ChangeKind, DefinitionDetail, DefinitionItem,
    DefinitionName, ExpectedVersion, FileText, HeartbeatAnswer, HeartbeatItem, PlannedChange,
    PollState, PostedAnswer, PublishRequest, PublishResult, SecretItem, SecretValue,
    SenderLineItem, Use,
};
pub use filters::{
    AlarmFilter, AlertFilter, AskedVerdict, JobFilter, MAX_PAGE, PAGE, ProposalFilter,
    VerdictFilter, number, parse_word, parse_words, time,
};
pub use guards::{CircuitItem, GuardItem, GuardLine, GuardResumed, ResumeGuard};
pub use halt::{
    Halt, HaltBegun, HaltConcerns, HaltCovers, Halted, NewHalt, SelectiveHalt, SetHalt,
};
pub use jobs::{
    Attempt, Because, Cancel, DecisionContext, Found, GoOn, GoesOn, HeldBack, JobAct, JobDetail,
    JobItem, JobPart, JobStep, LiveText, NeedsYou, Overrule, Overruled, Resolve, SeenBy, SetAside,
    StepWord, TouchedResource,
};
pub use launch::{
    CallAnswer, CallRequest, DryPart, DryRun, DryStep, Launch, Launched, Preview, PreviewedInput,
    RunbookForm,
};
pub use library::{Copied, CopyRequest, LibraryCopy, LibraryDetail, LibraryItem, LibraryRunbook};
pub use listeners::{ListenerItem, ListenerState, Transport};
pub use memory::{ForgetMemory, MemoryFilter, MemoryItem};
pub use mutes::{MuteCovers, MuteFilter, MuteItem, NewMute, NewlyMuted};
pub use nodes::{AsideItem, Backlog, NodeItem, Nodes};
pub use plans::{
    PlanDetail, PlanEntry, PlanFreeze, PlanItem, PlanTimes, PlanTimesFilter, RunPlan, SkipPlan,
    UnskipPlan,
};
pub use rules::{
    AlertWhy, ClauseItem, DispatchGuess, Draft, FunctionItem, OperationItem, ProposalDecision,
    ProposalItem, RehearsalDifference, RehearsalDispatch, RehearsalLine, RehearsalReport,
    RehearsalRequest, RehearsalResult, SawItem, VerdictGuess, VerdictLine, VersionItem, Vocabulary,
    Why, WhyRequest,
};
pub use runbooks::{Needed, OutlinePart, OutlineRequest, OutlineStep, RunbookOutline};
pub use runners::{
    CallBeat, CallNumbers, CallbackAddress, ClaimedCall, NewRunner, OpenedValues, RUNNER_PROTOCOL,
    RunnerAct, RunnerAnswer, RunnerBeat, RunnerBegin, RunnerCall, RunnerCalls, RunnerClaim,
    RunnerEnd, RunnerFailure, RunnerItem, RunnerMade, RunnerResult, RunnerWork,
};
pub use sources::{
    ForgottenShapes, KindShape, ShapeField, ShapeFilter, SourceShapes, SuggestedRead,
    SuggestedReadLine, TestSource, TestedPayload, TestedSource,
};
pub use storage::{
    Goes, KeepRequest, RetentionChange, RetentionTimes, Storage, StoredDay, StoredKind,
};
pub use subscribers::{OutgoingFilter, OutgoingItem, Replay, Replayed, SubscriberItem};
pub use trials::{ClearedTrials, NewTrial, TriedStep, TryStep};
pub use watch::{
    BrokenRule, Change, JobTimeline, JobTimelineMark, Narrowing, Timeline, TimelineMark, Watch,
};
pub use words::{
    CallState, DecisionState, Outcome, OutgoingState, ProposalState, StepState, SubscriberState,
    WriteBackState,
};

use serde::{Deserialize, Serialize};
use utoipa::{
    PartialSchema, ToSchema,
    openapi::{Object, RefOr, Schema},
};

/// Whether there are none: then a number is not written.
#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks so")]
const fn is_zero(number: &i64) -> bool {
    *number == 0
}

/// The same of what is in memory.
#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks so")]
const fn is_none(number: &usize) -> bool {
    *number == 0
}

/// A page of a list.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Page<T> {
    /// The items, newest first.
    pub items: Vec<T>,
    /// Given as `after` it yields the next page; absent on the last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
    /// Whether the search stopped here because it had looked through enough for one question;
    /// `next` goes on from there, though the page may be short or empty.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub bounded: bool,
}

/// A problem about a request (RFC 9457).
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// Always `about:blank`; the `code` tells kinds apart.
    #[serde(rename = "type")]
    pub kind: String,
    /// The status in words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// Stable, for programs.
    pub code: String,
    /// What was wrong, where, and what to do.
    pub detail: String,
    /// Problems about definitions, where there are any.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub problems: Vec<FileProblem>,
}

/// A problem about a place in a file, as the core makes it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct FileProblem(pub arvok_core::Problem);

impl From<arvok_core::Problem> for FileProblem {
    fn from(problem: arvok_core::Problem) -> Self {
        Self(problem)
    }
}

impl std::ops::Deref for FileProblem {
    type Target = arvok_core::Problem;

    fn deref(&self) -> &arvok_core::Problem {
        &self.0
    }
}

impl PartialSchema for FileProblem {
    fn schema() -> RefOr<Schema> {
        let schema = serde_json::from_value(arvok_core::Problem::schema());
        RefOr::T(schema.unwrap_or_else(|_| Schema::Object(Object::new())))
    }
}

impl ToSchema for FileProblem {}

impl From<FileProblem> for arvok_core::Problem {
    fn from(problem: FileProblem) -> Self {
        problem.0
    }
}

#[cfg(test)]
mod tests;
