//! The days of alerts that have begun and are still kept.

use sea_orm::entity::prelude::*;

/// One day.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "alert_day")]
pub struct Model {
    /// Its first number.
    #[sea_orm(primary_key, auto_increment = false)]
    pub first_seq: i64,
    /// The first number that lies beyond it.
    pub bound_seq: i64,
    /// When it began.
    pub begun_at: DateTimeUtc,
    /// Its last number, once it is over.
    pub last_seq: Option<i64>,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
#[expect(missing_docs, reason = "has no variants")]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
