//! Alarms.

use super::{ApiError, caller::Caller, query::in_range};
use crate::node::Node;
use actix_web::{get, web};
use arvok_api::{AlarmDetail, AlarmFilter, AlarmItem, Page, Problem};
use arvok_core::AlertState;
use arvok_store::read;

/// Alarms, newest first.
#[utoipa::path(
    operation_id = "listAlarms", tag = "alarms", params(AlarmFilter),
    responses((status = 200, body = Page<AlarmItem>), (status = 400, body = Problem))
)]
#[get("/alarms")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<AlarmFilter>,
) -> Result<web::Json<Page<AlarmItem>>, ApiError> {
    let filter = query.into_inner();
    if filter.state == Some(AlertState::Noted) {
        return Err(ApiError::BadRequest(
            "`noted` is no state of an alarm: it is one of raised, cleared".into(),
        ));
    }
    in_range(filter.limit, [filter.since, filter.until])?;
    Ok(web::Json(read::alarms(&node.pools.questions, filter).await?))
}

/// One alarm with its newest alerts and jobs.
#[utoipa::path(
    operation_id = "showAlarm", tag = "alarms", params(("id" = i64, Path)),
    responses((status = 200, body = AlarmDetail), (status = 404, body = Problem))
)]
#[get("/alarms/{id}")]
pub(super) async fn one(
    node: web::Data<Node>,
    _caller: Caller,
    id: web::Path<i64>,
) -> Result<web::Json<AlarmDetail>, ApiError> {
    let mut found = read::alarm(&node.pools.questions, *id)
        .await?
        .ok_or_else(|| ApiError::NotFound(format!("alarm {id}")))?;
    super::job_steps::set_doing(&mut found.jobs);
    Ok(web::Json(found))
}
