//! Recording alerts, ids that came before are dropped; and keeping what cannot be read.

use super::Parcel;
use crate::{
    StoreError,
    days::{self, Known, TURN},
    key_order, sql,
};
use arvok_core::{Alert, text::clean_json};
use chrono::{DateTime, Utc};
use sea_orm::{DatabaseTransaction, FromQueryResult, Value};
use std::{collections::HashSet, sync::LazyLock};

/// Numbered in the order of arrival, inserted in the order of the keys, so that of two batches with
/// the same ids one waits for the other and never each for the other. Ids of earlier days are looked
/// for one by one (the OFFSET keeps the planner from going through those days whole), those of the
/// day by its unique index. One row comes back: the numbers in the order of the alerts, nothing for
/// a repeated id.
static INSERT: LazyLock<String> = LazyLock::new(|| {
    format!(
        "WITH turn AS MATERIALIZED (SELECT pg_advisory_xact_lock_shared({TURN})),
        n AS MATERIALIZED (SELECT t.*, nextval('alert_seq_seq') AS seq
            FROM turn CROSS JOIN unnest($1::text[], $2::text[], $3::text[], $4::smallint[], $5::text[], $6::text[],
                $7::timestamptz[], $8::timestamptz[], $9::text[], $10::float8[], $11::text[], $12::text[], $13::text[]) AS t (source, id, kind, severity, state, resource, time,
                    received, summary, value, labels, body, key_order)),
        new AS (INSERT INTO alerts (seq, source, id, kind, severity, state, resource, time, received, summary, value,
                labels, body, key_order)
            SELECT seq, source, id, kind, severity, state, resource, time, received, summary, nullif(value, 'NaN'),
                labels::jsonb, body::jsonb, nullif(key_order, '')
            FROM n WHERE NOT EXISTS (SELECT 1 FROM alerts e
                WHERE e.seq >= $14 AND e.seq < $15 AND e.source = n.source AND e.id = n.id OFFSET 0)
            ORDER BY source, id
            ON CONFLICT DO NOTHING RETURNING seq)
        SELECT array_agg(coalesce(new.seq, 0) ORDER BY n.seq) AS seqs, coalesce(max(new.seq), 0) AS last,
            (SELECT generation FROM catalog) AS generation, {}
        FROM n LEFT JOIN new USING (seq)",
        days::known_columns()
    )
});

#[derive(FromQueryResult)]
struct Inserted {
    seqs: Vec<i64>,
    last: i64,
    generation: i64,
    first: i64,
    bound: i64,
    ids_from: i64,
}

/// What was recorded.
pub(super) struct Recorded {
    /// The handle of each alert, or none for a repeated id.
    pub seqs: Vec<Option<i64>>,
    /// The generation of what is published; none if nothing was recorded.
    pub generation: Option<i64>,
    /// What is to be known of the days, if it was not: then a repeated id may have been recorded.
    pub anew: Option<Known>,
}

/// Records alerts, as far as their ids are new by what is known of the days.
pub(super) async fn insert(tx: &DatabaseTransaction, alerts: &[&Alert], known: Known) -> Result<Recorded, StoreError> {
    if alerts.is_empty() {
        return Ok(Recorded { seqs: Vec::new(), generation: None, anew: None });
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
        texts(|a| key_order::of(&a.body)),
        known.ids_from.into(),
        known.first.into(),
    ];
    let rows: Vec<Inserted> = sql::typed(tx, &INSERT, values).await?;
    let Some(inserted) = rows.into_iter().next().filter(|r| r.last > 0) else {
        return Ok(Recorded { seqs: vec![None; alerts.len()], generation: None, anew: None });
    };
    let found = Known { first: inserted.first, ids_from: inserted.ids_from };
    // A number beyond the newest day that this statement could see: another has begun while it waited.
    let is_stale = inserted.last >= inserted.bound || known != found;
    let mut numbers = inserted.seqs.into_iter();
    let seqs = first.into_iter().map(|first| if first { numbers.next().filter(|seq| *seq > 0) } else { None });
    Ok(Recorded { seqs: seqs.collect(), generation: Some(inserted.generation), anew: is_stale.then_some(found) })
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
        all.iter().map(|(_, s)| s.item).collect::<Vec<_>>().into(),
        all.iter().map(|(_, s)| clean_json(s.beside.clone()).to_string()).collect::<Vec<_>>().into(),
    ];
    let sql = "INSERT INTO unreadable (source, received, reason, payload, item, beside)
        SELECT source, received, reason, payload, item, beside::jsonb
        FROM unnest($1::text[], $2::timestamptz[], $3::text[], $4::text[], $5::boolean[], $6::text[]) WITH ORDINALITY
            AS t (source, received, reason, payload, item, beside, n) ORDER BY n
        RETURNING id";
    let kept: Vec<Kept> = sql::typed(tx, sql, values).await?;
    Ok(kept.into_iter().map(|k| k.id).collect())
}
