//! The halt of all jobs, and halts of some: while one stands, no node begins a job that it concerns
//! or takes one up. What a node executes already goes on, or is paused if the halt says so: each
//! execution hears of it when its claim is renewed, and goes on when it is lifted.

use super::reason;
use crate::stored::StoredPrincipal;
use crate::{StoreError, audit, sql};
use arvok_api::{Halt, HaltConcerns, SelectiveHalt};
use arvok_core::{
    Principal,
    halt::{HaltLines, HaltedJobs},
};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait};

#[derive(FromQueryResult)]
struct Row {
    since: DateTime<Utc>,
    by: StoredPrincipal,
    reason: String,
    running: bool,
}

/// The halt that stands, if there is one.
pub async fn halt(db: &impl ConnectionTrait) -> Result<Option<Halt>, StoreError> {
    let rows: Vec<Row> =
        sql::typed(db, "SELECT since, by, reason, running FROM halt WHERE is_one", vec![]).await?;
    Ok(rows.into_iter().next().map(|row| Halt {
        since: row.since,
        by: row.by.0,
        reason: row.reason,
        running: row.running,
    }))
}

/// Halts all jobs, and those under way too if that is asked for, unless they are halted so already;
/// the halt that stands then, and whether it is this one.
pub async fn set_halt(
    db: &DatabaseConnection,
    by: &Principal,
    why: &str,
    running: bool,
) -> Result<(Halt, bool), StoreError> {
    let tx = db.begin().await?;
    let sql = "INSERT INTO halt AS h (by, reason, running) VALUES ($1, $2, $3)
        ON CONFLICT (is_one) DO UPDATE SET by = excluded.by, reason = excluded.reason,
            running = true WHERE excluded.running AND NOT h.running";
    let values = vec![by.to_string().into(), reason(why).into(), running.into()];
    let is_new = sql::run(&tx, sql, values).await? > 0;
    if is_new {
        let what = if running { "all jobs, those under way too" } else { "all jobs" };
        audit::record(&tx, by, "halted", what, &reason(why)).await?;
    }
    let standing = halt(&tx).await?;
    tx.commit().await?;
    // Another may have lifted it at the same moment.
    Ok((standing.ok_or(StoreError::Contended("those who halt and lift"))?, is_new))
}

/// Lifts the halt; whether there was one.
pub async fn lift_halt(db: &DatabaseConnection, by: &Principal) -> Result<bool, StoreError> {
    let tx = db.begin().await?;
    let lifted = sql::run(&tx, "DELETE FROM halt WHERE is_one", vec![]).await? > 0;
    if lifted {
        audit::record(&tx, by, "halt.lifted", "all jobs", "").await?;
        let_go_on(&tx).await?;
    }
    tx.commit().await?;
    Ok(lifted)
}

/// Has the jobs go on that a halt paused which is lifted; how many. One may be paused at the very
/// moment at which the halt is lifted, so that this is done again now and then.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn let_go_on(db: &impl ConnectionTrait) -> Result<u64, StoreError> {
    let sql = "UPDATE job SET word = '\"resume\"', word_number = word_number + 1
        WHERE id IN (SELECT id FROM job WHERE state = 'paused' AND word IS NULL
            AND progress #>> '{paused,by_halt}' = 'true' ORDER BY id FOR UPDATE SKIP LOCKED)
        AND NOT EXISTS (SELECT 1 FROM halt h WHERE h.running AND halt_concerns(h, job))";
    sql::run(db, sql, vec![]).await
}

/// Most halts of some jobs: each is asked about each job that is due.
pub const MAX_HALTS: i64 = 50;

#[derive(FromQueryResult)]
struct OfSome {
    id: i64,
    covers: serde_json::Value,
    since: DateTime<Utc>,
    by: StoredPrincipal,
    reason: String,
    running: bool,
}

impl OfSome {
    fn halt(self) -> Result<SelectiveHalt, StoreError> {
        let covers: HaltLines = serde_json::from_value(self.covers)?;
        Ok(SelectiveHalt {
            id: self.id,
            covers: covers.into(),
            since: self.since,
            by: self.by.0,
            reason: self.reason,
            running: self.running,
        })
    }
}

