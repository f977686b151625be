//! Versions of documents, and publishing.

use crate::{
    StoreError, changes,
    entity::definition::{ActiveModel, Entity, Model},
    sql,
};
use arvok_api::{Change, VersionItem};
use arvok_core::settle::Tally;
use chrono::{DateTime, Utc};
use sea_orm::{DatabaseConnection, EntityTrait, FromQueryResult, Set, TransactionTrait};

/// Which version of a document is the newest.
#[derive(Clone, Debug, PartialEq, Eq, serde::Deserialize)]
pub struct Newest {
    /// Its kind.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// The newest version.
    pub version: i32,
}

/// The newest version of every document, without the documents.
pub async fn newest(db: &DatabaseConnection) -> Result<Vec<Newest>, StoreError> {
    sql::rows(db, "SELECT kind, name, max(version) AS version FROM definition GROUP BY kind, name", vec![]).await
}

/// These versions with their documents.
pub async fn load(db: &DatabaseConnection, wanted: &[Newest]) -> Result<Vec<Model>, StoreError> {
    let sql = "SELECT d.* FROM definition d JOIN unnest($1::text[], $2::text[], $3::int[]) AS t (kind, name, version)
        USING (kind, name, version)";
    let column = |f: fn(&Newest) -> &String| wanted.iter().map(|n| f(n).clone()).collect::<Vec<String>>().into();
    let versions = wanted.iter().map(|n| n.version).collect::<Vec<i32>>().into();
    let values = vec![column(|n| &n.kind), column(|n| &n.name), versions];
    Ok(Model::find_by_statement(sql::statement(sql, values)).all(db).await?)
}

/// All versions of a document, newest first.
pub async fn versions(db: &DatabaseConnection, kind: &str, name: &str) -> Result<Vec<VersionItem>, StoreError> {
    let sql = "SELECT version, published_at, published_by, text FROM definition WHERE kind = $1 AND name = $2
        ORDER BY version DESC LIMIT 200";
    sql::rows(db, sql, vec![kind.into(), name.into()]).await
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

/// Something that a rule waits for from its publication on.
#[derive(Clone, Debug)]
pub struct Awaited {
    /// The rule.
    pub rule: String,
    /// The tally's key.
    pub key: String,
    /// The tally.
    pub tally: Tally,
}

/// Publishes all or, if somebody else has published one of these versions meanwhile, nothing.
pub async fn publish(
    db: &DatabaseConnection,
    versions: Vec<NewVersion>,
    awaited: Vec<Awaited>,
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
    for a in awaited {
        let sql = "INSERT INTO tally (rule, key, state, alarms, due) VALUES ($1, $2, $3::jsonb, '{}', $4)
            ON CONFLICT DO NOTHING";
        let state = serde_json::to_string(&a.tally)?;
        sql::run(&tx, sql, vec![a.rule.into(), a.key.into(), state.into(), a.tally.due.into()]).await?;
    }
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
