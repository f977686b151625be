//! Jobs as they are made, by whoever makes them: rules, people, and steps of other jobs. Nobody
//! else writes rows of jobs that are new; what a new job says nothing of is as the table has it by
//! default.

use crate::stored::StoredPrincipal;
use crate::{StoreError, sql, stored::Stored};
use arvok_core::{
    AlarmId, AlertId, JobId, Principal, TraceContext, Trial,
    job::{JobEffect, JobState, Progress},
    text::clean_json,
};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, FromQueryResult, Value};
use serde::Serialize;
use serde_json::json;

/// A job to be made.
#[derive(Clone, Debug)]
pub(crate) struct NewJob {
    /// Its number; none if it is to be drawn.
    pub id: Option<JobId>,
    pub runbook: String,
    pub version: i32,
    pub inputs: serde_json::Value,
    pub target: String,
    pub urgency: i16,
    /// Not started after this.
    pub deadline: Option<DateTime<Utc>>,
    /// Why it is refused, if it is; else it is queued.
    pub refused: Option<String>,
    pub origin: Origin,
    pub alert: Option<AlertId>,
    pub alarm: Option<AlarmId>,
    /// The rules through whose jobs' events it came to be.
    pub chain: serde_json::Value,
    pub reason: String,
    pub at: DateTime<Utc>,
    pub beginning: Beginning,
    /// The trace of whatever makes it; none: that of the job above it, or one of its own.
    pub trace: Option<TraceContext>,
    /// How far it may go, if it is that of a trial.
    pub trial: Option<Trial>,
}

/// Who makes a job.
#[derive(Clone, Debug, Default)]
pub(crate) struct Origin {
    pub rule: Option<(String, i32)>,
    pub person: Option<Principal>,
    /// What tells the same launch of a person's.
    pub key: Option<String>,
    pub step: Option<Step>,
}

/// The step of another job that a job is.
#[derive(Clone, Debug)]
pub(crate) struct Step {
    pub parent: JobId,
    pub place: String,
    /// The first of the jobs above.
    pub root: JobId,
    pub depth: i16,
    /// Whether it keeps others from its target: not if one above it does.
    pub holds: bool,
}

/// How a job stands when it is made.
#[derive(Clone, Debug, Default)]
pub(crate) enum Beginning {
    /// Nobody has begun it.
    #[default]
    Fresh,
    /// It goes on from where another ended.
    From(Box<Progress>),
}

/// The columns that are written, the number first, as the statement reads them.
const COLUMNS: [(&str, &str); 29] = [
    ("id", "bigint"),
    ("runbook", "text"),
    ("runbook_version", "int"),
    ("inputs", "jsonb"),
    ("target", "text"),
    ("urgency", "smallint"),
    ("deadline", "timestamptz"),
    ("state", "text"),
    ("effect", "text"),
    ("failure", "text"),
    ("finished_at", "timestamptz"),
    ("rule", "text"),
    ("rule_version", "int"),
    ("alert_seq", "bigint"),
    ("alarm_id", "bigint"),
    ("chain", "jsonb"),
    ("progress", "jsonb"),
    ("begun", "boolean"),
    ("created_at", "timestamptz"),
    ("launched_by", "principal"),
    ("launch_key", "text"),
    ("reason", "text"),
    ("parent", "bigint"),
    ("parent_place", "text"),
    ("root", "bigint"),
    ("depth", "smallint"),
    ("holds", "boolean"),
    ("trace", "text"),
    ("trial", "text"),
];

/// The trace of whatever made a job. That of its alert is not asked for here: within a statement
/// for several jobs it would be looked for in the tables of all days.
const CAUSE: &str =
    "coalesce(t.trace, (SELECT above.trace FROM job above WHERE above.id = t.parent))";

/// The trace that an alert belongs to, and how far what follows from it may go if it is a trial.
pub(crate) async fn marks_of_alert(
    db: &impl ConnectionTrait,
    alert: Option<i64>,
) -> Result<(Option<TraceContext>, Option<Trial>), StoreError> {
    #[derive(FromQueryResult)]
    struct Marks {
        trace: Option<String>,
        trial: Option<Stored<Trial>>,
    }
    let Some(alert) = alert else { return Ok((None, None)) };
    let sql = "SELECT trace, trial FROM alerts WHERE seq = $1";
    let found: Vec<Marks> = sql::typed(db, sql, vec![alert.into()]).await?;
    Ok(found.into_iter().next().map_or((None, None), |marks| {
        let trace = marks.trace.as_deref().and_then(TraceContext::parse);
        (trace, marks.trial.map(|trial| trial.0))
    }))
}

