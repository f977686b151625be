//! Mutes: who said them, what they cover, until when; and what follows when one is lifted.
//!
//! Each node decides by the mutes that it has loaded with what is published, and the generation
//! counts up with each that is said or lifted. A batch that held something back for a mute makes
//! sure at its end that the mute still stands ([`hold_standing`]): whoever lifts it waits for that
//! batch, and looks at what it left ([`release`]) afterwards.

use crate::{
    StoreError, audit, sql,
    stored::{Stored, StoredPrincipal},
};
use arvok_api::{MuteFilter, MuteItem, PAGE, Page};
use arvok_core::{
    Principal, Verdict,
    mute::{Mute, MuteState, Muted, MutedLines, MutedSubject},
};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::{
    ConnectionTrait, DatabaseConnection, DatabaseTransaction, FromQueryResult, TransactionTrait,
};
use std::collections::BTreeSet;

/// Most that stand or come at once: each is asked of each alert.
pub const MOST: i64 = 200;

/// How long those that are over stay.
const KEPT: TimeDelta = audit::KEPT;

#[derive(FromQueryResult)]
struct Row {
    id: i64,
    lines: serde_json::Value,
    by: StoredPrincipal,
    reason: String,
    created_at: DateTime<Utc>,
    from_at: DateTime<Utc>,
    until_at: DateTime<Utc>,
    lifted_at: Option<DateTime<Utc>>,
    lifted_by: Option<StoredPrincipal>,
}

const COLUMNS: &str =
    "id, lines, by, reason, created_at, from_at, until_at, lifted_at, lifted_by FROM mute";

impl Row {
    fn mute(&self) -> Result<Mute, StoreError> {
        let lines: MutedLines = serde_json::from_value(self.lines.clone())?;
        let muted = Muted::check(&lines).map_err(|e| {
            StoreError::Record(serde::de::Error::custom(format!("mute {}: {e}", self.id)))
        })?;
        Ok(Mute {
            id: self.id,
            muted,
            by: self.by.0.clone(),
            reason: self.reason.clone(),
            from: self.from_at,
            until: self.until_at,
        })
    }

    fn item(self, now: DateTime<Utc>) -> Result<MuteItem, StoreError> {
        let mute = self.mute()?;
        let state = if self.lifted_at.is_some() { MuteState::Lifted } else { mute.state(now) };
        Ok(MuteItem {
            id: mute.id,
            covers: mute.muted.lines().clone().into(),
            text: mute.muted.to_string(),
            state,
            by: mute.by,
            reason: mute.reason,
            created_at: self.created_at,
            from: mute.from,
            until: mute.until,
            lifted_at: self.lifted_at,
            lifted_by: self.lifted_by.map(|by| by.0),
        })
    }
}

/// The mutes that stand or come, and what is wrong with those that cannot be read.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn open(db: &impl ConnectionTrait) -> Result<(Vec<Mute>, Vec<String>), StoreError> {
    let sql = format!(
        "SELECT {COLUMNS} WHERE lifted_at IS NULL AND until_at > now() ORDER BY until_at, id"
    );
    let (mut mutes, mut faults) = (Vec::new(), Vec::new());
    for row in sql::typed::<Row>(db, &sql, vec![]).await? {
        match row.mute() {
            Ok(mute) => mutes.push(mute),
            Err(e) => faults.push(e.to_string()),
        }
    }
    Ok((mutes, faults))
}

/// Those that stand or come, the one that ends first first; or with those that are over, the newest
/// first.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn list(
    db: &impl ConnectionTrait,
    filter: &MuteFilter,
    now: DateTime<Utc>,
) -> Result<Page<MuteItem>, StoreError> {
    let limit = filter.limit.unwrap_or(PAGE);
    let (which, order) = if filter.all {
        ("id < $1", "id DESC")
    } else {
        ("id < $1 AND lifted_at IS NULL AND until_at > $3", "until_at, id")
    };
    let sql = format!(
        "SELECT {COLUMNS} WHERE {which} AND $3::timestamptz IS NOT NULL
        ORDER BY {order} LIMIT $2"
    );
    let values = vec![
        filter.after.unwrap_or(i64::MAX).into(),
        i64::try_from(limit).unwrap_or(i64::MAX).into(),
        now.into(),
    ];
    let rows: Vec<Row> = sql::typed(db, &sql, values).await?;
    let next = rows.last().filter(|_| filter.all && rows.len() as u64 == limit);
    let next = next.map(|row| row.id.to_string());
    let items = rows.into_iter().map(|row| row.item(now)).collect::<Result<_, _>>()?;
    Ok(Page { items, next, bounded: false })
}

