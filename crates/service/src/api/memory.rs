//! What runs of runbooks remember: listed, and forgotten.

use super::{ApiError, caller::Caller, query::in_range};
use crate::node::Node;
use actix_web::{HttpResponse, get, post, web};
use arvok_api::{ForgetMemory, MemoryFilter, MemoryItem, Page, Problem};
use arvok_core::Role;
use arvok_store::memory::{self, ForgottenMemory};

/// Most bytes of a reason.
const MOST: usize = 400;

/// What runs of runbooks remember of their targets, the newest first.
#[utoipa::path(operation_id = "listMemory", tag = "jobs", params(MemoryFilter),
    responses((status = 200, body = Page<MemoryItem>), (status = 400, body = Problem)))]
#[get("/memory")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<MemoryFilter>,
) -> Result<web::Json<Page<MemoryItem>>, ApiError> {
    let filter = query.into_inner();
    in_range(filter.limit, [])?;
    Ok(web::Json(memory::list(&node.pools.questions, &filter).await?))
}

/// Forgets what runs of a runbook remember of a target: the next finds what the first did. Not
/// while a job is at work there.
#[utoipa::path(operation_id = "forgetMemory", tag = "jobs", request_body = ForgetMemory,
    responses((status = 204), (status = 400, body = Problem), (status = 403, body = Problem),
        (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/memory/forget")]
pub(super) async fn forget(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<ForgetMemory>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Author)?;
    let ForgetMemory { runbook, target, reason } = body.into_inner();
    let reason = reason.trim();
    if reason.is_empty() || reason.len() > MOST {
        return Err(ApiError::BadRequest(format!("reason: say why, in {MOST} bytes at most")));
    }
    let of = (runbook.as_str(), target.as_str());
    match memory::forget(&node.pools.questions, of, &caller.principal(), reason).await? {
        ForgottenMemory::Done => Ok(HttpResponse::NoContent().finish()),
        ForgottenMemory::Nothing => {
            Err(ApiError::NotFound(format!("memory of runbook `{runbook}` on {target}")))
        }
        ForgottenMemory::AtWork(job) => Err(ApiError::Conflict(format!(
            "job {job} is at work on {target} and would remember it anew; wait for its end, or \
            cancel it"
        ))),
    }
}
