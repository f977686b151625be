//! Jobs and their steps through the steps.

use crate::{AlertItem, CallAnswer, CallRequest, DecisionItem, StepState};
use arvok_core::{
    Principal, Trial,
    job::{JobEffect, JobState},
    rule::Urgency,
};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// One job.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobItem {
    /// The handle.
    pub id: i64,
    /// The runbook's name.
    pub runbook: String,
    /// Its version at the time.
    pub runbook_version: i32,
    /// What it acts on.
    pub target: String,
    /// `queued`, `running`, `waiting`, `paused`, `succeeded`, `failed`, `cancelled`, `expired`,
    /// `refused`, `unsure`.
    #[schema(schema_with = crate::words::one::<JobState>)]
    pub state: JobState,
    /// `confirmed`, `unconfirmed`, `not checked`; absent until it is known.
    #[schema(schema_with = crate::words::one_or_none::<JobEffect>)]
    pub effect: Option<JobEffect>,
    /// Why it did not succeed.
    pub failure: Option<String>,
    /// `low`, `normal`, `high`, `urgent`.
    #[schema(schema_with = crate::words::one::<Urgency>)]
    pub urgency: Urgency,
    /// The rule that dispatched it.
    pub rule: Option<String>,
    /// The job whose step it is.
    pub parent: Option<i64>,
    /// Who launched it, by hand or from a proposal.
    #[schema(schema_with = crate::words::principal_or_none)]
    pub launched_by: Option<Principal>,
    /// The alert that set it off.
    pub alert: Option<i64>,
    /// The alarm of that alert.
    pub alarm: Option<i64>,
    /// When it was dispatched.
    pub created_at: DateTime<Utc>,
    /// Not started after this.
    pub deadline: Option<DateTime<Utc>>,
    /// When a node first took it up.
    pub started_at: Option<DateTime<Utc>>,
    /// When its state became final.
    pub finished_at: Option<DateTime<Utc>>,
    /// Steps of its runbook that are done; those within others are not counted.
    pub steps_done: i64,
    /// Of how many; 0 until it has begun.
    pub steps: i64,
    /// What is going on, in words.
    pub doing: String,
    /// Whether it is that of a trial: `dry`, and nothing leaves it that changes anything, or
    /// `acting`.
    #[serde(default)]
    #[schema(schema_with = crate::words::one_or_none::<Trial>)]
    pub trial: Option<Trial>,
    /// Which guard holds it, and why; absent if none does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held: Option<HeldBack>,
}

/// Why a guard holds a job that has not begun.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HeldBack {
    /// The guard.
    pub guard: String,
    /// Why, with the numbers.
    pub why: String,
    /// When it may begin, if that is known.
    #[serde(default)]
    pub until: Option<DateTime<Utc>>,
    /// Since when guards have held it.
    pub since: DateTime<Utc>,
}

/// A guard that somebody has overruled for a job.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Overruled {
    /// The guard.
    pub guard: String,
    /// Who.
    #[schema(schema_with = crate::words::principal)]
    pub by: Principal,
    /// When.
    pub at: DateTime<Utc>,
    /// Why.
    pub reason: String,
}

/// That a job is to begin in spite of the guard that holds it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Overrule {
    /// The guard that holds it.
    pub guard: String,
    /// Why.
    pub reason: String,
}

