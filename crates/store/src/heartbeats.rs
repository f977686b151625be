//! Senders that say that they are alive: when each was heard of at last, and whether it is missing
//! and that was told.

use crate::{StoreError, sql};
use chrono::{DateTime, Utc};
use sea_orm::{
    ConnectionTrait, DatabaseConnection, DatabaseTransaction, FromQueryResult, TransactionTrait,
};

/// A sender that is missing, whose row nobody else changes.
#[derive(Debug)]
pub struct HeldHeartbeat {
    tx: DatabaseTransaction,
    source: String,
    name: String,
    /// When it was heard of at last.
    pub last_at: DateTime<Utc>,
}

/// A sender as it stands.
#[derive(Clone, Debug, PartialEq, FromQueryResult)]
pub struct HeartbeatRow {
    /// Its name.
    pub name: String,
    /// When it was heard of at last.
    pub last_at: DateTime<Utc>,
    /// Whether it is missing.
    pub missing: bool,
}

/// Notes that a sender is heard of; false if it is missing, or new.
pub async fn note(db: &impl ConnectionTrait, source: &str, name: &str) -> Result<bool, StoreError> {
    let sql = "UPDATE heartbeat SET last_at = clock_timestamp()
        WHERE source = $1 AND name = $2 AND NOT missing";
    Ok(sql::run(db, sql, vec![source.into(), name.into()]).await? == 1)
}

/// Adds a sender, unless there are so many; whether it was added.
pub async fn add(
    db: &impl ConnectionTrait,
    source: &str,
    name: &str,
    most: i64,
) -> Result<bool, StoreError> {
    let sql = "INSERT INTO heartbeat (source, name, last_at) SELECT $1, $2, clock_timestamp()
        WHERE (SELECT count(*) FROM heartbeat WHERE source = $1) < $3 ON CONFLICT DO NOTHING";
    Ok(sql::run(db, sql, vec![source.into(), name.into(), most.into()]).await? == 1)
}

/// Holds a sender that is missing; none if it is not, or not any more.
pub async fn hold(
    db: &DatabaseConnection,
    source: &str,
    name: &str,
) -> Result<Option<HeldHeartbeat>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        last_at: DateTime<Utc>,
    }
    let tx = db.begin().await?;
    let sql = "SELECT last_at FROM heartbeat WHERE source = $1 AND name = $2 AND missing
        FOR UPDATE";
    let found: Vec<Row> = sql::typed(&tx, sql, vec![source.into(), name.into()]).await?;
    let Some(Row { last_at }) = found.into_iter().next() else {
        tx.rollback().await?;
        return Ok(None);
    };
    Ok(Some(HeldHeartbeat { tx, source: source.to_owned(), name: name.to_owned(), last_at }))
}

impl HeldHeartbeat {
    /// Keeps that it is heard of again.
    pub async fn is_back(self) -> Result<(), StoreError> {
        self.keep("missing = false, told = false, last_at = clock_timestamp()").await
    }

    /// Keeps that it was told of.
    pub async fn is_told(self) -> Result<(), StoreError> {
        self.keep("told = true").await
    }

    async fn keep(self, what: &str) -> Result<(), StoreError> {
        let sql = format!("UPDATE heartbeat SET {what} WHERE source = $1 AND name = $2");
        sql::run(&self.tx, &sql, vec![self.source.into(), self.name.into()]).await?;
        Ok(self.tx.commit().await?)
    }
}

/// Writes down as missing who was not heard of since a moment, so many at most.
pub async fn miss(
    db: &impl ConnectionTrait,
    source: &str,
    since: DateTime<Utc>,
    most: i64,
) -> Result<u64, StoreError> {
    let sql = "UPDATE heartbeat SET missing = true WHERE (source, name) IN (
        SELECT source, name FROM heartbeat WHERE source = $1 AND NOT missing AND last_at <= $2
        ORDER BY last_at LIMIT $3 FOR UPDATE SKIP LOCKED)";
    sql::run(db, sql, vec![source.into(), since.into(), most.into()]).await
}

/// Who is missing and was not told of, by source and name, so many at most.
pub async fn untold(
    db: &impl ConnectionTrait,
    sources: &[String],
    most: i64,
) -> Result<Vec<(String, String)>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        source: String,
        name: String,
    }
    let sql = "SELECT source, name FROM heartbeat WHERE missing AND NOT told AND source = ANY($1)
        ORDER BY last_at LIMIT $2";
    let found: Vec<Row> = sql::typed(db, sql, vec![sources.to_vec().into(), most.into()]).await?;
    Ok(found.into_iter().map(|row| (row.source, row.name)).collect())
}

/// The senders of a source, those that are missing first, so many at most.
pub async fn list(
    db: &impl ConnectionTrait,
    source: &str,
    most: i64,
) -> Result<Vec<HeartbeatRow>, StoreError> {
    let sql = "SELECT name, last_at, missing FROM heartbeat WHERE source = $1
        ORDER BY missing DESC, name LIMIT $2";
    sql::typed(db, sql, vec![source.into(), most.into()]).await
}

/// Removes those of sources that are not published any more, and who has been missing for so long
/// that nobody expects it.
pub(crate) async fn sweep(db: &impl ConnectionTrait) -> Result<u64, StoreError> {
    let sql = "DELETE FROM heartbeat h WHERE last_at < now() - interval '90 days'
        OR NOT EXISTS (SELECT 1 FROM definition d
            WHERE d.kind = 'source' AND d.name = h.source AND NOT d.withdrawn AND d.version =
                (SELECT max(l.version) FROM definition l
                    WHERE l.kind = d.kind AND l.name = d.name))";
    sql::run(db, sql, vec![]).await
}
