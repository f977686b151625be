//! Jobs: a runbook at work on a target.

use crate::stored::{Stored, StoredPrincipal};
use arvok_core::{
    Trial,
    job::{JobEffect, JobState},
};
use sea_orm::entity::prelude::*;

/// One job.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "job")]
pub struct Model {
    /// Its number.
    #[sea_orm(primary_key, auto_increment = false)]
    pub id: i64,
    /// The runbook's name.
    pub runbook: String,
    /// The version it was dispatched with.
    pub runbook_version: i32,
    /// Its inputs.
    #[sea_orm(column_type = "JsonBinary")]
    pub inputs: Json,
    /// What it acts on.
    pub target: String,
    /// 0 for low to 3 for urgent.
    pub urgency: i16,
    /// Not started after this.
    pub deadline: Option<DateTimeUtc>,
    /// `queued`, `running`, ...
    pub state: Stored<JobState>,
    /// Whether it helped.
    pub effect: Option<Stored<JobEffect>>,
    /// Why it did not succeed.
    #[sea_orm(column_type = "Text")]
    pub failure: Option<String>,
    /// What it gave.
    #[sea_orm(column_type = "JsonBinary")]
    pub outputs: Option<Json>,
    /// The rule that dispatched it.
    pub rule: Option<String>,
    /// That rule's version.
    pub rule_version: Option<i32>,
    /// The alert that set it off.
    pub alert_seq: Option<i64>,
    /// The alarm of that alert.
    pub alarm_id: Option<i64>,
    /// Where it stands within its steps.
    #[sea_orm(column_type = "JsonBinary")]
    pub progress: Json,
    /// When it was dispatched.
    pub created_at: DateTimeUtc,
    /// When a node first took it up.
    pub started_at: Option<DateTimeUtc>,
    /// When its state became final.
    pub finished_at: Option<DateTimeUtc>,
    /// Until when it waits.
    pub wake_at: Option<DateTimeUtc>,
    /// Who executes it.
    pub node: Option<String>,
    /// Until when the claim holds.
    pub lease_until: Option<DateTimeUtc>,
    /// The number of the claim that holds it.
    pub claim: Option<i64>,
    /// How often it was claimed.
    pub claims: i32,
    /// How often its lease ran out since it last came a step further.
    pub lapses: i32,
    /// Whether its first record was kept.
    pub begun: bool,
    /// Steps of its runbook that are done.
    pub steps_done: i32,
    /// Of how many; 0 until its first record.
    pub steps: i32,
    /// What it is at, in words.
    #[sea_orm(column_type = "Text")]
    pub doing: String,
    /// Whether a change of its alarm wakes it.
    pub waits_for_alarm: bool,
    /// What a person says to it.
    #[sea_orm(column_type = "JsonBinary")]
    pub word: Option<Json>,
    /// How many words were said to it.
    pub word_number: i32,
    /// How much came for it from outside.
    pub posts: i32,
    /// Whether it has asked or waited for an event.
    pub outside: bool,
    /// The job whose step it is.
    pub parent: Option<i64>,
    /// The place of that step.
    #[sea_orm(column_type = "Text")]
    pub parent_place: Option<String>,
    /// The first of the jobs above it.
    pub root: Option<i64>,
    /// How deep it stands below that.
    pub depth: i16,
    /// Whether it holds its target itself, or a job above it does.
    pub holds: bool,
    /// The rules through whose jobs' events it came to be.
    #[sea_orm(column_type = "JsonBinary")]
    pub chain: Option<Json>,
    /// Who launched it, by hand or from a proposal.
    pub launched_by: Option<StoredPrincipal>,
    /// The key of that launch.
    pub launch_key: Option<String>,
    /// Why it was dispatched.
    #[sea_orm(column_type = "Text")]
    pub reason: Option<String>,
    /// Who has seen that it ended badly, and set it aside.
    pub seen_by: Option<StoredPrincipal>,
    /// When.
    pub seen_at: Option<DateTimeUtc>,
    /// The job that goes on from where it failed.
    pub goes_on_as: Option<i64>,
    /// Its span, as a `traceparent`.
    pub trace: Option<String>,
    /// How far it may go, if it is that of a trial.
    pub trial: Option<Stored<Trial>>,
    /// Why a guard holds it, or held it last.
    #[sea_orm(column_type = "JsonBinary")]
    pub held: Option<Json>,
    /// When a guard looks at it anew at the latest.
    pub held_look: Option<DateTimeUtc>,
    /// The guards that were overruled for it, by whom and why.
    #[sea_orm(column_type = "JsonBinary")]
    pub overruled: Option<Json>,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
#[expect(missing_docs, reason = "has no variants")]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
