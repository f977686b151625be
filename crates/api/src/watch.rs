//! The overview, and the messages of the event stream.

use crate::{
    AlarmItem, DecisionItem, Halt, JobItem, MuteItem, NeedsYou, ProposalItem, SelectiveHalt,
};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is going on and what needs a person.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Watch {
    /// The halt of all jobs, while one stands.
    #[serde(default)]
    pub halt: Option<Halt>,
    /// Halts of some jobs.
    #[serde(default)]
    pub halts: Vec<SelectiveHalt>,
    /// Mutes that stand or come, the one that ends first first, 20 at most.
    #[serde(default)]
    pub mutes: Vec<MuteItem>,
    /// From received to confirmed.
    pub narrowing: Narrowing,
    /// Jobs that failed, were refused, expired, are unsure or had no effect, are not old, and
    /// nobody has set aside: of one runbook on one target the last, and of what failed with the job
    /// whose step it is that one.
    pub needs_you: Vec<NeedsYou>,
    /// Decisions that wait for a person, the most pressing first.
    pub decisions: Vec<DecisionItem>,
    /// Rules that could not decide about alerts, by versions that still stand: nobody acts for
    /// these alerts.
    #[serde(default)]
    pub broken: Vec<BrokenRule>,
    /// Jobs that are proposed and wait for a person, oldest first.
    pub proposals: Vec<ProposalItem>,
    /// Jobs at work, the most urgent first.
    pub under_way: Vec<JobItem>,
    /// How many jobs are at work, counted up to 10,000.
    #[serde(default)]
    pub jobs_under_way: i64,
    /// Alarms that stand, the worst first, and those that ended within the last minutes.
    pub alarms: Vec<AlarmItem>,
    /// How many alarms stand.
    pub alarms_open: i64,
    /// Payloads of the window that could not be read.
    pub unreadable: i64,
    /// How many sources are published.
    pub sources: usize,
}

/// A rule that could not decide.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BrokenRule {
    /// Its name.
    pub rule: String,
    /// About how many alerts within a day.
    pub alerts: i64,
    /// When it was so last.
    pub last_at: DateTime<Utc>,
    /// Why, for the last of them.
    pub reason: Option<String>,
    /// The last of them.
    pub alert: Option<i64>,
}

/// How alerts narrowed to effects. `received = repeated + distinct`,
/// `distinct = unmatched + matched`,
/// `matched = dispatched + proposed + watched + folded + held`,
/// `dispatched = confirmed + under_way + unproved + failed`.
/// The unit is the alert; where several rules matched one alert, the furthest counts.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Narrowing {
    /// From when; a whole minute.
    pub from: DateTime<Utc>,
    /// Until when.
    pub to: DateTime<Utc>,
    /// Alerts delivered.
    pub received: i64,
    /// Deliveries of an id that had come before.
    pub repeated: i64,
    /// Alerts recorded.
    pub distinct: i64,
    /// Not concerning any rule.
    pub unmatched: i64,
    /// Concerning a rule.
    pub matched: i64,
    /// Would have led to a job, but the rule only watches.
    pub watched: i64,
    /// Joined an episode that had dispatched.
    pub folded: i64,
    /// Held back: waiting, resting, capped, flapping, muted or a symptom.
    pub held: i64,
    /// Led to a proposal.
    pub proposed: i64,
    /// Led to a job.
    pub dispatched: i64,
    /// Whose job is not finished.
    pub under_way: i64,
    /// Whose job succeeded but proved nothing: unconfirmed, or not checked.
    pub unproved: i64,
    /// Whose job failed, expired, was refused or is unsure.
    pub failed: i64,
    /// Whose job a person stopped.
    #[serde(default)]
    pub cancelled: i64,
    /// Whose job's effect was confirmed.
    pub confirmed: i64,
}

/// A message of the event stream: what changed, by handles; ask the API for the rest.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// New alerts, newest last; cut at 20.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub alerts: Vec<i64>,
    /// Alarms raised, changed or cleared; cut at 100.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub alarms: Vec<i64>,
    /// Jobs made or changed; cut at 100.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub jobs: Vec<i64>,
    /// Proposals made or decided; cut at 100.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub proposals: Vec<i64>,
    /// Whether verdicts of earlier alerts were replaced.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub verdicts: bool,
    /// Whether decisions were asked for, taken, or are over.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub decisions: bool,
    /// Whether definitions or secrets changed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub definitions: bool,
    /// Whether a payload could not be read.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub unreadable: bool,
    /// Whether messages were lost: ask for everything anew.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub reset: bool,
}

impl Change {
    /// Whether there is nothing to tell.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// Takes another change in: handles of both, each once.
    pub fn merge(&mut self, other: Self) {
        for (mine, theirs) in [
            (&mut self.alerts, other.alerts),
            (&mut self.alarms, other.alarms),
            (&mut self.jobs, other.jobs),
            (&mut self.proposals, other.proposals),
        ] {
            mine.extend(theirs);
            mine.sort_unstable();
            mine.dedup();
        }
        self.verdicts |= other.verdicts;
        self.decisions |= other.decisions;
        self.definitions |= other.definitions;
        self.unreadable |= other.unreadable;
        self.reset |= other.reset;
    }
}

/// Alerts over time.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Timeline {
    /// From when; a whole step.
    pub from: DateTime<Utc>,
    /// Until when.
    pub to: DateTime<Utc>,
    /// Seconds from one mark to the next.
    pub step_seconds: i64,
    /// Those steps in which anything came, oldest first.
    pub marks: Vec<TimelineMark>,
}

/// The alerts of one step, by the furthest that any rule took them.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TimelineMark {
    /// When it begins.
    pub at: DateTime<Utc>,
    /// Led to a job.
    pub dispatched: i64,
    /// Led to a proposal.
    pub proposed: i64,
    /// Would have led to a job, had the rule acted.
    pub watched: i64,
    /// Joined what was there.
    pub folded: i64,
    /// Held back.
    pub held: i64,
    /// Matched by no rule.
    pub unmatched: i64,
}

/// Jobs over time.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobTimeline {
    /// From when; a whole step.
    pub from: DateTime<Utc>,
    /// Until when.
    pub to: DateTime<Utc>,
    /// Seconds from one mark to the next.
    pub step_seconds: i64,
    /// Those steps in which any job was dispatched, oldest first.
    pub marks: Vec<JobTimelineMark>,
}

/// The jobs that were dispatched in one step, by what has become of them.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobTimelineMark {
    /// When it begins.
    pub at: DateTime<Utc>,
    /// Their effect was proved.
    pub confirmed: i64,
    /// They ended well, but nothing proves that they helped.
    pub unproved: i64,
    /// Queued, running or waiting.
    pub under_way: i64,
    /// Failed, refused, expired or unsure.
    pub failed: i64,
}
