//! Plans: their runs, of which one at a time is under way, and the times at which they do not run.
//!
//! Runs are jobs of the name that the core gives them; the times to come are worked out from what
//! is published, and the next of each is a timer. Whoever launches, skips or keeps a time of a plan
//! holds the plan's lock, so that a time is skipped or has its run, and never both.

use crate::{
    StoreError, audit,
    launches::{self, Launch},
    sql,
    stored::{Stored, StoredPrincipal},
};
use arvok_api::PlanEntry;
use arvok_core::{
    JobId, Principal,
    job::{JobEffect, JobState},
    plan::{self, Omission},
};
use chrono::{DateTime, SubsecRound, TimeDelta, Utc};
use sea_orm::{
    ConnectionTrait, DatabaseConnection, DatabaseTransaction, FromQueryResult, TransactionTrait,
};
use std::collections::BTreeMap;

/// What became of a run that was to be launched.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RunLaunched {
    /// A job was made.
    New(JobId),
    /// The same was launched before, as this job.
    Known(JobId),
    /// Something else was launched under this key.
    Other(JobId),
    /// The run before is not over: this job.
    UnderWay(JobId),
    /// This time was skipped, or passed over for another reason.
    Omitted,
}

/// A time at which a plan does not run.
#[derive(Clone, Debug)]
pub struct OmittedRun<'a> {
    /// The plan.
    pub plan: &'a str,
    /// The time.
    pub due: DateTime<Utc>,
    /// Why.
    pub why: Omission,
    /// In words.
    pub reason: &'a str,
    /// Who says so.
    pub by: &'a Principal,
}

/// What became of a time at which a plan was not to run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RunOmitted {
    /// It is written down.
    Done,
    /// It was already, for this reason.
    Known(Omission),
    /// It has a run: this job.
    Ran(JobId),
    /// So many times to come are skipped that no other may be.
    Many,
}

/// Most times to come of a plan that are skipped.
pub const MOST_SKIPPED: i64 = 500;

/// How long it is kept when a plan did not run.
const KEPT: TimeDelta = TimeDelta::days(400);

/// Removes what was omitted long ago, at most so many.
pub(crate) async fn sweep(
    db: &DatabaseConnection,
    now: DateTime<Utc>,
    most: i64,
) -> Result<(), StoreError> {
    let sql = "DELETE FROM plan_omission WHERE (plan, due) IN
        (SELECT plan, due FROM plan_omission WHERE due < $1 ORDER BY due LIMIT $2)";
    sql::run(db, sql, vec![(now - KEPT).into(), most.into()]).await.map(drop)
}

async fn hold(tx: &DatabaseTransaction, plan: &str) -> Result<(), StoreError> {
    let lock = "SELECT pg_advisory_xact_lock(hashtextextended('plan ' || $1, 0))";
    sql::run(tx, lock, vec![plan.into()]).await.map(drop)
}

/// The key under which a run for a time is launched.
pub fn key_of(due: DateTime<Utc>) -> String {
    due.trunc_subsecs(0).to_rfc3339()
}

#[derive(FromQueryResult)]
struct RunId {
    id: i64,
}

/// Launches a run for a time, or by hand, unless another is under way or the time was skipped.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn launch(
    db: &DatabaseConnection,
    plan: &str,
    due: Option<DateTime<Utc>>,
    launch: &Launch<'_>,
    now: DateTime<Utc>,
) -> Result<RunLaunched, StoreError> {
    let tx = db.begin().await?;
    hold(&tx, plan).await?;
    let before = launches::earlier_launch(&tx, launch).await?;
    if let Some(before) = before {
        return Ok(match before {
            launches::Launched::Other(job) if due.is_none() => RunLaunched::Other(job),
            // What a run for a time is given may change until it is launched.
            launches::Launched::New(job)
            | launches::Launched::Known(job)
            | launches::Launched::Other(job) => RunLaunched::Known(job),
        });
    }
    if let Some(due) = due {
        let sql = "SELECT 1::bigint AS id FROM plan_omission WHERE plan = $1 AND due = $2";
        let omitted: Vec<RunId> = sql::typed(&tx, sql, vec![plan.into(), due.into()]).await?;
        if !omitted.is_empty() {
            return Ok(RunLaunched::Omitted);
        }
    }
    if let Some(job) = under_way(&tx, plan).await? {
        return Ok(RunLaunched::UnderWay(job));
    }
    let id = launches::make(&tx, launch, now).await?;
    tx.commit().await?;
    Ok(RunLaunched::New(id))
}

