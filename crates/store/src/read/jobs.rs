//! Jobs.

use super::page;
use crate::audit::asked;
use crate::{
    StoreError,
    entity::{attempt, job},
    live_output,
    stored::{Stored, StoredPrincipal},
};
use arvok_api::{Attempt, JobFilter, JobItem, LiveText, Overruled, PAGE, Page, SeenBy};
use arvok_core::{
    Trial,
    job::{JobEffect, JobState},
    rule::Urgency,
};
use chrono::{DateTime, Utc};
use sea_orm::{
    ColumnTrait, Condition, DatabaseConnection, DerivePartialModel, EntityTrait, QueryFilter,
    QueryOrder, QuerySelect, QueryTrait, Select, entity::prelude::Json, sea_query::Expr,
};
use std::collections::BTreeMap;

/// What lists show of a job.
#[derive(DerivePartialModel)]
#[sea_orm(entity = "job::Entity")]
struct Line {
    id: i64,
    runbook: String,
    runbook_version: i32,
    target: String,
    state: Stored<JobState>,
    effect: Option<Stored<JobEffect>>,
    failure: Option<String>,
    urgency: i16,
    rule: Option<String>,
    parent: Option<i64>,
    launched_by: Option<StoredPrincipal>,
    alert_seq: Option<i64>,
    alarm_id: Option<i64>,
    created_at: DateTime<Utc>,
    deadline: Option<DateTime<Utc>>,
    started_at: Option<DateTime<Utc>>,
    finished_at: Option<DateTime<Utc>>,
    steps_done: i32,
    steps: i32,
    doing: String,
    trial: Option<Stored<Trial>>,
    held: Option<Json>,
}

impl From<Line> for JobItem {
    fn from(j: Line) -> Self {
        Self {
            id: j.id,
            runbook: j.runbook,
            runbook_version: j.runbook_version,
            target: j.target,
            state: j.state.0,
            effect: j.effect.map(|effect| effect.0),
            failure: j.failure,
            urgency: Urgency::from_rank(j.urgency),
            rule: j.rule,
            parent: j.parent,
            launched_by: j.launched_by.map(|by| by.0),
            alert: j.alert_seq,
            alarm: j.alarm_id,
            created_at: j.created_at,
            deadline: j.deadline,
            started_at: j.started_at,
            finished_at: j.finished_at,
            steps_done: j.steps_done.into(),
            steps: j.steps.into(),
            doing: j.doing,
            trial: j.trial.map(|trial| trial.0),
            // Of one that has begun it says why it had not before.
            held: j
                .held
                .filter(|_| j.state.0 == JobState::Queued)
                .and_then(|held| serde_json::from_value(held).ok()),
        }
    }
}

/// A page of jobs, newest first, without what only the runbook knows.
pub async fn jobs(db: &DatabaseConnection, filter: JobFilter) -> Result<Page<JobItem>, StoreError> {
    use job::Column::{
        AlarmId, CreatedAt, Effect, Id, LaunchedBy, Rule, Runbook, State, Target, Trial,
    };
    let limit = filter.limit.unwrap_or(PAGE);
    let states = filter.state;
    let found = job::Entity::find()
        .apply_if((!states.is_empty()).then_some(states), |q, states| {
            q.filter(State.is_in(states.into_iter().map(Stored)))
        })
        .apply_if(filter.effect, |q, effect| q.filter(Effect.eq(Stored(effect))))
        .apply_if(filter.runbook, |q, runbook| q.filter(Runbook.eq(runbook)))
        .apply_if(filter.rule, |q, rule| q.filter(Rule.eq(rule)))
        .apply_if(filter.target, |q, target| q.filter(Target.eq(target)))
        .apply_if(filter.by, |q, by| q.filter(LaunchedBy.is_in(asked(&by))))
        .apply_if(filter.alarm, |q, alarm| {
            let gathered = Expr::cust_with_values(
                "job.id IN (SELECT job_id FROM gathered WHERE alarm_id = $1)",
                [alarm],
            );
            q.filter(Condition::any().add(AlarmId.eq(alarm)).add(gathered))
        })
        .apply_if(filter.since, |q, since| q.filter(CreatedAt.gte(since)))
        .apply_if(filter.until, |q, until| q.filter(CreatedAt.lt(until)))
        .apply_if(filter.held_by, |q, guard| {
            let held = "state = 'queued' AND held IS NOT NULL AND held ->> 'guard' = $1";
            q.filter(Expr::cust_with_values(held, [guard]))
        })
        .apply_if(filter.trial, |q, trial| {
            q.filter(if trial { Trial.is_not_null() } else { Trial.is_null() })
        })
        .apply_if(filter.after, |q, after| q.filter(Id.lt(after)))
        .order_by_desc(Id);
    Ok(page(items(db, found, limit + 1).await?, limit, |j: &JobItem| j.id))
}

