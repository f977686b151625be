//! Recording alerts, ids that came before are dropped; and keeping what cannot be read.

use super::Parcel;
use crate::{StoreError, sql};
use arvok_core::Alert;
use chrono::{DateTime, Utc};
use sea_orm::{DatabaseTransaction, FromQueryResult, Value};
use std::collections::{HashMap, HashSet};

/// Numbered in the order of arrival, inserted in the order of the keys, so that of two batches with
/// the same ids one waits for the other and never each for the other.
const INSERT: &str =
    "INSERT INTO alert (seq, source, id, kind, severity, state, resource, time, received, summary, value, labels, body)
    OVERRIDING SYSTEM VALUE
    SELECT seq, source, id, kind, severity, state, resource, time, received, summary, nullif(value, 'NaN'), labels::jsonb,
        body::jsonb
    FROM (SELECT t.*, nextval('alert_seq_seq') AS seq
        FROM unnest($1::text[], $2::text[], $3::text[], $4::smallint[], $5::text[], $6::text[], $7::timestamptz[],
            $8::timestamptz[], $9::text[], $10::float8[], $11::text[], $12::text[])
            AS t (source, id, kind, severity, state, resource, time, received, summary, value, labels, body)) n
    ORDER BY source, id
    ON CONFLICT (source, id) DO NOTHING
    RETURNING seq, source, id, (SELECT generation FROM catalog) AS generation";

#[derive(FromQueryResult)]
struct Inserted {
    seq: i64,
    source: String,
    id: String,
    generation: i64,
}

/// What was recorded.
pub(super) struct Recorded {
    /// The handle of each alert, or none for a repeated id.
    pub seqs: Vec<Option<i64>>,
    /// The generation of what is published; none if nothing was recorded.
    pub generation: Option<i64>,
}

/// Records alerts.
pub(super) async fn insert(tx: &DatabaseTransaction, alerts: &[&Alert]) -> Result<Recorded, StoreError> {
    if alerts.is_empty() {
        return Ok(Recorded { seqs: Vec::new(), generation: None });
    }
    let mut seen = HashSet::new();
    let first: Vec<bool> = alerts.iter().map(|a| seen.insert((a.source.as_str(), a.id.as_str()))).collect();
    let new: Vec<&Alert> = alerts.iter().zip(&first).filter(|(_, first)| **first).map(|(a, _)| *a).collect();
    let texts = |f: fn(&Alert) -> String| -> Value { new.iter().map(|a| f(a)).collect::<Vec<_>>().into() };
    let times = |f: fn(&Alert) -> DateTime<Utc>| -> Value { new.iter().map(|a| f(a)).collect::<Vec<_>>().into() };
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
        sql::numbers(new.iter().map(|a| a.value)),
        texts(|a| serde_json::to_string(&a.labels).unwrap_or_else(|_| "{}".into())),
        texts(|a| a.body.to_string()),
    ];
    let rows: Vec<Inserted> = sql::typed(tx, INSERT, values).await?;
    let generation = rows.first().map(|r| r.generation);
    let by_id: HashMap<(&str, &str), i64> = rows.iter().map(|r| ((r.source.as_str(), r.id.as_str()), r.seq)).collect();
    let seq = |a: &Alert| by_id.get(&(a.source.as_str(), a.id.as_str())).copied();
    let seqs = alerts.iter().zip(first).map(|(a, first)| seq(a).filter(|_| first)).collect();
    Ok(Recorded { seqs, generation })
}

/// Keeps what cannot be read; the numbers in order.
pub(super) async fn keep_strange(tx: &DatabaseTransaction, parcels: &[&Parcel]) -> Result<Vec<i64>, StoreError> {
    #[derive(FromQueryResult)]
    struct Kept {
        id: i64,
    }
    let all: Vec<_> = parcels.iter().flat_map(|p| p.strange.iter().map(|s| (*p, s))).collect();
    if all.is_empty() {
        return Ok(Vec::new());
    }
    let clean = |text: &str| text.replace('\0', "\u{fffd}");
    let values: Vec<Value> = vec![
        all.iter().map(|(p, _)| p.source.clone()).collect::<Vec<_>>().into(),
        all.iter().map(|(p, _)| p.received).collect::<Vec<_>>().into(),
        all.iter().map(|(_, s)| clean(&s.reason)).collect::<Vec<_>>().into(),
        all.iter().map(|(_, s)| clean(&s.payload)).collect::<Vec<_>>().into(),
    ];
    let sql = "INSERT INTO unreadable (source, received, reason, payload)
        SELECT source, received, reason, payload
        FROM unnest($1::text[], $2::timestamptz[], $3::text[], $4::text[]) WITH ORDINALITY
            AS t (source, received, reason, payload, n) ORDER BY n
        RETURNING id";
    let kept: Vec<Kept> = sql::typed(tx, sql, values).await?;
    Ok(kept.into_iter().map(|k| k.id).collect())
}
