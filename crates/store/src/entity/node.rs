//! The nodes as they were last heard of.

use sea_orm::entity::prelude::*;

/// One node.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "node")]
pub struct Model {
    /// New with each start.
    #[sea_orm(primary_key, auto_increment = false)]
    pub name: String,
    /// The machine.
    pub host: String,
    /// Where it listens.
    pub address: String,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
#[expect(missing_docs, reason = "has no variants")]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
