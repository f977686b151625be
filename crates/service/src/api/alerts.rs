//! Alerts, one and many.

use super::{ApiError, caller::Caller, query::in_range};
use crate::node::Node;
use actix_web::{get, web};
use arvok_api::{AlertDetail, AlertFilter, AlertItem, Page, Problem};
use arvok_store::{days, read};

/// Alerts, newest first.
#[utoipa::path(
    operation_id = "listAlerts", tag = "alerts", params(AlertFilter),
    responses((status = 200, body = Page<AlertItem>), (status = 400, body = Problem))
)]
#[get("/alerts")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<AlertFilter>,
) -> Result<web::Json<Page<AlertItem>>, ApiError> {
    let filter = query.into_inner();
    in_range(filter.limit, [filter.since, filter.until])?;
    Ok(web::Json(read::alerts(&node.pools.questions, filter).await?))
}

/// One alert with its payload and what every rule that matched decided.
#[utoipa::path(
    operation_id = "showAlert", tag = "alerts", params(("seq" = i64, Path)),
    responses((status = 200, body = AlertDetail), (status = 404, body = Problem))
)]
#[get("/alerts/{seq}")]
pub(super) async fn one(
    node: web::Data<Node>,
    _caller: Caller,
    seq: web::Path<i64>,
) -> Result<web::Json<AlertDetail>, ApiError> {
    if let Some(found) = read::alert(&node.pools.questions, *seq).await? {
        return Ok(web::Json(found));
    }
    let oldest = days::all(&node.pools.questions).await?.last().map_or(0, |d| d.first_seq);
    let gone = if *seq < oldest { " any more: it is kept no longer" } else { "" };
    Err(ApiError::NotFound(format!("alert {seq}{gone}")))
}