/// The first so many of a search for jobs.
pub(super) async fn items(
    db: &DatabaseConnection,
    search: Select<job::Entity>,
    limit: u64,
) -> Result<Vec<JobItem>, StoreError> {
    let lines = search.limit(limit).into_partial_model::<Line>().all(db).await?;
    Ok(lines.into_iter().map(JobItem::from).collect())
}

/// One job as kept, with its tries.
#[derive(Clone, Debug)]
pub struct JobRow {
    /// In short.
    pub item: JobItem,
    /// Its inputs.
    pub inputs: Json,
    /// What it gave.
    pub outputs: Option<Json>,
    /// Where it stands, as it is stored.
    pub progress: Json,
    /// Why it was dispatched.
    pub reason: Option<String>,
    /// The jobs of its steps, each with the place of its step.
    pub children: Vec<(String, JobItem)>,
    /// Tries with the place of their step.
    pub attempts: Vec<(String, Attempt)>,
    /// Who has set it aside.
    pub seen: Option<SeenBy>,
    /// The job that goes on from where it failed.
    pub goes_on_as: Option<i64>,
    /// Its span, as a `traceparent`.
    pub trace: Option<String>,
    /// The guards that were overruled for it.
    pub overruled: Vec<Overruled>,
}

/// Most jobs of its steps that are read with a job.
const MAX_CHILDREN: u64 = 1_000;

/// One job.
pub async fn job(db: &DatabaseConnection, id: i64) -> Result<Option<JobRow>, StoreError> {
    let search = job::Entity::find_by_id(id);
    let Some(item) = items(db, search.clone(), 1).await?.pop() else { return Ok(None) };
    let Some(row) = search.one(db).await? else { return Ok(None) };
    let attempts = attempt::Entity::find()
        .filter(attempt::Column::JobId.eq(id))
        .order_by_asc(attempt::Column::Place)
        .order_by_asc(attempt::Column::Attempt)
        .all(db)
        .await?;
    let below =
        job::Entity::find().filter(job::Column::Parent.eq(id)).order_by_asc(job::Column::Id);
    let places: BTreeMap<i64, String> = below
        .clone()
        .select_only()
        .columns([job::Column::Id, job::Column::ParentPlace])
        .into_tuple()
        .all(db)
        .await?
        .into_iter()
        .collect();
    let children = items(db, below, MAX_CHILDREN).await?.into_iter();
    let children =
        children.filter_map(|child| Some((places.get(&child.id)?.clone(), child))).collect();
    let live = live_output::of_job(db, id).await?;
    let attempt = |a: attempt::Model| {
        let written = live.iter().find(|l| l.place == a.place && l.attempt == a.attempt);
        let tried = Attempt {
            attempt: a.attempt,
            state: a.state.0,
            started_at: a.started_at,
            finished_at: a.finished_at,
            give: a.give,
            request: a.request.and_then(|r| serde_json::from_value(r).ok()),
            answer: a.answer.and_then(|answer| serde_json::from_value(answer).ok()),
            live: written.filter(|_| a.finished_at.is_none()).map(|written| LiveText {
                lines: written.lines.clone(),
                count: written.line_count,
            }),
            saw: a.saw,
            output: a.output,
            error: a.error,
        };
        (a.place, tried)
    };
    Ok(Some(JobRow {
        item,
        inputs: row.inputs,
        outputs: row.outputs,
        progress: row.progress,
        reason: row.reason,
        children,
        attempts: attempts.into_iter().map(attempt).collect(),
        seen: row.seen_by.zip(row.seen_at).map(|(by, at)| SeenBy { by: by.0, at }),
        goes_on_as: row.goes_on_as,
        trace: row.trace,
        overruled: row.overruled.map(serde_json::from_value).transpose()?.unwrap_or_default(),
    }))
}