/// One job with everything known about it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobDetail {
    /// In short.
    pub job: JobItem,
    /// Its inputs, defaults filled in.
    #[schema(value_type = Value)]
    pub inputs: Value,
    /// What it gave.
    #[schema(value_type = Value)]
    pub outputs: Option<Value>,
    /// The steps of its runbook and how each went.
    pub steps: Vec<JobStep>,
    /// What else it does: `confirm`, `otherwise`, `recover`, `always`, as far as its runbook has
    /// them.
    pub further: Vec<JobPart>,
    /// How the effect is proved; absent if the runbook asks for none.
    pub confirm: Option<String>,
    /// The decisions that it asked for, in their order.
    pub decisions: Vec<DecisionItem>,
    /// The jobs of its steps, in their order.
    pub children: Vec<JobItem>,
    /// The alert that set it off; of a gathering the first.
    pub alert: Option<AlertItem>,
    /// All alerts that it is for, where these are several: those of a gathering; the first hundred.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub gathered: Vec<AlertItem>,
    /// How many alerts it is for besides these.
    #[serde(default, skip_serializing_if = "crate::is_none")]
    pub gathered_more: usize,
    /// The reason of the verdict that dispatched it.
    pub reason: Option<String>,
    /// Who has seen that it ended badly, and set it aside.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<SeenBy>,
    /// The job that goes on from where it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub goes_on_as: Option<i64>,
    /// What people did to it, the first first; the last hundred.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub acts: Vec<JobAct>,
    /// The trace that it belongs to, as a `traceparent` (W3C Trace Context) with the span of
    /// the job; absent for jobs of before there were traces.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trace: Option<String>,
    /// The guards that somebody has overruled for it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub overruled: Vec<Overruled>,
    /// What its calls have changed, the first first; the first hundred.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub touched: Vec<TouchedResource>,
}

/// A resource that a call of a job changed, or was to change.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TouchedResource {
    /// The resource, such as `host/quill-hv-3`.
    pub resource: String,
    /// The step that made the call.
    pub place: String,
    /// When the call was made.
    pub at: DateTime<Utc>,
}

/// What somebody did to a job.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobAct {
    /// When.
    pub at: DateTime<Utc>,
    /// Who.
    #[schema(schema_with = crate::words::principal)]
    pub by: Principal,
    /// `job.launched`, `job.paused`, `job.resumed`, `job.cancelled`, `job.resolved`,
    /// `guard.overruled`, `proposal.launched`, `decision.taken`, and of mails that decide nothing
    /// `answer.stranger` and the like.
    pub act: String,
    /// More about it, and the reason that was given.
    pub detail: Option<String>,
}

/// Who has seen something, and when.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SeenBy {
    /// Who.
    #[schema(schema_with = crate::words::principal)]
    pub by: Principal,
    /// When.
    pub at: DateTime<Utc>,
}

/// A job that needs a person.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NeedsYou {
    /// In short.
    #[serde(flatten)]
    pub job: JobItem,
    /// How many jobs of the same runbook on the same target ended badly within a day before it: one
    /// cause, one entry.
    #[serde(default, skip_serializing_if = "crate::is_zero")]
    pub earlier: i64,
}

/// That a job which ended badly is set aside.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetAside {
    /// It is set back to what needs a person.
    #[serde(default)]
    pub undo: bool,
}

/// A step of a job, with what stands within it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobStep {
    /// Where it stands: the path of ids, with the number of the item in a list, such as
    /// `pool[3].grow`.
    pub place: String,
    /// Its `id` in the runbook.
    pub id: String,
    /// The word for its kind, such as `call`.
    pub kind: String,
    /// One line for people.
    pub summary: Option<String>,
    /// What it does, in a line.
    pub does: String,
    /// Under which condition.
    pub when: Option<String>,
    /// `next`, `running`, `again` while it waits to be tried again after a failure, `waiting` for
    /// anything else, `done`, `failed`, `unsure`, `skipped`, `stopped`, or `not run` if it never
    /// came to it.
    pub state: StepState,
    /// The job of this step.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub job: Option<i64>,
    /// The decision that this step asks for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub decision: Option<i64>,
    /// The tries.
    pub attempts: Vec<Attempt>,
    /// Branches, items of a list or ways side by side, and what takes the step back.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(no_recursion)]
    pub parts: Vec<JobPart>,
    /// Of a long list, how many items are not among its parts: none of them is open or failed.
    #[serde(default, skip_serializing_if = "crate::is_none")]
    pub left_out: usize,
}

