//! Alarms.

use super::{ApiError, alerts::limit, caller::Caller};
use crate::node::Node;
use actix_web::{get, web};
use arvok_api::{AlarmDetail, AlarmItem, Page, Problem};
use arvok_store::read::{self, AlarmFilter};
use serde::Deserialize;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct AlarmQuery {
    /// `raised` or `cleared`; both when left out.
    state: Option<String>,
    /// Of this source.
    source: Option<String>,
    /// With this text in summary, resource or kind.
    text: Option<String>,
    /// The `next` of the page before.
    #[serde(default, deserialize_with = "super::query::number")]
    after: Option<i64>,
    /// At most 500.
    #[serde(default, deserialize_with = "super::query::number")]
    limit: Option<u64>,
}

/// Alarms, newest first.
#[utoipa::path(operation_id = "listAlarms", tag = "alarms", params(AlarmQuery), responses((status = 200, body = Page<AlarmItem>), (status = 400, body = Problem)))]
#[get("/alarms")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<AlarmQuery>,
) -> Result<web::Json<Page<AlarmItem>>, ApiError> {
    let q = query.into_inner();
    if let Some(state) = q.state.as_deref().filter(|s| !matches!(*s, "raised" | "cleared")) {
        return Err(ApiError::BadRequest(format!("state={state}: an alarm is raised or cleared")));
    }
    let filter = AlarmFilter { state: q.state, source: q.source, text: q.text, after: q.after, limit: limit(q.limit)? };
    Ok(web::Json(read::alarms(&node.db, filter).await?))
}

/// One alarm with its newest alerts and jobs.
#[utoipa::path(operation_id = "showAlarm", tag = "alarms", params(("id" = i64, Path)), responses((status = 200, body = AlarmDetail), (status = 404, body = Problem)))]
#[get("/alarms/{id}")]
pub(super) async fn one(
    node: web::Data<Node>,
    _caller: Caller,
    id: web::Path<i64>,
) -> Result<web::Json<AlarmDetail>, ApiError> {
    let mut found = read::alarm(&node.db, *id).await?.ok_or_else(|| ApiError::NotFound(format!("alarm {id}")))?;
    super::jobs::complete_all(&node, &mut found.jobs);
    Ok(web::Json(found))
}
