//! The one transaction from alert to job.
//!
//! A batch of alerts is recorded, alarms and tallies are locked and moved on, verdicts and jobs
//! are written, and everybody is told: all of it or nothing. Statements are set-based, so their
//! number does not depend on the size of the batch. Rows are locked in the order of their keys;
//! if two nodes get in each other's way all the same, the batch is tried again.

mod alarms;
mod alerts;
mod decide;
mod memories;
mod outcome;

use crate::{StoreError, changes, sql};
use arvok_api::{Change, TakenAlert};
use arvok_core::{
    Alert, AlertState, Catalog, alarm,
    matcher::Matcher,
    rule::Rule,
    settle::{Effect, Event, Keys, Machine, Matched, Standing, Verdict},
};
use chrono::{DateTime, Timelike, Utc};
use decide::Fresh;
use memories::Memories;
use sea_orm::{DatabaseConnection, DatabaseTransaction, TransactionTrait};
use std::{collections::BTreeMap, sync::Arc};

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
    /// When something of what was touched is due, the earliest.
    pub due: Option<DateTime<Utc>>,
}

/// What is published, as far as deciding needs it.
#[derive(Clone, Copy, Debug)]
pub struct Rules<'a> {
    /// All definitions.
    pub catalog: &'a Catalog,
    /// The matcher over its rules.
    pub matcher: &'a Matcher,
}

/// Takes a batch of alerts, durably.
pub async fn take(db: &DatabaseConnection, rules: Rules<'_>, alerts: &[Alert]) -> Result<Batch, StoreError> {
    let mut tries = 1;
    loop {
        match attempt(db, rules, alerts).await {
            Err(e) if e.is_passing() && tries < TRIES => tries += 1,
            other => return other,
        }
    }
}

/// A rule that an alert matches, and what it belongs to there.
struct Hit<'a> {
    rule: &'a Arc<Rule>,
    version: i32,
    keys: Keys,
}

async fn attempt(db: &DatabaseConnection, rules: Rules<'_>, alerts: &[Alert]) -> Result<Batch, StoreError> {
    let tx = db.begin().await?;
    let inserted = alerts::insert(&tx, alerts).await?;
    let new: Vec<(&Alert, i64)> = alerts.iter().zip(&inserted).filter_map(|(a, seq)| Some((a, (*seq)?))).collect();
    let mut broken = Vec::new();
    let hits: Vec<Vec<Hit<'_>>> = new.iter().map(|(alert, _)| hits(rules.matcher, alert, &mut broken)).collect();

    let mut alarms = alarms::lock(&tx, new.iter().map(|(a, _)| *a)).await?;
    let fresh = new.into_iter().zip(hits).map(|((alert, seq), hits)| {
        let (alarm, change) = alarms.take(alert);
        Fresh { alert, seq, hits, alarm, change }
    });
    let fresh: Vec<Fresh<'_>> = fresh.collect();
    let cleared: Vec<i64> =
        fresh.iter().filter(|f| f.change == alarm::Change::Cleared).filter_map(|f| f.alarm).collect();

    let keys = fresh.iter().flat_map(|f| &f.hits).map(|h| (h.rule.name.as_str(), &h.keys));
    let memories = Memories::lock(&tx, keys, &cleared).await?;
    let now = alerts.iter().map(|a| a.received).max().unwrap_or_default();
    let batch = decide::Batch { catalog: rules.catalog, fresh, due: Vec::new(), now };
    let mut outcome = decide::settle(&tx, &batch, memories).await?;
    let elders = alarms::of_alerts(&tx, outcome.elders.keys()).await?;
    outcome.alarms.extend(elders);

    alarms.write(&tx).await?;
    wake_confirming(&tx, &cleared).await?;
    let due = outcome.memories.next_due();
    let made = outcome.write(&tx, &batch).await?;
    count(&tx, alerts, &inserted).await?;
    let change = Change {
        alerts: batch.fresh.iter().map(|f| f.seq).collect(),
        alarms: alarms.changed(),
        jobs: made.jobs.clone(),
        proposals: made.proposals,
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
    Ok(Batch { taken, jobs: made.jobs, broken, due })
}

fn hits<'a>(matcher: &'a Matcher, alert: &Alert, broken: &mut Vec<(String, String)>) -> Vec<Hit<'a>> {
    let mut found = Vec::new();
    for hit in matcher.matching(alert) {
        match hit.broken.map_or_else(|| hit.rule.keys(alert), Err) {
            Ok(keys) => found.push(Hit { rule: hit.rule, version: hit.version, keys }),
            Err(why) => broken.push((hit.rule.name.clone(), why)),
        }
    }
    found
}

