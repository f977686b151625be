//! What guards know: read under their locks, counted by rows of `guard_use`, and counted anew where
//! another version of a guard or its group has counted.

use crate::{StoreError, jobs::new::LAUNCHED_BY, read, sql, stored::Stored};
use arvok_core::{
    JobId,
    guard::{GuardState, GuardedJob, Guards, LaunchedBy, StandingGuard},
    job::JobState,
    rule::Urgency,
};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::{ConnectionTrait, DatabaseTransaction, FromQueryResult, Value};
use serde_json::json;
use std::collections::BTreeMap;

/// Most jobs that are counted anew for guards.
const COUNTED: i64 = 50_000;

/// A job as a guard counts it.
#[derive(Debug)]
pub(super) struct GuardUse {
    pub guard: String,
    pub runbook: String,
    pub target: String,
    pub amount: Option<f64>,
}

#[derive(FromQueryResult)]
struct StateRow {
    guard: String,
    version: Option<i32>,
    group_version: Option<i32>,
    moment: DateTime<Utc>,
    state: serde_json::Value,
}

/// What guards know, and the moment, under their locks.
pub(super) async fn states(
    tx: &DatabaseTransaction,
    guards: &[&StandingGuard],
) -> Result<(BTreeMap<String, GuardState>, DateTime<Utc>), StoreError> {
    let mut rows = read_states(tx, guards).await?;
    let mut anew = Vec::new();
    for row in &rows {
        let Some(standing) = guards.iter().find(|g| g.guard.name == row.guard) else { continue };
        let own = (standing.version, standing.group_version);
        match row.version.zip(row.group_version) {
            Some(counted) if counted == own => {}
            Some(counted) if counted > own => {
                return Err(StoreError::Stale(generation(tx).await?));
            }
            _ => anew.push(*standing),
        }
    }
    if !anew.is_empty() {
        recount(tx, &anew).await?;
        rows = read_states(tx, guards).await?;
    }
    let at = rows.first().map_or_else(DateTime::default, |row| row.moment);
    let read = |row: StateRow| Ok((row.guard, serde_json::from_value(row.state)?));
    Ok((rows.into_iter().map(read).collect::<Result<_, StoreError>>()?, at))
}

/// The generation of what is published.
async fn generation(tx: &DatabaseTransaction) -> Result<i64, StoreError> {
    #[derive(FromQueryResult)]
    struct Generation {
        generation: i64,
    }
    let rows: Vec<Generation> = sql::typed(tx, "SELECT generation FROM catalog", vec![]).await?;
    Ok(rows.first().map_or(0, |row| row.generation))
}

async fn read_states(
    tx: &DatabaseTransaction,
    guards: &[&StandingGuard],
) -> Result<Vec<StateRow>, StoreError> {
    let sql = "SELECT guard, version, group_version, moment, state FROM guards_locked($1)";
    sql::typed(tx, sql, vec![asked(guards.iter().copied())]).await
}

/// What is asked of guards, as the functions of the database read it.
fn asked<'g>(guards: impl Iterator<Item = &'g StandingGuard>) -> Value {
    let asked = guards.map(|standing| {
        let guard = &standing.guard;
        json!({
            "guard": guard.name,
            "targets": guard.counts_targets(),
            "per": guard.per.map(|per| per.within.millis()),
            "most": guard.per.map(|per| per.jobs.of(standing.size())),
            "after": guard.after_failure.map(|after| after.millis()),
            "ceiling": guard.ceiling.as_ref().map(|ceiling| ceiling.within.millis()),
            "circuit": guard.circuit.map(|circuit| circuit.within.millis()),
        })
    });
    serde_json::Value::Array(asked.collect()).into()
}

/// What guards know at the moment, and how many jobs each holds, for whoever looks at them.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn known(
    db: &impl ConnectionTrait,
    guards: &Guards,
) -> Result<BTreeMap<String, (GuardState, i64)>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        guard: String,
        state: serde_json::Value,
        holds: i64,
    }
    let sql = "SELECT k.guard, k.state, (SELECT count(*) FROM job WHERE state = 'queued'
            AND held IS NOT NULL AND held ->> 'guard' = k.guard) AS holds
        FROM guards_known($1) k";
    let rows: Vec<Row> = sql::typed(db, sql, vec![asked(guards.iter())]).await?;
    let read = |row: Row| Ok((row.guard, (serde_json::from_value(row.state)?, row.holds)));
    rows.into_iter().map(read).collect()
}

/// The labels of alerts that set jobs off, where any guard asks for them.
#[derive(Default)]
pub(super) struct AlertLabels(BTreeMap<i64, BTreeMap<String, String>>);

impl AlertLabels {
    /// Reads them.
    pub async fn of(
        tx: &DatabaseTransaction,
        alerts: impl Iterator<Item = Option<i64>>,
    ) -> Result<Self, StoreError> {
        let mut alerts: Vec<i64> = alerts.flatten().collect();
        alerts.sort_unstable();
        alerts.dedup();
        Ok(Self(read::labels_of_alerts(tx, &alerts).await?))
    }

    /// Those of an alert: none if that is gone, and no labels where there is no alert.
    pub fn get(&self, alert: Option<i64>) -> Option<&BTreeMap<String, String>> {
        static NONE: BTreeMap<String, String> = BTreeMap::new();
        alert.map_or(Some(&NONE), |alert| self.0.get(&alert))
    }
}

