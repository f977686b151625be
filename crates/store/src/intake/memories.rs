//! What rules remember, as far as a batch touches it: locked, moved on in memory, written back
//! or forgotten. Tallies are locked before pools, and both in the order of their keys.

use crate::{StoreError, sql};
use arvok_core::settle::{Keys, Memory, Pool, Slot, Tally};
use chrono::{DateTime, Utc};
use sea_orm::DatabaseTransaction;
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// Something of a rule, by the rule's name and its own key.
pub(super) type Key = (String, String);

/// The memories of the rules that a batch touches.
#[derive(Clone, Default)]
pub(super) struct Memories {
    pub by_rule: BTreeMap<String, Memory>,
    /// Rows that exist and may have to be deleted.
    tallies: BTreeSet<Key>,
    pools: BTreeSet<Key>,
}

#[derive(serde::Deserialize)]
struct TallyRow {
    rule: String,
    key: String,
    state: Tally,
}

#[derive(serde::Deserialize)]
struct PoolRow {
    rule: String,
    key: String,
    state: Option<Pool>,
}

const LOCK_MATCHED: &str = "INSERT INTO tally (rule, key, state, alarms)
    SELECT rule, key, '{}', '{}' FROM unnest($1::text[], $2::text[]) AS t (rule, key)
    ON CONFLICT (rule, key) DO UPDATE SET key = excluded.key
    RETURNING rule, key, state";

const LOCK_CLEARED: &str =
    "SELECT rule, key, state FROM tally WHERE alarms && $1::bigint[] ORDER BY rule, key FOR UPDATE";

const LOCK_POOLS: &str =
    "INSERT INTO pool (rule, key) SELECT rule, key FROM unnest($1::text[], $2::text[]) AS t (rule, key)
    ON CONFLICT (rule, key) DO UPDATE SET key = excluded.key
    RETURNING rule, key, state";

fn columns(keys: &BTreeSet<Key>) -> Vec<sea_orm::Value> {
    let (rules, keys): (Vec<String>, Vec<String>) = keys.iter().cloned().unzip();
    vec![rules.into(), keys.into()]
}

