//! How definitions have fared.

use crate::{StoreError, sql};
use arvok_api::{Use, definitions::VerdictCount};
use sea_orm::DatabaseConnection;
use std::collections::BTreeMap;

#[derive(serde::Deserialize)]
struct Row {
    name: String,
    #[serde(flatten)]
    used: Use,
}

async fn by_name(db: &DatabaseConnection, sql: &str) -> Result<BTreeMap<String, Use>, StoreError> {
    let rows: Vec<Row> = sql::rows(db, sql, vec![]).await?;
    Ok(rows.into_iter().map(|r| (r.name, r.used)).collect())
}

/// Of sources.
pub async fn source_use(db: &DatabaseConnection) -> Result<BTreeMap<String, Use>, StoreError> {
    let sql = "SELECT source AS name, sum(alerts)::bigint AS alerts, 0 AS jobs, 0 AS confirmed,
            sum(unreadable)::bigint AS unreadable, max(last_at) AS last_at
        FROM (SELECT source, alerts, 0 AS unreadable, minute AS last_at FROM delivered
            UNION ALL SELECT source, 0, 1, received FROM unreadable) d GROUP BY source";
    by_name(db, sql).await
}

/// Of rules.
pub async fn rule_use(db: &DatabaseConnection) -> Result<BTreeMap<String, Use>, StoreError> {
    let sql = "SELECT v.rule AS name, count(*) AS alerts, count(*) FILTER (WHERE v.verdict = 'dispatched') AS jobs,
            count(*) FILTER (WHERE v.verdict = 'dispatched' AND j.effect = 'confirmed') AS confirmed,
            0 AS unreadable, max(v.at) AS last_at
        FROM verdict v LEFT JOIN job j ON j.id = v.job_id GROUP BY v.rule";
    by_name(db, sql).await
}

/// Of runbooks.
pub async fn runbook_use(db: &DatabaseConnection) -> Result<BTreeMap<String, Use>, StoreError> {
    let sql = "SELECT runbook AS name, 0 AS alerts, count(*) AS jobs, count(*) FILTER (WHERE effect = 'confirmed') AS confirmed,
            0 AS unreadable, max(created_at) AS last_at FROM job GROUP BY runbook";
    by_name(db, sql).await
}

/// How often each verdict of a rule was given.
pub async fn verdict_counts(db: &DatabaseConnection, rule: &str) -> Result<Vec<VerdictCount>, StoreError> {
    let sql = "SELECT verdict, count(*) AS count FROM verdict WHERE rule = $1 GROUP BY verdict ORDER BY count(*) DESC";
    sql::rows(db, sql, vec![rule.into()]).await
}
