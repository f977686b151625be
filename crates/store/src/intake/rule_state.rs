//! What rules remember, as far as a batch touches it: locked, moved on in memory, and what has
//! changed written back. Tallies are locked in one statement, then pools, both in the order of
//! their keys.
//!
//! A gathering that fires needs the tallies of all its members. Which these are is only certain
//! once the gathering is locked, and then it is too late to lock tallies; so they are looked up
//! beforehand without locks, and if that was not enough the batch starts anew with what was
//! missing.

use crate::{
    StoreError,
    sql::{self, NO_TIME, Script},
};
use arvok_core::{
    AlarmId, Catalog,
    rule::{Keys, Placed, Rule},
    settle::{Memory, Pool, Tally},
};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DatabaseTransaction, FromQueryResult, Value};
use std::collections::{BTreeMap, BTreeSet};

/// Something of a rule, by the rule's name and its own key.
pub(super) type Key = (String, String);

/// What a batch is known to need.
#[derive(Clone, Debug, Default)]
pub(super) struct Wanted {
    pub tallies: BTreeSet<Key>,
    pub pools: BTreeSet<Key>,
    /// Alarms whose tallies are needed.
    pub cleared: Vec<AlarmId>,
    /// Tallies that would join a gathering, by the gathering.
    pub(super) joining: BTreeMap<Key, BTreeSet<String>>,
}

impl Wanted {
    /// What an alert of a rule needs.
    pub fn add(&mut self, rule: &str, keys: &Keys) {
        let of = |key: &String| (rule.to_owned(), key.clone());
        self.tallies.insert(of(&keys.tally));
        self.pools.extend([&keys.gathering, &keys.cap].into_iter().flatten().map(of));
        if let Some(pool) = &keys.gathering {
            self.joining.entry(of(pool)).or_default().insert(keys.tally.clone());
        }
    }
}

/// Tallies that have to be locked before the pools are.
#[derive(Debug)]
pub(super) struct Unloaded(pub BTreeSet<Key>);

/// The memories of the rules that a batch touches.
#[derive(Clone, Default)]
pub(super) struct Memories {
    pub by_rule: BTreeMap<String, Memory>,
    /// As they were read.
    before: BTreeMap<String, Memory>,
}

#[derive(FromQueryResult)]
struct Row {
    rule: String,
    key: String,
    state: Option<String>,
}

const LOCK_TALLIES: &str = "SELECT t.rule, t.key, t.state::text AS state FROM tally t
    JOIN unnest($1::text[], $2::text[]) AS k (rule, key) USING (rule, key)
    ORDER BY t.rule, t.key FOR UPDATE OF t";

const LOCK_TALLIES_OF: &str = "SELECT t.rule, t.key, t.state::text AS state FROM tally t
    JOIN (SELECT rule, key FROM unnest($1::text[], $2::text[]) AS k (rule, key)
        UNION SELECT rule, key FROM tally WHERE alarms && $3::bigint[]) k USING (rule, key)
    ORDER BY t.rule, t.key FOR UPDATE OF t";

const POOLS: &str = "SELECT p.rule, p.key, p.state::text AS state FROM pool p
    JOIN unnest($1::text[], $2::text[]) AS k (rule, key) USING (rule, key)";

pub(super) fn columns<'a>(keys: impl IntoIterator<Item = &'a Key>) -> Vec<Value> {
    let (rules, keys): (Vec<String>, Vec<String>) = keys.into_iter().cloned().unzip();
    vec![rules.into(), keys.into()]
}

fn pool(row: &Row) -> Result<Option<Pool>, StoreError> {
    Ok(row.state.as_deref().map(serde_json::from_str).transpose()?)
}

/// The members of gatherings that these alerts may bring to fire, read without locks.
pub(super) async fn likely_members(
    db: &impl ConnectionTrait,
    catalog: &Catalog,
    placed: &[(&str, &Placed)],
    now: DateTime<Utc>,
) -> Result<BTreeSet<Key>, StoreError> {
    let mut wanted = Wanted::default();
    placed
        .iter()
        .filter(|(_, p)| p.keys.gathering.is_some())
        .for_each(|(rule, p)| wanted.add(rule, &p.keys));
    if wanted.joining.is_empty() {
        return Ok(BTreeSet::new());
    }
    let rows: Vec<Row> = sql::typed(db, POOLS, columns(wanted.joining.keys())).await?;
    let mut likely = BTreeSet::new();
    for row in rows {
        if let Some(Pool::Gathering { members, due, .. }) = pool(&row)? {
            let key = (row.rule, row.key);
            if fires(catalog, &key, &members, wanted.joining.get(&key), due, now) {
                likely.extend(members.into_iter().map(|m| (key.0.clone(), m)));
            }
        }
    }
    Ok(likely)
}