impl Memories {
    /// Locks the tallies of matched alerts, those that hold cleared alarms, and all that these
    /// share with others.
    pub async fn lock<'a>(
        tx: &DatabaseTransaction,
        matched: impl Iterator<Item = (&'a str, &'a Keys)> + Clone,
        cleared: &[i64],
    ) -> Result<Self, StoreError> {
        let mut memories = Self::default();
        let tallies = matched.clone().map(|(rule, keys)| (rule.to_owned(), keys.tally.clone())).collect();
        memories.lock_tallies(tx, &tallies).await?;
        if !cleared.is_empty() {
            memories.take_tallies(sql::returned(tx, LOCK_CLEARED, vec![cleared.to_vec().into()]).await?);
        }
        let pools = matched.flat_map(|(rule, keys)| {
            [&keys.gathering, &keys.cap].into_iter().flatten().map(|key| (rule.to_owned(), key.clone()))
        });
        memories.lock_pools(tx, pools.collect()).await?;
        Ok(memories)
    }

    /// Locks tallies, made where missing.
    pub async fn lock_tallies(&mut self, tx: &DatabaseTransaction, keys: &BTreeSet<Key>) -> Result<(), StoreError> {
        if !keys.is_empty() {
            self.take_tallies(sql::returned(tx, LOCK_MATCHED, columns(keys)).await?);
        }
        Ok(())
    }

    fn take_tallies(&mut self, rows: Vec<TallyRow>) {
        for row in rows {
            self.tallies.insert((row.rule.clone(), row.key.clone()));
            self.by_rule.entry(row.rule).or_default().tallies.insert(row.key, row.state);
        }
    }

    /// Locks pools, those that tallies belong to as well, and the tallies that may be dispatched
    /// together with them.
    pub async fn lock_pools(&mut self, tx: &DatabaseTransaction, mut keys: BTreeSet<Key>) -> Result<(), StoreError> {
        for (rule, memory) in &self.by_rule {
            let episodes = memory.tallies.values().filter_map(|t| t.episode.as_ref());
            let pools = episodes.flat_map(|e| [&e.gathering, &e.cap].into_iter().flatten());
            keys.extend(pools.map(|key| (rule.clone(), key.clone())));
        }
        if keys.is_empty() {
            return Ok(());
        }
        let rows: Vec<PoolRow> = sql::returned(tx, LOCK_POOLS, columns(&keys)).await?;
        let mut members = BTreeSet::new();
        for row in rows {
            self.pools.insert((row.rule.clone(), row.key.clone()));
            let Some(pool) = row.state else { continue };
            if let Pool::Gathering { members: all, .. } = &pool {
                members.extend(all.iter().map(|m| (row.rule.clone(), m.clone())));
            }
            self.by_rule.entry(row.rule).or_default().pools.insert(row.key, pool);
        }
        let members = members.difference(&self.tallies).cloned().collect();
        self.lock_tallies(tx, &members).await
    }

    /// The tallies that hold an alarm.
    pub fn holding(&self, alarm: i64) -> Vec<Key> {
        let of = |(rule, memory): (&String, &Memory)| {
            let holding = memory.tallies.iter().filter(|(_, t)| t.alarms.contains(&alarm));
            holding.map(|(key, _)| (rule.clone(), key.clone())).collect::<Vec<_>>()
        };
        let mut keys: Vec<Key> = self.by_rule.iter().flat_map(of).collect();
        keys.sort();
        keys
    }

    /// The earliest due time.
    pub fn next_due(&self) -> Option<DateTime<Utc>> {
        let tallies = self.by_rule.values().flat_map(|m| m.tallies.values()).filter_map(|t| t.due);
        let pools = self.by_rule.values().flat_map(|m| m.pools.values()).filter_map(Pool::due);
        tallies.chain(pools).min()
    }

    /// Writes all back; what has nothing left to remember is forgotten.
    pub async fn write(self, tx: &DatabaseTransaction) -> Result<(), StoreError> {
        let mut tallies: [Vec<String>; 5] = Default::default();
        let mut pools: [Vec<String>; 4] = Default::default();
        let (mut kept_tallies, mut kept_pools) = (HashSet::new(), HashSet::new());
        let due = |due: Option<DateTime<Utc>>| due.map_or_else(|| "infinity".to_owned(), |t| t.to_rfc3339());
        for (rule, memory) in self.by_rule {
            for (key, tally) in memory.tallies {
                kept_tallies.insert((rule.clone(), key.clone()));
                let alarms: Vec<String> = tally.alarms.iter().map(ToString::to_string).collect();
                let (state, alarms) = (serde_json::to_string(&tally)?, format!("{{{}}}", alarms.join(",")));
                push(&mut tallies, [rule.clone(), key, state, alarms, due(tally.due)]);
            }
            for (key, pool) in memory.pools {
                kept_pools.insert((rule.clone(), key.clone()));
                let state = serde_json::to_string(&pool)?;
                push(&mut pools, [rule.clone(), key, state, due(pool.due())]);
            }
        }
        forget(tx, "tally", self.tallies.into_iter().filter(|k| !kept_tallies.contains(k)).collect()).await?;
        forget(tx, "pool", self.pools.into_iter().filter(|k| !kept_pools.contains(k)).collect()).await?;
        if !tallies[0].is_empty() {
            let sql = "UPDATE tally SET state = t.state::jsonb, alarms = t.alarms::bigint[],
                    due = nullif(t.due::timestamptz, 'infinity')
                FROM unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::text[]) AS t (rule, key, state, alarms, due)
                WHERE tally.rule = t.rule AND tally.key = t.key";
            sql::run(tx, sql, tallies.into_iter().map(Into::into).collect()).await?;
        }
        if !pools[0].is_empty() {
            let sql = "UPDATE pool SET state = t.state::jsonb, due = nullif(t.due::timestamptz, 'infinity')
                FROM unnest($1::text[], $2::text[], $3::text[], $4::text[]) AS t (rule, key, state, due)
                WHERE pool.rule = t.rule AND pool.key = t.key";
            sql::run(tx, sql, pools.into_iter().map(Into::into).collect()).await?;
        }
        Ok(())
    }
}

