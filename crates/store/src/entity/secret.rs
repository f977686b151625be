//! Secrets, sealed.

use sea_orm::entity::prelude::*;

/// One secret.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "secret")]
pub struct Model {
    /// Its name, as in `secret('name')`.
    #[sea_orm(primary_key, auto_increment = false)]
    pub name: String,
    /// The sealed value.
    pub sealed: Vec<u8>,
    /// When it was set.
    pub changed_at: DateTimeUtc,
    /// Where it may go: sources and connections as `kind/name`.
    pub allowed: Vec<String>,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
#[expect(missing_docs, reason = "has no variants")]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
