//! Recording alerts; ids that came before are dropped.

use crate::{StoreError, sql};
use arvok_core::Alert;
use chrono::{DateTime, Utc};
use sea_orm::DatabaseTransaction;
use std::collections::{HashMap, HashSet};

const INSERT: &str = "INSERT INTO alert (source, id, kind, severity, state, resource, time, received, summary, value, labels, body)
    SELECT source, id, kind, severity, state, resource, time, received, summary, nullif(value, 'NaN'), labels::jsonb, body::jsonb
    FROM unnest($1::text[], $2::text[], $3::text[], $4::smallint[], $5::text[], $6::text[], $7::timestamptz[],
        $8::timestamptz[], $9::text[], $10::float8[], $11::text[], $12::text[]) WITH ORDINALITY
        AS t (source, id, kind, severity, state, resource, time, received, summary, value, labels, body, n)
    ORDER BY n
    ON CONFLICT (source, id) DO NOTHING
    RETURNING seq, source, id";

#[derive(serde::Deserialize)]
struct Inserted {
    seq: i64,
    source: String,
    id: String,
}

/// The handle of each alert, or none for a repeated id.
pub(super) async fn insert(tx: &DatabaseTransaction, alerts: &[Alert]) -> Result<Vec<Option<i64>>, StoreError> {
    let mut seen = HashSet::new();
    let first: Vec<bool> = alerts.iter().map(|a| seen.insert((a.source.as_str(), a.id.as_str()))).collect();
    let new: Vec<&Alert> = alerts.iter().zip(&first).filter(|(_, first)| **first).map(|(a, _)| a).collect();
    let texts = |f: fn(&Alert) -> String| -> sea_orm::Value { new.iter().map(|a| f(a)).collect::<Vec<_>>().into() };
    let times =
        |f: fn(&Alert) -> DateTime<Utc>| -> sea_orm::Value { new.iter().map(|a| f(a)).collect::<Vec<_>>().into() };
    let values = vec![
        texts(|a| a.source.clone()),
        texts(|a| a.id.clone()),
        texts(|a| a.kind.clone()),
        new.iter().map(|a| a.severity.rank()).collect::<Vec<i16>>().into(),
        texts(|a| a.state.as_str().to_owned()),
        texts(|a| a.resource.to_string()),
        times(|a| a.time),
        times(|a| a.received),
        texts(|a| a.summary.clone()),
        new.iter().map(|a| a.value.unwrap_or(f64::NAN)).collect::<Vec<f64>>().into(),
        texts(|a| serde_json::to_string(&a.labels).unwrap_or_else(|_| "{}".into())),
        texts(|a| a.body.to_string()),
    ];
    let rows: Vec<Inserted> = sql::returned(tx, INSERT, values).await?;
    let by_id: HashMap<(&str, &str), i64> = rows.iter().map(|r| ((r.source.as_str(), r.id.as_str()), r.seq)).collect();
    let seq = |a: &Alert| by_id.get(&(a.source.as_str(), a.id.as_str())).copied();
    Ok(alerts.iter().zip(first).map(|(a, first)| seq(a).filter(|_| first)).collect())
}