/// The halts of some jobs that stand, the oldest first.
pub async fn halts(db: &impl ConnectionTrait) -> Result<Vec<SelectiveHalt>, StoreError> {
    let sql = "SELECT id, covers, since, by, reason, running FROM halt WHERE is_one IS NULL
        ORDER BY id";
    let rows: Vec<OfSome> = sql::typed(db, sql, vec![]).await?;
    rows.into_iter().map(OfSome::halt).collect()
}

/// Halts the jobs that some lines concern, those under way too if that is asked for; the halt.
pub async fn begin_halt(
    db: &DatabaseConnection,
    (lines, concerned): (&HaltLines, &HaltedJobs),
    by: &Principal,
    why: &str,
    running: bool,
) -> Result<SelectiveHalt, StoreError> {
    #[derive(FromQueryResult)]
    struct Count {
        n: i64,
    }
    let tx = db.begin().await?;
    tx.execute_unprepared("LOCK TABLE halt IN SHARE ROW EXCLUSIVE MODE").await?;
    let counting = "SELECT count(*) AS n FROM halt WHERE is_one IS NULL";
    let stand: Vec<Count> = sql::typed(&tx, counting, vec![]).await?;
    if stand.first().is_some_and(|count| count.n >= MAX_HALTS) {
        return Err(StoreError::TooMany("halts", MAX_HALTS));
    }
    let [runbooks, rules, targets] = concerned.patterns();
    let sql = "INSERT INTO halt (is_one, by, reason, running, covers, runbooks, rules, targets)
        VALUES (NULL, $1, $2, $3, $4, $5, $6, $7)
        RETURNING id, covers, since, by, reason, running";
    let values = vec![
        by.to_string().into(),
        reason(why).into(),
        running.into(),
        serde_json::to_value(lines)?.into(),
        runbooks.into(),
        rules.into(),
        targets.into(),
    ];
    let begun: Vec<OfSome> = sql::typed(&tx, sql, values).await?;
    let begun = begun.into_iter().next().ok_or(StoreError::BrokenOff("the halt"))?.halt()?;
    let what = if running { "those under way too" } else { "those that have not begun" };
    audit::record(&tx, by, "halted", &format!("{lines}: {what}"), &reason(why)).await?;
    tx.commit().await?;
    Ok(begun)
}

/// Lifts a halt of some jobs; whether there was one.
pub async fn lift_halt_of(
    db: &DatabaseConnection,
    id: i64,
    by: &Principal,
) -> Result<bool, StoreError> {
    let tx = db.begin().await?;
    let sql = "DELETE FROM halt WHERE id = $1 AND is_one IS NULL
        RETURNING id, covers, since, by, reason, running";
    let lifted: Vec<OfSome> = sql::typed(&tx, sql, vec![id.into()]).await?;
    let Some(lifted) = lifted.into_iter().next() else { return Ok(false) };
    let lines: HaltLines = serde_json::from_value(lifted.covers)?;
    audit::record(&tx, by, "halt.lifted", &lines.to_string(), &lifted.reason).await?;
    let_go_on(&tx).await?;
    tx.commit().await?;
    Ok(true)
}

/// How many jobs some lines concern, by what they are at.
pub async fn concerned_by(
    db: &impl ConnectionTrait,
    concerned: &HaltedJobs,
) -> Result<HaltConcerns, StoreError> {
    #[derive(FromQueryResult)]
    struct Count {
        queued: i64,
        waiting: i64,
        running: i64,
    }
    let sql = "SELECT count(*) FILTER (WHERE state = 'queued') AS queued,
            count(*) FILTER (WHERE state = 'waiting') AS waiting,
            count(*) FILTER (WHERE state = 'running') AS running
        FROM job WHERE state IN ('queued', 'waiting', 'running')
            AND ($1::text[] IS NULL OR runbook ~ ANY ($1))
            AND ($2::text[] IS NULL OR rule ~ ANY ($2))
            AND ($3::text[] IS NULL OR target ~ ANY ($3))";
    let [runbooks, rules, targets] = concerned.patterns();
    let values = vec![runbooks.into(), rules.into(), targets.into()];
    let counted: Vec<Count> = sql::typed(db, sql, values).await?;
    Ok(counted.first().map_or_else(HaltConcerns::default, |count| HaltConcerns {
        queued: count.queued,
        waiting: count.waiting,
        running: count.running,
    }))
}
