//! Alerts, a rule's verdicts and jobs over time.

use super::{ApiError, caller::Caller, query::in_range, rehearsal::published_rule};
use crate::{clock, node::Node};
use actix_web::{get, web};
use arvok_api::{JobTimeline, Problem, Timeline};
use arvok_store::read;
use chrono::{DateTime, TimeDelta, Utc};
use serde::Deserialize;
use utoipa::IntoParams;

/// How far back is counted by minute.
const COUNTED: TimeDelta = TimeDelta::days(8);

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct AlertsOverTime {
    /// From when (RFC 3339). Left out: an hour ago.
    #[serde(default, deserialize_with = "arvok_api::time")]
    since: Option<DateTime<Utc>>,
    /// Until when (RFC 3339). Left out: now.
    #[serde(default, deserialize_with = "arvok_api::time")]
    until: Option<DateTime<Utc>>,
    /// What this rule decided, and no other.
    rule: Option<String>,
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct JobsOverTime {
    /// From when (RFC 3339). Left out: an hour ago.
    #[serde(default, deserialize_with = "arvok_api::time")]
    since: Option<DateTime<Utc>>,
    /// Until when (RFC 3339). Left out: now.
    #[serde(default, deserialize_with = "arvok_api::time")]
    until: Option<DateTime<Utc>>,
}

/// A stretch of time as it was asked for, within what is counted.
fn stretch(
    from: Option<DateTime<Utc>>,
    to: Option<DateTime<Utc>>,
) -> Result<(DateTime<Utc>, DateTime<Utc>), ApiError> {
    let now = clock::now();
    in_range(None, [from, to])?;
    let to = to.unwrap_or(now).min(now);
    let from = from.unwrap_or(to - TimeDelta::hours(1)).max(now - COUNTED);
    if from >= to {
        return Err(ApiError::BadRequest(format!("since={from}: is not before {to}")));
    }
    Ok((from, to))
}

/// Alerts over time, by the furthest that any rule took them, or by what one rule decided. Alerts
/// are counted by minute and the verdicts of a rule by hour, for eight days; those of the last
/// three hours by minute too.
#[utoipa::path(operation_id = "showTimeline", tag = "alerts", params(AlertsOverTime),
    responses((status = 200, body = Timeline), (status = 400, body = Problem), (status = 404,
        body = Problem)))]
#[get("/timeline")]
pub(super) async fn of_alerts(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<AlertsOverTime>,
) -> Result<web::Json<Timeline>, ApiError> {
    let (from, to) = stretch(query.since, query.until)?;
    if let Some(rule) = &query.rule {
        published_rule(&node, rule)?;
    }
    Ok(web::Json(read::timeline(&node.pools.questions, from, to, query.rule.as_deref()).await?))
}

/// Jobs over time, by what has become of them, for eight days.
#[utoipa::path(operation_id = "showJobTimeline", tag = "jobs", params(JobsOverTime),
    responses((status = 200, body = JobTimeline), (status = 400, body = Problem)))]
#[get("/timeline/jobs")]
pub(super) async fn of_jobs(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<JobsOverTime>,
) -> Result<web::Json<JobTimeline>, ApiError> {
    let (from, to) = stretch(query.since, query.until)?;
    Ok(web::Json(read::job_timeline(&node.pools.questions, from, to).await?))
}
