//! Jobs of steps: made once, ended, and told to stop; and those that wait for each other's targets.

use crate::{
    StoreError, jobs,
    jobs::new,
    jobs::new::{Beginning, INHERITED, Inherited, NewJob, Origin, Step},
    sql,
    stored::Stored,
};
use arvok_core::{
    AlarmId, AlertId, JobId,
    job::{BlockedChild, ChildEnd, JobCommand, JobEffect, JobState, Place, StepEvent},
};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult};
use serde_json::Value;

/// A job of a step that is to be made.
#[derive(Clone, Debug)]
pub struct NewChild<'a> {
    /// The job whose step it is.
    pub parent: JobId,
    /// The step.
    pub place: &'a Place,
    /// Its runbook.
    pub runbook: &'a str,
    /// The version.
    pub version: i32,
    /// Inputs with the defaults filled in.
    pub inputs: Value,
    /// What it acts on.
    pub target: String,
}

#[derive(FromQueryResult)]
struct Id {
    id: i64,
}

/// Makes a job of a step, unless it was made before. It is as urgent as the job whose step it is,
/// and about the same alert; on the target of a job above it, it shares that one's hold.
pub async fn launch(
    db: &impl ConnectionTrait,
    child: NewChild<'_>,
    now: DateTime<Utc>,
) -> Result<Option<JobId>, StoreError> {
    let sql = format!(
        "WITH RECURSIVE above AS (SELECT id, parent, target FROM job WHERE id = $1
            UNION ALL SELECT j.id, j.parent, j.target FROM job j JOIN above a ON j.id = a.parent)
        SELECT {INHERITED}, EXISTS (SELECT 1 FROM above WHERE above.target = $2) AS is_held
        FROM job WHERE id = $1"
    );
    let rows = db
        .query_all_raw(sql::statement(
            &sql,
            vec![child.parent.0.into(), child.target.as_str().into()],
        ))
        .await?;
    let Some(row) = rows.first() else { return Ok(None) };
    let (above, is_held) =
        (Inherited::from_query_result(row, "")?, row.try_get::<bool>("", "is_held")?);
    let step = Step {
        parent: child.parent,
        place: child.place.to_string(),
        root: above.root.map_or(child.parent, JobId),
        depth: above.depth + 1,
        holds: !is_held,
    };
    let job = NewJob {
        id: None,
        runbook: child.runbook.to_owned(),
        version: child.version,
        inputs: child.inputs,
        target: child.target,
        urgency: above.urgency,
        deadline: None,
        refused: None,
        origin: Origin {
            rule: above.rule.zip(above.rule_version),
            person: above.launched_by.map(|by| by.0),
            key: None,
            step: Some(step),
        },
        alert: above.alert_seq.map(AlertId),
        alarm: above.alarm_id.map(AlarmId),
        chain: above.chain.unwrap_or_default(),
        reason: format!("a step of job {}, {}", child.parent, child.place),
        at: now,
        beginning: Beginning::Fresh,
        trace: None,
        trial: above.trial.map(|trial| trial.0),
    };
    match new::make(db, job).await? {
        Some(made) => Ok(Some(made)),
        None => job_of_step(db, child.parent, child.place).await,
    }
}

/// The job of a step, if it was made.
pub async fn job_of_step(
    db: &impl ConnectionTrait,
    parent: JobId,
    place: &Place,
) -> Result<Option<JobId>, StoreError> {
    let sql = "SELECT id FROM job WHERE parent = $1 AND parent_place = $2";
    let made: Vec<Id> = sql::typed(db, sql, vec![parent.0.into(), place.as_str().into()]).await?;
    Ok(made.first().map(|m| JobId(m.id)))
}

/// Tells a job to stop; whether it is told, or needs not be told any more.
pub async fn recall(
    db: &DatabaseConnection,
    job: JobId,
    undo: bool,
    words: &str,
) -> Result<bool, StoreError> {
    if jobs::cancel_queued(db, job, words, None).await? {
        return Ok(true);
    }
    if jobs::command(db, job, &JobCommand::Cancel { undo, words: words.to_owned() }, None).await? {
        return Ok(true);
    }
    let sql = "SELECT id FROM job WHERE id = $1
        AND state IN ('queued', 'running', 'waiting', 'paused', 'unsure')";
    Ok(sql::typed::<Id>(db, sql, vec![job.0.into()]).await?.is_empty())
}

/// The jobs below one that have not ended.
pub async fn alive_below(db: &impl ConnectionTrait, job: JobId) -> Result<Vec<JobId>, StoreError> {
    let sql = "WITH RECURSIVE below AS (SELECT id FROM job WHERE parent = $1
            AND state IN ('queued', 'running', 'waiting', 'paused', 'unsure')
            UNION ALL SELECT j.id FROM job j JOIN below b ON j.parent = b.id
            WHERE j.state IN ('queued', 'running', 'waiting', 'paused', 'unsure'))
        SELECT id FROM below";
    Ok(sql::typed::<Id>(db, sql, vec![job.0.into()])
        .await?
        .into_iter()
        .map(|j| JobId(j.id))
        .collect())
}

/// How those among some jobs ended that have.
pub(super) async fn ends(
    db: &impl ConnectionTrait,
    children: Vec<(Place, JobId)>,
) -> Result<Vec<(Place, StepEvent)>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        id: i64,
        state: Stored<JobState>,
        effect: Option<Stored<JobEffect>>,
        failure: Option<String>,
        outputs: Option<Value>,
    }
    let sql = "SELECT id, state, effect, failure, outputs FROM job
        WHERE id = ANY($1) AND state IN ('succeeded', 'failed', 'cancelled', 'expired', 'refused')";
    let ids: Vec<i64> = children.iter().map(|(_, job)| job.0).collect();
    let ended: Vec<Row> = sql::typed(db, sql, vec![ids.into()]).await?;
    let end = |row: Row| {
        let (place, job) = children.iter().find(|(_, job)| job.0 == row.id)?.clone();
        let end = ChildEnd {
            job,
            state: row.state.0,
            effect: row.effect.map_or(JobEffect::NotChecked, |effect| effect.0),
            failure: row.failure,
            outputs: row.outputs.unwrap_or(Value::Null),
        };
        Some((place, StepEvent::Ended(end)))
    };
    Ok(ended.into_iter().filter_map(end).collect())
}

/// Who waits for whom among jobs and the jobs of their steps.
pub async fn waiting(db: &impl ConnectionTrait) -> Result<Vec<BlockedChild>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        id: i64,
        parent: i64,
        root: i64,
        behind: Option<i64>,
    }
    let sql = "SELECT c.id, c.parent, c.root, o.id AS behind FROM job c
        LEFT JOIN job o ON c.state = 'queued' AND c.holds AND o.target = c.target AND o.holds
            AND o.state IN ('running', 'waiting', 'paused', 'unsure')
        WHERE c.parent IS NOT NULL AND c.state IN ('queued', 'running', 'waiting', 'paused',
        'unsure')";
    let rows: Vec<Row> = sql::typed(db, sql, vec![]).await?;
    let blocked = |r: Row| BlockedChild {
        job: JobId(r.id),
        parent: JobId(r.parent),
        root: JobId(r.root),
        behind: r.behind.map(JobId),
    };
    Ok(rows.into_iter().map(blocked).collect())
}
