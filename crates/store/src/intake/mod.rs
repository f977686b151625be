//! The one transaction from alert to job.
//!
//! A batch of alerts is recorded, alarms and tallies are locked and moved on, verdicts and jobs
//! are written: all of it or nothing. Which rules concern an alert, and where it belongs, is
//! worked out before; nothing of an author's is evaluated while rows are locked, but for the inputs
//! of what is dispatched. Statements are set-based, so their number does not depend on the size of
//! the batch. Rows are locked in one order, each kind in one statement and by its keys: alerts,
//! alarms, tallies, pools. Whoever got in the way all the same makes the batch start anew.

mod alarms;
mod alerts;
mod decide;
mod due;
mod hits;
mod outcome;
mod preview;
mod rule_state;
mod suspensions;
mod undecided;

pub use alerts::{TRIAL, not_taken};
pub use due::{DueDone, SetAside, Slots, set_aside_now, settle_due};
pub use preview::preview;

use crate::{
    StoreError,
    days::{self, DayBounds},
    mutes::hold_standing,
    sql::Script,
};
use arvok_api::{Change, TakenAlert};
use arvok_core::{
    AlarmId, Alert, AlertId, Catalog, JobId, alarm, guard::Guards, matcher::Matcher, mute::Mute,
    rule::Placed,
};
use chrono::{DateTime, Timelike, Utc};
use rule_state::{Memories, Unloaded, Wanted};
use sea_orm::{DatabaseConnection, DatabaseTransaction, TransactionTrait};
use std::{
    collections::{BTreeMap, BTreeSet},
    time::Duration,
};
use suspensions::Suspensions;
use undecided::{Fresh, Undecided};

/// Most tries of one batch.
const TRIES: u32 = 8;

/// What one payload held.
#[derive(Clone, Debug, Default)]
pub struct Payload {
    /// Its source.
    pub source: String,
    /// When it was received.
    pub received: DateTime<Utc>,
    /// Its alerts.
    pub alerts: Vec<Alert>,
    /// What of it cannot be read.
    pub malformed: Vec<Malformed>,
    /// Whether it came long ago and is read again: its alerts are recorded, and nothing follows.
    pub is_past: bool,
}

/// A payload, or an item of one, that cannot be read.
#[derive(Clone, Debug)]
pub struct Malformed {
    /// What of it could not be read.
    pub reason: String,
    /// What it is; cut, if it is long.
    pub payload: String,
    /// Whether it is one item of a payload.
    pub item: bool,
    /// What its intake offered beside the body, by its names.
    pub beside: serde_json::Value,
    /// Whether it is caught: its source does not say how it is read.
    pub caught: bool,
    /// Whether the payload is in base64, since it is no text.
    pub base64: bool,
}

/// What became of a payload.
#[derive(Clone, Debug, Default)]
pub struct TakenPayload {
    /// One for each alert, in their order.
    pub alerts: Vec<TakenAlert>,
    /// The numbers under which what is malformed is kept.
    pub kept: Vec<i64>,
}

/// What became of a batch.
#[derive(Debug, Default)]
pub struct TakenBatch {
    /// One for each payload, in their order.
    pub taken: Vec<TakenPayload>,
    /// Errors of rules: the rule, and what went wrong.
    pub broken: Vec<(String, String)>,
    /// When something of what was touched is due, the earliest.
    pub due: Option<DateTime<Utc>>,
    /// What is to be announced.
    pub change: Change,
}

/// What is published, as far as deciding needs it.
#[derive(Clone, Copy, Debug)]
pub struct Rules<'a> {
    /// All definitions.
    pub catalog: &'a Catalog,
    /// The matcher over its rules.
    pub matcher: &'a Matcher,
    /// Mutes that stand or come.
    pub mutes: &'a [Mute],
    /// The guards, which may let nothing begin at times.
    pub guards: &'a Guards,
    /// Rules that propose what they would dispatch, and why.
    pub proposing: &'a BTreeMap<String, String>,
    /// The generation of what is published.
    pub generation: i64,
}

/// Who takes batches one after the other.
#[derive(Clone, Copy, Debug, Default)]
pub struct Writer {
    /// Writers do not wait for each other's counters.
    pub shard: i16,
    /// What it has learnt of the days; nothing at first.
    pub known: DayBounds,
}

