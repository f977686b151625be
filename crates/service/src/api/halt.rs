//! The halt of all jobs, and halts of some.

use super::{ApiError, caller::Caller};
use crate::{executor, node::Node};
use actix_web::{HttpResponse, delete, get, post, put, web};
use arvok_api::{Change, HaltBegun, Halted, NewHalt, Problem, SetHalt};
use arvok_core::{
    Kind, Role,
    definition::Others,
    halt::{HaltError, HaltLines},
    plan,
};
use arvok_store::jobs;

/// Most bytes of a reason.
const MOST: usize = 400;

async fn standing(node: &Node) -> Result<Halted, ApiError> {
    let halt = jobs::halt(&node.pools.questions).await?;
    Ok(Halted { halt, some: jobs::halts(&node.pools.questions).await? })
}

/// Why, as far as it says anything.
fn reason(text: &str) -> Result<&str, ApiError> {
    let reason = text.trim();
    if reason.is_empty() || reason.len() > MOST {
        return Err(ApiError::BadRequest(format!("reason: say why, in {MOST} bytes at most")));
    }
    Ok(reason)
}

/// Every node hears of it.
async fn announce(node: &Node) {
    node.wakeups.jobs.notify_one();
    node.announcer.tell(Change { reset: true, ..Change::default() });
    executor::hear(node).await;
}

/// Whether jobs are halted, all or some, since when, by whom and why.
#[utoipa::path(operation_id = "getHalt", tag = "jobs", responses((status = 200, body = Halted)))]
#[get("/halt")]
pub(super) async fn show(
    node: web::Data<Node>,
    _caller: Caller,
) -> Result<web::Json<Halted>, ApiError> {
    Ok(web::Json(standing(&node).await?))
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
    let reason = reason(&body.reason)?;
    let (halt, is_new) =
        jobs::set_halt(&node.pools.questions, &caller.principal(), reason, body.running).await?;
    if !is_new {
        return Err(ApiError::Conflict(format!(
            "jobs are halted already, by {}: {}",
            halt.by.shown(),
            halt.reason
        )));
    }
    announce(&node).await;
    Ok(web::Json(standing(&node).await?))
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
    announce(&node).await;
    Ok(HttpResponse::NoContent().finish())
}

/// Halts some jobs on all nodes: none of them is begun or taken up until that halt is lifted. What
/// is under way on a node goes on, or is paused with `running`. With `dry_run` it only tells which
/// jobs it would concern.
#[utoipa::path(operation_id = "beginHalt", tag = "jobs", request_body = NewHalt,
    responses((status = 200, body = HaltBegun), (status = 201, body = HaltBegun),
    (status = 400, body = Problem), (status = 403, body = Problem), (status = 409,
        body = Problem)))]
#[post("/halts")]
pub(super) async fn begin(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<NewHalt>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Responder)?;
    let NewHalt { covers, reason: why, running, dry_run } = body.into_inner();
    let lines: HaltLines = covers.into();
    let wrong = |e: HaltError| ApiError::BadRequest(format!("covers: {e}"));
    let concerned = lines.check().map_err(wrong)?;
    are_published(&node, &lines)?;
    let concerns = jobs::concerned_by(&node.pools.questions, &concerned).await?;
    if dry_run {
        return Ok(HttpResponse::Ok().json(HaltBegun { halt: None, concerns }));
    }
    let (why, by) = (reason(&why)?, caller.principal());
    let of = (&lines, &concerned);
    let halt = jobs::begin_halt(&node.pools.questions, of, &by, why, running).await?;
    announce(&node).await;
    Ok(HttpResponse::Created().json(HaltBegun { halt: Some(halt), concerns }))
}

/// Refuses names that nothing has which is published: whoever mistypes one would believe that it is
/// halted.
fn are_published(node: &Node, lines: &HaltLines) -> Result<(), ApiError> {
    let published = node.published();
    let others: &dyn Others = &*published.catalog;
    let named = [("rules", Kind::Rule, &lines.rules), ("runbooks", Kind::Runbook, &lines.runbooks)];
    for (line, kind, names) in named {
        for name in names.iter().filter(|name| !name.contains(['*', '?'])) {
            let found = match plan::of_job_name(name) {
                Some(plan) if kind == Kind::Runbook => others.must_have(Kind::Plan, plan),
                _ => others.must_have(kind, name),
            };
            found.map_err(|e| ApiError::BadRequest(format!("covers: {line}: {e}")))?;
        }
    }
    Ok(())
}

/// Lifts a halt of some jobs: they are begun again, and what it paused goes on, as far as no other
/// halt concerns it.
#[utoipa::path(operation_id = "endHalt", tag = "jobs", params(("id" = i64, Path)),
    responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[delete("/halts/{id}")]
pub(super) async fn end(
    node: web::Data<Node>,
    caller: Caller,
    id: web::Path<i64>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Responder)?;
    if !jobs::lift_halt_of(&node.pools.questions, *id, &caller.principal()).await? {
        return Err(ApiError::NotFound(format!("halt {id}")));
    }
    announce(&node).await;
    Ok(HttpResponse::NoContent().finish())
}
