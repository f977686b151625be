//! What is remembered of the last look of each source whose messages are fetched.

use crate::{StoreError, sql};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, FromQueryResult};
use serde_json::Value;

/// The last look of a source.
#[derive(Clone, Debug, PartialEq, FromQueryResult)]
pub struct LastLook {
    /// What is remembered of it.
    pub cursor: Value,
    /// When it was.
    pub looked_at: DateTime<Utc>,
}

/// The last look of a source by what it is looked now; none if there was none yet.
pub async fn last(
    db: &impl ConnectionTrait,
    source: &str,
    spec: &str,
) -> Result<Option<LastLook>, StoreError> {
    let sql = "SELECT cursor, looked_at FROM poll_cursor WHERE source = $1 AND spec = $2";
    let found: Vec<LastLook> = sql::typed(db, sql, vec![source.into(), spec.into()]).await?;
    Ok(found.into_iter().next())
}

/// Remembers a look of a source, after one of which something was remembered; false if another look
/// was remembered since then.
pub async fn remember(
    db: &impl ConnectionTrait,
    (source, spec): (&str, &str),
    before: &Value,
    cursor: &Value,
) -> Result<bool, StoreError> {
    let sql = "INSERT INTO poll_cursor AS p (source, spec, cursor, looked_at)
        VALUES ($1, $2, $4, clock_timestamp())
        ON CONFLICT (source) DO UPDATE SET spec = excluded.spec, cursor = excluded.cursor,
            looked_at = excluded.looked_at
        WHERE p.spec <> excluded.spec OR p.cursor = $3";
    let values = vec![source.into(), spec.into(), before.clone().into(), cursor.clone().into()];
    Ok(sql::run(db, sql, values).await? == 1)
}

/// Removes those of sources that are not published any more.
pub(crate) async fn sweep(db: &impl ConnectionTrait) -> Result<u64, StoreError> {
    let sql = "DELETE FROM poll_cursor p WHERE NOT EXISTS (SELECT 1 FROM definition d
        WHERE d.kind = 'source' AND d.name = p.source AND NOT d.withdrawn AND d.version =
            (SELECT max(l.version) FROM definition l WHERE l.kind = d.kind AND l.name = d.name))";
    sql::run(db, sql, vec![]).await
}
