//! The last calls of connections.

use crate::stored::{Stored, StoredPrincipal};
use arvok_api::CallState;
use chrono::{DateTime, Utc};
use sea_orm::entity::prelude::*;

/// A call that is over.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "call")]
pub struct Model {
    /// Its number.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Through which connection.
    pub connection: String,
    /// What was called.
    pub operation: String,
    /// The job for which it was made.
    pub job_id: Option<i64>,
    /// Its step.
    pub place: Option<String>,
    /// Which try, from one.
    pub attempt: Option<i32>,
    /// Who called it by hand.
    pub by: Option<StoredPrincipal>,
    /// When it began.
    pub at: DateTime<Utc>,
    /// How long it took, in milliseconds.
    pub millis: i32,
    /// How it ended.
    pub ended: Stored<CallState>,
    /// What went wrong.
    pub message: Option<String>,
    /// Its span, as a `traceparent`.
    pub trace: Option<String>,
}

/// It stands for itself.
#[derive(Clone, Copy, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
