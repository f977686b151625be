//! What is stored: how much, since when, and how much of it each day.

use super::{Day, retention::ended};
use crate::{
    StoreError,
    retention::{IDS_KNOWN, Retention},
    sql,
};
use arvok_api::{Storage, StoredDay, StoredKind};
use chrono::{DateTime, Utc};
use sea_orm::{DatabaseConnection, FromQueryResult};
use std::collections::BTreeMap;

/// The tables, with what people call them, in the order in which they are shown.
const KINDS: [(&str, &[&str]); 10] = [
    ("alerts", &["alerts"]),
    ("verdicts", &["verdicts"]),
    ("alarms", &["alarm"]),
    ("jobs", &["job"]),
    ("attempts", &["attempt"]),
    ("proposals", &["proposal"]),
    ("memories of rules", &["tally", "pool"]),
    ("unreadable payloads", &["unreadable"]),
    ("counts", &["verdict_count", "alert_count", "job_count", "delivery_count"]),
    ("definitions", &["definition"]),
];

#[derive(FromQueryResult)]
struct Table {
    name: String,
    whole: Option<String>,
    rows: i64,
    bytes: i64,
}

/// What is stored, by kind and by day. Rows are PostgreSQL's own estimate.
pub async fn storage(
    db: &DatabaseConnection,
    retention: &Retention,
    now: DateTime<Utc>,
) -> Result<Storage, StoreError> {
    let sql = "SELECT c.relname::text AS name, p.relname::text AS whole,
            greatest(coalesce(s.n_live_tup, 0), c.reltuples::bigint, 0) AS rows, pg_total_relation_size(c.oid) AS bytes
        FROM pg_class c LEFT JOIN pg_inherits i ON i.inhrelid = c.oid LEFT
        JOIN pg_class p ON p.oid = i.inhparent
        LEFT JOIN pg_stat_user_tables s ON s.relid = c.oid
        WHERE c.relkind = 'r' AND c.relnamespace = current_schema()::regnamespace";
    let tables: Vec<Table> = sql::typed(db, sql, vec![]).await?;
    let kind = |(name, of): (&str, &[&str])| {
        let its = tables.iter().filter(|t| of.contains(&t.whole.as_deref().unwrap_or(&t.name)));
        let (rows, bytes) = its.fold((0, 0), |(rows, bytes), t| (rows + t.rows, bytes + t.bytes));
        StoredKind { name: name.to_owned(), rows, bytes }
    };
    let by_name: BTreeMap<&str, &Table> = tables.iter().map(|t| (t.name.as_str(), t)).collect();
    let days = super::all(db).await?;
    let ends: BTreeMap<i64, DateTime<Utc>> =
        ended(&days).into_iter().map(|(d, end)| (d.first_seq, end)).collect();
    let day = |day: &Day| {
        let (alerts, verdicts) = day.tables();
        let of = |name: &str| by_name.get(name).map_or((0, 0), |t| (t.rows, t.bytes));
        let until = ends.get(&day.first_seq).copied();
        StoredDay {
            since: day.begun_at,
            until,
            goes_at: until.map(|end| (end + retention.longest()).max(now)),
            alerts: of(&alerts).0,
            alert_bytes: of(&alerts).1,
            verdicts: of(&verdicts).0,
            verdict_bytes: of(&verdicts).1,
        }
    };
    Ok(Storage {
        bytes: tables.iter().map(|t| t.bytes).sum(),
        kept: retention.times(),
        ids_known_seconds: IDS_KNOWN.num_seconds(),
        kinds: KINDS.into_iter().map(kind).collect(),
        days: days.iter().map(day).collect(),
    })
}
