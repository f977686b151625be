//! The one transaction from alert to job.
//!
//! A batch of alerts is recorded, alarms and tallies are locked and moved on, verdicts and jobs
//! are written, and everybody is told: all of it or nothing. Statements are set-based, so their
//! number does not depend on the size of the batch. Rows are locked in the order of their keys;
//! if two nodes get in each other's way all the same, the batch is tried again.

mod alarms;
mod alerts;
mod outcome;
mod tallies;

use crate::{StoreError, changes, sql};
use arvok_api::{Change, TakenAlert};
use arvok_core::{Alert, AlertState, Catalog, alarm, matcher, rule::Rule, settle::Event};
use chrono::{DateTime, Timelike, Utc};
use outcome::Outcome;
use sea_orm::{DatabaseConnection, DatabaseTransaction, TransactionTrait};
use std::collections::BTreeMap;
use tallies::{Tallies, TallyKey};

/// Most tries of one batch.
const TRIES: u32 = 8;

/// What became of a batch.
#[derive(Debug, Default)]
pub struct Batch {
    /// One for each alert, in their order.
    pub taken: Vec<TakenAlert>,
    /// Jobs that were made.
    pub jobs: Vec<i64>,
    /// Errors of rules: the rule, and what went wrong.
    pub broken: Vec<(String, String)>,
}

/// Takes a batch of alerts, durably.
pub async fn take(db: &DatabaseConnection, catalog: &Catalog, alerts: &[Alert]) -> Result<Batch, StoreError> {
    let mut tries = 1;
    loop {
        match attempt(db, catalog, alerts).await {
            Err(e) if e.is_passing() && tries < TRIES => tries += 1,
            other => return other,
        }
    }
}

/// A rule that an alert matches, and the tally it belongs to.
struct Hit<'a> {
    rule: &'a Rule,
    version: i32,
    key: TallyKey,
}

async fn attempt(db: &DatabaseConnection, catalog: &Catalog, alerts: &[Alert]) -> Result<Batch, StoreError> {
    let tx = db.begin().await?;
    let inserted = alerts::insert(&tx, alerts).await?;
    let fresh: Vec<(&Alert, i64)> = alerts.iter().zip(&inserted).filter_map(|(a, seq)| Some((a, (*seq)?))).collect();
    let mut broken = Vec::new();
    let hits: Vec<Vec<Hit<'_>>> = fresh.iter().map(|(alert, _)| hits(catalog, alert, &mut broken)).collect();

    let mut alarms = alarms::lock(&tx, fresh.iter().map(|(a, _)| *a)).await?;
    let moved: Vec<_> = fresh.iter().map(|(alert, _)| alarms.take(alert)).collect();
    let cleared: Vec<i64> =
        moved.iter().filter(|(_, c)| *c == alarm::Change::Cleared).filter_map(|(id, _)| *id).collect();

    let keys = hits.iter().flatten().map(|h| h.key.clone()).collect();
    let tallies = tallies::lock(&tx, keys, &cleared).await?;
    let outcome = settle(&tx, catalog, &fresh, &hits, &moved, tallies).await?;

    alarms.write(&tx).await?;
    wake_confirming(&tx, &cleared).await?;
    let jobs = outcome.write(&tx, &fresh).await?;
    count(&tx, alerts, &inserted).await?;
    let change = Change {
        alerts: fresh.iter().map(|(_, seq)| *seq).collect(),
        alarms: alarms.changed(),
        jobs: jobs.clone(),
        ..Change::default()
    };
    if change != Change::default() {
        changes::announce(&tx, change).await?;
    }
    tx.commit().await?;
    let taken = alerts
        .iter()
        .zip(inserted)
        .map(|(a, seq)| TakenAlert { id: a.id.clone(), seq, duplicate: seq.is_none() })
        .collect();
    Ok(Batch { taken, jobs, broken })
}

fn hits<'a>(catalog: &'a Catalog, alert: &Alert, broken: &mut Vec<(String, String)>) -> Vec<Hit<'a>> {
    let mut found = Vec::new();
    for (rule, version) in catalog.rules() {
        let key = match matcher::test(rule, alert) {
            matcher::Match::No => continue,
            matcher::Match::Yes => rule.tally_key(alert),
            matcher::Match::Broken(why) => Err(why),
        };
        match key {
            Ok(key) => found.push(Hit { rule, version, key: TallyKey { rule: rule.name.clone(), key } }),
            Err(why) => broken.push((rule.name.clone(), why)),
        }
    }
    found
}

