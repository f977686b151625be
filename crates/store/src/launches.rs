//! Jobs that people launch by hand. The same launch that is sent twice, which its key tells, makes
//! one job.

use crate::stored::StoredPrincipal;
use crate::{
    StoreError, audit,
    entity::job,
    jobs::new::{self, Beginning, INHERITED, Inherited, NewJob, Origin},
    sql,
};
use arvok_core::{
    AlarmId, AlertId, JobId, Principal, PrincipalKind, TraceContext, job::Progress, rule::Urgency,
};
use chrono::{DateTime, Utc};
use sea_orm::{
    ColumnTrait, ConnectionTrait, DatabaseConnection, EntityTrait, FromQueryResult, QueryFilter,
    TransactionTrait,
};
use serde_json::Value;

/// A job that is to be launched.
#[derive(Clone, Debug)]
pub struct Launch<'a> {
    /// Its runbook.
    pub runbook: &'a str,
    /// The version.
    pub version: i32,
    /// Inputs with the defaults filled in.
    pub inputs: Value,
    /// What it acts on.
    pub target: String,
    /// How urgent it is.
    pub urgency: Urgency,
    /// Not started after this.
    pub deadline: Option<DateTime<Utc>>,
    /// The alert that it is about.
    pub alert: Option<i64>,
    /// Who launches it.
    pub by: &'a Principal,
    /// The key that the same launch has each time it is sent.
    pub key: Option<&'a str>,
    /// Why it was launched, in words.
    pub reason: String,
    /// The trace that its request belongs to.
    pub trace: Option<TraceContext>,
}

/// What became of a launch.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Launched {
    /// A job was made.
    New(JobId),
    /// The same was launched before, as this job.
    Known(JobId),
    /// Something else was launched under this key.
    Other(JobId),
}

/// The alarm of an alert, if it has one.
pub async fn alarm_of_alert(
    db: &impl ConnectionTrait,
    alert: i64,
) -> Result<Option<AlarmId>, StoreError> {
    #[derive(FromQueryResult)]
    struct Found {
        id: i64,
    }
    let sql = "SELECT a.id FROM alarm a JOIN alerts e ON e.seq = $1 AND a.source = e.source
        AND a.resource = e.resource
        AND a.kind = e.kind AND a.trial = (e.trial IS NOT NULL) WHERE e.state <> 'noted'";
    let found: Vec<Found> = sql::typed(db, sql, vec![alert.into()]).await?;
    Ok(found.first().map(|f| AlarmId(f.id)))
}

/// Makes a job, unless the same was launched before.
pub async fn launch(
    db: &DatabaseConnection,
    launch: Launch<'_>,
    now: DateTime<Utc>,
) -> Result<Launched, StoreError> {
    if let Some(before) = earlier_launch(db, &launch).await? {
        return Ok(before);
    }
    let tx = db.begin().await?;
    match make(&tx, &launch, now).await {
        Ok(id) => {
            tx.commit().await?;
            Ok(Launched::New(id))
        }
        Err(e) => {
            tx.rollback().await?;
            // The same was sent twice at once: the other was first.
            if e.is_duplicate() { earlier_launch(db, &launch).await?.ok_or(e) } else { Err(e) }
        }
    }
}

/// Makes a job, in the transaction of somebody who has seen that the same was not launched before.
///
/// # Errors
/// [`StoreError::is_duplicate`] if it was meanwhile.
pub(crate) async fn make(
    tx: &impl ConnectionTrait,
    launch: &Launch<'_>,
    now: DateTime<Utc>,
) -> Result<JobId, StoreError> {
    let alarm = match launch.alert {
        Some(alert) => alarm_of_alert(tx, alert).await?,
        None => None,
    };
    let (trace, trial) = new::marks_of_alert(tx, launch.alert).await?;
    let job = NewJob {
        id: None,
        runbook: launch.runbook.to_owned(),
        version: launch.version,
        inputs: launch.inputs.clone(),
        target: launch.target.clone(),
        urgency: launch.urgency.rank(),
        deadline: launch.deadline,
        refused: None,
        origin: Origin {
            person: Some(launch.by.clone()),
            key: launch.key.map(str::to_owned),
            ..Origin::default()
        },
        alert: launch.alert.map(AlertId),
        alarm,
        chain: Value::Null,
        reason: launch.reason.clone(),
        at: now,
        beginning: Beginning::Fresh,
        trace: launch.trace.or(trace),
        trial,
    };
    let made = new::make(tx, job).await?;
    let id = made.ok_or(StoreError::Contended("the numbers of jobs"))?;
    // What runs by itself is no act of anybody.
    if launch.by.kind() != PrincipalKind::Plan {
        audit::record(tx, launch.by, "job.launched", &audit::job_name(id), &launch.reason).await?;
    }
    Ok(id)
}

