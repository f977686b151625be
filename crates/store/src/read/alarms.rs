//! Alarms.

use super::{alerts, jobs, like, page};
use crate::{
    StoreError, alarm_acts,
    entity::{
        alarm::{Column, Entity, Model},
        job,
    },
    sql,
    stored::Stored,
};
use arvok_api::{
    AlarmDetail, AlarmFilter, AlarmItem, AlertFilter, AlertItem, JobFilter, PAGE, Page,
};
use arvok_core::{
    Severity,
    job::{JobEffect, JobState},
};
use chrono::{DateTime, Utc};
use sea_orm::{
    ColumnTrait, Condition, DatabaseConnection, DerivePartialModel, EntityTrait, Order,
    QueryFilter, QueryOrder, QuerySelect, QueryTrait, Select,
    sea_query::{Expr, extension::postgres::PgExpr},
};
use std::collections::HashMap;

/// What alarms show of their newest job.
#[derive(DerivePartialModel)]
#[sea_orm(entity = "job::Entity")]
struct Newest {
    alarm_id: Option<i64>,
    id: i64,
    state: Stored<JobState>,
    runbook: String,
    effect: Option<Stored<JobEffect>>,
}

/// The alarms of a search, each with its newest job.
async fn items(
    db: &DatabaseConnection,
    search: Select<Entity>,
) -> Result<Vec<AlarmItem>, StoreError> {
    let alarms = search.all(db).await?;
    let newest = job::Entity::find()
        .distinct_on([job::Column::AlarmId])
        .filter(job::Column::AlarmId.is_in(alarms.iter().map(|a| a.id)))
        // A job of a step is a part of one that is shown.
        .filter(job::Column::Parent.is_null())
        .order_by_asc(job::Column::AlarmId)
        .order_by_desc(job::Column::Id)
        .into_partial_model::<Newest>()
        .all(db)
        .await?;
    let mut newest: HashMap<Option<i64>, Newest> =
        newest.into_iter().map(|j| (j.alarm_id, j)).collect();
    // Those of gatherings are for the alarms of all their alerts.
    for job in gathered(db, alarms.iter().map(|a| a.id).collect()).await? {
        let newer = newest.get(&job.alarm_id).is_none_or(|other| other.id < job.id);
        if newer {
            newest.insert(job.alarm_id, job);
        }
    }
    let mut acknowledged =
        alarm_acts::acknowledged(db, alarms.iter().map(|a| a.id).collect()).await?;
    let item = |a: Model| AlarmItem {
        acknowledged_by: acknowledged.remove(&a.id),
        ..item(newest.remove(&Some(a.id)), a)
    };
    Ok(alarms.into_iter().map(item).collect())
}

/// The newest job of a gathering, for each of some alarms that has one.
async fn gathered(db: &DatabaseConnection, alarms: Vec<i64>) -> Result<Vec<Newest>, StoreError> {
    let sql = "SELECT a.id AS alarm_id, j.id, j.state, j.runbook, j.effect
        FROM unnest($1::bigint[]) AS a (id)
        CROSS JOIN LATERAL (SELECT j.* FROM gathered g JOIN job j ON j.id = g.job_id
        WHERE g.alarm_id = a.id
            ORDER BY g.job_id DESC LIMIT 1) j";
    sql::typed(db, sql, vec![alarms.into()]).await
}

fn item(job: Option<Newest>, a: Model) -> AlarmItem {
    let (job, job_state, job_runbook, job_effect) = match job {
        Some(j) => (Some(j.id), Some(j.state.0), Some(j.runbook), j.effect.map(|effect| effect.0)),
        None => (None, None, None, None),
    };
    AlarmItem {
        id: a.id,
        source: a.source,
        resource: a.resource,
        kind: a.kind,
        severity: Severity::from_rank(a.severity),
        state: a.state.0,
        summary: a.summary,
        value: a.value,
        count: a.count,
        raised_at: a.raised_at,
        changed_at: a.changed_at,
        cleared_at: a.cleared_at,
        acknowledged_by: None,
        trial: a.trial,
        job,
        job_state,
        job_runbook,
        job_effect,
    }
}

/// Those that were ever raised.
fn raised_once() -> Select<Entity> {
    Entity::find().filter(Column::Count.gt(0))
}

/// A page of alarms, newest handle first.
pub async fn alarms(
    db: &DatabaseConnection,
    filter: AlarmFilter,
) -> Result<Page<AlarmItem>, StoreError> {
    let limit = filter.limit.unwrap_or(PAGE);
    let texts = || Expr::cust("summary || ' ' || resource || ' ' || kind");
    let found = raised_once()
        .apply_if(filter.state, |q, state| q.filter(Column::State.eq(Stored(state))))
        .apply_if(filter.severity, |q, range| {
            q.filter(Column::Severity.between(range.from.rank(), range.to.rank()))
        })
        .apply_if(filter.since, |q, since| q.filter(Column::ChangedAt.gte(since)))
        .apply_if(filter.until, |q, until| q.filter(Column::ChangedAt.lt(until)))
        .apply_if(filter.source, |q, source| q.filter(Column::Source.eq(source)))
        .apply_if(filter.kind, |q, kind| q.filter(Column::Kind.eq(kind)))
        .apply_if(filter.resource, |q, resource| q.filter(Column::Resource.eq(resource)))
        .apply_if(filter.trial, |q, trial| q.filter(Column::Trial.eq(trial)))
        .apply_if(filter.after, |q, after| q.filter(Column::Id.lt(after)))
        .apply_if(filter.text, |q, text| q.filter(texts().ilike(like(&text).as_str())))
        .order_by_desc(Column::Id)
        .limit(limit + 1);
    Ok(page(items(db, found).await?, limit, |a: &AlarmItem| a.id))
}

/// Alarms that stand, or were cleared since a moment; those that stand first, the worst and newest
/// of them before the others.
pub(super) async fn standing(
    db: &DatabaseConnection,
    cleared_since: DateTime<Utc>,
    limit: u64,
) -> Result<Vec<AlarmItem>, StoreError> {
    let raised = || Column::State.eq("raised");
    let severity: Expr = Expr::case(raised(), Expr::col(Column::Severity)).finally(0).into();
    let found = raised_once()
        .filter(Condition::any().add(raised()).add(Column::ClearedAt.gte(cleared_since)))
        .filter(Column::Trial.eq(false))
        .order_by(raised(), Order::Desc)
        .order_by(severity, Order::Desc)
        .order_by_desc(Column::ChangedAt)
        .limit(limit);
    items(db, found).await
}

/// One alarm with its newest alerts and jobs.
pub async fn alarm(db: &DatabaseConnection, id: i64) -> Result<Option<AlarmDetail>, StoreError> {
    let Some(alarm) = items(db, Entity::find_by_id(id)).await?.pop() else { return Ok(None) };
    let filter = AlertFilter {
        source: Some(alarm.source.clone()),
        kind: Some(alarm.kind.clone()),
        resource: Some(alarm.resource.clone()),
        trial: Some(alarm.trial),
        limit: Some(50),
        ..AlertFilter::default()
    };
    let alerts: Vec<AlertItem> = alerts(db, filter).await?.items;
    let jobs = jobs(db, JobFilter { alarm: Some(id), limit: Some(20), ..JobFilter::default() })
        .await?
        .items;
    let acts = alarm_acts::of_alarm(db, id).await?;
    Ok(Some(AlarmDetail { mutes: Vec::new(), acts, alarm, alerts, jobs }))
}