/// One of them.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn one(
    db: &impl ConnectionTrait,
    id: i64,
    now: DateTime<Utc>,
) -> Result<Option<MuteItem>, StoreError> {
    let sql = format!("SELECT {COLUMNS} WHERE id = $1");
    let rows: Vec<Row> = sql::typed(db, &sql, vec![id.into()]).await?;
    rows.into_iter().next().map(|row| row.item(now)).transpose()
}

/// A mute that is to begin, checked.
#[derive(Clone, Copy, Debug)]
pub struct MuteToBegin<'a> {
    /// What it covers.
    pub muted: &'a Muted,
    /// Why.
    pub reason: &'a str,
    /// When it begins.
    pub from: DateTime<Utc>,
    /// When it ends.
    pub until: DateTime<Utc>,
}

/// Keeps a mute; its number.
///
/// # Errors
/// [`StoreError::TooMany`] if as many stand or come as may.
pub async fn begin(
    db: &DatabaseConnection,
    said: MuteToBegin<'_>,
    by: &Principal,
) -> Result<i64, StoreError> {
    let tx = db.begin().await?;
    // Whoever says another waits for the generation that this one counts up, and so counts this
    // one.
    let sql = "INSERT INTO mute (lines, by, reason, from_at, until_at)
        VALUES ($1, $2, $3, $4, $5) RETURNING id AS n";
    let values = vec![
        serde_json::to_value(said.muted.lines())?.into(),
        by.to_string().into(),
        said.reason.replace('\0', "\u{fffd}").into(),
        said.from.into(),
        said.until.into(),
    ];
    let id = number(&tx, sql, values).await?;
    let open = "SELECT count(*) AS n FROM mute WHERE lifted_at IS NULL AND until_at > now()";
    if number(&tx, open, vec![]).await? > MOST {
        tx.rollback().await?;
        return Err(StoreError::TooMany("mutes that stand or come", MOST));
    }
    audit::record(&tx, by, "muted", &format!("mute {id}: {}", said.muted), said.reason).await?;
    tx.commit().await?;
    Ok(id)
}

#[derive(FromQueryResult)]
struct Number {
    n: i64,
}

async fn number(
    db: &impl ConnectionTrait,
    sql: &str,
    values: Vec<sea_orm::Value>,
) -> Result<i64, StoreError> {
    let rows: Vec<Number> = sql::typed(db, sql, values).await?;
    Ok(rows.first().map_or(0, |row| row.n))
}

/// Ends a mute before its time; whether it stood or was to come.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn lift(db: &DatabaseConnection, id: i64, by: &Principal) -> Result<bool, StoreError> {
    let tx = db.begin().await?;
    let sql = "UPDATE mute SET lifted_at = now(), lifted_by = $2
        WHERE id = $1 AND lifted_at IS NULL AND until_at > now()";
    let lifted = sql::run(&tx, sql, vec![id.into(), by.to_string().into()]).await? > 0;
    if lifted {
        audit::record(&tx, by, "mute.lifted", &format!("mute {id}"), "").await?;
    }
    tx.commit().await?;
    Ok(lifted)
}

/// Makes sure until the end of the transaction that mutes are not lifted.
///
/// # Errors
/// [`StoreError::Stale`] if one of them has been: what was decided by it must be decided anew.
pub(crate) async fn hold_standing(
    tx: &DatabaseTransaction,
    mutes: &BTreeSet<i64>,
) -> Result<(), StoreError> {
    if mutes.is_empty() {
        return Ok(());
    }
    let sql = "SELECT id AS n FROM mute WHERE id = ANY($1) AND lifted_at IS NULL
        ORDER BY id FOR SHARE";
    let ids: Vec<i64> = mutes.iter().copied().collect();
    let held: Vec<Number> = sql::typed(tx, sql, vec![ids.into()]).await?;
    if held.len() < mutes.len() {
        return Err(StoreError::Stale(
            number(tx, "SELECT generation AS n FROM catalog", vec![]).await?,
        ));
    }
    Ok(())
}