/// Counts what guards concern by the jobs that there are, of those under way and those that they
/// look back at; what had been counted by other versions is forgotten.
async fn recount(tx: &DatabaseTransaction, anew: &[&StandingGuard]) -> Result<(), StoreError> {
    #[derive(FromQueryResult)]
    struct Begun {
        id: i64,
        runbook: String,
        target: String,
        rule: Option<String>,
        launched_by: Stored<LaunchedBy>,
        urgency: i16,
        inputs: serde_json::Value,
        alert_seq: Option<i64>,
        started_at: DateTime<Utc>,
    }
    let names: Vec<String> = anew.iter().map(|standing| standing.guard.name.clone()).collect();
    sql::run(tx, "DELETE FROM guard_use WHERE guard = ANY($1)", vec![names.clone().into()]).await?;
    let sql = format!(
        "SELECT id, runbook, target, rule, urgency, inputs, {LAUNCHED_BY}, alert_seq, started_at
        FROM job WHERE started_at IS NOT NULL AND trial IS DISTINCT FROM 'dry'
            AND (state = ANY($1) OR created_at > now() - make_interval(secs => $2))
        ORDER BY id DESC LIMIT $3"
    );
    let begun: Vec<String> = JobState::BEGUN.iter().map(ToString::to_string).collect();
    // A job may have been in the queue for a while.
    let window = anew.iter().map(|standing| standing.guard.window().delta()).max();
    let back = window.unwrap_or_default() + TimeDelta::hours(1);
    #[expect(clippy::cast_precision_loss, reason = "whole seconds of a month")]
    let back = back.num_seconds() as f64;
    let jobs: Vec<Begun> =
        sql::typed(tx, &sql, vec![begun.into(), back.into(), COUNTED.into()]).await?;
    let labels = match anew.iter().any(|standing| standing.guard.concerns.asks_labels()) {
        true => AlertLabels::of(tx, jobs.iter().map(|job| job.alert_seq)).await?,
        false => AlertLabels::default(),
    };
    let mut uses = Vec::new();
    for job in &jobs {
        let as_guarded = GuardedJob {
            id: JobId(job.id),
            runbook: &job.runbook,
            target: &job.target,
            rule: job.rule.as_deref(),
            launched_by: job.launched_by.0,
            urgency: Urgency::from_rank(job.urgency),
            inputs: &job.inputs,
            above: &[],
            overruled: &[],
            labels: labels.get(job.alert_seq),
            touched: None,
            let_back_by: None,
        };
        let concerning = anew.iter().filter(|standing| standing.concerns(&as_guarded));
        uses.extend(concerning.map(|standing| {
            let counted = GuardUse {
                guard: standing.guard.name.clone(),
                amount: standing.amount(&as_guarded),
                runbook: job.runbook.clone(),
                target: job.target.clone(),
            };
            (JobId(job.id), counted, job.started_at)
        }));
    }
    count(tx, uses.iter().map(|(job, one, at)| (*job, one, *at))).await?;
    let sql = "INSERT INTO guard_counted (guard, version, group_version)
        SELECT * FROM unnest($1::text[], $2::int[], $3::int[])
        ON CONFLICT (guard) DO UPDATE SET version = excluded.version,
            group_version = excluded.group_version";
    let versions: Vec<i32> = anew.iter().map(|standing| standing.version).collect();
    let of_groups: Vec<i32> = anew.iter().map(|standing| standing.group_version).collect();
    sql::run(tx, sql, vec![names.into(), versions.into(), of_groups.into()]).await?;
    Ok(())
}

/// Writes what is counted.
pub(super) async fn count<'u>(
    tx: &impl ConnectionTrait,
    uses: impl Iterator<Item = (JobId, &'u GuardUse, DateTime<Utc>)>,
) -> Result<(), StoreError> {
    let rows: Vec<serde_json::Value> = uses
        .map(|(job, one, at)| {
            let GuardUse { guard, runbook, target, amount } = one;
            json!({ "guard": guard, "job_id": job.0, "runbook": runbook, "target": target,
                "amount": amount, "begun_at": at })
        })
        .collect();
    if rows.is_empty() {
        return Ok(());
    }
    let sql = "INSERT INTO guard_use (guard, job_id, runbook, target, amount, begun_at)
        SELECT guard, job_id, runbook, target, amount, begun_at
        FROM jsonb_to_recordset($1) AS u (guard text, job_id bigint, runbook text, target text,
            amount double precision, begun_at timestamptz)
        ON CONFLICT (guard, job_id) DO NOTHING";
    sql::run(tx, sql, vec![serde_json::Value::Array(rows).into()]).await?;
    Ok(())
}

/// Removes what no guard looks back at any more, so many rows at most; how many.
///
/// # Errors
/// If the database cannot be worked with.
pub(crate) async fn sweep(db: &impl ConnectionTrait, most: i64) -> Result<u64, StoreError> {
    // Which of them look back at what has begun is known where they are asked: here all do.
    let sql = "SELECT guards_closed(n.names, n.names)
        FROM (SELECT array_agg(DISTINCT guard) AS names FROM guard_use WHERE open) n";
    sql::run(db, sql, vec![]).await?;
    let back = arvok_core::guard::LONGEST.delta() + TimeDelta::days(1);
    let sql = "DELETE FROM guard_use WHERE (guard, job_id) IN (SELECT guard, job_id FROM guard_use
        WHERE NOT open AND begun_at < now() - make_interval(days => $1)
        ORDER BY begun_at LIMIT $2 FOR UPDATE SKIP LOCKED)";
    let days = i32::try_from(back.num_days()).unwrap_or(i32::MAX);
    sql::run(db, sql, vec![days.into(), most.into()]).await
}
