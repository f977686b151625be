//! What guards know: read under their locks, from the jobs under way and from rows of `guard_use`
//! for what outlives them, and counted anew where another version of a guard or its group has
//! counted.

use crate::{StoreError, jobs::new::LAUNCHED_BY, read, sql, stored::Stored};
use arvok_core::{
    JobId,
    guard::{GuardState, GuardedJob, Guards, LaunchedBy, StandingGuard},
    job::{JobEffect, JobState},
    rule::Urgency,
    touch::{Touch, Touches},
};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::{ConnectionTrait, DatabaseTransaction, FromQueryResult, Value};
use serde::Serialize;
use serde_json::json;
use std::collections::BTreeMap;

/// Most jobs that are counted anew for guards.
const COUNTED: i64 = 50_000;

/// A job as a guard counts it beside the job's own row.
#[derive(Debug, Serialize)]
pub(super) struct GuardUse {
    counted_as: String,
    job_id: JobId,
    runbook: String,
    target: String,
    amount: Option<f64>,
    begun_at: DateTime<Utc>,
    /// Whether it is under way, and its row does not name the guard.
    open: bool,
    ended_at: Option<DateTime<Utc>>,
    failed: bool,
}

impl GuardUse {
    /// A job that begins, if a guard looks back at its beginning.
    pub fn begins(
        standing: &StandingGuard,
        job: &GuardedJob<'_>,
        begun_at: DateTime<Utc>,
    ) -> Option<Self> {
        let amount = standing.amount(job);
        (standing.guard.per.is_some() || amount.is_some()).then(|| Self {
            counted_as: standing.counted_as(),
            job_id: job.id,
            runbook: job.runbook.to_owned(),
            target: job.target.to_owned(),
            amount,
            begun_at,
            open: false,
            ended_at: None,
            failed: false,
        })
    }
}

#[derive(FromQueryResult)]
struct StateRow {
    guard: String,
    version: Option<i32>,
    group_version: Option<i32>,
    moment: DateTime<Utc>,
    state: serde_json::Value,
    touches: Option<serde_json::Value>,
}

/// What guards know under their locks.
#[derive(Default)]
pub(super) struct GuardsLocked {
    /// By the name of the guard.
    pub states: BTreeMap<String, GuardState>,
    /// The moment.
    pub at: DateTime<Utc>,
    /// Who touched the resources last that were asked for.
    pub touches: Touches,
}

/// Takes the locks of guards, and reads what they know, and who touched some resources last: in one
/// statement, since all others wait meanwhile.
pub(super) async fn lock_guards(
    tx: &DatabaseTransaction,
    guards: &[&StandingGuard],
    resources: &[String],
) -> Result<GuardsLocked, StoreError> {
    let mut rows = read_states(tx, guards, resources).await?;
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
        rows = read_states(tx, guards, resources).await?;
    }
    let mut locked = GuardsLocked::default();
    for row in rows {
        locked.at = row.moment;
        locked.states.insert(row.guard, serde_json::from_value(row.state)?);
        if let Some(touches) = row.touches {
            let touches: Vec<Touch> = serde_json::from_value(touches)?;
            locked.touches = Touches::new(touches);
        }
    }
    Ok(locked)
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
    resources: &[String],
) -> Result<Vec<StateRow>, StoreError> {
    let sql = "SELECT guard, version, group_version, moment, state, touches
        FROM guards_locked($1, $2)";
    let values = vec![asked(guards.iter().copied()), resources.to_vec().into()];
    sql::typed(tx, sql, values).await
}

