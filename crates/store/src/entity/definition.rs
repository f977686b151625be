//! Versions of documents.

use crate::stored::StoredPrincipal;
use sea_orm::entity::prelude::*;

/// One version of one document.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "definition")]
pub struct Model {
    /// `source`, `rule`, ...
    #[sea_orm(primary_key, auto_increment = false)]
    pub kind: String,
    /// Its name, unique within its kind.
    #[sea_orm(primary_key, auto_increment = false)]
    pub name: String,
    /// From one.
    #[sea_orm(primary_key, auto_increment = false)]
    pub version: i32,
    /// The file it came from.
    pub file: String,
    /// The document.
    #[sea_orm(column_type = "Text")]
    pub text: String,
    /// When this version was published.
    pub published_at: DateTimeUtc,
    /// By whom.
    pub published_by: StoredPrincipal,
    /// Whether this version withdraws it.
    pub withdrawn: bool,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
#[expect(missing_docs, reason = "has no variants")]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
