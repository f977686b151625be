//! Sessions of the console; only their hashes.

use sea_orm::entity::prelude::*;

/// One session.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "session")]
pub struct Model {
    /// SHA-256 of the cookie.
    #[sea_orm(primary_key, auto_increment = false)]
    pub hash: Vec<u8>,
    /// The token that signed in.
    pub token_id: i64,
    /// When it ends.
    pub expires_at: DateTimeUtc,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
#[expect(missing_docs, reason = "has no variants")]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
