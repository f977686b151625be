//! Guards: how they stand, and what people say to them.

use super::{ApiError, caller::Caller};
use crate::{clock, node::Node};
use actix_web::{HttpResponse, get, post, web};
use arvok_api::{
    Change, CircuitItem, GuardItem, GuardLine, GuardResumed, Overrule, Page, Problem, ResumeGuard,
};
use arvok_core::{
    JobId,
    guard::{GuardState, LineInWords, StandingGuard},
    job::JobState,
    text::cut,
};
use arvok_store::{jobs::guards, read};

/// Most bytes of a reason.
const MOST: usize = 400;

/// Guards, by name, each with how it stands.
#[utoipa::path(operation_id = "listGuards", tag = "guards",
    responses((status = 200, body = Page<GuardItem>)))]
#[get("/guards")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
) -> Result<web::Json<Page<GuardItem>>, ApiError> {
    let published = node.published();
    let mut known = guards::known(&node.pools.questions, &published.guards).await?;
    let items = published.guards.iter().map(|standing| {
        let (state, holds) = known.remove(&standing.guard.name).unwrap_or_default();
        item(standing, &state, holds)
    });
    Ok(web::Json(Page { items: items.collect(), next: None, bounded: false }))
}

/// One guard with how it stands.
#[utoipa::path(operation_id = "showGuard", tag = "guards", params(("name" = String, Path)),
    responses((status = 200, body = GuardItem), (status = 404, body = Problem)))]
#[get("/guards/{name}")]
pub(super) async fn one(
    node: web::Data<Node>,
    _caller: Caller,
    name: web::Path<String>,
) -> Result<web::Json<GuardItem>, ApiError> {
    let published = node.published();
    let standing = found(published.guards.get(&name), &name)?;
    let mut known = guards::known(&node.pools.questions, &published.guards).await?;
    let (state, holds) = known.remove(name.as_str()).unwrap_or_default();
    Ok(web::Json(item(standing, &state, holds)))
}

fn found<'g>(
    standing: Option<&'g StandingGuard>,
    name: &str,
) -> Result<&'g StandingGuard, ApiError> {
    standing.ok_or_else(|| ApiError::NotFound(format!("guard `{}`", cut(name, 64))))
}

fn item(standing: &StandingGuard, state: &GuardState, holds: i64) -> GuardItem {
    let guard = &standing.guard;
    let line = |words: LineInWords| GuardLine {
        line: words.line.to_owned(),
        allows: words.allows,
        stands: words.stands,
        used: words.used,
    };
    let circuit = |open: &arvok_core::guard::OpenCircuit| CircuitItem {
        runbook: open.runbook.clone(),
        since: open.since,
        failures: open.failures,
    };
    GuardItem {
        name: guard.name.clone(),
        summary: guard.summary.clone(),
        version: standing.version,
        concerns: guard.concerns.to_string(),
        lines: standing.in_words(clock::now(), state).into_iter().map(line).collect(),
        otherwise: guard.otherwise,
        overrule: guard.overrule,
        holds,
        circuits: state.circuits.iter().map(circuit).collect(),
    }
}

/// Says that the circuits of a guard, or that of one runbook, are closed: rules dispatch again, and
/// failures are counted from now on.
#[utoipa::path(operation_id = "resumeGuard", tag = "guards", params(("name" = String, Path)),
    request_body = ResumeGuard,
    responses((status = 200, body = GuardResumed), (status = 400, body = Problem), (status = 403,
        body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/guards/{name}/resume")]
pub(super) async fn resume(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
    body: web::Json<ResumeGuard>,
) -> Result<web::Json<GuardResumed>, ApiError> {
    let published = node.published();
    let standing = found(published.guards.get(&name), &name)?;
    caller.must(standing.guard.overrule)?;
    let reason = given(&body.reason)?;
    let (db, by) = (&node.pools.questions, caller.principal());
    let circuits = guards::resume(db, &name, body.runbook.as_deref(), &by, reason).await?;
    if circuits == 0 {
        let of = body.runbook.as_ref().map(|r| format!(" of runbook {r}")).unwrap_or_default();
        return Err(ApiError::Conflict(format!("no circuit{of} of guard {name} is open")));
    }
    node.announcer.tell(Change { definitions: true, ..Change::default() });
    if let Err(e) = node.reload().await {
        tracing::warn!("closed circuits cannot be loaded yet: {e}");
    }
    node.wakeups.jobs.notify_one();
    Ok(web::Json(GuardResumed { circuits }))
}

/// Has a job begin in spite of the guard that holds it: that guard is not asked any more for this
/// job. Others are.
#[utoipa::path(operation_id = "overruleGuard", tag = "guards", params(("id" = i64, Path)),
    request_body = Overrule,
    responses((status = 204), (status = 400, body = Problem), (status = 403, body = Problem),
        (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/jobs/{id}/overrule")]
pub(super) async fn overrule(
    node: web::Data<Node>,
    caller: Caller,
    id: web::Path<i64>,
    body: web::Json<Overrule>,
) -> Result<HttpResponse, ApiError> {
    let published = node.published();
    caller.must(found(published.guards.get(&body.guard), &body.guard)?.guard.overrule)?;
    let reason = given(&body.reason)?;
    let (db, by) = (&node.pools.questions, caller.principal());
    if !guards::overrule(db, JobId(*id), &body.guard, &by, reason).await? {
        let row = read::job(db, *id).await?;
        let row = row.ok_or_else(|| ApiError::NotFound(format!("job {id}")))?;
        let why = match (&row.item.held, row.item.state) {
            (_, state) if state != JobState::Queued => format!("it is {state}"),
            (Some(held), _) if held.guard != body.guard => {
                format!("guard {} holds it: {}", held.guard, held.why)
            }
            (Some(_), _) => format!("guard {} was overruled for it already", body.guard),
            (None, _) => "no guard holds it".to_owned(),
        };
        return Err(ApiError::Conflict(format!("job {id}: {why}")));
    }
    node.announcer.tell(Change { jobs: vec![*id], ..Change::default() });
    node.wakeups.jobs.notify_one();
    Ok(HttpResponse::NoContent().finish())
}

fn given(reason: &str) -> Result<&str, ApiError> {
    let reason = reason.trim();
    if reason.is_empty() || reason.len() > MOST {
        return Err(ApiError::BadRequest(format!("reason: say why, in {MOST} bytes at most")));
    }
    Ok(reason)
}