fn push<const N: usize>(columns: &mut [Vec<String>; N], row: [String; N]) {
    columns.iter_mut().zip(row).for_each(|(column, value)| column.push(value));
}

async fn forget(tx: &DatabaseTransaction, table: &str, keys: BTreeSet<Key>) -> Result<(), StoreError> {
    if keys.is_empty() {
        return Ok(());
    }
    let sql = format!("DELETE FROM {table} WHERE (rule, key) IN (SELECT * FROM unnest($1::text[], $2::text[]))");
    sql::run(tx, &sql, columns(&keys)).await?;
    Ok(())
}

/// Something whose due time has come.
pub(super) struct Due {
    pub rule: String,
    pub slot: Slot,
    pub at: DateTime<Utc>,
}

#[derive(serde::Deserialize)]
struct DueRow {
    rule: String,
    key: String,
    due: DateTime<Utc>,
}

/// Claims what is due, so that no other node takes it at the same time, and loads it with all
/// that it shares.
pub(super) async fn claim_due(
    tx: &DatabaseTransaction,
    now: DateTime<Utc>,
    most: i64,
) -> Result<(Memories, Vec<Due>), StoreError> {
    let claim = |table: &str| {
        format!("SELECT rule, key, due FROM {table} WHERE due <= $1 ORDER BY due, key LIMIT $2 FOR UPDATE SKIP LOCKED")
    };
    let tallies: Vec<DueRow> = sql::returned(tx, &claim("tally"), vec![now.into(), most.into()]).await?;
    let mut memories = Memories::default();
    memories.lock_tallies(tx, &tallies.iter().map(|r| (r.rule.clone(), r.key.clone())).collect()).await?;
    let pools: Vec<DueRow> = sql::returned(tx, &claim("pool"), vec![now.into(), most.into()]).await?;
    memories.lock_pools(tx, pools.iter().map(|r| (r.rule.clone(), r.key.clone())).collect()).await?;
    let tallies = tallies.into_iter().map(|r| Due { rule: r.rule, slot: Slot::Tally(r.key), at: r.due });
    let pools = pools.into_iter().map(|r| Due { rule: r.rule, slot: Slot::Pool(r.key), at: r.due });
    let mut due: Vec<Due> = tallies.chain(pools).collect();
    due.sort_by(|a, b| (a.at, &a.slot, &a.rule).cmp(&(b.at, &b.slot, &b.rule)));
    Ok((memories, due))
}

/// What a rule remembers of some keys at the moment, without locks, for trying something out.
pub(super) async fn peek(db: &sea_orm::DatabaseConnection, rule: &str, keys: &Keys) -> Result<Memory, StoreError> {
    let mut memory = Memory::default();
    let sql = "SELECT rule, key, state FROM tally WHERE rule = $1 AND key = $2";
    let tallies: Vec<TallyRow> = sql::rows(db, sql, vec![rule.into(), keys.tally.as_str().into()]).await?;
    memory.tallies.extend(tallies.into_iter().map(|t| (t.key, t.state)));
    let wanted: Vec<String> = [&keys.gathering, &keys.cap].into_iter().flatten().cloned().collect();
    let sql = "SELECT rule, key, state FROM pool WHERE rule = $1 AND key = ANY($2)";
    let pools: Vec<PoolRow> = sql::rows(db, sql, vec![rule.into(), wanted.into()]).await?;
    memory.pools.extend(pools.into_iter().filter_map(|p| Some((p.key, p.state?))));
    Ok(memory)
}
