//! What becomes of alerts that are older than they are kept: whole days are dropped; of a day that
//! some source wants to keep for longer, the others' alerts are deleted.

use super::Day;
use crate::{StoreError, entity::alert_day, retention::Retention, sql};
use chrono::{DateTime, Utc};
use sea_orm::{
    ConnectionTrait, DatabaseConnection, EntityTrait, FromQueryResult, TransactionTrait,
};

/// Alerts that one pass deletes one by one.
const A_PASS: i64 = 5_000;

/// Days that are over with the moment at which each ended, the oldest first.
pub(super) fn ended(newest_first: &[Day]) -> Vec<(Day, DateTime<Utc>)> {
    newest_first.windows(2).map(|w| (w[1], w[0].begun_at)).rev().collect()
}

/// Removes what is kept no longer; how many days and how many single alerts went.
///
/// # Errors
/// Of the passing kind if somebody reads a day that is to go and does not end: try later.
pub async fn expire(
    db: &DatabaseConnection,
    retention: &Retention,
    now: DateTime<Utc>,
) -> Result<(u64, u64), StoreError> {
    let (mut days, mut alerts) = (0, 0);
    for (day, end) in ended(&super::all(db).await?) {
        if end < now - retention.longest() {
            drop_day(db, day).await?;
            days += 1;
        } else if !retention.sources.is_empty() && alerts < A_PASS.unsigned_abs() {
            alerts += thin_out(db, day, |source| end < now - retention.of_source(source)).await?;
        }
    }
    Ok((days, alerts))
}

/// Drops the tables of a day. Whoever takes alerts in waits for it, but not for those it waits for.
async fn drop_day(db: &DatabaseConnection, day: Day) -> Result<(), StoreError> {
    let (alerts, verdicts) = day.tables();
    let tx = db.begin().await?;
    tx.execute_unprepared("SET LOCAL lock_timeout = '500ms'").await?;
    tx.execute_unprepared("LOCK TABLE ONLY alerts, ONLY verdicts IN ACCESS EXCLUSIVE MODE").await?;
    tx.execute_unprepared(&format!("DROP TABLE IF EXISTS {alerts}, {verdicts}")).await?;
    alert_day::Entity::delete_by_id(day.first_seq).exec(&tx).await?;
    Ok(tx.commit().await?)
}

/// Deletes some alerts of the sources whose time is over.
async fn thin_out(
    db: &DatabaseConnection,
    day: Day,
    is_over: impl Fn(&str) -> bool,
) -> Result<u64, StoreError> {
    #[derive(FromQueryResult)]
    struct Gone {
        alerts: i64,
    }
    let (alerts, verdicts) = day.tables();
    let mut gone = 0;
    for source in sources(db, day).await?.into_iter().filter(|source| is_over(source)) {
        let sql = format!(
            "WITH gone AS (DELETE FROM {alerts} WHERE seq IN (SELECT seq FROM {alerts}
                WHERE source = $1 LIMIT $2)
                RETURNING seq),
            told AS (DELETE FROM {verdicts} WHERE alert_seq IN (SELECT seq FROM gone))
            SELECT count(*) AS alerts FROM gone"
        );
        let rows: Vec<Gone> = sql::typed(db, &sql, vec![source.into(), A_PASS.into()]).await?;
        gone += rows.first().map_or(0, |g| g.alerts.unsigned_abs());
    }
    Ok(gone)
}

/// The sources of a day, from one to the next by the index, however many alerts each has.
async fn sources(db: &DatabaseConnection, day: Day) -> Result<Vec<String>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        source: String,
    }
    let (alerts, _) = day.tables();
    let sql = format!(
        "WITH RECURSIVE s (source) AS (SELECT min(source) FROM {alerts}
            UNION ALL SELECT (SELECT min(a.source) FROM {alerts} a WHERE a.source > s.source)
            FROM s WHERE s.source IS NOT NULL)
        SELECT source FROM s WHERE source IS NOT NULL"
    );
    let rows: Vec<Row> = sql::typed(db, &sql, vec![]).await?;
    Ok(rows.into_iter().map(|row| row.source).collect())
}

/// How many whole days would go under a retention, and how many alerts in all, counted up to so
/// many of a day.
pub async fn would_go(
    db: &DatabaseConnection,
    retention: &Retention,
    most: i64,
    now: DateTime<Utc>,
) -> Result<(i64, i64), StoreError> {
    #[derive(FromQueryResult)]
    struct Count {
        n: i64,
    }
    let (mut days, mut all) = (0, 0);
    for (day, end) in ended(&super::all(db).await?) {
        let whole = end < now - retention.longest();
        let over: Vec<String> = match whole {
            true => Vec::new(),
            false => sources(db, day)
                .await?
                .into_iter()
                .filter(|source| end < now - retention.of_source(source))
                .collect(),
        };
        if !whole && over.is_empty() {
            continue;
        }
        days += i64::from(whole);
        let (alerts, _) = day.tables();
        let sql = format!(
            "SELECT count(*) AS n FROM (SELECT 1 FROM {alerts} WHERE $1 OR source = ANY($2)
                LIMIT $3) c"
        );
        let rows: Vec<Count> =
            sql::typed(db, &sql, vec![whole.into(), over.into(), most.into()]).await?;
        all += rows.first().map_or(0, |count| count.n);
    }
    Ok((days, all))
}
