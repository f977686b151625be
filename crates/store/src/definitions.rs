//! Versions of documents, and publishing.

use crate::{
    StoreError, changes,
    entity::definition::{ActiveModel, Entity, Model},
    sql,
};
use arvok_api::Change;
use chrono::{DateTime, Utc};
use sea_orm::{DatabaseConnection, EntityTrait, FromQueryResult, Set, TransactionTrait};

const NEWEST: &str = "SELECT DISTINCT ON (kind, name) * FROM definition ORDER BY kind, name, version DESC";

/// The newest version of every document.
pub async fn newest(db: &DatabaseConnection) -> Result<Vec<Model>, StoreError> {
    Ok(Model::find_by_statement(sql::statement(NEWEST, vec![])).all(db).await?)
}

/// A document to be published.
#[derive(Clone, Debug)]
pub struct NewVersion {
    /// Its kind.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// One more than the newest.
    pub version: i32,
    /// The file it came from.
    pub file: String,
    /// The document.
    pub text: String,
}

/// Publishes all or, if somebody else has published one of these versions meanwhile, nothing.
pub async fn publish(
    db: &DatabaseConnection,
    versions: Vec<NewVersion>,
    by: &str,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let rows = versions.into_iter().map(|v| ActiveModel {
        kind: Set(v.kind),
        name: Set(v.name),
        version: Set(v.version),
        file: Set(v.file),
        text: Set(v.text),
        published_at: Set(now),
        published_by: Set(by.to_owned()),
    });
    let tx = db.begin().await?;
    Entity::insert_many(rows).exec_without_returning(&tx).await?;
    changes::announce(&tx, Change { definitions: true, ..Change::default() }).await?;
    Ok(tx.commit().await?)
}

/// One old or new version's text.
pub async fn version(
    db: &DatabaseConnection,
    kind: &str,
    name: &str,
    version: i32,
) -> Result<Option<Model>, StoreError> {
    Ok(Entity::find_by_id((kind.to_owned(), name.to_owned(), version)).one(db).await?)
}
