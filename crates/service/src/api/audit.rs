//! What was done that decides what others may do, and who was refused.

use super::{ApiError, caller::Caller, query::in_range};
use crate::node::Node;
use actix_web::{get, web};
use arvok_api::{AuditFilter, AuditItem, PAGE, Page, Problem};
use arvok_core::Role;
use arvok_store::audit;

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
    Ok(web::Json(audit::list(&node.pools.questions, &filter, filter.limit.unwrap_or(PAGE)).await?))
}
