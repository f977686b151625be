//! Proposals: what rules would do if a person agrees.

use super::{ApiError, caller::Caller, query::in_range};
use crate::{clock, node::Node};
use actix_web::{get, post, web};
use arvok_api::{Change, Page, Problem, ProposalDecision, ProposalFilter, ProposalItem};
use arvok_core::{JobId, Role};
use arvok_store::{
    proposals::{self as store, Decided},
    read,
};
use serde_json::{Map, Value};

/// Longest reason, in bytes.
const MAX_NOTE: usize = 2000;

/// Proposals, newest first.
#[utoipa::path(
    operation_id = "listProposals", tag = "proposals", params(ProposalFilter),
    responses((status = 200, body = Page<ProposalItem>), (status = 400, body = Problem))
)]
#[get("/proposals")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<ProposalFilter>,
) -> Result<web::Json<Page<ProposalItem>>, ApiError> {
    let filter = query.into_inner();
    in_range(filter.limit, [])?;
    Ok(web::Json(read::proposals(&node.pools.questions, filter).await?))
}

/// One proposal.
#[utoipa::path(
    operation_id = "showProposal", tag = "proposals", params(("id" = i64, Path)),
    responses((status = 200, body = ProposalItem), (status = 404, body = Problem))
)]
#[get("/proposals/{id}")]
pub(super) async fn one(
    node: web::Data<Node>,
    _caller: Caller,
    id: web::Path<i64>,
) -> Result<web::Json<ProposalItem>, ApiError> {
    found(&node, *id).await.map(web::Json)
}

async fn found(node: &Node, id: i64) -> Result<ProposalItem, ApiError> {
    read::proposal(&node.pools.questions, id)
        .await?
        .ok_or_else(|| ApiError::NotFound(format!("proposal {id}")))
}

/// Launches an open proposal: it becomes the job of the same number.
#[utoipa::path(operation_id = "launchProposal", tag = "proposals", params(("id" = i64, Path)),
    request_body = ProposalDecision,
    responses((status = 200, body = ProposalItem), (status = 404, body = Problem), (status = 409,
        body = Problem)))]
#[post("/proposals/{id}/launch")]
pub(super) async fn launch(
    node: web::Data<Node>,
    caller: Caller,
    id: web::Path<i64>,
    body: web::Json<ProposalDecision>,
) -> Result<web::Json<ProposalItem>, ApiError> {
    decide(&node, &caller, *id, body.into_inner(), true).await
}

/// Dismisses an open proposal, with the reason.
#[utoipa::path(operation_id = "dismissProposal", tag = "proposals", params(("id" = i64, Path)),
    request_body = ProposalDecision,
    responses((status = 200, body = ProposalItem), (status = 400, body = Problem), (status = 404,
        body = Problem), (status = 409, body = Problem)))]
#[post("/proposals/{id}/dismiss")]
pub(super) async fn dismiss(
    node: web::Data<Node>,
    caller: Caller,
    id: web::Path<i64>,
    body: web::Json<ProposalDecision>,
) -> Result<web::Json<ProposalItem>, ApiError> {
    decide(&node, &caller, *id, body.into_inner(), false).await
}

/// The inputs of a proposal with others in their place, and the names of those: as the version of
/// the runbook that is proposed allows them. What it acts on stays: the rule's quotas and the locks
/// of the target were asked for that.
async fn instead(
    node: &Node,
    caller: &Caller,
    proposed: &ProposalItem,
    others: Map<String, Value>,
) -> Result<Option<(Value, String)>, ApiError> {
    let mut inputs = proposed.inputs.as_object().cloned().unwrap_or_default();
    let others: Map<String, Value> =
        others.into_iter().filter(|(name, value)| inputs.get(name) != Some(value)).collect();
    if others.is_empty() {
        return Ok(None);
    }
    let runbook = node.runbook(&proposed.runbook, proposed.runbook_version).await?;
    let runbook = runbook.ok_or_else(|| {
        ApiError::Conflict(format!(
            "version {} of its runbook cannot be read any more",
            proposed.runbook_version
        ))
    })?;
    caller.must(runbook.launch)?;
    super::launch::refuse_marks(&others)?;
    let names = others.keys().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", ");
    inputs.extend(others);
    let prepared = runbook.prepare(inputs, &*node.published().catalog);
    let prepared = prepared.map_err(|e| ApiError::BadRequest(e.to_string()))?;
    if prepared.target.to_string() != proposed.target {
        let (target, proposed) = (prepared.target, &proposed.target);
        return Err(ApiError::BadRequest(format!(
            "inputs: it would act on {target} and not on {proposed}; launch the runbook for that \
            one by itself"
        )));
    }
    Ok(Some((Value::Object(prepared.inputs), names)))
}

async fn decide(
    node: &Node,
    caller: &Caller,
    id: i64,
    decision: ProposalDecision,
    agreed: bool,
) -> Result<web::Json<ProposalItem>, ApiError> {
    caller.must(Role::Responder)?;
    let note = decision.note.as_deref().map(str::trim).filter(|n| !n.is_empty());
    if note.is_some_and(|n| n.len() > MAX_NOTE) {
        return Err(ApiError::BadRequest(format!("note: has more than {MAX_NOTE} bytes")));
    }
    if !agreed && note.is_none() {
        return Err(ApiError::BadRequest(
            "note: say why it is dismissed; whoever looks back will want to know".into(),
        ));
    }
    if !agreed && !decision.inputs.is_empty() {
        return Err(ApiError::BadRequest("inputs: only what is launched has other inputs".into()));
    }
    let before = found(node, id).await?;
    let instead = instead(node, caller, &before, decision.inputs).await?;
    let instead = instead.as_ref().map(|(inputs, names)| (inputs, names.as_str()));
    let decided = Decided { by: &caller.principal(), at: clock::now(), note, instead };
    let done = if agreed {
        store::launch(&node.pools.questions, JobId(id), decided).await?
    } else {
        store::dismiss(&node.pools.questions, JobId(id), decided).await?
    };
    if !done {
        let by = before.decided_by.map_or_else(String::new, |by| format!(" by {}", by.shown()));
        return Err(ApiError::Conflict(format!(
            "proposal {id} is {}{by} already, not open",
            before.state
        )));
    }
    let jobs = if agreed { vec![id] } else { Vec::new() };
    node.announcer.tell(Change { proposals: vec![id], jobs, ..Change::default() });
    node.wakeups.jobs.notify_one();
    tracing::info!(proposal = id, by = caller.0.name, agreed, "a proposal was decided");
    found(node, id).await.map(web::Json)
}