/// The members of gatherings, read without locks.
pub(super) async fn members_of(
    db: &impl ConnectionTrait,
    pools: &BTreeSet<Key>,
) -> Result<BTreeSet<Key>, StoreError> {
    let rows: Vec<Row> = sql::typed(db, POOLS, columns(pools)).await?;
    let mut all = BTreeSet::new();
    for row in rows {
        if let Some(Pool::Gathering { members, .. }) = pool(&row)? {
            all.extend(members.into_iter().map(|m| (row.rule.clone(), m)));
        }
    }
    Ok(all)
}

/// Whether a gathering may fire within this batch.
fn fires(
    catalog: &Catalog,
    (rule, _): &Key,
    members: &[String],
    joining: Option<&BTreeSet<String>>,
    due: DateTime<Utc>,
    now: DateTime<Utc>,
) -> bool {
    let at_most = catalog
        .get::<Rule>(rule)
        .and_then(|(r, _)| r.settle.gather.as_ref())
        .map_or(0, |g| g.at_most as usize);
    let newcomers = joining.map_or(0, |j| j.iter().filter(|key| !members.contains(key)).count());
    due <= now || members.len() + newcomers >= at_most
}

impl Memories {
    /// Locks what is wanted and all that it shares with others; or says what has to be wanted.
    pub async fn load(
        tx: &DatabaseTransaction,
        catalog: &Catalog,
        mut wanted: Wanted,
        now: DateTime<Utc>,
    ) -> Result<Result<Self, Unloaded>, StoreError> {
        let mut memories = Self::default();
        if !wanted.tallies.is_empty() || !wanted.cleared.is_empty() {
            let mut values = columns(&wanted.tallies);
            let sql = if wanted.cleared.is_empty() {
                LOCK_TALLIES
            } else {
                values.push(wanted.cleared.iter().map(|a| a.0).collect::<Vec<i64>>().into());
                LOCK_TALLIES_OF
            };
            let rows: Vec<Row> = sql::typed(tx, sql, values).await?;
            memories.take_tallies(rows, &mut wanted)?;
        }
        if !wanted.pools.is_empty() {
            let sql = format!("{POOLS} ORDER BY p.rule, p.key FOR UPDATE OF p");
            let rows: Vec<Row> = sql::typed(tx, &sql, columns(&wanted.pools)).await?;
            let missing = memories.take_pools(rows, catalog, &wanted, now)?;
            if !missing.is_empty() {
                return Ok(Err(Unloaded(missing)));
            }
        }
        memories.before = memories.by_rule.clone();
        Ok(Ok(memories))
    }

    /// Takes in tallies, and wants the pools that their episodes belong to.
    pub fn take_tallies(
        &mut self,
        rows: Vec<impl Into<Loaded>>,
        wanted: &mut Wanted,
    ) -> Result<(), StoreError> {
        for row in rows {
            let Loaded { rule, key, state } = row.into();
            let tally: Tally = serde_json::from_str(&state)?;
            if let Some(episode) = &tally.episode {
                let pools = [&episode.gathering, &episode.cap].into_iter().flatten();
                wanted.pools.extend(pools.map(|pool| (rule.clone(), pool.clone())));
                if let (Some(pool), true) = (&episode.gathering, tally.due.is_some()) {
                    wanted
                        .joining
                        .entry((rule.clone(), pool.clone()))
                        .or_default()
                        .insert(key.clone());
                }
            }
            wanted.tallies.insert((rule.clone(), key.clone()));
            self.by_rule.entry(rule).or_default().tallies.insert(key, tally);
        }
        Ok(())
    }

    /// Takes in pools; the tallies of gatherings that may fire and were not wanted.
    fn take_pools(
        &mut self,
        rows: Vec<Row>,
        catalog: &Catalog,
        wanted: &Wanted,
        now: DateTime<Utc>,
    ) -> Result<BTreeSet<Key>, StoreError> {
        let mut missing = BTreeSet::new();
        for row in rows {
            let Some(pool) = pool(&row)? else { continue };
            let key = (row.rule, row.key);
            if let Pool::Gathering { members, due, .. } = &pool
                && fires(catalog, &key, members, wanted.joining.get(&key), *due, now)
            {
                let all = members.iter().map(|m| (key.0.clone(), m.clone()));
                missing.extend(all.filter(|m| !wanted.tallies.contains(m)));
            }
            self.by_rule.entry(key.0).or_default().pools.insert(key.1, pool);
        }
        Ok(missing)
    }

    /// The tallies that hold an alarm.
    pub fn holding(&self, alarm: AlarmId) -> Vec<Key> {
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

    /// Writes what has changed; what has nothing left to remember is forgotten. Something new that
    /// another batch made at the same moment is an error, after which all of it starts anew.
    pub fn write(self, script: &mut Script) -> Result<(), StoreError> {
        let none = Memory::default();
        let mut tallies = Changes::default();
        let mut pools = Changes::default();
        for (rule, now) in &self.by_rule {
            let before = self.before.get(rule).unwrap_or(&none);
            tallies.compare(rule, &before.tallies, &now.tallies)?;
            pools.compare(rule, &before.pools, &now.pools)?;
        }
        tallies.write(script, "tally", "alarms, ", ", alarms = t.alarms::bigint[]");
        pools.write(script, "pool", "", "");
        Ok(())
    }
}

/// A tally as it is stored.
pub(super) struct Loaded {
    pub rule: String,
    pub key: String,
    pub state: String,
}

impl From<Row> for Loaded {
    fn from(row: Row) -> Self {
        Self { rule: row.rule, key: row.key, state: row.state.unwrap_or_else(|| "{}".into()) }
    }
}

/// What is kept under a key.
trait Kept: PartialEq + serde::Serialize {
    fn due(&self) -> Option<DateTime<Utc>>;
    /// The alarms that it holds, as an array of SQL.
    fn alarms(&self) -> Option<String>;
}

impl Kept for Tally {
    fn due(&self) -> Option<DateTime<Utc>> {
        self.due
    }