/// Takes payloads, durably.
///
/// # Errors
/// [`StoreError::Stale`] if more has been published than `rules` knows of; nothing was taken then,
/// nor after any other error.
pub async fn record(
    db: &DatabaseConnection,
    rules: Rules<'_>,
    payloads: &[&Payload],
    writer: &mut Writer,
) -> Result<TakenBatch, StoreError> {
    let mut plan = Plan::new(rules.matcher, payloads);
    plan.members = rule_state::likely_members(db, rules.catalog, &plan.placed(), plan.now).await?;
    let mut tries = 1;
    loop {
        match attempt(db, rules, &plan, *writer, tries > 1).await {
            Ok(Attempt::Done(batch)) => return Ok(*batch),
            Ok(Attempt::Unloaded(Unloaded(members))) if tries < TRIES => {
                plan.members.extend(members)
            }
            Ok(Attempt::Unloaded(_)) => {
                return Err(StoreError::Contended("the members of a gathering"));
            }
            Ok(Attempt::Anew(found)) => {
                // A statement that waited while a day began could not see it yet.
                let known = if writer.known == found { days::bounds(db).await? } else { found };
                // Each day that begins costs one more go, and no try.
                if writer.known != known {
                    writer.known = known;
                    continue;
                }
                if tries >= TRIES {
                    return Err(StoreError::Contended("the days"));
                }
                // The numbers went on, and whoever was to note the day died before.
                match days::begin(db, plan.now).await {
                    Err(e) if e.is_passing() => back_off(tries).await,
                    begun => drop(begun?),
                }
            }
            Err(e) if e.is_passing() && tries < TRIES => back_off(tries).await,
            Err(e) => return Err(e),
        }
        tries += 1;
    }
}

/// Waits a random moment, so that two that got in each other's way do not meet again.
pub(crate) async fn back_off(tries: u32) {
    let mut byte = [0u8];
    let _ = getrandom::fill(&mut byte);
    let most = 2u64 << tries.min(6);
    tokio::time::sleep(Duration::from_millis(1 + u64::from(byte[0]) * most / 256)).await;
}

/// All that can be worked out before anything is locked.
struct Plan<'a> {
    payloads: &'a [&'a Payload],
    /// Alerts of all payloads, in order.
    alerts: Vec<&'a Alert>,
    /// Whether each came long ago.
    is_past: Vec<bool>,
    /// The hits of each.
    hits: Vec<Vec<hits::Hit<'a>>>,
    /// When the latest of them was received.
    now: DateTime<Utc>,
    /// Tallies that gatherings will most likely need.
    members: BTreeSet<rule_state::Key>,
}

