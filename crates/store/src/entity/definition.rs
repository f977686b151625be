//! Versions of documents.

use crate::stored::StoredPrincipal;
use sea_orm::{FromJsonQueryResult, entity::prelude::*};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Shared steps by name.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, FromJsonQueryResult)]
pub struct StoredParts(pub BTreeMap<String, StoredPart>);

/// A shared step as it was when a runbook was published with it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StoredPart {
    /// Its version.
    pub version: i32,
    /// Its document.
    pub text: String,
}

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
    /// The shared steps that it was published with, by name.
    #[sea_orm(column_type = "JsonBinary")]
    pub parts: StoredParts,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
#[expect(missing_docs, reason = "has no variants")]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
