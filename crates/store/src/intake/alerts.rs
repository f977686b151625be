//! Recording alerts, ids that came before are dropped; and keeping what cannot be read.

use super::{Malformed, Payload};
use crate::{
    StoreError,
    days::{self, DayBounds, TURN},
    key_order, sql,
    stored::Stored,
};
use arvok_core::{
    Alert, AlertState, Severity,
    text::{clean_json, cut},
};
use chrono::{DateTime, Utc};
use sea_orm::{DatabaseTransaction, FromQueryResult, Value};
use std::{
    collections::{BTreeMap, HashSet},
    sync::LazyLock,
};

/// Numbered in the order of arrival, inserted in the order of the keys, so that of two batches with
/// the same ids one waits for the other and never each for the other. Ids are looked for one by one
/// (the OFFSET keeps the planner from going through days whole). One row comes back: the numbers in
/// the order of the alerts, nothing for a repeated id.
///
/// An id that another batch takes at this very moment is a unique key that is taken, and the batch
/// begins anew: a statement that is ready for that inserts each row speculatively, which costs
/// more.
static INSERT: LazyLock<String> = LazyLock::new(|| insert_and(""));

/// The same for a batch in whose way another was: it takes ids that come at this moment for
/// repeated.
static INSERT_BESIDE_OTHERS: LazyLock<String> =
    LazyLock::new(|| insert_and("ON CONFLICT DO NOTHING"));

fn insert_and(conflict: &str) -> String {
    format!(
        "WITH turn AS MATERIALIZED (SELECT pg_advisory_xact_lock_shared({TURN})),
        n AS MATERIALIZED (SELECT t.*, nextval('alert_seq_seq') AS seq
            FROM turn CROSS JOIN unnest($1::text[], $2::text[], $3::text[], $4::smallint[],
            $5::text[], $6::text[],
                $7::timestamptz[], $8::timestamptz[], $9::text[], $10::float8[], $11::text[], $12::text[], $13::text[], $15::text[], $16::text[]) AS t (source, id, kind, severity, state, resource, time,
                    received, summary, value, labels, body, key_order, trace,
                    trial)),
        new AS (INSERT INTO alerts (seq, source, id, kind, severity, state, resource, time,
        received, summary, value,
                labels, body, key_order, trace, trial)
            SELECT seq, source, id, kind, severity, state, resource, time, received, summary,
            nullif(value, 'NaN'),
                labels::jsonb, body::jsonb, nullif(key_order, ''),
                nullif(trace, ''), nullif(trial, '')
            FROM n WHERE NOT EXISTS (SELECT 1 FROM alerts e
                WHERE e.seq >= $14 AND e.source = n.source AND e.id = n.id OFFSET 0)
            ORDER BY source, id
            {conflict} RETURNING seq)
        SELECT array_agg(coalesce(new.seq, 0) ORDER BY n.seq) AS seqs, coalesce(max(new.seq),
        0) AS last,
            (SELECT generation FROM catalog) AS generation, {}
        FROM n LEFT JOIN new USING (seq)",
        days::known_columns()
    )
}

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
    pub anew: Option<DayBounds>,
}

/// Records alerts, as far as their ids are new by what is known of the days.
pub(super) async fn insert(
    tx: &DatabaseTransaction,
    alerts: &[&Alert],
    known: DayBounds,
    is_contended: bool,
) -> Result<Recorded, StoreError> {
    if alerts.is_empty() {
        return Ok(Recorded { seqs: Vec::new(), generation: None, anew: None });
    }
    let mut seen = HashSet::new();
    let first: Vec<bool> =
        alerts.iter().map(|a| seen.insert((a.source.as_str(), a.id.as_str()))).collect();
    let new: Vec<&Alert> =
        alerts.iter().zip(&first).filter(|(_, first)| **first).map(|(a, _)| *a).collect();
    let texts =
        |f: fn(&Alert) -> String| -> Value { new.iter().map(|a| f(a)).collect::<Vec<_>>().into() };
    let times = |f: fn(&Alert) -> DateTime<Utc>| -> Value {
        new.iter().map(|a| f(a)).collect::<Vec<_>>().into()
    };
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
        texts(|a| key_order::order_of(&a.body)),
        known.ids_from.into(),
        texts(|a| a.trace.map_or_else(String::new, |trace| trace.to_string())),
        texts(|a| a.trial.map_or_else(String::new, |trial| trial.to_string())),
    ];
    let insert = if is_contended { &INSERT_BESIDE_OTHERS } else { &INSERT };
    let rows: Vec<Inserted> = sql::typed(tx, insert, values).await?;
    let none = || Recorded { seqs: vec![None; alerts.len()], generation: None, anew: None };
    let Some(inserted) = rows.into_iter().next() else { return Ok(none()) };
    let found = DayBounds { first: inserted.first, ids_from: inserted.ids_from };
    // By an older view of the days an id may be known that is so no longer.
    if inserted.last == 0 && known == found {
        return Ok(none());
    }
    // A number beyond the newest day that this statement could see: another has begun while it
    // waited.
    let is_stale = inserted.last >= inserted.bound || known != found;
    let mut numbers = inserted.seqs.into_iter();
    let seqs = first
        .into_iter()
        .map(|first| if first { numbers.next().filter(|seq| *seq > 0) } else { None });
    Ok(Recorded {
        seqs: seqs.collect(),
        generation: Some(inserted.generation),
        anew: is_stale.then_some(found),
    })
}

