//! What rules would do if a person agreed.

use crate::stored::{Stored, StoredPrincipal};
use arvok_api::ProposalState;
use arvok_core::Trial;
use sea_orm::entity::prelude::*;

/// One proposal.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "proposal")]
pub struct Model {
    /// Its number, and the job's once it is launched.
    #[sea_orm(primary_key, auto_increment = false)]
    pub id: i64,
    /// The rule's name.
    pub rule: String,
    /// Its version.
    pub rule_version: i32,
    /// The runbook's name.
    pub runbook: String,
    /// Its version.
    pub runbook_version: i32,
    /// The inputs.
    #[sea_orm(column_type = "JsonBinary")]
    pub inputs: Json,
    /// What it would act on.
    pub target: String,
    /// 0 for low to 3 for urgent.
    pub urgency: i16,
    /// How long after its launch it may be started, in milliseconds.
    pub deadline_ms: Option<i64>,
    /// The alert that set it off.
    pub alert_seq: Option<i64>,
    /// The alarm of that alert.
    pub alarm_id: Option<i64>,
    /// Why it is proposed.
    #[sea_orm(column_type = "Text")]
    pub reason: String,
    /// `open`, `launched`, `dismissed`, `withdrawn`, `faulty`.
    pub state: Stored<ProposalState>,
    /// When it was made.
    pub created_at: DateTimeUtc,
    /// When it was decided.
    pub decided_at: Option<DateTimeUtc>,
    /// By whom.
    pub decided_by: Option<StoredPrincipal>,
    /// The reason given.
    #[sea_orm(column_type = "Text")]
    pub note: Option<String>,
    /// The first number of its dispatch, where that is another.
    pub first_id: Option<i64>,
    /// The fold keys that it came from.
    pub tallies: Vec<String>,
    /// How far its job may go, if it is that of a trial.
    pub trial: Option<Stored<Trial>>,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
#[expect(missing_docs, reason = "has no variants")]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
