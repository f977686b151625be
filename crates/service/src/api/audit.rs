//! What was done that decides what others may do, and who was refused.

use super::{ApiError, caller::Caller, query::in_range};
use crate::node::Node;
use actix_web::{HttpRequest, get, web};
use arvok_api::{AuditFilter, AuditItem, PAGE, Page, Problem};
use arvok_core::Role;
use arvok_store::audit::{self, By};

/// What was done with tokens, secrets, definitions and retention, and sign-ins that were refused,
/// newest first.
#[utoipa::path(operation_id = "listAudit", tag = "access", params(AuditFilter),
    responses((status = 200, body = Page<AuditItem>), (status = 400, body = Problem), (status = 403,
        body = Problem)))]
#[get("/audit")]
pub(super) async fn list(
    node: web::Data<Node>,
    caller: Caller,
    query: web::Query<AuditFilter>,
) -> Result<web::Json<Page<AuditItem>>, ApiError> {
    caller.must(Role::Admin)?;
    let filter = query.into_inner();
    in_range(filter.limit, [])?;
    Ok(web::Json(audit::list(&node.db, &filter, filter.limit.unwrap_or(PAGE)).await?))
}

/// Where a request comes from, as far as that can be told.
pub(super) fn from(request: &HttpRequest) -> String {
    request.peer_addr().map_or_else(|| "unknown".to_owned(), |peer| peer.ip().to_string())
}

/// Notes that a sign-in or a token was refused; whoever is refused does not wait for it, and nobody
/// is refused for it.
pub(super) fn refused(
    node: &web::Data<Node>,
    request: &HttpRequest,
    act: &'static str,
    what: &str,
) {
    let (node, from, what) = (node.clone(), from(request), what.to_owned());
    // So many guesses at once are counted by the rows that are there; the rest is only in the
    // metrics of the door.
    let Ok(place) = std::sync::Arc::clone(&node.refusals).try_acquire_owned() else { return };
    actix_web::rt::spawn(async move {
        if let Err(e) = audit::refused(&node.db, By::Stranger(&from), act, &what).await {
            tracing::warn!("a refusal is not recorded: {e}");
        }
        drop(place);
    });
}