/// The alert that stands under an id which came again.
#[derive(FromQueryResult)]
struct Stands {
    /// Which of the batch came with the id.
    n: i64,
    seq: i64,
    kind: String,
    resource: String,
    state: Stored<AlertState>,
    severity: i16,
    value: Option<f64>,
    summary: String,
    labels: serde_json::Value,
}

impl Stands {
    /// What the one that came says otherwise, if anything.
    fn differs_from(&self, came: &Alert) -> Option<String> {
        // In one order: the database keeps its own.
        let ordered = |labels: serde_json::Value| {
            let labels: BTreeMap<String, serde_json::Value> =
                serde_json::from_value(labels).unwrap_or_default();
            serde_json::to_string(&labels).unwrap_or_default()
        };
        let labels = clean_json(serde_json::to_value(&came.labels).unwrap_or_default());
        let parts = [
            ("kind", self.kind.clone(), came.kind.clone()),
            ("resource", self.resource.clone(), came.resource.to_string()),
            ("state", self.state.0.to_string(), came.state.to_string()),
            (
                "severity",
                severity_text(Severity::from_rank(self.severity)),
                severity_text(came.severity),
            ),
            ("value", value_text(self.value), value_text(came.value)),
            ("summary", self.summary.clone(), came.summary.clone()),
            ("labels", ordered(self.labels.clone()), ordered(labels)),
        ];
        let (what, before, now) = parts.into_iter().find(|(_, before, now)| before != now)?;
        let (before, now) = (cut(&before, 100), cut(&now, 100));
        let (id, seq) = (&came.id, self.seq);
        Some(format!(
            "id `{id}` came before, as alert {seq}, with another {what}: `{before}`, now `{now}`"
        ))
    }
}

/// Of alerts with a repeated id those that say something else than the one that stands under it:
/// their numbers among all, and what is told of each. They are kept as what cannot be read, since
/// nothing else has them; of a sender that gives one id to everything so many of a batch.
pub(super) async fn conflicts(
    tx: &DatabaseTransaction,
    plan: &super::Plan<'_>,
    seqs: &[Option<i64>],
    known: DayBounds,
) -> Result<BTreeMap<usize, String>, StoreError> {
    let repeated: Vec<usize> =
        seqs.iter().enumerate().filter(|(_, seq)| seq.is_none()).map(|(n, _)| n).collect();
    if repeated.is_empty() {
        return Ok(BTreeMap::new());
    }
    let sql = "SELECT t.n, e.seq, e.kind, e.resource, e.state, e.severity, e.value, e.summary,
        e.labels
        FROM unnest($1::bigint[], $2::text[], $3::text[]) AS t (n, source, id)
        CROSS JOIN LATERAL (SELECT * FROM alerts a WHERE a.seq >= $4 AND a.source = t.source
        AND a.id = t.id LIMIT 1) e";
    let texts = |f: fn(&Alert) -> &str| -> Value {
        repeated.iter().map(|n| f(plan.alerts[*n]).to_owned()).collect::<Vec<_>>().into()
    };
    let numbers: Vec<i64> =
        repeated.iter().map(|n| i64::try_from(*n).unwrap_or(i64::MAX)).collect();
    let values =
        vec![numbers.into(), texts(|a| &a.source), texts(|a| &a.id), known.ids_from.into()];
    let stands: Vec<Stands> = sql::typed(tx, sql, values).await?;
    let differing = stands.iter().filter_map(|stands| {
        let n = usize::try_from(stands.n).ok()?;
        Some((n, stands.differs_from(plan.alerts.get(n)?)?))
    });
    let found: BTreeMap<usize, String> = differing.collect();
    keep_conflicts(tx, plan, &found).await?;
    Ok(found)
}

