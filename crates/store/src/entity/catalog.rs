//! What is published, as a whole.

use sea_orm::entity::prelude::*;

/// The only row.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "catalog")]
pub struct Model {
    /// Always true.
    #[sea_orm(primary_key, auto_increment = false)]
    pub one: bool,
    /// Counts up with whatever is published, withdrawn or sealed.
    pub generation: i64,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
#[expect(missing_docs, reason = "has no variants")]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