/// The run of a plan that is not over.
async fn under_way(db: &impl ConnectionTrait, plan: &str) -> Result<Option<JobId>, StoreError> {
    let open = JobState::OPEN.iter().map(ToString::to_string).collect::<Vec<_>>();
    let sql = "SELECT id FROM job WHERE runbook = $1 AND parent IS NULL AND state = ANY($2)
        ORDER BY id DESC LIMIT 1";
    let found: Vec<RunId> =
        sql::typed(db, sql, vec![plan::job_name(plan).into(), open.into()]).await?;
    Ok(found.first().map(|run| JobId(run.id)))
}

/// Writes down that a plan does not run at a time, unless it does.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn omit(
    db: &DatabaseConnection,
    omitted: &OmittedRun<'_>,
) -> Result<RunOmitted, StoreError> {
    let tx = db.begin().await?;
    let is = write_omission(&tx, omitted).await?;
    tx.commit().await?;
    Ok(is)
}

/// Somebody says that a plan does not run at a time to come.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn skip(
    db: &DatabaseConnection,
    omitted: &OmittedRun<'_>,
    now: DateTime<Utc>,
) -> Result<RunOmitted, StoreError> {
    let tx = db.begin().await?;
    let is = write_omission(&tx, omitted).await?;
    if is != RunOmitted::Done {
        return Ok(is);
    }
    let to_come = "SELECT count(*) AS id FROM plan_omission WHERE plan = $1 AND due > $2";
    let to_come: Vec<RunId> =
        sql::typed(&tx, to_come, vec![omitted.plan.into(), now.into()]).await?;
    if to_come.first().is_some_and(|count| count.id > MOST_SKIPPED) {
        return Ok(RunOmitted::Many);
    }
    let what = format!("plan {} at {}", omitted.plan, omitted.due.to_rfc3339());
    audit::record(&tx, omitted.by, "plan.skipped", &what, omitted.reason).await?;
    tx.commit().await?;
    Ok(is)
}

async fn write_omission(
    tx: &DatabaseTransaction,
    omitted: &OmittedRun<'_>,
) -> Result<RunOmitted, StoreError> {
    hold(tx, omitted.plan).await?;
    if let Some(run) = run_for(tx, omitted.plan, omitted.due).await? {
        return Ok(RunOmitted::Ran(run));
    }
    #[derive(FromQueryResult)]
    struct Standing {
        why: Stored<Omission>,
    }
    let standing = "SELECT why FROM plan_omission WHERE plan = $1 AND due = $2";
    let standing: Vec<Standing> =
        sql::typed(tx, standing, vec![omitted.plan.into(), omitted.due.into()]).await?;
    if let Some(standing) = standing.first() {
        return Ok(RunOmitted::Known(standing.why.0));
    }
    let sql = "INSERT INTO plan_omission (plan, due, why, reason, by) VALUES ($1, $2, $3, $4, $5)";
    let values = vec![
        omitted.plan.into(),
        omitted.due.into(),
        Stored(omitted.why).into(),
        omitted.reason.replace('\0', "\u{fffd}").into(),
        StoredPrincipal(omitted.by.clone()).into(),
    ];
    sql::run(tx, sql, values).await?;
    Ok(RunOmitted::Done)
}

/// The run of a plan for a time.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn run_for(
    db: &impl ConnectionTrait,
    plan: &str,
    due: DateTime<Utc>,
) -> Result<Option<JobId>, StoreError> {
    let sql = "SELECT id FROM job WHERE launched_by = $1 AND launch_key = $2";
    let by = StoredPrincipal(Principal::plan(plan));
    let found: Vec<RunId> = sql::typed(db, sql, vec![by.into(), key_of(due).into()]).await?;
    Ok(found.first().map(|run| JobId(run.id)))
}

/// Somebody says that a plan runs at a time that was skipped. False if it was not.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn unskip(
    db: &DatabaseConnection,
    plan: &str,
    due: DateTime<Utc>,
    by: &Principal,
) -> Result<bool, StoreError> {
    let tx = db.begin().await?;
    hold(&tx, plan).await?;
    let sql = "DELETE FROM plan_omission WHERE plan = $1 AND due = $2 AND why = $3";
    let values = vec![plan.into(), due.into(), Stored(Omission::Skipped).into()];
    if sql::run(&tx, sql, values).await? == 0 {
        return Ok(false);
    }
    let what = format!("plan {plan} at {}", due.to_rfc3339());
    audit::record(&tx, by, "plan.unskipped", &what, "").await?;
    tx.commit().await?;
    Ok(true)
}

