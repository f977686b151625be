//! Tries of a job's steps.

use crate::stored::Stored;
use arvok_api::StepState;
use sea_orm::entity::prelude::*;

/// One try.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "attempt")]
pub struct Model {
    /// The job.
    #[sea_orm(primary_key, auto_increment = false)]
    pub job_id: i64,
    /// The place of the step, such as `pool[3].grow`; of before `#` and its number.
    #[sea_orm(primary_key, auto_increment = false)]
    pub place: String,
    /// Which try, from one.
    #[sea_orm(primary_key, auto_increment = false)]
    pub attempt: i32,
    /// `running`, `done`, `failed`, `unsure`, `skipped`, `stopped`.
    pub state: Stored<StepState>,
    /// When it began.
    pub started_at: DateTimeUtc,
    /// When it ended.
    pub finished_at: Option<DateTimeUtc>,
    /// What it was given.
    #[sea_orm(column_type = "JsonBinary")]
    pub give: Json,
    /// What was sent for it.
    #[sea_orm(column_type = "JsonBinary")]
    pub request: Option<Json>,
    /// What it was answered.
    #[sea_orm(column_type = "JsonBinary")]
    pub answer: Option<Json>,
    /// What its condition saw when it was looked at last.
    #[sea_orm(column_type = "JsonBinary")]
    pub saw: Option<Json>,
    /// What it gave.
    #[sea_orm(column_type = "JsonBinary")]
    pub output: Option<Json>,
    /// What went wrong.
    #[sea_orm(column_type = "Text")]
    pub error: Option<String>,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
#[expect(missing_docs, reason = "has no variants")]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
