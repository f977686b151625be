//! Plans: what is to come, what was, and what is said to them.

use crate::filters::time;
use arvok_core::{
    Principal,
    job::{JobEffect, JobState},
    plan::Omission,
};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::{IntoParams, ToSchema};

/// A plan as it stands.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PlanItem {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// Its version.
    pub version: i32,
    /// The runbook that it runs.
    pub runbook: String,
    /// When, in words; absent: when somebody runs it.
    pub times: Option<String>,
    /// The resources that it runs for, as of now; empty: it launches one job.
    pub resources: Vec<String>,
    /// Why it could not run now; absent if it could.
    pub trouble: Option<String>,
    /// Its next time that nobody has skipped; absent if there is none.
    pub next: Option<PlanEntry>,
    /// Its last run.
    pub last: Option<PlanEntry>,
}

/// A plan with its times.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PlanDetail {
    /// The plan.
    pub plan: PlanItem,
    /// Its next times, the first first.
    pub coming: Vec<PlanEntry>,
    /// Its runs and the times that it did not run at, the latest first.
    pub past: Vec<PlanEntry>,
    /// What the next run finds, by name; empty if nothing is remembered.
    #[schema(value_type = Object)]
    pub memory: Value,
}

/// A time of a plan, or a run of it by hand.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PlanEntry {
    /// The plan.
    pub plan: String,
    /// The time for which it runs; absent if somebody ran it.
    pub due: Option<DateTime<Utc>>,
    /// Where it stands in a calendar: the time, or when somebody ran it.
    pub at: DateTime<Utc>,
    /// Whether it is to come.
    pub coming: bool,
    /// How many times it stands for: of a plan that runs often those of an hour are one, at the
    /// first of them.
    pub times: u32,
    /// Why it does not run then, or did not: `skipped`, `missed`, `overlapped`, `muted`, `refused`.
    #[schema(schema_with = crate::words::one_or_none::<Omission>)]
    pub omitted: Option<Omission>,
    /// Why, in words; of a run why it did not succeed, or what else is to be said.
    pub reason: Option<String>,
    /// Who skipped it, or ran it.
    #[schema(schema_with = crate::words::principal_or_none)]
    pub by: Option<Principal>,
    /// The job of the run.
    pub job: Option<i64>,
    /// The state of that.
    #[schema(schema_with = crate::words::one_or_none::<JobState>)]
    pub state: Option<JobState>,
    /// Whether it helped.
    #[schema(schema_with = crate::words::one_or_none::<JobEffect>)]
    pub effect: Option<JobEffect>,
    /// What holds a run back that is due then.
    pub frozen: Option<PlanFreeze>,
}

/// A guard that lets nothing of a plan begin at a time.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlanFreeze {
    /// The guard.
    pub guard: String,
    /// Why, in words.
    pub because: String,
    /// When the run, or what it launches, may begin; absent if that is not known.
    pub until: Option<DateTime<Utc>>,
    /// Whether that is too late for it: by then nothing of it begins any more.
    pub too_late: bool,
}

/// Which times of plans.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct PlanTimesFilter {
    /// Of this plan alone.
    pub plan: Option<String>,
    /// From here on, in RFC 3339. Left out: a week ago.
    #[serde(deserialize_with = "time")]
    pub from: Option<DateTime<Utc>>,
    /// Until here; 100 days after `from` at most. Left out: in two weeks.
    #[serde(deserialize_with = "time")]
    pub until: Option<DateTime<Utc>>,
}

/// Times of plans within a span.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PlanTimes {
    /// The times and runs, the first first.
    pub entries: Vec<PlanEntry>,
    /// Whether there are more than are listed.
    pub more: bool,
}

/// That a plan runs now.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct RunPlan {
    /// Why.
    pub why: Option<String>,
}

/// That a plan does not run at a time.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SkipPlan {
    /// The time, one of those to come. Left out: the next that is not skipped yet.
    #[serde(default)]
    pub due: Option<DateTime<Utc>>,
    /// Why.
    pub reason: String,
}

/// That a plan runs at a time that was skipped.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UnskipPlan {
    /// The time.
    pub due: DateTime<Utc>,
}
