//! The tallies that a batch touches: locked, moved on in memory, written back or forgotten.

use crate::{StoreError, sql};
use arvok_core::{
    Catalog, Definition, Kind,
    rule::Rule,
    settle::{Decision, Event, Tally},
};
use chrono::{DateTime, Utc};
use sea_orm::DatabaseTransaction;
use std::collections::{BTreeMap, BTreeSet};

/// Which tally of which rule.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct TallyKey {
    pub rule: String,
    pub key: String,
}

#[derive(Clone, Default)]
pub(super) struct Tallies {
    by_key: BTreeMap<TallyKey, Tally>,
}

#[derive(serde::Deserialize)]
struct Row {
    rule: String,
    key: String,
    state: Tally,
}

const LOCK_MATCHED: &str = "INSERT INTO tally (rule, key, state, alarms)
    SELECT rule, key, '{\"alarms\":[]}', '{}' FROM unnest($1::text[], $2::text[]) AS t (rule, key)
    ON CONFLICT (rule, key) DO UPDATE SET key = excluded.key
    RETURNING rule, key, state";

const LOCK_CLEARED: &str =
    "SELECT rule, key, state FROM tally WHERE alarms && $1::bigint[] ORDER BY rule, key FOR UPDATE";

/// Locks the tallies of these keys, made where missing, and those that hold these alarms.
pub(super) async fn lock(
    tx: &DatabaseTransaction,
    keys: BTreeSet<TallyKey>,
    cleared: &[i64],
) -> Result<Tallies, StoreError> {
    let mut rows: Vec<Row> = Vec::new();
    if !keys.is_empty() {
        let (rules, keys): (Vec<String>, Vec<String>) = keys.into_iter().map(|k| (k.rule, k.key)).unzip();
        rows.extend(sql::returned::<Row>(tx, LOCK_MATCHED, vec![rules.into(), keys.into()]).await?);
    }
    if !cleared.is_empty() {
        rows.extend(sql::returned::<Row>(tx, LOCK_CLEARED, vec![cleared.to_vec().into()]).await?);
    }
    let by_key = rows.into_iter().map(|r| (TallyKey { rule: r.rule, key: r.key }, r.state)).collect();
    Ok(Tallies { by_key })
}

impl Tallies {
    pub fn handle(&mut self, key: &TallyKey, rule: &Rule, now: DateTime<Utc>, event: Event) -> Option<Decision> {
        self.by_key.entry(key.clone()).or_default().handle(rule, now, event)
    }

    /// An alarm is over, for every tally that holds it.
    pub fn cleared(&mut self, alarm: i64) {
        self.by_key.values_mut().for_each(|t| t.cleared(alarm));
    }

    /// Writes all back; what has nothing left to remember is forgotten.
    pub async fn write(
        self,
        tx: &DatabaseTransaction,
        catalog: &Catalog,
        now: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        if self.by_key.is_empty() {
            return Ok(());
        }
        let rest = |rule: &str| match catalog.entry(Kind::Rule, rule).map(|e| &e.definition) {
            Some(Definition::Rule(rule)) => rule.rest,
            _ => None,
        };
        let (idle, busy): (Vec<_>, Vec<_>) = self.by_key.into_iter().partition(|(k, t)| t.is_idle(rest(&k.rule), now));
        if !idle.is_empty() {
            let (rules, keys): (Vec<String>, Vec<String>) = idle.into_iter().map(|(k, _)| (k.rule, k.key)).unzip();
            let sql = "DELETE FROM tally WHERE (rule, key) IN (SELECT * FROM unnest($1::text[], $2::text[]))";
            sql::run(tx, sql, vec![rules.into(), keys.into()]).await?;
        }
        if !busy.is_empty() {
            let sql = "UPDATE tally SET state = t.state::jsonb, alarms = t.alarms::bigint[]
                FROM unnest($1::text[], $2::text[], $3::text[], $4::text[]) AS t (rule, key, state, alarms)
                WHERE tally.rule = t.rule AND tally.key = t.key";
            let mut columns: [Vec<String>; 4] = Default::default();
            for (key, tally) in busy {
                let alarms: Vec<String> = tally.alarms.iter().map(ToString::to_string).collect();
                let row = [key.rule, key.key, serde_json::to_string(&tally)?, format!("{{{}}}", alarms.join(","))];
                columns.iter_mut().zip(row).for_each(|(column, value)| column.push(value));
            }
            sql::run(tx, sql, columns.into_iter().map(Into::into).collect()).await?;
        }
        Ok(())
    }
}