    fn alarms(&self) -> Option<String> {
        let alarms: Vec<String> = self.alarms.iter().map(ToString::to_string).collect();
        Some(format!("{{{}}}", alarms.join(",")))
    }
}

impl Kept for Pool {
    fn due(&self) -> Option<DateTime<Utc>> {
        self.due()
    }

    fn alarms(&self) -> Option<String> {
        None
    }
}

/// Rows to be inserted, updated and deleted.
#[derive(Default)]
struct Changes {
    new: Rows,
    changed: Rows,
    gone: Vec<Key>,
}

#[derive(Default)]
struct Rows {
    keys: Vec<Key>,
    states: Vec<String>,
    due: Vec<Option<DateTime<Utc>>>,
    alarms: Vec<String>,
}

impl Rows {
    fn values(self) -> Vec<Value> {
        let mut values = columns(&self.keys);
        values.extend([self.states.into(), sql::moments(self.due.into_iter())]);
        if !self.alarms.is_empty() {
            values.push(self.alarms.into());
        }
        values
    }
}

type Map<T> = std::collections::HashMap<String, T>;

impl Changes {
    fn compare<T: Kept>(
        &mut self,
        rule: &str,
        before: &Map<T>,
        now: &Map<T>,
    ) -> Result<(), StoreError> {
        for (key, kept) in now {
            let rows = match before.get(key) {
                Some(same) if same == kept => continue,
                Some(_) => &mut self.changed,
                None => &mut self.new,
            };
            rows.keys.push((rule.to_owned(), key.clone()));
            rows.states.push(serde_json::to_string(kept)?);
            rows.due.push(kept.due());
            rows.alarms.extend(kept.alarms());
        }
        self.gone.extend(
            before.keys().filter(|k| !now.contains_key(*k)).map(|k| (rule.to_owned(), k.clone())),
        );
        Ok(())
    }

    fn write(self, script: &mut Script, table: &str, alarms: &str, set_alarms: &str) {
        let given = if alarms.is_empty() { "" } else { ", $5::text[]" };
        let source = format!(
            "unnest($1::text[], $2::text[], $3::text[], $4::timestamptz[]{given}) AS t (rule, key, \
            state, due{})",
            if alarms.is_empty() { "" } else { ", alarms" }
        );
        if !self.new.keys.is_empty() {
            let cast = if alarms.is_empty() { "" } else { "alarms::bigint[], " };
            let sql = format!(
                "INSERT INTO {table} (rule, key, {alarms}state, due)
                SELECT rule, key, {cast}state::jsonb, nullif(due, {NO_TIME}) FROM {source}
                ORDER BY rule, key"
            );
            script.add(&sql, self.new.values());
        }
        if !self.changed.keys.is_empty() {
            let sql = format!(
                "UPDATE {table} SET state = t.state::jsonb, due = nullif(t.due, {NO_TIME}),
                    aside = NULL, aside_tries = 0{set_alarms}
                FROM {source} WHERE {table}.rule = t.rule AND {table}.key = t.key"
            );
            script.add(&sql, self.changed.values());
        }
        if !self.gone.is_empty() {
            let sql = format!(
                "DELETE FROM {table} WHERE (rule, key) IN (SELECT *
                    FROM unnest($1::text[], $2::text[]))"
            );
            script.add(&sql, columns(&self.gone));
        }
    }
}

/// What a rule remembers of some keys at the moment, without locks, for trying something out.
pub(super) async fn peek(
    db: &impl ConnectionTrait,
    rule: &str,
    keys: &Keys,
) -> Result<Memory, StoreError> {
    let mut wanted = Wanted::default();
    wanted.add(rule, keys);
    let sql = LOCK_TALLIES.trim_end_matches("FOR UPDATE OF t");
    let mut memories = Memories::default();
    let rows: Vec<Row> = sql::typed(db, sql, columns(&wanted.tallies)).await?;
    memories.take_tallies(rows, &mut wanted)?;
    let rows: Vec<Row> = sql::typed(db, POOLS, columns(&wanted.pools)).await?;
    let mut memory = memories.by_rule.remove(rule).unwrap_or_default();
    for row in rows {
        if let Some(pool) = pool(&row)? {
            memory.pools.insert(row.key, pool);
        }
    }
    Ok(memory)
}