/// Decides twice where jobs are made: settling is pure, so the first time tells how many numbers
/// are needed, and no number is wasted on alerts that are folded.
async fn settle<'a>(
    tx: &DatabaseTransaction,
    catalog: &'a Catalog,
    fresh: &[(&'a Alert, i64)],
    hits: &[Vec<Hit<'a>>],
    moved: &[(Option<i64>, alarm::Change)],
    tallies: Tallies,
) -> Result<Outcome<'a>, StoreError> {
    let trial = decide(catalog, fresh, hits, moved, tallies.clone(), &mut Vec::new());
    let wanted = trial.dispatches();
    if wanted == 0 {
        return Ok(trial);
    }
    #[derive(serde::Deserialize)]
    struct Number {
        n: i64,
    }
    let numbers: Vec<Number> = sql::rows(
        tx,
        "SELECT nextval('job_number') AS n FROM generate_series(1, $1::int)",
        vec![(wanted as i32).into()],
    )
    .await?;
    let mut numbers: Vec<i64> = numbers.into_iter().map(|n| n.n).rev().collect();
    Ok(decide(catalog, fresh, hits, moved, tallies, &mut numbers))
}

fn decide<'a>(
    catalog: &'a Catalog,
    fresh: &[(&'a Alert, i64)],
    hits: &[Vec<Hit<'a>>],
    moved: &[(Option<i64>, alarm::Change)],
    tallies: Tallies,
    numbers: &mut Vec<i64>,
) -> Outcome<'a> {
    let mut outcome = Outcome::new(catalog, tallies);
    for (((alert, seq), hits), (alarm, change)) in fresh.iter().zip(hits).zip(moved) {
        if let (alarm::Change::Cleared, Some(alarm)) = (change, alarm) {
            outcome.tallies.cleared(*alarm);
        }
        let raised = if alert.state == AlertState::Raised { *alarm } else { None };
        for hit in hits {
            let job = numbers.last().copied().unwrap_or(0);
            let event = Event::Matched { alarm: raised, job };
            let Some(decision) = outcome.tallies.handle(&hit.key, hit.rule, alert.received, event) else { continue };
            if outcome.note(alert, *seq, *alarm, hit.rule, hit.version, decision) {
                numbers.pop();
            }
        }
    }
    outcome
}

/// Jobs that wait for their effect look again when an alarm is cleared.
async fn wake_confirming(tx: &DatabaseTransaction, cleared: &[i64]) -> Result<(), StoreError> {
    if cleared.is_empty() {
        return Ok(());
    }
    let sql = "UPDATE job SET wake_at = now() WHERE state = 'waiting' AND alarm_id = ANY($1)";
    sql::run(tx, sql, vec![cleared.to_vec().into()]).await?;
    Ok(())
}

/// Counts deliveries by source and minute.
async fn count(tx: &DatabaseTransaction, alerts: &[Alert], inserted: &[Option<i64>]) -> Result<(), StoreError> {
    let mut counts: BTreeMap<(&str, DateTime<Utc>), (i64, i64)> = BTreeMap::new();
    for (alert, seq) in alerts.iter().zip(inserted) {
        let minute = alert.received.with_second(0).and_then(|t| t.with_nanosecond(0)).unwrap_or(alert.received);
        let entry = counts.entry((&alert.source, minute)).or_default();
        entry.0 += 1;
        entry.1 += i64::from(seq.is_none());
    }
    let sql = "INSERT INTO delivered (source, minute, alerts, repeated)
        SELECT * FROM unnest($1::text[], $2::timestamptz[], $3::bigint[], $4::bigint[])
        ON CONFLICT (source, minute) DO UPDATE
        SET alerts = delivered.alerts + excluded.alerts, repeated = delivered.repeated + excluded.repeated";
    let sources: Vec<String> = counts.keys().map(|(s, _)| (*s).to_owned()).collect();
    let minutes: Vec<DateTime<Utc>> = counts.keys().map(|(_, m)| *m).collect();
    let (all, repeated): (Vec<i64>, Vec<i64>) = counts.values().copied().unzip();
    sql::run(tx, sql, vec![sources.into(), minutes.into(), all.into(), repeated.into()]).await?;
    Ok(())
}

/// Keeps a payload that could not be read.
pub async fn keep_unreadable(
    db: &DatabaseConnection,
    source: &str,
    received: DateTime<Utc>,
    reason: &str,
    payload: &str,
) -> Result<i64, StoreError> {
    #[derive(serde::Deserialize)]
    struct Kept {
        id: i64,
    }
    let tx = db.begin().await?;
    let sql = "INSERT INTO unreadable (source, received, reason, payload) VALUES ($1, $2, $3, $4) RETURNING id";
    let text = |t: &str| sea_orm::Value::from(t.replace('\0', "\u{fffd}"));
    let kept: Vec<Kept> =
        sql::returned(&tx, sql, vec![source.into(), received.into(), text(reason), text(payload)]).await?;
    changes::announce(&tx, Change { unreadable: true, ..Change::default() }).await?;
    tx.commit().await?;
    Ok(kept.first().map_or(0, |k| k.id))
}
