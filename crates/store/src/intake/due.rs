//! Looking at what is due: rules that wait for time to pass.
//!
//! Any node may take any due time. Tallies are claimed so that no other node waits for them; a
//! gathering is taken by the node that gets its turn, with its members locked first. What cannot be
//! handled is set aside by itself, with the reason, and tried again after a growing time: it never
//! holds back the rest.

use super::{
    Rules, back_off, decide,
    rule_state::{Key, Memories, Unloaded, Wanted, columns, members_of},
    suspensions::Suspensions,
    undecided::{Due, Undecided},
};
use crate::{StoreError, error::Class, mutes::hold_standing, sql, sql::Script};
use arvok_api::Change;
use arvok_core::{Kind, settle::Slot};
use chrono::{DateTime, Utc};
use futures_util::FutureExt;
use sea_orm::{DatabaseConnection, DatabaseTransaction, FromQueryResult, TransactionTrait, Value};
use std::{collections::BTreeSet, panic::AssertUnwindSafe};

/// Most due times that are looked at in one transaction.
const AT_ONCE: usize = 200;
/// Most tries of one transaction.
const TRIES: u32 = 8;
/// After how long something set aside is tried again, at first and at most.
const ASIDE: (i64, i64) = (5, 3600);

/// What became of due times.
#[derive(Clone, Debug, Default)]
pub struct DueDone {
    /// How many were taken.
    pub taken: usize,
    /// Those that cannot be handled: the rule, the key and the reason.
    pub aside: Vec<(String, String, String)>,
    /// What is to be announced.
    pub change: Change,
    /// When the next one is due.
    pub next: Option<DateTime<Utc>>,
    /// Rules that this node does not know.
    pub unknown: BTreeSet<String>,
}

/// Which due times are looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Slots {
    /// Those of tallies.
    Tallies,
    /// Those of gatherings and caps.
    Pools,
}

impl Slots {
    fn table(self) -> &'static str {
        match self {
            Self::Tallies => "tally",
            Self::Pools => "pool",
        }
    }

    fn slot(self, key: String) -> Slot {
        match self {
            Self::Tallies => Slot::Tally(key),
            Self::Pools => Slot::Pool(key),
        }
    }
}

#[derive(Clone, Debug, FromQueryResult)]
struct DueRow {
    rule: String,
    key: String,
    due: DateTime<Utc>,
    generation: i64,
}

/// Looks at what is due by now, some of it at once. Of the rules in `unknown` nothing is taken.
///
/// # Errors
/// [`StoreError::Stale`] if more has been published than `rules` knows of.
pub async fn settle_due(
    db: &DatabaseConnection,
    rules: Rules<'_>,
    slots: Slots,
    unknown: &BTreeSet<String>,
    now: DateTime<Utc>,
) -> Result<DueDone, StoreError> {
    let rows = due_rows(db, slots, unknown, now).await?;
    if let Some(row) = rows.first()
        && row.generation != rules.generation
    {
        return Err(StoreError::Stale(row.generation));
    }
    let (known, malformed): (Vec<_>, Vec<_>) =
        rows.into_iter().partition(|r| rules.catalog.entry(Kind::Rule, &r.rule).is_some());
    let mut done =
        DueDone { unknown: malformed.into_iter().map(|r| r.rule).collect(), ..DueDone::default() };
    if known.is_empty() {
        done.next = next(db, slots, unknown).await?;
        return Ok(done);
    }
    match taken(db, rules, slots, &known, now).await {
        Ok((taken, change)) => (done.taken, done.change) = (taken, change),
        Err(DueError::Store(e)) if e.class() != Class::Lasting => return Err(e),
        // One of them cannot be handled: each for itself, so that it is found out.
        Err(_) => {
            for row in known {
                one_by_one(db, rules, slots, row, now, &mut done).await?;
            }
        }
    }
    Ok(done)
}

async fn one_by_one(
    db: &DatabaseConnection,
    rules: Rules<'_>,
    slots: Slots,
    row: DueRow,
    now: DateTime<Utc>,
    done: &mut DueDone,
) -> Result<(), StoreError> {
    let reason = match taken(db, rules, slots, std::slice::from_ref(&row), now).await {
        Ok((taken, change)) => {
            done.taken += taken;
            done.change.merge(change);
            return Ok(());
        }
        Err(DueError::Store(e)) if e.class() != Class::Lasting => return Err(e),
        Err(DueError::Store(e)) => e.to_string(),
        Err(DueError::Panic(what)) => what,
    };
    set_aside(db, slots, &row, &reason, now).await?;
    done.taken += 1;
    done.aside.push((row.rule, row.key, reason));
    Ok(())
}