impl<'a> Plan<'a> {
    fn new(matcher: &'a Matcher, payloads: &'a [&'a Payload]) -> Self {
        let alerts: Vec<&Alert> = payloads.iter().flat_map(|p| &p.alerts).collect();
        let is_past: Vec<bool> =
            payloads.iter().flat_map(|p| p.alerts.iter().map(|_| p.is_past)).collect();
        let hits = alerts.iter().zip(&is_past).map(|(alert, is_past)| match is_past {
            true => Vec::new(),
            false => hits::hits(matcher, alert),
        });
        let hits = hits.collect();
        let now = payloads.iter().map(|p| p.received).max().unwrap_or_default();
        Self { payloads, alerts, is_past, hits, now, members: BTreeSet::new() }
    }

    fn placed(&self) -> Vec<(&'a str, &Placed)> {
        let good = |h: &'_ hits::Hit<'a>| h.placed.is_ok();
        let all = self.hits.iter().flatten().filter(|h| good(h));
        all.filter_map(|h| Some((h.rule.name.as_str(), h.placed.as_ref().ok()?))).collect()
    }
}

enum Attempt {
    Done(Box<TakenBatch>),
    /// Tallies of a gathering that fires were not loaded.
    Unloaded(Unloaded),
    /// Not all was known of the days.
    Anew(DayBounds),
}

async fn attempt(
    db: &DatabaseConnection,
    rules: Rules<'_>,
    plan: &Plan<'_>,
    writer: Writer,
    is_contended: bool,
) -> Result<Attempt, StoreError> {
    let tx = db.begin().await?;
    let recorded = alerts::insert(&tx, &plan.alerts, writer.known, is_contended).await?;
    if let Some(known) = recorded.anew {
        return Ok(Attempt::Anew(known));
    }
    if recorded.generation.is_some_and(|now| now != rules.generation) {
        return Err(StoreError::Stale(recorded.generation.unwrap_or_default()));
    }
    let kept = alerts::keep_strange(&tx, plan.payloads).await?;
    let conflicts = alerts::conflicts(&tx, plan, &recorded.seqs, writer.known).await?;
    let present = plan.is_past.iter().map(|is_past| !is_past);
    let decided: Vec<Option<AlertId>> = recorded
        .seqs
        .iter()
        .zip(present)
        .map(|(seq, present)| seq.filter(|_| present).map(AlertId))
        .collect();
    let new = plan.alerts.iter().zip(&decided).filter_map(|(a, id)| id.map(|_| *a));
    let mut alarms = alarms::lock(&tx, new).await?;
    let fresh =
        plan.alerts.iter().zip(&decided).zip(&plan.hits).filter_map(|((alert, id), hits)| {
            let id = (*id)?;
            let (alarm, change) = alarms.apply(alert);
            Some(Fresh { alert, id, hits, alarm, change })
        });
    let fresh: Vec<Fresh<'_>> = fresh.collect();
    let cleared: Vec<AlarmId> = fresh
        .iter()
        .filter(|f| f.change == alarm::AlarmChange::Cleared)
        .filter_map(|f| f.alarm)
        .collect();

    let mut wanted =
        Wanted { tallies: plan.members.clone(), cleared: cleared.clone(), ..Wanted::default() };
    for (rule, placed) in fresh.iter().flat_map(Fresh::placed) {
        wanted.add(&rule.name, &placed.keys);
    }
    let memories = match Memories::load(&tx, rules.catalog, wanted, plan.now).await? {
        Ok(memories) => memories,
        Err(unloaded) => return Ok(Attempt::Unloaded(unloaded)),
    };
    let hits = fresh.iter().flat_map(|f| f.placed().map(|(rule, _)| (rule, f.alert))).collect();
    let standing = (rules.catalog, rules.mutes, rules.guards);
    let suspensions = Suspensions::load(&tx, standing, hits, &memories, plan.now).await?;
    let batch = Undecided {
        catalog: rules.catalog,
        suspensions,
        proposing: rules.proposing,
        fresh,
        due: Vec::new(),
        now: plan.now,
    };
    let mut outcome = decide::settle(&tx, &batch, memories).await?;
    let earlier = alarms::of_alerts(&tx, outcome.earlier.keys()).await?;
    outcome.alarms.extend(earlier);

    let mut script = Script::default();
    alarms.write(&mut script);
    wake_waiting(&mut script, &cleared);
    count(&mut script, plan.payloads, &recorded.seqs, &conflicts, writer.shard);
    let due = outcome.memories.next_due();
    let broken = std::mem::take(&mut outcome.broken);
    let held_by = std::mem::take(&mut outcome.held_by);
    let made = outcome.write(&mut script, &batch)?;
    script.run(&tx).await?;
    hold_standing(&tx, &held_by).await?;
    tx.commit().await?;
    let change = Change {
        alerts: recorded.seqs.iter().flatten().copied().collect(),
        alarms: alarms.changed(),
        jobs: made.jobs,
        proposals: made.proposals,
        unreadable: !kept.is_empty() || !conflicts.is_empty(),
        ..Change::default()
    };
    let taken = taken(plan, recorded.seqs, kept, conflicts);
    Ok(Attempt::Done(Box::new(TakenBatch { taken, broken, due, change })))
}

/// What became of each payload.
fn taken(
    plan: &Plan<'_>,
    seqs: Vec<Option<i64>>,
    kept: Vec<i64>,
    mut conflicts: BTreeMap<usize, String>,
) -> Vec<TakenPayload> {
    let (mut seqs, mut kept) = (seqs.into_iter().enumerate(), kept.into_iter());
    let mut alert = |(a, (n, seq)): (&Alert, (usize, Option<i64>))| TakenAlert {
        id: a.id.clone(),
        seq,
        duplicate: seq.is_none(),
        conflict: conflicts.remove(&n),
        trial: a.trial,
    };
    let payload = |p: &&Payload| TakenPayload {
        alerts: p.alerts.iter().zip(seqs.by_ref()).map(&mut alert).collect(),
        kept: kept.by_ref().take(p.malformed.len()).collect(),
    };
    plan.payloads.iter().map(payload).collect()
}

/// Jobs that wait for their alarm look again when it is cleared.
fn wake_waiting(script: &mut Script, cleared: &[AlarmId]) {
    if !cleared.is_empty() {
        let cleared: Vec<i64> = cleared.iter().map(|a| a.0).collect();
        let sql = "UPDATE job SET wake_at = now() WHERE state = 'waiting' AND waits_for_alarm
            AND alarm_id = ANY($1)";
        script.add(sql, vec![cleared.clone().into()]);
        // Those that are for several alarms, of which this is not the first.
        let sql = "UPDATE job j SET wake_at = now() FROM gathered g WHERE g.alarm_id = ANY($1)
            AND j.id = g.job_id
            AND j.state = 'waiting' AND j.waits_for_alarm";
        script.add(sql, vec![cleared.into()]);
    }
}

/// Counts deliveries by source and minute.
fn count(
    script: &mut Script,
    payloads: &[&Payload],
    seqs: &[Option<i64>],
    conflicts: &BTreeMap<usize, String>,
    shard: i16,
) {
    /// Alerts, repeated ones, what cannot be read, conflicts of ids; and when the last came.
    type Counted = ([i64; 4], DateTime<Utc>);
    let mut counts: BTreeMap<(&str, DateTime<Utc>), Counted> = BTreeMap::new();
    let mut seen = 0;
    for payload in payloads {
        let minute = payload
            .received
            .with_second(0)
            .and_then(|t| t.with_nanosecond(0))
            .unwrap_or(payload.received);
        let mine = seen..seen + payload.alerts.len();
        let is_made_up =
            !payload.alerts.is_empty() && payload.alerts.iter().all(|a| a.trial.is_some());
        if is_made_up && payload.malformed.is_empty() {
            // Nobody was heard of.
            seen = mine.end;
            continue;
        }
        let (entry, last_at) =
            counts.entry((&payload.source, minute)).or_insert(([0; 4], payload.received));
        // What is made up is no part of what came.
        let real =
            || payload.alerts.iter().zip(&seqs[mine.clone()]).filter(|(a, _)| a.trial.is_none());
        let repeated = real().filter(|(_, seq)| seq.is_none()).count();
        entry[0] += real().count() as i64;
        entry[1] += repeated as i64;
        entry[2] += payload.malformed.iter().filter(|m| !m.caught).count() as i64;
        entry[3] += conflicts.range(mine.clone()).count() as i64;
        *last_at = payload.received.max(*last_at);
        seen = mine.end;
    }
    if counts.is_empty() {
        return;
    }
    let sql = "INSERT INTO delivery_count AS c (source, minute, shard, alerts, repeated,
        unreadable, conflicts, last_at)
        SELECT source, minute, $6, alerts, repeated, unreadable, conflicts, last_at
        FROM unnest($1::text[], $2::timestamptz[], $3::bigint[], $4::bigint[], $5::bigint[],
        $7::bigint[], $8::timestamptz[])
            AS t (source, minute, alerts, repeated, unreadable, conflicts, last_at)
        ON CONFLICT (source, minute, shard) DO UPDATE SET alerts = c.alerts + excluded.alerts,
            repeated = c.repeated + excluded.repeated, unreadable = c.unreadable + excluded.unreadable,
            conflicts = c.conflicts + excluded.conflicts, last_at = greatest(c.last_at, excluded.last_at)";
    let column = |i: usize| -> sea_orm::Value {
        counts.values().map(|(c, _)| c[i]).collect::<Vec<i64>>().into()
    };
    let last: Vec<DateTime<Utc>> = counts.values().map(|(_, last_at)| *last_at).collect();
    let sources: Vec<String> = counts.keys().map(|(s, _)| (*s).to_owned()).collect();
    let minutes: Vec<DateTime<Utc>> = counts.keys().map(|(_, m)| *m).collect();
    let [alerts, repeated, unreadable, conflicts] = [0, 1, 2, 3].map(column);
    let values = vec![
        sources.into(),
        minutes.into(),
        alerts,
        repeated,
        unreadable,
        shard.into(),
        conflicts,
        last.into(),
    ];
    script.add(sql, values);
}

/// Numbers of jobs from their sequence.
async fn draw_numbers(tx: &DatabaseTransaction, wanted: usize) -> Result<Vec<JobId>, StoreError> {
    #[derive(sea_orm::FromQueryResult)]
    struct Number {
        n: i64,
    }
    let sql = "SELECT nextval('job_number') AS n FROM generate_series(1, $1::int)";
    let wanted = i32::try_from(wanted).unwrap_or(i32::MAX);
    let rows: Vec<Number> = crate::sql::typed(tx, sql, vec![wanted.into()]).await?;
    Ok(rows.into_iter().map(|n| JobId(n.n)).collect())
}
