//! Alerts, and payloads that could not be read.

use super::{ApiError, caller::Caller};
use crate::{clock, node::Node};
use actix_web::{get, web};
use arvok_api::{AlertDetail, AlertItem, Page, Problem, Timeline, UnreadableItem};
use arvok_core::Severity;
use arvok_store::{
    days,
    read::{self, AlertFilter, MAX_PAGE},
};
use chrono::{DateTime, Datelike, TimeDelta, Utc};
use serde::Deserialize;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct AlertQuery {
    /// Of this source.
    source: Option<String>,
    /// Of this kind.
    kind: Option<String>,
    /// At least this severe.
    severity: Option<String>,
    /// `raised`, `cleared` or `noted`.
    state: Option<String>,
    /// About this resource.
    resource: Option<String>,
    /// Matched by this rule.
    rule: Option<String>,
    /// With this verdict of the rule, or of any where no rule is given; `matched` for any, `held` for what is held back, `unmatched` for none.
    verdict: Option<String>,
    /// With this text in summary, resource or kind.
    text: Option<String>,
    /// Received since (RFC 3339).
    #[serde(default, deserialize_with = "super::query::time")]
    since: Option<DateTime<Utc>>,
    /// Received before (RFC 3339).
    #[serde(default, deserialize_with = "super::query::time")]
    until: Option<DateTime<Utc>>,
    /// The `next` of the page before.
    #[serde(default, deserialize_with = "super::query::number")]
    after: Option<i64>,
    /// At most 500.
    #[serde(default, deserialize_with = "super::query::number")]
    limit: Option<u64>,
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct TimelineQuery {
    /// From when (RFC 3339). Left out: an hour ago.
    #[serde(default, deserialize_with = "super::query::time")]
    since: Option<DateTime<Utc>>,
    /// Until when (RFC 3339). Left out: now.
    #[serde(default, deserialize_with = "super::query::time")]
    until: Option<DateTime<Utc>>,
}

/// How far back alerts are counted by minute.
const COUNTED: TimeDelta = TimeDelta::days(8);

/// Alerts over time, by the furthest that any rule took them. They are counted by minute for eight days.
#[utoipa::path(operation_id = "showTimeline", tag = "alerts", params(TimelineQuery), responses((status = 200, body = Timeline), (status = 400, body = Problem)))]
#[get("/timeline")]
pub(super) async fn timeline(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<TimelineQuery>,
) -> Result<web::Json<Timeline>, ApiError> {
    let now = clock::now();
    let to = since(query.until)?.unwrap_or(now).min(now);
    let from = since(query.since)?.unwrap_or(to - TimeDelta::hours(1)).max(now - COUNTED);
    if from >= to {
        return Err(ApiError::BadRequest(format!("since={from}: is not before {to}")));
    }
    Ok(web::Json(read::timeline(&node.db, from, to).await?))
}

/// The number of items asked for, within bounds.
pub(super) fn limit(asked: Option<u64>) -> Result<u64, ApiError> {
    match asked {
        None => Ok(100),
        Some(n) if (1..=MAX_PAGE).contains(&n) => Ok(n),
        Some(n) => Err(ApiError::BadRequest(format!("limit={n}: a page has 1 to {MAX_PAGE} items"))),
    }
}

/// A moment asked for, within what the records hold.
pub(super) fn since(asked: Option<DateTime<Utc>>) -> Result<Option<DateTime<Utc>>, ApiError> {
    match asked {
        Some(at) if !(1..=9999).contains(&at.year()) => {
            Err(ApiError::BadRequest(format!("since={at}: the year is 1 to 9999")))
        }
        at => Ok(at),
    }
}

/// Alerts, newest first.
#[utoipa::path(operation_id = "listAlerts", tag = "alerts", params(AlertQuery), responses((status = 200, body = Page<AlertItem>), (status = 400, body = Problem)))]
#[get("/alerts")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<AlertQuery>,
) -> Result<web::Json<Page<AlertItem>>, ApiError> {
    let q = query.into_inner();
    let severity = match q.severity {
        None => None,
        Some(word) => Some(Severity::parse(&word).ok_or_else(|| {
            ApiError::BadRequest(format!(
                "severity={word}: the severities are {}",
                Severity::ALL.map(Severity::as_str).join(", ")
            ))
        })?),
    };
    let filter = AlertFilter {
        source: q.source,
        kind: q.kind,
        severity,
        state: q.state,
        resource: q.resource,
        rule: q.rule,
        verdict: q.verdict,
        text: q.text,
        since: since(q.since)?,
        until: since(q.until)?,
        after: q.after,
        limit: limit(q.limit)?,
    };
    Ok(web::Json(read::alerts(&node.db, filter).await?))
}

/// One alert with its payload and what every rule that matched decided.
#[utoipa::path(operation_id = "showAlert", tag = "alerts", params(("seq" = i64, Path)), responses((status = 200, body = AlertDetail), (status = 404, body = Problem)))]
#[get("/alerts/{seq}")]
pub(super) async fn one(
    node: web::Data<Node>,
    _caller: Caller,
    seq: web::Path<i64>,
) -> Result<web::Json<AlertDetail>, ApiError> {
    if let Some(found) = read::alert(&node.db, *seq).await? {
        return Ok(web::Json(found));
    }
    let oldest = days::all(&node.db).await?.last().map_or(0, |d| d.first_seq);
    let gone = if *seq < oldest { " any more: it is kept no longer" } else { "" };
    Err(ApiError::NotFound(format!("alert {seq}{gone}")))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct UnreadableQuery {
    /// Of this source.
    source: String,
    /// The `next` of the page before.
    #[serde(default, deserialize_with = "super::query::number")]
    after: Option<i64>,
    /// At most 500.
    #[serde(default, deserialize_with = "super::query::number")]
    limit: Option<u64>,
}

/// Payloads of a source that could not be read, newest first.
#[utoipa::path(operation_id = "listUnreadable", tag = "alerts", params(UnreadableQuery), responses((status = 200, body = Page<UnreadableItem>)))]
#[get("/unreadable")]
pub(super) async fn unreadable(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<UnreadableQuery>,
) -> Result<web::Json<Page<UnreadableItem>>, ApiError> {
    Ok(web::Json(read::unreadable(&node.db, &query.source, query.after, limit(query.limit)?).await?))
}