async fn due_rows(
    db: &DatabaseConnection,
    slots: Slots,
    unknown: &BTreeSet<String>,
    now: DateTime<Utc>,
) -> Result<Vec<DueRow>, StoreError> {
    let sql = format!(
        "SELECT rule, key, due, (SELECT generation FROM catalog) AS generation FROM {}
        WHERE due <= $1 AND rule <> ALL($2) ORDER BY due, key LIMIT {AT_ONCE}",
        slots.table()
    );
    let unknown: Vec<String> = unknown.iter().cloned().collect();
    sql::typed(db, &sql, vec![now.into(), unknown.into()]).await
}

async fn next(
    db: &DatabaseConnection,
    slots: Slots,
    unknown: &BTreeSet<String>,
) -> Result<Option<DateTime<Utc>>, StoreError> {
    #[derive(FromQueryResult)]
    struct Next {
        at: DateTime<Utc>,
    }
    let sql = format!(
        "SELECT due AS at FROM {} WHERE due IS NOT NULL AND rule <> ALL($1) ORDER BY due LIMIT 1",
        slots.table()
    );
    let unknown: Vec<String> = unknown.iter().cloned().collect();
    let rows: Vec<Next> = sql::typed(db, &sql, vec![unknown.into()]).await?;
    Ok(rows.first().map(|r| r.at))
}

enum DueError {
    Store(StoreError),
    /// The machine or a reader panicked.
    Panic(String),
}

impl From<StoreError> for DueError {
    fn from(e: StoreError) -> Self {
        Self::Store(e)
    }
}

async fn taken(
    db: &DatabaseConnection,
    rules: Rules<'_>,
    slots: Slots,
    rows: &[DueRow],
    now: DateTime<Utc>,
) -> Result<(usize, Change), DueError> {
    let mut members = BTreeSet::new();
    if slots == Slots::Pools {
        members = members_of(db, &rows.iter().map(key).collect()).await?;
    }
    let mut tries = 1;
    loop {
        let trying =
            AssertUnwindSafe(attempt(db, rules, slots, rows, &members, now)).catch_unwind();
        match trying.await {
            Err(_) => {
                return Err(DueError::Panic(
                    "deciding ended unexpectedly; the log says where".into(),
                ));
            }
            Ok(Ok(Ok(done))) => return Ok(done),
            Ok(Ok(Err(Unloaded(more)))) if tries < TRIES => members.extend(more),
            Ok(Ok(Err(_))) => return Ok((0, Change::default())),
            Ok(Err(e)) if e.is_passing() && tries < TRIES => back_off(tries).await,
            Ok(Err(e)) => return Err(e.into()),
        }
        tries += 1;
    }
}

fn key(row: &DueRow) -> Key {
    (row.rule.clone(), row.key.clone())
}

async fn attempt(
    db: &DatabaseConnection,
    rules: Rules<'_>,
    slots: Slots,
    rows: &[DueRow],
    members: &BTreeSet<Key>,
    now: DateTime<Utc>,
) -> Result<Result<(usize, Change), Unloaded>, StoreError> {
    let tx = db.begin().await?;
    let done = within(&tx, rules, slots, rows, members, now).await;
    // What failed lets go at once: whoever tries it alone passes over rows that are held.
    if matches!(done, Ok(Ok(_))) {
        tx.commit().await?
    } else {
        tx.rollback().await?
    }
    done
}

async fn within(
    tx: &DatabaseTransaction,
    rules: Rules<'_>,
    slots: Slots,
    rows: &[DueRow],
    members: &BTreeSet<Key>,
    now: DateTime<Utc>,
) -> Result<Result<(usize, Change), Unloaded>, StoreError> {
    let mut wanted = Wanted { tallies: members.clone(), ..Wanted::default() };
    let mine: Vec<DueRow> = match slots {
        // With members to lock, all of them are waited for in the order of their keys.
        Slots::Tallies if members.is_empty() => claim_tallies(tx, rows, now).await?,
        Slots::Tallies => rows.to_vec(),
        Slots::Pools => their_turn(tx, rows).await?,
    };
    if mine.is_empty() {
        return Ok(Ok((0, Change::default())));
    }
    match slots {
        Slots::Tallies => wanted.tallies.extend(mine.iter().map(key)),
        Slots::Pools => wanted.pools.extend(mine.iter().map(key)),
    }
    let memories = match Memories::load(tx, rules.catalog, wanted, now).await? {
        Ok(memories) => memories,
        Err(unloaded) => return Ok(Err(unloaded)),
    };
    let due: Vec<Due> = mine
        .into_iter()
        .map(|r| Due { rule: r.rule, slot: slots.slot(r.key), at: r.due })
        .collect();
    // Whoever was here before may have put it off.
    let due: Vec<Due> = due
        .into_iter()
        .filter(|d| {
            memories.by_rule.get(&d.rule).and_then(|m| m.due(&d.slot)).is_some_and(|at| at <= now)
        })
        .collect();
    let taken = due.len();
    let standing = (rules.catalog, rules.mutes, rules.guards);
    let suspensions = Suspensions::load(tx, standing, Vec::new(), &memories, now).await?;
    let Rules { catalog, proposing, .. } = rules;
    let mut batch = Undecided { catalog, suspensions, proposing, fresh: Vec::new(), due, now };
    batch.due.sort_by(|a, b| (a.at, &a.slot, &a.rule).cmp(&(b.at, &b.slot, &b.rule)));
    let mut outcome = decide::settle(tx, &batch, memories).await?;
    outcome.alarms =
        super::alarms::of_alerts(tx, outcome.fires.iter().flat_map(|f| &f.fire.alerts)).await?;
    let mut script = Script::default();
    let held_by = std::mem::take(&mut outcome.held_by);
    let made = outcome.write(&mut script, &batch)?;
    script.run(tx).await?;
    hold_standing(tx, &held_by).await?;
    Ok(Ok((
        taken,
        Change { jobs: made.jobs, proposals: made.proposals, verdicts: true, ..Change::default() },
    )))
}

