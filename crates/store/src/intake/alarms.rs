//! The alarms that a batch touches: locked, moved on in memory, written back.

use crate::{
    StoreError, days,
    sql::{self, NO_TIME, Script},
};
use arvok_core::{
    AlarmId, Alert, AlertId, AlertState, Severity,
    alarm::{Alarm, AlarmChange},
};
use chrono::{DateTime, Utc};
use sea_orm::{DatabaseConnection, DatabaseTransaction, FromQueryResult};
use std::{collections::BTreeMap, sync::LazyLock};

/// Source, resource, kind, and whether it is one of trials.
type Key<'a> = (&'a str, &'a str, &'a str, bool);

fn key(alert: &Alert) -> Key<'_> {
    (&alert.source, alert.resource.as_str(), &alert.kind, alert.trial.is_some())
}

pub(super) struct Alarms<'a> {
    by_key: BTreeMap<Key<'a>, Kept>,
}

struct Kept {
    id: AlarmId,
    alarm: Alarm,
    touched: bool,
    changed: bool,
}

#[derive(FromQueryResult)]
struct Row {
    /// Which of those that were asked for, from one.
    n: i64,
    id: i64,
    severity: i16,
    raised: bool,
    summary: String,
    value: Option<f64>,
    count: i64,
    raised_at: DateTime<Utc>,
    changed_at: DateTime<Utc>,
    cleared_at: Option<DateTime<Utc>>,
    last_sent_at: Option<DateTime<Utc>>,
}

const COLUMNS: &str =
    "n, a.id, a.severity, a.state = 'raised' AS raised, a.summary, a.value, a.count, a.raised_at,
    a.changed_at, a.cleared_at, a.told_at AS last_sent_at";

static LOCK: LazyLock<String> = LazyLock::new(|| {
    format!(
        "SELECT {COLUMNS}
        FROM alarm a JOIN unnest($1::text[], $2::text[], $3::text[], $4::boolean[])
            WITH ORDINALITY AS t (source, resource, kind, trial, n)
            USING (source, resource, kind, trial)
        ORDER BY source, resource, kind, trial FOR UPDATE OF a"
    )
});

/// Makes rows for what is heard of the first time; one that another node made meanwhile is locked.
static MAKE: LazyLock<String> = LazyLock::new(|| {
    format!(
        "WITH t AS MATERIALIZED (SELECT * FROM unnest($1::text[], $2::text[], $3::text[],
            $4::boolean[], $5::timestamptz[])
                WITH ORDINALITY AS t (source, resource, kind, trial, at, n)),
        made AS (INSERT INTO alarm (source, resource, kind, trial, severity, state, summary, count,
        raised_at, changed_at)
            SELECT source, resource, kind, trial, 1, 'cleared', '', 0, at, at FROM t
            ORDER BY source, resource, kind, trial
            ON CONFLICT (source, resource, kind, trial) DO UPDATE SET kind = excluded.kind
            RETURNING *)
        SELECT {COLUMNS} FROM made a JOIN t USING (source, resource, kind, trial)"
    )
});

pub(super) async fn lock<'a>(
    tx: &DatabaseTransaction,
    alerts: impl Iterator<Item = &'a Alert>,
) -> Result<Alarms<'a>, StoreError> {
    // A clearing makes a row as well: the raise that it ended may only be late.
    let mut wanted: BTreeMap<Key<'a>, DateTime<Utc>> = BTreeMap::new();
    for alert in alerts.filter(|a| a.state != AlertState::Noted) {
        wanted.entry(key(alert)).or_insert(alert.received);
    }
    let mut alarms = Alarms { by_key: BTreeMap::new() };
    if wanted.is_empty() {
        return Ok(alarms);
    }
    alarms.keep(&wanted, sql::typed(tx, &LOCK, columns(&wanted)).await?);
    wanted.retain(|key, _| !alarms.by_key.contains_key(key));
    if !wanted.is_empty() {
        let mut values = columns(&wanted);
        values.push(wanted.values().copied().collect::<Vec<_>>().into());
        alarms.keep(&wanted, sql::typed(tx, &MAKE, values).await?);
    }
    Ok(alarms)
}

