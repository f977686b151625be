//! Deliveries that were refused or had to wait, since their source sent more than its limit:
//! counted beside those that were taken.

use crate::{StoreError, sql};
use sea_orm::{ConnectionTrait, FromQueryResult};
use std::collections::BTreeMap;

/// Counts them, by source.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn count(
    db: &impl ConnectionTrait,
    over: &BTreeMap<String, i64>,
) -> Result<(), StoreError> {
    let sql = "INSERT INTO delivery_count AS c (source, minute, shard, over_limit)
        SELECT source, date_trunc('minute', now()), 0, over
        FROM unnest($1::text[], $2::bigint[]) AS t (source, over) ORDER BY source
        ON CONFLICT (source, minute, shard) DO UPDATE
            SET over_limit = c.over_limit + excluded.over_limit";
    let (sources, over): (Vec<String>, Vec<i64>) =
        over.iter().map(|(source, over)| (source.clone(), *over)).unzip();
    sql::run(db, sql, vec![sources.into(), over.into()]).await?;
    Ok(())
}

/// The sources of which there were any within the last two minutes.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn lately(db: &impl ConnectionTrait) -> Result<Vec<String>, StoreError> {
    #[derive(FromQueryResult)]
    struct Name {
        source: String,
    }
    let sql = "SELECT DISTINCT source FROM delivery_count
        WHERE minute > now() - interval '2 minutes' AND over_limit > 0 ORDER BY source";
    let found: Vec<Name> = sql::typed(db, sql, vec![]).await?;
    Ok(found.into_iter().map(|name| name.source).collect())
}