/// Claims due tallies that nobody else has in hand. Nothing is waited for, so any order will do.
async fn claim_tallies(
    tx: &DatabaseTransaction,
    rows: &[DueRow],
    now: DateTime<Utc>,
) -> Result<Vec<DueRow>, StoreError> {
    let sql = "SELECT t.rule, t.key, t.due, 0::bigint AS generation FROM tally t
        JOIN unnest($1::text[], $2::text[]) AS k (rule, key) USING (rule, key)
        WHERE t.due <= $3 FOR UPDATE OF t SKIP LOCKED";
    let keys: Vec<Key> = rows.iter().map(key).collect();
    let mut values = columns(&keys);
    values.push(now.into());
    sql::typed(tx, sql, values).await
}

/// The pools that no other node is looking at.
async fn their_turn(tx: &DatabaseTransaction, rows: &[DueRow]) -> Result<Vec<DueRow>, StoreError> {
    #[derive(FromQueryResult)]
    struct Turn {
        rule: String,
        key: String,
    }
    let sql = "SELECT rule, key FROM unnest($1::text[], $2::text[]) AS k (rule, key)
        WHERE pg_try_advisory_xact_lock(hashtextextended(rule || chr(10) || key, 0))";
    let keys: Vec<Key> = rows.iter().map(key).collect();
    let turns: Vec<Turn> = sql::typed(tx, sql, columns(&keys)).await?;
    let turns: BTreeSet<Key> = turns.into_iter().map(|t| (t.rule, t.key)).collect();
    Ok(rows.iter().filter(|r| turns.contains(&key(r))).cloned().collect())
}

/// Puts something off that cannot be handled, each time for longer.
async fn set_aside(
    db: &DatabaseConnection,
    slots: Slots,
    row: &DueRow,
    reason: &str,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let sql = format!(
        "UPDATE {} SET aside = $3, aside_tries = aside_tries + 1,
            due = $4::timestamptz + make_interval(secs => least($5 * power(2, least(aside_tries, 20)), $6))
        WHERE rule = $1 AND key = $2 AND due <= $4",
        slots.table()
    );
    let reason: String = reason.replace('\0', "\u{fffd}").chars().take(500).collect();
    let values: Vec<Value> = vec![
        row.rule.as_str().into(),
        row.key.as_str().into(),
        reason.into(),
        now.into(),
        (ASIDE.0 as f64).into(),
        (ASIDE.1 as f64).into(),
    ];
    sql::run(db, &sql, values).await?;
    Ok(())
}

/// Something that is set aside.
#[derive(Clone, Debug, FromQueryResult)]
pub struct SetAside {
    /// The rule's name.
    pub rule: String,
    /// The key of the tally or pool.
    pub key: String,
    /// Why it could not be handled the last time.
    pub reason: String,
    /// How often it was tried.
    pub tries: i32,
    /// When it is tried again.
    pub again_at: Option<DateTime<Utc>>,
}

/// What is set aside, the soonest first, at most so many.
pub async fn set_aside_now(
    db: &DatabaseConnection,
    most: u64,
) -> Result<Vec<SetAside>, StoreError> {
    let part = |table: &str| {
        format!(
            "SELECT rule, key, aside AS reason, aside_tries AS tries, due AS again_at FROM {table}
                WHERE aside IS NOT NULL"
        )
    };
    let sql =
        format!("{} UNION ALL {} ORDER BY again_at LIMIT {most}", part("tally"), part("pool"));
    sql::typed(db, &sql, vec![]).await
}