/// Most due times that are looked at in one transaction.
const DUE: i64 = 200;

/// Looks at what is due by now: the number of due times that were taken, the jobs made, and when
/// the next one is due.
pub async fn settle_due(db: &DatabaseConnection, rules: Rules<'_>, now: DateTime<Utc>) -> Result<DueDone, StoreError> {
    let mut tries = 1;
    loop {
        match attempt_due(db, rules, now).await {
            Err(e) if e.is_passing() && tries < TRIES => tries += 1,
            other => return other,
        }
    }
}

/// What became of due times.
#[derive(Clone, Debug, Default)]
pub struct DueDone {
    /// How many were taken.
    pub taken: usize,
    /// Jobs that were made.
    pub jobs: Vec<i64>,
    /// When the next one is due.
    pub next: Option<DateTime<Utc>>,
}

async fn attempt_due(db: &DatabaseConnection, rules: Rules<'_>, now: DateTime<Utc>) -> Result<DueDone, StoreError> {
    #[derive(serde::Deserialize)]
    struct Next {
        at: Option<DateTime<Utc>>,
    }
    let sql = "SELECT least((SELECT min(due) FROM tally), (SELECT min(due) FROM pool)) AS at";
    let next: Option<Next> = sql::maybe(db, sql, vec![]).await?;
    let next = next.and_then(|n| n.at);
    if next.is_none_or(|at| at > now) {
        return Ok(DueDone { next, ..DueDone::default() });
    }
    let tx = db.begin().await?;
    let (memories, due) = memories::claim_due(&tx, now, DUE).await?;
    let taken = due.len();
    if taken == 0 {
        // Another node has it in hand.
        return Ok(DueDone::default());
    }
    let batch = decide::Batch { catalog: rules.catalog, fresh: Vec::new(), due, now };
    let mut outcome = decide::settle(&tx, &batch, memories).await?;
    outcome.alarms = alarms::of_alerts(&tx, outcome.fires.iter().flat_map(|f| &f.fire.alerts)).await?;
    let made = outcome.write(&tx, &batch).await?;
    let change = Change { jobs: made.jobs.clone(), proposals: made.proposals, verdicts: true, ..Change::default() };
    changes::announce(&tx, change).await?;
    tx.commit().await?;
    Ok(DueDone { taken, jobs: made.jobs, next: None })
}

/// What a rule would decide about an alert at this moment, without deciding it.
pub async fn preview(
    db: &DatabaseConnection,
    rule: &Rule,
    alert: &Alert,
    now: DateTime<Utc>,
) -> Result<Result<(Verdict, String), String>, StoreError> {
    let keys = match rule.keys(alert) {
        Ok(keys) => keys,
        Err(why) => return Ok(Err(why)),
    };
    let mut memory = memories::peek(db, &rule.name, &keys).await?;
    let (alarm, anew) = alarms::standing(db, alert).await?;
    let standing = match alert.state {
        AlertState::Raised => Standing::Raised { alarm, anew },
        _ => Standing::None,
    };
    let matched = Matched {
        alert: i64::MAX,
        keys: &keys,
        happened: alert.happened().min(now),
        severity: alert.severity,
        standing,
        entries: rule.entries(alert).count(),
        cause: None,
    };
    let mut number = || 0;
    let effects = Machine::new(rule, rule.stance, &mut memory, &mut number).handle(now, Event::Matched(matched));
    let own = effects.into_iter().rev().find_map(|e| match e {
        Effect::Verdict { alert: i64::MAX, verdict, reason, .. } => {
            Some((verdict, reason.to_string().replace(" as job 0", "")))
        }
        _ => None,
    });
    Ok(own.ok_or_else(|| "nothing was decided".to_owned()))
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