/// A job that goes on from where another ended.
#[derive(Clone, Debug)]
pub struct GoOn<'a> {
    /// The other.
    pub of: JobId,
    /// The version of the runbook.
    pub version: i32,
    /// How it stands at its beginning.
    pub progress: &'a Progress,
    /// The steps that stand, by their ids.
    pub stand: Vec<String>,
    /// Who launches it.
    pub by: &'a Principal,
    /// Why, in words.
    pub reason: String,
}

/// Makes a job that goes on from where another ended, with what that was for and what it was given;
/// the last tries of the steps that stand are taken over. While one that was made so is not over,
/// it is the one.
///
/// # Errors
/// If the database cannot be worked with; then nothing was made.
pub async fn go_on(
    db: &DatabaseConnection,
    go_on: GoOn<'_>,
    now: DateTime<Utc>,
) -> Result<Option<Launched>, StoreError> {
    #[derive(FromQueryResult)]
    struct CreatedId {
        id: i64,
    }
    let tx = db.begin().await?;
    // Of two who ask at once the second finds what the first has made.
    let lock = format!("SELECT {INHERITED} FROM job WHERE id = $1 FOR UPDATE");
    let old: Vec<Inherited> = sql::typed(&tx, &lock, vec![go_on.of.0.into()]).await?;
    let Some(old) = old.into_iter().next() else { return Ok(None) };
    let under_way = "SELECT n.id FROM job o JOIN job n ON n.id = o.goes_on_as
        WHERE o.id = $1 AND n.state NOT IN ('succeeded', 'failed', 'cancelled', 'expired',
        'refused')";
    let other: Vec<CreatedId> = sql::typed(&tx, under_way, vec![go_on.of.0.into()]).await?;
    if let Some(other) = other.first() {
        return Ok(Some(Launched::Known(JobId(other.id))));
    }
    let job = NewJob {
        id: None,
        runbook: old.runbook,
        version: go_on.version,
        inputs: old.inputs,
        target: old.target,
        urgency: old.urgency,
        deadline: None,
        refused: None,
        origin: Origin { person: Some(go_on.by.clone()), ..Origin::default() },
        alert: old.alert_seq.map(AlertId),
        alarm: old.alarm_id.map(AlarmId),
        chain: old.chain.unwrap_or_default(),
        reason: go_on.reason.clone(),
        at: now,
        // It has begun already: whoever takes it up reads what its steps gave.
        beginning: Beginning::From(Box::new(go_on.progress.clone())),
        trace: old.trace.as_deref().and_then(TraceContext::parse),
        trial: old.trial.map(|trial| trial.0),
    };
    let id = new::make(&tx, job).await?.ok_or(StoreError::Contended("the numbers of jobs"))?;
    let sql = "WITH taken AS (INSERT INTO attempt (job_id, place, attempt, state, started_at,
        finished_at, give, request, answer,
                output, error, saw)
            SELECT $2, a.place, 0, a.state, a.started_at, a.finished_at, a.give, a.request,
            a.answer, a.output, a.error, a.saw
            FROM (SELECT DISTINCT ON (place) * FROM attempt WHERE job_id = $1
                AND split_part(split_part(place, '.', 1), '[', 1) = ANY($3)
                ORDER BY place, attempt DESC) a
            RETURNING 1)
        UPDATE job SET goes_on_as = $2 WHERE id = $1";
    sql::run(&tx, sql, vec![go_on.of.0.into(), id.0.into(), go_on.stand.into()]).await?;
    audit::record(&tx, go_on.by, "job.launched", &audit::job_name(id), &go_on.reason).await?;
    tx.commit().await?;
    Ok(Some(Launched::New(id)))
}

pub(crate) async fn earlier_launch(
    db: &impl ConnectionTrait,
    launch: &Launch<'_>,
) -> Result<Option<Launched>, StoreError> {
    let Some(key) = launch.key else { return Ok(None) };
    let found = job::Entity::find()
        .filter(job::Column::LaunchedBy.eq(StoredPrincipal(launch.by.clone())))
        .filter(job::Column::LaunchKey.eq(key))
        .one(db)
        .await?;
    Ok(found.map(|job| {
        let same = job.runbook == launch.runbook
            && job.inputs == launch.inputs
            && job.alert_seq == launch.alert;
        if same { Launched::Known(JobId(job.id)) } else { Launched::Other(JobId(job.id)) }
    }))
}