/// A row as the statement reads it.
#[derive(Serialize)]
struct Row {
    id: Option<JobId>,
    runbook: String,
    runbook_version: i32,
    inputs: serde_json::Value,
    target: String,
    urgency: i16,
    deadline: Option<DateTime<Utc>>,
    state: JobState,
    effect: Option<JobEffect>,
    failure: Option<String>,
    finished_at: Option<DateTime<Utc>>,
    rule: Option<String>,
    rule_version: Option<i32>,
    alert_seq: Option<AlertId>,
    alarm_id: Option<AlarmId>,
    chain: serde_json::Value,
    progress: Progress,
    begun: bool,
    created_at: DateTime<Utc>,
    launched_by: Option<Principal>,
    launch_key: Option<String>,
    reason: String,
    parent: Option<JobId>,
    parent_place: Option<String>,
    root: Option<JobId>,
    depth: i16,
    holds: bool,
    trace: Option<TraceContext>,
    trial: Option<Trial>,
}

impl From<NewJob> for Row {
    fn from(job: NewJob) -> Self {
        let Origin { rule, person, key, step } = job.origin;
        let (rule, rule_version) = rule.unzip();
        let is_refused = job.refused.is_some();
        let (begun, progress) = match job.beginning {
            Beginning::Fresh => (false, Progress::default()),
            Beginning::From(progress) => (true, *progress),
        };
        Self {
            id: job.id,
            runbook: job.runbook,
            runbook_version: job.version,
            inputs: job.inputs,
            target: job.target,
            urgency: job.urgency,
            deadline: job.deadline,
            state: if is_refused { JobState::Refused } else { JobState::Queued },
            effect: is_refused.then_some(JobEffect::NotChecked),
            failure: job.refused,
            finished_at: is_refused.then_some(job.at),
            rule,
            rule_version,
            alert_seq: job.alert,
            alarm_id: job.alarm,
            chain: job.chain,
            progress,
            begun,
            created_at: job.at,
            launched_by: person,
            launch_key: key,
            reason: job.reason,
            parent: step.as_ref().map(|step| step.parent),
            root: step.as_ref().map(|step| step.root),
            depth: step.as_ref().map_or(0, |step| step.depth),
            // What does nothing is in nobody's way.
            holds: job.trial != Some(Trial::Dry) && step.as_ref().is_none_or(|step| step.holds),
            parent_place: step.map(|step| step.place),
            trace: job.trace,
            trial: job.trial,
        }
    }
}

/// Who launched a job or one above it, as a column.
pub(crate) const LAUNCHED_BY: &str = "CASE WHEN launched_by IS NULL THEN 'rules'
    WHEN launched_by LIKE 'plan/%' THEN 'plans' ELSE 'people' END AS launched_by";

/// What makes jobs, for a script of several changes.
pub(crate) fn making(jobs: Vec<NewJob>) -> Result<(String, Vec<Value>), StoreError> {
    let rows = jobs
        .into_iter()
        .map(|job| serde_json::to_value(Row::from(job)))
        .collect::<Result<Vec<_>, _>>()?;
    let names: Vec<&str> = COLUMNS.iter().map(|(name, _)| *name).collect();
    let typed: Vec<String> = COLUMNS.iter().map(|(name, of)| format!("{name} {of}")).collect();
    let values = names.iter().map(|name| match *name {
        "id" => "coalesce(t.id, nextval('job_number'))".to_owned(),
        "trace" => format!("job_trace({CAUSE})"),
        name => format!("t.{name}"),
    });
    let text = format!(
        "INSERT INTO job ({}) SELECT {} FROM jsonb_to_recordset($1::jsonb) AS t ({})",
        names.join(", "),
        values.collect::<Vec<_>>().join(", "),
        typed.join(", ")
    );
    Ok((text, vec![clean_json(json!(rows)).into()]))
}

/// Makes a job; none if there is one of the same step.
///
/// # Errors
/// [`StoreError::is_duplicate`] if the same was launched before.
pub(crate) async fn make(
    db: &impl ConnectionTrait,
    job: NewJob,
) -> Result<Option<JobId>, StoreError> {
    #[derive(FromQueryResult)]
    struct CreatedId {
        id: i64,
    }
    let (mut text, values) = making(vec![job])?;
    text.push_str(
        " ON CONFLICT (parent, parent_place) WHERE parent IS NOT NULL DO NOTHING RETURNING id",
    );
    let made: Vec<CreatedId> = sql::typed(db, &text, values).await?;
    Ok(made.first().map(|made| JobId(made.id)))
}

/// What a job that is made for another takes over from it.
#[derive(FromQueryResult)]
pub(crate) struct Inherited {
    pub runbook: String,
    pub inputs: serde_json::Value,
    pub target: String,
    pub urgency: i16,
    pub rule: Option<String>,
    pub rule_version: Option<i32>,
    pub alert_seq: Option<i64>,
    pub alarm_id: Option<i64>,
    pub chain: Option<serde_json::Value>,
    pub launched_by: Option<StoredPrincipal>,
    pub root: Option<i64>,
    pub depth: i16,
    pub trace: Option<String>,
    pub trial: Option<Stored<Trial>>,
}

/// The columns of [`Inherited`].
pub(crate) const INHERITED: &str = "runbook, inputs, target, urgency, rule, rule_version, \
    alert_seq, alarm_id, chain, launched_by, root, depth, trace, trial";
