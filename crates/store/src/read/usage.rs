//! How definitions have fared.

use crate::{StoreError, shapes, sql};
use arvok_api::{Use, definitions::VerdictCount};
use arvok_core::{Period, catalog::Observed};
use chrono::{DateTime, Utc};
use sea_orm::{DatabaseConnection, FromQueryResult};
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
    let sql = "SELECT source AS name, coalesce(sum(alerts), 0)::bigint AS alerts, 0 AS jobs,
        0 AS confirmed,
            coalesce(sum(unreadable), 0)::bigint AS unreadable, coalesce(sum(caught), 0)::bigint AS caught, coalesce(sum(conflicts), 0)::bigint AS conflicts,
            coalesce(sum(refused), 0)::bigint AS refused, coalesce(sum(over_limit), 0)::bigint AS over_limit,
            max(last_at) AS last_at
        FROM (SELECT source, alerts - repeated AS alerts, 0 AS unreadable, 0 AS caught, conflicts, 0 AS refused,
                CASE WHEN minute >= now() - interval '1 day' THEN over_limit ELSE 0 END AS over_limit,
                coalesce(last_at, minute) AS last_at FROM delivery_count
            UNION ALL SELECT source, 0, count(*) FILTER (WHERE NOT caught), count(*) FILTER (WHERE caught), 0, 0, 0,
                NULL FROM unreadable GROUP BY source
            UNION ALL SELECT split_part(substr(what, 8), ':', 1), 0, 0, 0, 0, sum(times), 0, NULL FROM audit
                WHERE act = 'sender.refused' AND at >= now() - interval '1 day' GROUP BY what) d
                GROUP BY source";
    by_name(db, sql).await
}

/// When each of these sources was heard of at last, of those that were.
pub async fn last_heard(
    db: &DatabaseConnection,
    sources: &[String],
) -> Result<BTreeMap<String, DateTime<Utc>>, StoreError> {
    #[derive(FromQueryResult)]
    struct Heard {
        name: String,
        at: DateTime<Utc>,
    }
    let sql = "SELECT s.name, h.at FROM unnest($1::text[]) AS s (name)
        CROSS JOIN LATERAL (SELECT max(coalesce(last_at, minute)) AS at FROM delivery_count d
            WHERE d.source = s.name AND d.minute = (SELECT max(minute) FROM delivery_count l
                WHERE l.source = s.name)) h
        WHERE h.at IS NOT NULL";
    let found: Vec<Heard> = sql::typed(db, sql, vec![sources.to_vec().into()]).await?;
    Ok(found.into_iter().map(|heard| (heard.name, heard.at)).collect())
}

/// Of rules.
pub async fn rule_use(db: &DatabaseConnection) -> Result<BTreeMap<String, Use>, StoreError> {
    let sql = "SELECT rule AS name, coalesce(v.alerts, 0) AS alerts, coalesce(j.jobs, 0) AS jobs,
            coalesce(j.confirmed, 0) AS confirmed, 0 AS unreadable, 0 AS caught, 0 AS conflicts, 0 AS refused, 0 AS over_limit, greatest(v.last_at, j.last_at) AS last_at
        FROM (SELECT rule, sum(count)::bigint AS alerts, max(last_at) AS last_at FROM verdict_count
        GROUP BY rule) v
        FULL JOIN (SELECT rule, sum(jobs)::bigint AS jobs, sum(confirmed)::bigint AS confirmed,
        max(last_at) AS last_at
                FROM job_count WHERE rule <> '' GROUP BY rule) j USING (rule)";
    by_name(db, sql).await
}

/// Of runbooks.
pub async fn runbook_use(db: &DatabaseConnection) -> Result<BTreeMap<String, Use>, StoreError> {
    let sql = "SELECT runbook AS name, 0 AS alerts, sum(jobs)::bigint AS jobs,
        sum(confirmed)::bigint AS confirmed,
            0 AS unreadable, 0 AS caught, 0 AS conflicts, 0 AS refused, 0 AS over_limit, max(last_at) AS last_at FROM job_count
            GROUP BY runbook";
    by_name(db, sql).await
}

/// How often each verdict of a rule was given.
pub async fn verdict_counts(
    db: &DatabaseConnection,
    rule: &str,
) -> Result<Vec<VerdictCount>, StoreError> {
    let sql = "SELECT verdict, sum(count)::bigint AS count FROM verdict_count WHERE rule = $1
        GROUP BY verdict HAVING sum(count) > 0 ORDER BY sum(count) DESC, verdict";
    sql::rows(db, sql, vec![rule.into()]).await
}

/// What has been seen within the last days, for checking the rules of texts: names, labels, how
/// often senders repeat, and what the sources send that the texts name.
pub async fn observed(db: &DatabaseConnection, texts: &[&str]) -> Result<Observed, StoreError> {
    #[derive(serde::Deserialize)]
    struct Names {
        source: String,
        kind: String,
        resource: String,
    }
    #[derive(serde::Deserialize)]
    struct Label {
        name: String,
        value: String,
    }
    #[derive(serde::Deserialize)]
    struct Repeat {
        source: String,
        kind: String,
        seconds: f64,
    }
    let names: Vec<Names> = sql::rows(
        db,
        "SELECT source, kind, resource FROM alarm WHERE (count > 0 OR cleared_at IS NOT NULL)
            AND NOT trial
            ORDER BY id DESC LIMIT 20000",
        vec![],
    )
    .await?;
    let sql =
        "SELECT DISTINCT l.key AS name, l.value FROM (SELECT labels FROM alerts WHERE trial IS NULL
        ORDER BY seq DESC LIMIT 5000) a,
        jsonb_each_text(a.labels) l LIMIT 2000";
    let labels: Vec<Label> = sql::rows(db, sql, vec![]).await?;
    let sql = "SELECT source, kind, extract(epoch
        FROM percentile_cont(0.5) WITHIN GROUP (ORDER BY gap))::float8 AS seconds
        FROM (SELECT source, kind, received - lag(received) OVER (PARTITION BY source, resource,
        kind ORDER BY seq) AS gap,
                state, lag(state) OVER (PARTITION BY source, resource, kind ORDER BY seq) AS before
            FROM (SELECT seq, source, resource, kind, state, received FROM alerts
            WHERE trial IS NULL ORDER BY seq DESC
            LIMIT 20000) a) g
        WHERE state = 'raised' AND before = 'raised' GROUP BY source, kind HAVING count(*) >= 3";
    let repeats: Vec<Repeat> = sql::rows(db, sql, vec![]).await?;
    let mut seen = Observed { shapes: shapes::named_in(db, texts).await?, ..Observed::default() };
    for n in names {
        seen.sources.insert(n.source);
        seen.kinds.insert(n.kind);
        seen.resources.insert(n.resource);
    }
    for l in labels {
        seen.labels.entry(l.name).or_default().insert(l.value);
    }
    seen.repeats = repeats
        .into_iter()
        .map(|r| (r.source, r.kind, Period::from_millis((r.seconds.max(0.0) * 1000.0) as u64)))
        .collect();
    Ok(seen)
}
