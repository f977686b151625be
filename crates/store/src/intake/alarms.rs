//! The alarms that a batch touches: locked, moved on in memory, written back.

use crate::{StoreError, sql};
use arvok_core::{
    Alert, AlertState, Severity,
    alarm::{Alarm, Change},
};
use chrono::{DateTime, Utc};
use sea_orm::DatabaseTransaction;
use std::collections::BTreeMap;

/// Source, resource, kind.
type Key = (String, String, String);

fn key(alert: &Alert) -> Key {
    (alert.source.clone(), alert.resource.to_string(), alert.kind.clone())
}

pub(super) struct Alarms {
    by_key: BTreeMap<Key, Kept>,
}

struct Kept {
    id: i64,
    alarm: Alarm,
    touched: bool,
    changed: bool,
}

#[derive(serde::Deserialize)]
struct Row {
    id: i64,
    source: String,
    resource: String,
    kind: String,
    severity: i16,
    state: String,
    summary: String,
    value: Option<f64>,
    count: i64,
    raised_at: DateTime<Utc>,
    changed_at: DateTime<Utc>,
    cleared_at: Option<DateTime<Utc>>,
}

const LOCK: &str = "SELECT a.* FROM alarm a
    JOIN unnest($1::text[], $2::text[], $3::text[]) AS t (source, resource, kind) USING (source, resource, kind)
    ORDER BY source, resource, kind FOR UPDATE OF a";

/// Makes rows for what is raised the first time; one that another node made meanwhile is locked.
const MAKE: &str = "INSERT INTO alarm (source, resource, kind, severity, state, summary, count, raised_at, changed_at)
    SELECT source, resource, kind, 1, 'cleared', '', 0, at, at
    FROM unnest($1::text[], $2::text[], $3::text[], $4::timestamptz[]) AS t (source, resource, kind, at)
    ON CONFLICT (source, resource, kind) DO UPDATE SET kind = excluded.kind
    RETURNING *";

pub(super) async fn lock<'a>(
    tx: &DatabaseTransaction,
    alerts: impl Iterator<Item = &'a Alert>,
) -> Result<Alarms, StoreError> {
    // What is only cleared is looked for, and not made where there is none.
    let mut wanted: BTreeMap<Key, Option<DateTime<Utc>>> = BTreeMap::new();
    for alert in alerts {
        match alert.state {
            AlertState::Raised => {
                wanted.entry(key(alert)).or_default().get_or_insert(alert.received);
            }
            AlertState::Cleared => {
                wanted.entry(key(alert)).or_default();
            }
            AlertState::Noted => {}
        }
    }
    let mut rows: Vec<Row> = Vec::new();
    if !wanted.is_empty() {
        rows = sql::returned(tx, LOCK, columns(wanted.keys())).await?;
    }
    for row in &rows {
        wanted.remove(&(row.source.clone(), row.resource.clone(), row.kind.clone()));
    }
    let missing: Vec<(Key, DateTime<Utc>)> = wanted.into_iter().filter_map(|(k, at)| Some((k, at?))).collect();
    if !missing.is_empty() {
        let mut values = columns(missing.iter().map(|(k, _)| k));
        values.push(missing.iter().map(|(_, at)| *at).collect::<Vec<_>>().into());
        rows.extend(sql::returned::<Row>(tx, MAKE, values).await?);
    }
    let by_key = rows
        .into_iter()
        .map(|r| {
            let alarm = Alarm {
                raised: r.state == "raised",
                severity: Severity::from_rank(r.severity),
                summary: r.summary,
                value: r.value,
                count: r.count,
                raised_at: r.raised_at,
                changed_at: r.changed_at,
                cleared_at: r.cleared_at,
            };
            ((r.source, r.resource, r.kind), Kept { id: r.id, alarm, touched: false, changed: false })
        })
        .collect();
    Ok(Alarms { by_key })
}

fn columns<'a>(keys: impl Iterator<Item = &'a Key> + Clone) -> Vec<sea_orm::Value> {
    let column = |f: fn(&Key) -> &String| keys.clone().map(|k| f(k).clone()).collect::<Vec<String>>().into();
    vec![column(|k| &k.0), column(|k| &k.1), column(|k| &k.2)]
}

impl Alarms {
    /// Moves the alert's alarm on; its number, and what changed.
    pub fn take(&mut self, alert: &Alert) -> (Option<i64>, Change) {
        if alert.state == AlertState::Noted {
            return (None, Change::Nothing);
        }
        let Some(kept) = self.by_key.get_mut(&key(alert)) else { return (None, Change::Nothing) };
        let before = kept.alarm.changed_at;
        let change = kept.alarm.take(alert);
        kept.touched |= change != Change::Nothing;
        kept.changed |= kept.alarm.changed_at != before || matches!(change, Change::Raised | Change::Cleared);
        (Some(kept.id), change)
    }

    /// The numbers of the alarms that were raised, changed or cleared.
    pub fn changed(&self) -> Vec<i64> {
        self.by_key.values().filter(|k| k.changed).map(|k| k.id).collect()
    }

    /// Writes back what was touched.
    pub async fn write(&self, tx: &DatabaseTransaction) -> Result<(), StoreError> {
        let touched: Vec<&Kept> = self.by_key.values().filter(|k| k.touched).collect();
        if touched.is_empty() {
            return Ok(());
        }
        let sql = "UPDATE alarm a SET severity = t.severity, state = t.state, summary = t.summary,
                value = nullif(t.value, 'NaN'), count = t.count, raised_at = t.raised_at, changed_at = t.changed_at,
                cleared_at = nullif(t.cleared_at, '-infinity')
            FROM unnest($1::bigint[], $2::smallint[], $3::text[], $4::text[], $5::float8[], $6::bigint[],
                $7::timestamptz[], $8::timestamptz[], $9::text[]) AS u (id, severity, state, summary, value, count,
                raised_at, changed_at, cleared),
                LATERAL (SELECT u.*, u.cleared::timestamptz AS cleared_at) t
            WHERE a.id = t.id";
        let all = |f: fn(&Alarm) -> String| touched.iter().map(|k| f(&k.alarm)).collect::<Vec<String>>().into();
        let times = |f: fn(&Alarm) -> DateTime<Utc>| touched.iter().map(|k| f(&k.alarm)).collect::<Vec<_>>().into();
        let values = vec![
            touched.iter().map(|k| k.id).collect::<Vec<i64>>().into(),
            touched.iter().map(|k| k.alarm.severity.rank()).collect::<Vec<i16>>().into(),
            all(|a| if a.raised { "raised" } else { "cleared" }.to_owned()),
            all(|a| a.summary.clone()),
            touched.iter().map(|k| k.alarm.value.unwrap_or(f64::NAN)).collect::<Vec<f64>>().into(),
            touched.iter().map(|k| k.alarm.count).collect::<Vec<i64>>().into(),
            times(|a| a.raised_at),
            times(|a| a.changed_at),
            all(|a| a.cleared_at.map_or_else(|| "-infinity".to_owned(), |t| t.to_rfc3339())),
        ];
        sql::run(tx, sql, values).await?;
        Ok(())
    }
}