/// Steps within a step, or beside a job's own.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobPart {
    /// Which: a condition, an item, a name.
    pub label: String,
    /// Whether it was gone: a branch that was not taken was not.
    pub taken: bool,
    /// Its steps.
    pub steps: Vec<JobStep>,
}

/// One try of a step.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Attempt {
    /// From one; 0 for what was taken over from the job from whose failure this one goes on.
    pub attempt: i32,
    /// `running`, `done`, `failed`, `unsure`, `skipped`, `stopped`.
    pub state: StepState,
    /// When it began.
    pub started_at: DateTime<Utc>,
    /// When it ended.
    pub finished_at: Option<DateTime<Utc>>,
    /// What it was given.
    #[schema(value_type = Value)]
    pub give: Value,
    /// What was sent for it, without secrets; absent where nothing is sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub request: Option<CallRequest>,
    /// The last answer that came to it, without secrets; absent where none did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<CallAnswer>,
    /// What it has written so far, while it runs: the last lines, without secrets.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub live: Option<LiveText>,
    /// What its condition saw when it was looked at last: what it reads, and what that held; absent
    /// where there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Value)]
    pub saw: Option<Value>,
    /// What it gave.
    #[schema(value_type = Value)]
    pub output: Option<Value>,
    /// What went wrong.
    pub error: Option<String>,
}

/// What a command or a script has written so far.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LiveText {
    /// The last lines.
    pub lines: String,
    /// How many lines there were in all.
    pub count: i64,
}

/// What a person says of an unsure step.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Resolve {
    /// What became of it.
    #[serde(rename = "as")]
    pub word: StepWord,
    /// The place of the step, such as `pool[3].grow`; left out if only one is unsure.
    #[serde(default)]
    pub step: Option<String>,
    /// What it gave, for later steps that read it; only if it was done.
    #[serde(default)]
    #[schema(value_type = Value)]
    pub output: Option<Value>,
    /// How that is known, for those who read it later.
    #[serde(default)]
    pub why: Option<String>,
}

/// How a job goes on from where another failed.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GoOn {
    /// Why, for those who read it later.
    #[serde(default)]
    pub why: Option<String>,
    /// Only say with which step it would begin.
    #[serde(default)]
    pub dry_run: bool,
}

/// A job that goes on from where another failed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GoesOn {
    /// The new job; absent of a dry run.
    pub job: Option<i64>,
    /// The steps that stand, by their ids.
    pub stand: Vec<String>,
    /// Those of them that are looked at first.
    pub looked_at: Vec<String>,
    /// The step with which it begins.
    pub from: String,
}

/// Why a person holds a job, or lets it go on.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Because {
    /// Why, for those who read it later.
    #[serde(default)]
    pub why: Option<String>,
}

/// How a person stops a job.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Cancel {
    /// Why, for those who read it later.
    #[serde(default)]
    pub why: Option<String>,
    /// Whether what was done is taken back, as far as its runbook says how.
    #[serde(default)]
    pub undo: bool,
}

/// What became of an unsure step.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum StepWord {
    /// It was done; the job goes on behind it.
    Done,
    /// It was not done; it is done again.
    Again,
    /// The job ends there as failed.
    Failed,
}

/// A decision with all that is known about it, for whoever has no other view of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DecisionContext {
    /// The decision.
    pub decision: DecisionItem,
    /// The job that asks.
    pub job: JobItem,
    /// The alert that set the job off.
    pub alert: Option<AlertItem>,
    /// Whether its alarm still stands; absent if there is none.
    pub raised: Option<bool>,
    /// What the steps found so far, in their order; of other items of a list what the list gave.
    pub found: Vec<Found>,
    /// How many steps before these found something as well.
    #[serde(default, skip_serializing_if = "crate::is_none")]
    pub left_out: usize,
    /// By which name whoever looks is signed in; absent: not at all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signed_in: Option<String>,
}

/// What a step found.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Found {
    /// The step, in a line.
    pub step: String,
    /// What it gave.
    #[schema(value_type = Value)]
    pub gave: Value,
}