#[derive(FromQueryResult)]
struct OmissionRow {
    plan: String,
    due: DateTime<Utc>,
    why: Stored<Omission>,
    reason: String,
    by: StoredPrincipal,
}

/// The times within a span at which plans do not run, the latest first.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn omissions(
    db: &impl ConnectionTrait,
    plans: &[String],
    (from, until): (DateTime<Utc>, DateTime<Utc>),
    most: i64,
) -> Result<Vec<PlanEntry>, StoreError> {
    let sql = "SELECT plan, due, why, reason, by FROM plan_omission
        WHERE plan = ANY($1) AND due >= $2 AND due <= $3 ORDER BY due DESC LIMIT $4";
    let values = vec![plans.to_vec().into(), from.into(), until.into(), most.into()];
    let rows: Vec<OmissionRow> = sql::typed(db, sql, values).await?;
    let entry = |row: OmissionRow| PlanEntry {
        plan: row.plan,
        due: Some(row.due),
        at: row.due,
        coming: false,
        times: 1,
        omitted: Some(row.why.0),
        reason: Some(row.reason),
        by: Some(row.by.0),
        job: None,
        state: None,
        effect: None,
        frozen: None,
    };
    Ok(rows.into_iter().map(entry).collect())
}

#[derive(FromQueryResult)]
struct RunRow {
    id: i64,
    runbook: String,
    due: Option<String>,
    created_at: DateTime<Utc>,
    state: Stored<JobState>,
    effect: Option<Stored<JobEffect>>,
    failure: Option<String>,
    launched_by: Option<StoredPrincipal>,
}

const RUN: &str = "id, runbook, inputs ->> 'due' AS due, created_at, state, effect, failure,
    launched_by";

impl RunRow {
    fn entry(self) -> PlanEntry {
        let due = self.due.and_then(|due| due.parse::<DateTime<Utc>>().ok());
        let name = plan::of_job_name(&self.runbook).unwrap_or(&self.runbook);
        PlanEntry {
            plan: name.to_owned(),
            due,
            at: due.unwrap_or(self.created_at),
            coming: false,
            times: 1,
            omitted: None,
            reason: self.failure,
            by: self.launched_by.map(|by| by.0),
            job: Some(self.id),
            state: Some(self.state.0),
            effect: self.effect.map(|effect| effect.0),
            frozen: None,
        }
    }
}

fn job_names(plans: &[String]) -> Vec<String> {
    plans.iter().map(|plan| plan::job_name(plan)).collect()
}

/// The runs of plans that were launched within a span, the latest first.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn runs(
    db: &impl ConnectionTrait,
    plans: &[String],
    (from, until): (DateTime<Utc>, DateTime<Utc>),
    most: i64,
) -> Result<Vec<PlanEntry>, StoreError> {
    let sql = format!(
        "SELECT r.* FROM unnest($1::text[]) p (name) CROSS JOIN LATERAL
            (SELECT {RUN} FROM job WHERE runbook = p.name AND parent IS NULL AND created_at >= $2
                AND created_at <= $3 ORDER BY id DESC LIMIT $4) r
        ORDER BY r.id DESC LIMIT $4"
    );
    let values = vec![job_names(plans).into(), from.into(), until.into(), most.into()];
    let rows: Vec<RunRow> = sql::typed(db, &sql, values).await?;
    Ok(rows.into_iter().map(RunRow::entry).collect())
}

/// The last run of each of some plans.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn last_runs(
    db: &impl ConnectionTrait,
    plans: &[String],
) -> Result<BTreeMap<String, PlanEntry>, StoreError> {
    let sql = format!(
        "SELECT r.* FROM unnest($1::text[]) p (name) CROSS JOIN LATERAL
            (SELECT {RUN} FROM job WHERE runbook = p.name AND parent IS NULL
                ORDER BY id DESC LIMIT 1) r"
    );
    let rows: Vec<RunRow> = sql::typed(db, &sql, vec![job_names(plans).into()]).await?;
    let entries = rows.into_iter().map(RunRow::entry);
    Ok(entries.map(|entry| (entry.plan.clone(), entry)).collect())
}
