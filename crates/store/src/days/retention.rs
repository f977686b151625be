//! How long alerts are kept, and what becomes of those that are older: whole days are dropped; of a
//! day that some source wants to keep for longer, the others' alerts are deleted.

use super::Day;
use crate::{StoreError, entity::alert_day, sql};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::{ConnectionTrait, DatabaseConnection, EntityTrait, FromQueryResult, TransactionTrait};
use std::collections::BTreeMap;

/// Alerts that one pass deletes one by one.
const A_PASS: i64 = 5_000;

/// How long alerts and their verdicts are kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Retention {
    /// Those of all sources that are not named.
    pub alerts: TimeDelta,
    /// Those of some sources.
    pub sources: BTreeMap<String, TimeDelta>,
}

impl Default for Retention {
    fn default() -> Self {
        Self { alerts: TimeDelta::days(30), sources: BTreeMap::new() }
    }
}

impl Retention {
    /// How long the alerts of a source are kept.
    pub fn of(&self, source: &str) -> TimeDelta {
        self.sources.get(source).copied().unwrap_or(self.alerts)
    }

    /// How long any alert is kept.
    pub fn longest(&self) -> TimeDelta {
        self.sources.values().copied().chain([self.alerts]).max().unwrap_or(self.alerts)
    }
}

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
            alerts += thin_out(db, day, |source| end < now - retention.of(source)).await?;
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
async fn thin_out(db: &DatabaseConnection, day: Day, is_over: impl Fn(&str) -> bool) -> Result<u64, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        source: String,
    }
    #[derive(FromQueryResult)]
    struct Gone {
        alerts: i64,
    }
    let (alerts, verdicts) = day.tables();
    // From one source to the next by the index, however many alerts each has.
    let sources = format!(
        "WITH RECURSIVE s (source) AS (SELECT min(source) FROM {alerts}
            UNION ALL SELECT (SELECT min(a.source) FROM {alerts} a WHERE a.source > s.source) FROM s WHERE s.source IS NOT NULL)
        SELECT source FROM s WHERE source IS NOT NULL"
    );
    let sources: Vec<Row> = sql::typed(db, &sources, vec![]).await?;
    let mut gone = 0;
    for Row { source } in sources.into_iter().filter(|s| is_over(&s.source)) {
        let sql = format!(
            "WITH gone AS (DELETE FROM {alerts} WHERE seq IN (SELECT seq FROM {alerts} WHERE source = $1 LIMIT $2)
                RETURNING seq),
            told AS (DELETE FROM {verdicts} WHERE alert_seq IN (SELECT seq FROM gone))
            SELECT count(*) AS alerts FROM gone"
        );
        let rows: Vec<Gone> = sql::typed(db, &sql, vec![source.into(), A_PASS.into()]).await?;
        gone += rows.first().map_or(0, |g| g.alerts.unsigned_abs());
    }
    Ok(gone)
}
