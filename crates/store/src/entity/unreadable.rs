//! Payloads that could not be read.

use sea_orm::entity::prelude::*;

/// One payload.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "unreadable")]
pub struct Model {
    /// Its number.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Who sent it.
    pub source: String,
    /// When it came, by our clock.
    pub received: DateTimeUtc,
    /// What is wrong.
    #[sea_orm(column_type = "Text")]
    pub reason: String,
    /// The payload.
    #[sea_orm(column_type = "Text")]
    pub payload: String,
    /// Whether it is one item of a payload.
    pub item: bool,
    /// What its intake offered beside the body, by its names; none of what was kept before it was.
    pub beside: Option<Json>,
    /// Whether it is caught: its source did not say how it is read.
    pub caught: bool,
    /// Whether the payload is in base64, since it is no text.
    pub base64: bool,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
#[expect(missing_docs, reason = "has no variants")]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