/// Has all that is muted looked at anew, once for each mute that was lifted before its time;
/// whether there was one.
///
/// # Errors
/// If the database cannot be worked with; then it is done later.
pub async fn release(db: &DatabaseConnection) -> Result<bool, StoreError> {
    let unreleased = "SELECT count(*) AS n FROM mute WHERE lifted_at IS NOT NULL AND NOT released";
    if number(db, unreleased, vec![]).await? == 0 {
        return Ok(false);
    }
    let tx = db.begin().await?;
    let sql = "UPDATE mute SET released = true WHERE lifted_at IS NOT NULL AND NOT released";
    let released = sql::run(&tx, sql, vec![]).await? > 0;
    look_anew(&tx, Verdict::Muted).await?;
    tx.commit().await?;
    Ok(released)
}

/// Has all that is held with a verdict looked at anew at once, in the order in which everybody
/// locks tallies. What is suspended by something else as well is held again.
pub(crate) async fn look_anew(
    tx: &DatabaseTransaction,
    verdict: Verdict,
) -> Result<(), StoreError> {
    let sql = "UPDATE tally t SET due = now(), state = jsonb_set(t.state, '{due}', to_jsonb(now()))
        FROM (SELECT rule, key FROM tally WHERE state #>> '{episode,held,verdict}' = $1
            ORDER BY rule, key FOR UPDATE) m
        WHERE t.rule = m.rule AND t.key = m.key";
    sql::run(tx, sql, vec![Stored(verdict).into()]).await?;
    Ok(())
}

/// Jobs of rules that are looked at for whether a mute covers them.
const LOOKED_AT: i64 = 1_000;

/// Jobs that are not over and were set off by what a mute covers, the newest first, at most so
/// many.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn jobs_under_way(
    db: &impl ConnectionTrait,
    muted: &Muted,
    most: usize,
) -> Result<Vec<i64>, StoreError> {
    #[derive(FromQueryResult)]
    struct UnderWay {
        id: i64,
        rule: String,
        runbook: String,
        alert_seq: Option<i64>,
    }
    // Each half by its own index.
    let half = |which: &str| {
        format!(
            "(SELECT id, rule, runbook, alert_seq FROM job WHERE {which} AND parent IS NULL
                AND rule IS NOT NULL LIMIT $1)"
        )
    };
    let sql = format!(
        "SELECT * FROM ({} UNION ALL {}) j ORDER BY id DESC",
        half("state IN ('running', 'waiting', 'paused', 'unsure')"),
        half("state = 'queued' AND aside IS NOT TRUE")
    );
    let jobs: Vec<UnderWay> = sql::typed(db, &sql, vec![LOOKED_AT.into()]).await?;
    let alerts: Vec<i64> = jobs.iter().filter_map(|job| job.alert_seq).collect();
    let alerts = crate::read::alerts_without_payload(db, &alerts).await?;
    let is_covered = |job: &UnderWay| {
        let alert = job.alert_seq.and_then(|seq| alerts.get(&seq));
        muted.covers(&job.rule, [job.runbook.as_str()], alert.map(MutedSubject::from))
    };
    Ok(jobs.into_iter().filter(is_covered).map(|job| job.id).take(most).collect())
}

/// Removes mutes that were over long ago, at most so many.
pub(crate) async fn sweep(
    db: &impl ConnectionTrait,
    now: DateTime<Utc>,
    most: i64,
) -> Result<u64, StoreError> {
    let sql = "DELETE FROM mute WHERE id IN (SELECT id FROM mute
        WHERE until_at < $1 AND (lifted_at IS NULL OR released) ORDER BY id LIMIT $2)";
    sql::run(db, sql, vec![(now - KEPT).into(), most.into()]).await
}
