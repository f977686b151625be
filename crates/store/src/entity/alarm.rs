//! The state that alerts raise and clear.

use crate::stored::Stored;
use arvok_core::AlertState;
use sea_orm::entity::prelude::*;

/// One alarm.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "alarm")]
pub struct Model {
    /// Its number.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// The source.
    pub source: String,
    /// What it is about.
    pub resource: String,
    /// Dotted kind.
    pub kind: String,
    /// 0 for indeterminate to 4 for critical.
    pub severity: i16,
    /// `raised` or `cleared`.
    pub state: Stored<AlertState>,
    /// Of the last alert.
    #[sea_orm(column_type = "Text")]
    pub summary: String,
    /// Of the last alert.
    pub value: Option<f64>,
    /// Raising alerts since it was last raised anew; 0 if it never was.
    pub count: i64,
    /// When it was last raised anew.
    pub raised_at: DateTimeUtc,
    /// When it was last raised anew, changed in severity, or cleared.
    pub changed_at: DateTimeUtc,
    /// When it was last cleared.
    pub cleared_at: Option<DateTimeUtc>,
    /// By the sender's clock, the newest that was told of it.
    #[sea_orm(column_name = "told_at")]
    pub last_sent_at: Option<DateTimeUtc>,
    /// Whether it is one of trials.
    pub trial: bool,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
#[expect(missing_docs, reason = "has no variants")]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