/// Alerts with an id of another that are kept of one source and batch; all are counted and told.
const CONFLICTS_KEPT: usize = 20;

async fn keep_conflicts(
    tx: &DatabaseTransaction,
    plan: &super::Plan<'_>,
    found: &BTreeMap<usize, String>,
) -> Result<(), StoreError> {
    let mut of_source: BTreeMap<&str, usize> = BTreeMap::new();
    let payloads = found.iter().filter_map(|(n, reason)| {
        let came = plan.alerts[*n];
        let kept = of_source.entry(&came.source).or_default();
        *kept += 1;
        let malformed = not_taken(came, reason.clone());
        let payload = Payload {
            source: came.source.clone(),
            received: came.received,
            malformed: vec![malformed],
            ..Payload::default()
        };
        (*kept <= CONFLICTS_KEPT).then_some(payload)
    });
    let payloads: Vec<Payload> = payloads.collect();
    keep_strange(tx, &payloads.iter().collect::<Vec<_>>()).await?;
    Ok(())
}

/// The name under which it stands beside what is kept that it was a trial.
pub const TRIAL: &str = "trial";

/// An alert that is not taken, to be kept with the reason so that it can be read again: the item
/// from which it was read, or the alert itself where its sender wrote it in the normal form.
pub fn not_taken(alert: &Alert, reason: String) -> Malformed {
    let normal = alert.body.is_null();
    let mut beside = serde_json::json!({ "normal": normal });
    if alert.trial.is_some() {
        beside[TRIAL] = true.into();
    }
    let beside = if normal || alert.trial.is_some() { beside } else { serde_json::Value::Null };
    let whole = if normal { normal_form(alert) } else { alert.body.to_string() };
    Malformed { reason, payload: whole, item: true, beside, caught: false, base64: false }
}

fn normal_form(alert: &Alert) -> String {
    let mut whole = serde_json::to_value(alert).unwrap_or_default();
    if let Some(fields) = whole.as_object_mut() {
        fields.retain(|name, _| {
            !["source", "received", "body", "trace", TRIAL].contains(&name.as_str())
        });
    }
    whole.to_string()
}

fn severity_text(severity: Severity) -> String {
    severity.to_string()
}

fn value_text(value: Option<f64>) -> String {
    value.map_or_else(|| "none".to_owned(), |value| value.to_string())
}

/// Keeps what cannot be read; the numbers in order.
pub(super) async fn keep_strange(
    tx: &DatabaseTransaction,
    payloads: &[&Payload],
) -> Result<Vec<i64>, StoreError> {
    #[derive(FromQueryResult)]
    struct Kept {
        id: i64,
    }
    let all: Vec<_> = payloads.iter().flat_map(|p| p.malformed.iter().map(|s| (*p, s))).collect();
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
        all.iter()
            .map(|(_, s)| clean_json(s.beside.clone()).to_string())
            .collect::<Vec<_>>()
            .into(),
        all.iter().map(|(_, s)| s.caught).collect::<Vec<_>>().into(),
        all.iter().map(|(_, s)| s.base64).collect::<Vec<_>>().into(),
    ];
    let sql = "INSERT INTO unreadable (source, received, reason, payload, item, beside, caught,
        base64)
        SELECT source, received, reason, payload, item, beside::jsonb, caught, base64
        FROM unnest($1::text[], $2::timestamptz[], $3::text[], $4::text[], $5::boolean[],
        $6::text[], $7::boolean[], $8::boolean[]) WITH ORDINALITY
            AS t (source, received, reason, payload, item, beside, caught, base64, n) ORDER BY n
        RETURNING id";
    let kept: Vec<Kept> = sql::typed(tx, sql, values).await?;
    Ok(kept.into_iter().map(|k| k.id).collect())
}