/// What is asked of guards, as the functions of the database read it.
fn asked<'g>(guards: impl Iterator<Item = &'g StandingGuard>) -> Value {
    let asked = guards.map(|standing| {
        let guard = &standing.guard;
        json!({
            "guard": guard.name,
            "counted_as": standing.counted_as(),
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
    let names: Vec<String> = anew.iter().map(|standing| standing.guard.name.clone()).collect();
    forget(tx, &names).await?;
    let jobs = begun(tx, anew).await?;
    let labels = match anew.iter().any(|standing| standing.guard.concerns.asks_labels()) {
        true => AlertLabels::of(tx, jobs.iter().map(|job| job.alert_seq)).await?,
        false => AlertLabels::default(),
    };
    let uses = jobs.iter().flat_map(|job| {
        let guarded = job.guarded(labels.get(job.alert_seq));
        let concerning = anew.iter().filter(move |standing| standing.concerns(&guarded));
        concerning.filter_map(move |standing| job.counted(standing, &guarded)).collect::<Vec<_>>()
    });
    count(tx, &uses.collect::<Vec<_>>()).await?;
    let sql = "INSERT INTO guard_counted (guard, version, group_version, counted_as)
        SELECT * FROM unnest($1::text[], $2::int[], $3::int[], $4::text[])
        ON CONFLICT (guard) DO UPDATE SET version = excluded.version,
            group_version = excluded.group_version, counted_as = excluded.counted_as";
    let versions: Vec<i32> = anew.iter().map(|standing| standing.version).collect();
    let of_groups: Vec<i32> = anew.iter().map(|standing| standing.group_version).collect();
    let counted_as: Vec<String> = anew.iter().map(|standing| standing.counted_as()).collect();
    let values = vec![names.into(), versions.into(), of_groups.into(), counted_as.into()];
    sql::run(tx, sql, values).await?;
    Ok(())
}

/// Forgets what guards have counted. What a job writes at this moment, since it ends, stays until
/// nobody looks back so far: it is counted as nothing that is asked for.
pub(crate) async fn forget(tx: &impl ConnectionTrait, guards: &[String]) -> Result<(), StoreError> {
    let sql = "DELETE FROM guard_use WHERE (counted_as, job_id) IN (SELECT u.counted_as, u.job_id
        FROM guard_counted c JOIN guard_use u USING (counted_as) WHERE c.guard = ANY($1)
        FOR UPDATE OF u SKIP LOCKED)";
    sql::run(tx, sql, vec![guards.to_vec().into()]).await?;
    sql::run(tx, "DELETE FROM guard_counted WHERE guard = ANY($1)", vec![guards.to_vec().into()])
        .await?;
    Ok(())
}

/// A job that has begun, as it is counted anew.
#[derive(FromQueryResult)]
struct BegunJob {
    id: i64,
    runbook: String,
    target: String,
    rule: Option<String>,
    launched_by: Stored<LaunchedBy>,
    urgency: i16,
    inputs: serde_json::Value,
    alert_seq: Option<i64>,
    started_at: DateTime<Utc>,
    finished_at: Option<DateTime<Utc>>,
    open: bool,
    failed: bool,
}

/// The jobs under way, and those that guards look back at.
async fn begun(
    tx: &DatabaseTransaction,
    guards: &[&StandingGuard],
) -> Result<Vec<BegunJob>, StoreError> {
    let sql = format!(
        "SELECT id, runbook, target, rule, urgency, inputs, {LAUNCHED_BY}, alert_seq, started_at,
            finished_at, state = ANY($1) AS open,
            coalesce(state = '{}' OR effect = '{}', false) AS failed
        FROM job WHERE started_at IS NOT NULL AND trial IS DISTINCT FROM 'dry'
            AND (state = ANY($1) OR created_at > now() - make_interval(secs => $2))
        ORDER BY id DESC LIMIT $3",
        JobState::Failed,
        JobEffect::Unconfirmed
    );
    let open: Vec<String> = JobState::BEGUN.iter().map(ToString::to_string).collect();
    // A job may have been in the queue for a while.
    let window = guards.iter().map(|standing| standing.guard.window().delta()).max();
    let back = window.unwrap_or_default() + TimeDelta::hours(1);
    #[expect(clippy::cast_precision_loss, reason = "whole seconds of a month")]
    let back = back.num_seconds() as f64;
    sql::typed(tx, &sql, vec![open.into(), back.into(), COUNTED.into()]).await
}

impl BegunJob {
    fn guarded<'j>(&'j self, labels: Option<&'j BTreeMap<String, String>>) -> GuardedJob<'j> {
        GuardedJob {
            id: JobId(self.id),
            runbook: &self.runbook,
            target: &self.target,
            rule: self.rule.as_deref(),
            launched_by: self.launched_by.0,
            urgency: Urgency::from_rank(self.urgency),
            inputs: &self.inputs,
            above: &[],
            overruled: &[],
            labels,
            touched: None,
            let_back_by: None,
        }
    }

    /// What a guard that concerns it counts of it.
    fn counted(&self, standing: &StandingGuard, guarded: &GuardedJob<'_>) -> Option<GuardUse> {
        let counted = GuardUse {
            amount: standing.amount(guarded),
            counted_as: standing.counted_as(),
            job_id: guarded.id,
            runbook: self.runbook.clone(),
            target: self.target.clone(),
            begun_at: self.started_at,
            open: self.open,
            ended_at: self.finished_at,
            failed: self.failed,
        };
        let is_looked_at = standing.guard.per.is_some() || counted.amount.is_some();
        (self.open || self.failed || is_looked_at).then_some(counted)
    }
}

/// Writes what is counted.
pub(super) async fn count(tx: &impl ConnectionTrait, uses: &[GuardUse]) -> Result<(), StoreError> {
    if uses.is_empty() {
        return Ok(());
    }
    let sql = "INSERT INTO guard_use (counted_as, job_id, runbook, target, amount, begun_at, open,
            ended_at, failed)
        SELECT counted_as, job_id, runbook, target, amount, begun_at, open, ended_at, failed
        FROM jsonb_to_recordset($1) AS u (counted_as text, job_id bigint, runbook text, target text,
            amount double precision, begun_at timestamptz, open boolean, ended_at timestamptz,
            failed boolean)
        ORDER BY 1, 2 ON CONFLICT (counted_as, job_id) DO NOTHING";
    sql::run(tx, sql, vec![serde_json::to_value(uses)?.into()]).await?;
    Ok(())
}

/// Removes what no guard looks back at any more, so many rows at most; how many.
///
/// # Errors
/// If the database cannot be worked with.
pub(crate) async fn sweep(db: &impl ConnectionTrait, most: i64) -> Result<u64, StoreError> {
    // Which of them look back at what has begun is known where they are asked: here all do.
    let sql = "SELECT guards_closed(n.all_of, n.all_of)
        FROM (SELECT array_agg(DISTINCT counted_as) AS all_of FROM guard_use WHERE open) n";
    sql::run(db, sql, vec![]).await?;
    let back = arvok_core::guard::LONGEST.delta() + TimeDelta::days(1);
    let sql = "DELETE FROM guard_use WHERE (counted_as, job_id) IN (SELECT counted_as, job_id
        FROM guard_use WHERE NOT open AND begun_at < now() - make_interval(days => $1)
        ORDER BY begun_at LIMIT $2 FOR UPDATE SKIP LOCKED)";
    let days = i32::try_from(back.num_days()).unwrap_or(i32::MAX);
    sql::run(db, sql, vec![days.into(), most.into()]).await
}
