//! Payloads that could not be read: looked at, and read again after a mending.

use super::{ApiError, caller::Caller, definitions::unknown, query::in_range};
use crate::{
    intake::{Again, accept_again},
    node::Node,
};
use actix_web::{get, post, web};
use arvok_api::{KeptItem, PAGE, Page, Problem, Retried, RetryRequest, UnreadableItem};
use arvok_core::{Kind, Role, source::Source};
use arvok_store::read as rows;
use serde::Deserialize;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct UnreadableQuery {
    /// Of this source.
    source: String,
    /// The `next` of the page before.
    #[serde(default, deserialize_with = "arvok_api::number")]
    after: Option<i64>,
    /// At most 500.
    #[param(minimum = 1, maximum = 500)]
    #[serde(default, deserialize_with = "arvok_api::number")]
    limit: Option<u64>,
}

/// Payloads of a source that could not be read, newest first.
#[utoipa::path(
    operation_id = "listUnreadable", tag = "alerts", params(UnreadableQuery),
    responses((status = 200, body = Page<UnreadableItem>))
)]
#[get("/unreadable")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<UnreadableQuery>,
) -> Result<web::Json<Page<UnreadableItem>>, ApiError> {
    in_range(query.limit, [])?;
    let limit = query.limit.unwrap_or(PAGE);
    Ok(web::Json(rows::unreadable(&node.pools.questions, &query.source, query.after, limit).await?))
}

/// Payloads of one call.
const RETRIED: usize = 20;

/// Reads payloads of a source again that could not be read before, by its lines as they are
/// published now, and those that were caught. What can be read is taken as if it came now, and is
/// kept no longer; asking twice takes nothing twice. What came more than 15 minutes ago is
/// recorded, and no rule decides about it, unless `acting` says so.
#[utoipa::path(operation_id = "retryUnreadable", tag = "alerts", request_body = RetryRequest,
    responses((status = 200, body = Retried), (status = 400, body = Problem), (status = 403,
        body = Problem),
        (status = 404, body = Problem), (status = 429, body = Problem), (status = 503,
            body = Problem)))]
#[post("/unreadable/retry")]
pub(super) async fn retry(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<RetryRequest>,
) -> Result<web::Json<Retried>, ApiError> {
    caller.must(Role::Author)?;
    let published = node.published();
    let (source, _) = published
        .catalog
        .get::<Source>(&body.source)
        .ok_or_else(|| unknown(&published, Kind::Source, &body.source))?;
    let found = rows::unreadable_from(
        &node.pools.questions,
        &body.source,
        body.after.unwrap_or(0),
        RETRIED as u64,
    )
    .await?;
    let mut retried = Retried {
        next: found.last().map(|u| u.id).filter(|_| found.len() == RETRIED),
        ..Retried::default()
    };
    for kept in found {
        match accept_again(&node, source, &kept, body.acting).await? {
            Again::Taken { alerts, is_past } => {
                retried.read += 1;
                retried.alerts += alerts;
                retried.recorded_only += if is_past { alerts } else { 0 };
                rows::forget_unreadable(&node.pools.questions, kept.id).await?;
            }
            Again::Still(reason) => {
                retried.still.push(KeptItem { id: kept.id, item: None, reason });
            }
            Again::Full => return Err(ApiError::Busy),
        }
    }
    Ok(web::Json(retried))
}