fn columns(keys: &BTreeMap<Key<'_>, DateTime<Utc>>) -> Vec<sea_orm::Value> {
    let column = |f: fn(&Key<'_>) -> String| keys.keys().map(f).collect::<Vec<String>>().into();
    let trials: Vec<bool> = keys.keys().map(|k| k.3).collect();
    vec![
        column(|k| k.0.to_owned()),
        column(|k| k.1.to_owned()),
        column(|k| k.2.to_owned()),
        trials.into(),
    ]
}

impl<'a> Alarms<'a> {
    /// Takes in rows of those that were asked for.
    fn keep(&mut self, wanted: &BTreeMap<Key<'a>, DateTime<Utc>>, rows: Vec<Row>) {
        let keys: Vec<Key<'a>> = wanted.keys().copied().collect();
        for r in rows {
            let Some(key) = usize::try_from(r.n - 1).ok().and_then(|n| keys.get(n)) else {
                continue;
            };
            let alarm = Alarm {
                raised: r.raised,
                severity: Severity::from_rank(r.severity),
                summary: r.summary,
                value: r.value,
                count: r.count,
                raised_at: r.raised_at,
                changed_at: r.changed_at,
                cleared_at: r.cleared_at,
                last_sent_at: r.last_sent_at,
            };
            self.by_key
                .insert(*key, Kept { id: AlarmId(r.id), alarm, touched: false, changed: false });
        }
    }

    /// Moves the alert's alarm on; its number, and what changed.
    pub fn apply(&mut self, alert: &'a Alert) -> (Option<AlarmId>, AlarmChange) {
        if alert.state == AlertState::Noted {
            return (None, AlarmChange::Nothing);
        }
        let Some(kept) = self.by_key.get_mut(&key(alert)) else {
            return (None, AlarmChange::Nothing);
        };
        let before = kept.alarm.changed_at;
        let sent = kept.alarm.last_sent_at;
        let change = kept.alarm.apply(alert);
        kept.touched |= change != AlarmChange::Nothing || kept.alarm.last_sent_at != sent;
        kept.changed |= kept.alarm.changed_at != before
            || matches!(change, AlarmChange::Raised | AlarmChange::Cleared);
        (Some(kept.id), change)
    }

    /// The numbers of the alarms that were raised, changed or cleared.
    pub fn changed(&self) -> Vec<i64> {
        self.by_key.values().filter(|k| k.changed).map(|k| k.id.0).collect()
    }

    /// Writes back what was touched.
    pub fn write(&self, script: &mut Script) {
        let touched: Vec<&Kept> = self.by_key.values().filter(|k| k.touched).collect();
        if touched.is_empty() {
            return;
        }
        let sql = format!(
            "UPDATE alarm a SET severity = t.severity, state = t.state, summary = t.summary,
                value = nullif(t.value, 'NaN'), count = t.count, raised_at = t.raised_at, changed_at = t.changed_at,
                cleared_at = nullif(t.cleared, {NO_TIME}), told_at = nullif(t.told, {NO_TIME})
            FROM unnest($1::bigint[], $2::smallint[], $3::text[], $4::text[], $5::float8[],
            $6::bigint[],
                $7::timestamptz[], $8::timestamptz[], $9::timestamptz[], $10::timestamptz[]) AS t (id, severity, state,
                summary, value, count, raised_at, changed_at, cleared, told)
            WHERE a.id = t.id"
        );
        let texts = |f: fn(&Alarm) -> String| {
            touched.iter().map(|k| f(&k.alarm)).collect::<Vec<String>>().into()
        };
        let times = |f: fn(&Alarm) -> DateTime<Utc>| {
            touched.iter().map(|k| f(&k.alarm)).collect::<Vec<_>>().into()
        };
        let maybe = |f: fn(&Alarm) -> Option<DateTime<Utc>>| {
            sql::moments(touched.iter().map(|k| f(&k.alarm)))
        };
        let values = vec![
            touched.iter().map(|k| k.id.0).collect::<Vec<i64>>().into(),
            touched.iter().map(|k| k.alarm.severity.rank()).collect::<Vec<i16>>().into(),
            texts(|a| if a.raised { "raised" } else { "cleared" }.to_owned()),
            texts(|a| a.summary.clone()),
            sql::numbers(touched.iter().map(|k| k.alarm.value)),
            touched.iter().map(|k| k.alarm.count).collect::<Vec<i64>>().into(),
            times(|a| a.raised_at),
            times(|a| a.changed_at),
            maybe(|a| a.cleared_at),
            maybe(|a| a.last_sent_at),
        ];
        script.add(&sql, values);
    }
}

/// The alarms of recorded alerts.
pub(super) async fn of_alerts(
    tx: &DatabaseTransaction,
    alerts: impl Iterator<Item = &AlertId>,
) -> Result<BTreeMap<AlertId, AlarmId>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        seq: i64,
        id: i64,
    }
    let wanted: Vec<i64> = alerts.map(|a| a.0).collect();
    if wanted.is_empty() {
        return Ok(BTreeMap::new());
    }
    let sql = "SELECT a.seq, m.id FROM alerts a JOIN alarm m USING (source, resource, kind)
        WHERE m.trial = (a.trial IS NOT NULL) AND a.state <> 'noted' AND a.seq = ANY($1) AND a.seq BETWEEN $2 AND $3";
    let (least, most) = days::span(&wanted);
    let rows: Vec<Row> =
        sql::typed(tx, sql, vec![wanted.into(), least.into(), most.into()]).await?;
    Ok(rows.into_iter().map(|r| (AlertId(r.seq), AlarmId(r.id))).collect())
}

/// The number of an alert's alarm, if it has been heard of, and whether the alert would raise it
/// anew.
pub(super) async fn standing(
    db: &DatabaseConnection,
    alert: &Alert,
) -> Result<(Option<AlarmId>, bool), StoreError> {
    #[derive(serde::Deserialize)]
    struct Row {
        id: i64,
        state: AlertState,
    }
    let sql = "SELECT id, state FROM alarm WHERE source = $1 AND resource = $2 AND kind = $3
        AND trial = $4";
    let values = vec![
        alert.source.as_str().into(),
        alert.resource.as_str().into(),
        alert.kind.as_str().into(),
        alert.trial.is_some().into(),
    ];
    let row: Option<Row> = sql::maybe(db, sql, values).await?;
    Ok(row.map_or((None, true), |r| (Some(AlarmId(r.id)), r.state != AlertState::Raised)))
}
