//! The halt of all jobs.

use super::{ApiError, caller::Caller};
use crate::{executor, node::Node};
use actix_web::{HttpResponse, delete, get, put, web};
use arvok_api::{Change, Halted, Problem, SetHalt};
use arvok_core::Role;
use arvok_store::jobs;

/// Most bytes of a reason.
const MOST: usize = 400;

/// Whether jobs are halted, since when, by whom and why.
#[utoipa::path(operation_id = "getHalt", tag = "jobs", responses((status = 200, body = Halted)))]
#[get("/halt")]
pub(super) async fn show(
    node: web::Data<Node>,
    _caller: Caller,
) -> Result<web::Json<Halted>, ApiError> {
    Ok(web::Json(Halted { halt: jobs::halt(&node.pools.questions).await? }))
}

/// Halts all jobs on all nodes: none is begun or taken up until the halt is lifted. What is under
/// way on a node goes on, or is paused with `running`. A halt that stands already is not replaced,
/// but by one that pauses what is under way as well.
#[utoipa::path(operation_id = "setHalt", tag = "jobs", request_body = SetHalt,
    responses((status = 200, body = Halted),
    (status = 400, body = Problem), (status = 403, body = Problem), (status = 409,
        body = Problem)))]
#[put("/halt")]
pub(super) async fn set(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<SetHalt>,
) -> Result<web::Json<Halted>, ApiError> {
    caller.must(Role::Responder)?;
    let reason = body.reason.trim();
    if reason.is_empty() || reason.len() > MOST {
        return Err(ApiError::BadRequest(format!("reason: say why, in {MOST} bytes at most")));
    }
    let (halt, is_new) =
        jobs::set_halt(&node.pools.questions, &caller.principal(), reason, body.running).await?;
    if !is_new {
        return Err(ApiError::Conflict(format!(
            "jobs are halted already, by {}: {}",
            halt.by.shown(),
            halt.reason
        )));
    }
    node.announcer.tell(Change { reset: true, ..Change::default() });
    executor::hear(&node).await;
    Ok(web::Json(Halted { halt: Some(halt) }))
}

/// Lifts the halt: jobs are begun again, and what it paused goes on.
#[utoipa::path(
    operation_id = "liftHalt", tag = "jobs",
    responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem))
)]
#[delete("/halt")]
pub(super) async fn lift(node: web::Data<Node>, caller: Caller) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Responder)?;
    if !jobs::lift_halt(&node.pools.questions, &caller.principal()).await? {
        return Err(ApiError::NotFound("halt".into()));
    }
    node.wakeups.jobs.notify_one();
    node.announcer.tell(Change { reset: true, ..Change::default() });
    executor::hear(&node).await;
    Ok(HttpResponse::NoContent().finish())
}
