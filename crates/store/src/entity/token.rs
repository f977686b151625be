//! Access tokens; only their hashes.

use crate::stored::Stored;
use arvok_core::Role;
use sea_orm::entity::prelude::*;

/// One token.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "token")]
pub struct Model {
    /// Its number.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// What people call it; unique.
    pub name: String,
    /// What it allows.
    pub role: Stored<Role>,
    /// SHA-256 of the token.
    pub hash: Vec<u8>,
    /// What it may let act by itself, as JSON.
    pub automate: Json,
    /// When it was made.
    pub created_at: DateTimeUtc,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
#[expect(missing_docs, reason = "has no variants")]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
