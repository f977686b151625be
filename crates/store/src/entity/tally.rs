//! What rules remember, by fold key.

use sea_orm::entity::prelude::*;

/// One tally.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "tally")]
pub struct Model {
    /// The rule's name.
    #[sea_orm(primary_key, auto_increment = false)]
    pub rule: String,
    /// The fold key.
    #[sea_orm(primary_key, auto_increment = false)]
    pub key: String,
    /// The memory itself.
    #[sea_orm(column_type = "JsonBinary")]
    pub state: Json,
    /// When it is to be looked at again.
    pub due: Option<DateTimeUtc>,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
#[expect(missing_docs, reason = "has no variants")]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
