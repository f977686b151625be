//! Decisions: what jobs ask people, and the links with which whoever has one decides without
//! signing in.

use super::{
    ApiError,
    caller::{Caller, signed_in, way},
    job_steps::set_doing,
    query::in_range,
};
use crate::{
    executor::{self, Link},
    node::Node,
};
use actix_web::{HttpRequest, get, post, web};
use arvok_api::{
    Attempt, ByLink, Choice, DecisionContext, DecisionFilter, DecisionItem, DecisionState, Found,
    PAGE, Page, Problem, StepState, Take, TakeByLink,
};
use arvok_core::{
    Principal, Role,
    job::{Decided, Decider, Place},
    text::cut,
};
use arvok_store::{
    outside::decisions::{self, Decision},
    read,
};
use serde_json::Value;

/// Longest remark, and longest name that is typed, in bytes.
const LONGEST: usize = 1_000;
const LONGEST_NAME: usize = 200;
/// Longest output of a step that is shown beside a decision, in bytes.
const LONGEST_FOUND: usize = 4_000;
/// Most steps of which is told what they found; of more the last ones.
const MOST_FOUND: usize = 50;
/// Most open decisions of the overview.
const MOST: i64 = 50;

/// Decisions: those that are open, the most pressing first, or all, newest first.
#[utoipa::path(
    operation_id = "listDecisions", tag = "decisions", params(DecisionFilter),
    responses((status = 200, body = Page<DecisionItem>), (status = 400, body = Problem))
)]
#[get("/decisions")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<DecisionFilter>,
) -> Result<web::Json<Page<DecisionItem>>, ApiError> {
    let filter = query.into_inner();
    in_range(filter.limit, [])?;
    let open = match filter.state.as_deref() {
        None | Some("open") => true,
        Some("all") => false,
        Some(other) => {
            return Err(ApiError::BadRequest(format!("state={other}: it is open or all")));
        }
    };
    let limit = i64::try_from(filter.limit.unwrap_or(PAGE)).unwrap_or(i64::MAX);
    let found = decisions::list(&node.pools.questions, open, filter.after, limit).await?;
    let items: Vec<DecisionItem> = found.into_iter().map(item).collect();
    let full = !open && items.len() as i64 == limit;
    let next = items.last().filter(|_| full).map(|d| d.id.to_string());
    Ok(web::Json(Page { items, next, bounded: false }))
}

/// Those of the overview.
pub(super) async fn open(node: &Node) -> Result<Vec<DecisionItem>, ApiError> {
    Ok(decisions::list(&node.pools.questions, true, None, MOST)
        .await?
        .into_iter()
        .map(item)
        .collect())
}

/// One decision.
#[utoipa::path(
    operation_id = "showDecision", tag = "decisions", params(("id" = i64, Path)),
    responses((status = 200, body = DecisionItem), (status = 404, body = Problem))
)]
#[get("/decisions/{id}")]
pub(super) async fn one(
    node: web::Data<Node>,
    _caller: Caller,
    id: web::Path<i64>,
) -> Result<web::Json<DecisionItem>, ApiError> {
    found(&node, *id).await.map(item).map(web::Json)
}

async fn found(node: &Node, id: i64) -> Result<Decision, ApiError> {
    decisions::one(&node.pools.questions, id)
        .await?
        .ok_or_else(|| ApiError::NotFound(format!("decision {id}")))
}

/// Takes a decision; its job goes on.
#[utoipa::path(operation_id = "takeDecision", tag = "decisions", params(("id" = i64, Path)),
    request_body = Take,
    responses((status = 200, body = DecisionItem), (status = 400, body = Problem), (status = 403,
        body = Problem),
        (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/decisions/{id}")]
pub(super) async fn take(
    node: web::Data<Node>,
    caller: Caller,
    request: HttpRequest,
    id: web::Path<i64>,
    body: web::Json<Take>,
) -> Result<web::Json<DecisionItem>, ApiError> {
    let decision = found(&node, *id).await?;
    may(&decision, &caller)?;
    let Take { choice, remark } = body.into_inner();
    let by = caller.principal();
    decide(
        &node,
        &decision,
        Decided { choice, by, how: way(&request).into(), remark: remark.unwrap_or_default() },
    )
    .await
}

/// Whether a caller is one of those who are asked.
fn may(decision: &Decision, caller: &Caller) -> Result<(), ApiError> {
    match serde_json::from_value(decision.decider.clone()) {
        Ok(Decider::Person(name)) if name == caller.0.name || caller.0.role == Role::Admin => {
            Ok(())
        }
        Ok(Decider::Person(name)) => Err(ApiError::NotAsked(name)),
        Ok(Decider::Contact { name, tokens }) => {
            match tokens.contains(&caller.0.name) || caller.0.role == Role::Admin {
                true => Ok(()),
                false => Err(ApiError::NotAsked(name)),
            }
        }
        Ok(Decider::Role(role)) => caller.must(role),
        Err(_) => caller.must(Role::Responder),
    }
}

/// Shows the decision that a link leads to, with what is known about it. Without signing in only if
/// the question allows it, and while it is open.
#[utoipa::path(operation_id = "openDecisionLink", tag = "decisions", request_body = ByLink,
    responses((status = 200, body = DecisionContext), (status = 401, body = Problem), (status = 404,
        body = Problem),
        (status = 410, body = Problem)))]
#[post("/decisions/link")]
pub(super) async fn open_link(
    node: web::Data<Node>,
    request: HttpRequest,
    body: web::Json<ByLink>,
) -> Result<web::Json<DecisionContext>, ApiError> {
    let decision = linked(&node, &body.link).await?;
    let caller = signed_in(&request).await;
    if caller.is_none() {
        may_by_link(&decision)?;
    }
    let context = context(&node, decision).await?;
    Ok(web::Json(DecisionContext { signed_in: caller.map(|caller| caller.0.name), ..context }))
}

/// That a link is enough for a question: its author said so, and it stands.
fn may_by_link(decision: &Decision) -> Result<(), ApiError> {
    match decision.state.0 {
        _ if !decision.by_link => Err(ApiError::SignIn),
        DecisionState::Open => Ok(()),
        _ => Err(ApiError::LinkUsed(decision.id)),
    }
}

async fn linked(node: &Node, link: &str) -> Result<Decision, ApiError> {
    let none = || {
        ApiError::NotFound(
            "decision behind this link: it is cut short, or of another installation".into(),
        )
    };
    Link::open(node, link).await?.ok_or_else(none)
}

/// Decides with a link, without signing in if the question allows it. What is recorded then says
/// that nobody signed in, and the name is one that was typed.
#[utoipa::path(operation_id = "takeDecisionByLink", tag = "decisions", request_body = TakeByLink,
    responses((status = 200, body = DecisionItem), (status = 400, body = Problem), (status = 401,
        body = Problem),
        (status = 403, body = Problem), (status = 404, body = Problem), (status = 409,
            body = Problem),
        (status = 410, body = Problem)))]
#[post("/decisions/link/take")]
pub(super) async fn take_by_link(
    node: web::Data<Node>,
    request: HttpRequest,
    body: web::Json<TakeByLink>,
) -> Result<web::Json<DecisionItem>, ApiError> {
    let TakeByLink { link, choice, name, remark } = body.into_inner();
    let decision = linked(&node, &link).await?;
    let remark = remark.unwrap_or_default();
    if let Some(caller) = signed_in(&request).await {
        may(&decision, &caller)?;
        let decided = Decided { choice, by: caller.principal(), how: way(&request).into(), remark };
        return decide(&node, &decision, decided).await;
    }
    may_by_link(&decision)?;
    let name = name.trim();
    if name.is_empty() {
        return Err(ApiError::BadRequest(
            "name: say who decides; it is recorded with the decision".into(),
        ));
    }
    let name = cut_name(name)?;
    let decided = Decided { choice, by: Principal::link(name), how: "link".into(), remark };
    match decide(&node, &decision, decided).await {
        // Somebody else was quicker.
        Err(ApiError::Conflict(_)) => Err(ApiError::LinkUsed(decision.id)),
        decided => decided,
    }
}

/// A name as somebody types it who is not signed in.
fn cut_name(name: &str) -> Result<&str, ApiError> {
    match name.len() {
        0..=LONGEST_NAME => Ok(name),
        n => Err(ApiError::BadRequest(format!("name: has {n} bytes; {LONGEST_NAME} are allowed"))),
    }
}

async fn decide(
    node: &Node,
    decision: &Decision,
    decided: Decided,
) -> Result<web::Json<DecisionItem>, ApiError> {
    let id = decision.id;
    let choices = item(decision.clone()).choices;
    if !choices.iter().any(|c| c.name == decided.choice) {
        let known = choices.iter().map(|c| c.name.as_str()).collect::<Vec<_>>().join(", ");
        return Err(ApiError::BadRequest(format!(
            "there is no choice `{}`; the choices are {known}",
            cut(&decided.choice, 60)
        )));
    }
    if decided.remark.len() > LONGEST {
        let bytes = decided.remark.len();
        return Err(ApiError::BadRequest(format!(
            "remark: has {bytes} bytes; {LONGEST} are allowed"
        )));
    }
    if !executor::take_decision(node, decision, &decided).await? {
        return Err(ApiError::Conflict(too_late(found(node, id).await?)));
    }
    found(node, id).await.map(item).map(web::Json)
}

/// Why a decision cannot be taken any more.
pub(crate) fn too_late(decision: Decision) -> String {
    let decision = item(decision);
    let id = decision.id;
    match decision.state {
        DecisionState::Taken => {
            let (choice, by) = (
                decision.choice.as_deref().unwrap_or("?"),
                decision.by.as_ref().map_or("somebody".to_owned(), Principal::shown),
            );
            format!("decision {id} was taken already: {choice}, by {by}")
        }
        DecisionState::Withdrawn => {
            format!("job {} does not ask any more; decision {id} is withdrawn", decision.job)
        }
        DecisionState::Open | DecisionState::Silent => {
            let unanswered = match &decision.unanswered {
                Some(choice) => format!("nobody decided in time, which means {choice}"),
                None => "nobody decided in time, and the step has failed".to_owned(),
            };
            format!("it is too late for decision {id}: {unanswered}")
        }
    }
}

/// A decision as it is told.
pub(super) fn item(d: Decision) -> DecisionItem {
    let to = match serde_json::from_value(d.decider) {
        Ok(Decider::Person(name) | Decider::Contact { name, .. }) => name,
        Ok(Decider::Role(role)) => serde_json::to_value(role)
            .ok()
            .and_then(|r| r.as_str().map(str::to_owned))
            .unwrap_or_default(),
        Err(_) => String::new(),
    };
    let choice = |pair: &Value| {
        Some(Choice {
            name: pair.get(0)?.as_str()?.to_owned(),
            words: pair.get(1)?.as_str()?.to_owned(),
        })
    };
    DecisionItem {
        id: d.id,
        job: d.job_id,
        runbook: d.runbook,
        target: d.target,
        rule: d.rule,
        step: d.place,
        to,
        text: d.text,
        choices: d.choices.as_array().into_iter().flatten().filter_map(choice).collect(),
        unanswered: d.unanswered,
        asked_at: d.asked_at,
        until: d.until,
        state: d.state.0,
        choice: d.choice,
        by: d.decided_by.map(|by| by.0),
        how: d.how,
        remark: d.remark.filter(|r| !r.is_empty()),
        decided_at: d.decided_at,
    }
}

/// A decision with what is known about it.
async fn context(node: &Node, decision: Decision) -> Result<DecisionContext, ApiError> {
    let row = read::job(&node.pools.questions, decision.job_id).await?;
    let row = row.ok_or_else(|| ApiError::NotFound(format!("job {}", decision.job_id)))?;
    let alert = match row.item.alert {
        Some(seq) => read::alert(&node.pools.questions, seq).await?.map(|a| a.alert),
        None => None,
    };
    let raised = match row.item.alarm {
        Some(alarm) => {
            arvok_store::jobs::alarm_of(&node.pools.questions, arvok_core::AlarmId(alarm))
                .await?
                .map(|a| a.raised)
        }
        None => None,
    };
    let runbook = node.runbook(&row.item.runbook, row.item.runbook_version).await?;
    let steps = runbook.as_ref().map_or_else(Vec::new, |r| arvok_core::runbook::all(&r.steps));
    let id = |place: &str| place.rsplit('.').next().unwrap_or(place).to_owned();
    // Of other items of a list tells what the list gave.
    let around = |(each, n): &(Place, usize)| decision.place.starts_with(&format!("{each}[{n}]."));
    let done = |(place, a): &(String, Attempt)| {
        let place = Place::new(place);
        a.state == StepState::Done && place.is_step() && place.items().iter().all(around)
    };
    let mut gave: Vec<_> = row.attempts.into_iter().filter(done).collect();
    // What was done at the same moment, in the order of the runbook.
    gave.sort_by_cached_key(|(place, a)| {
        (a.finished_at, steps.iter().position(|s| s.id == id(place)))
    });
    let found = gave.into_iter().filter_map(|(place, attempt)| {
        let telling = |o: &Value| {
            !o.is_null() && !o.is_boolean() && o.as_object().is_none_or(|m| !m.is_empty())
        };
        let gave = attempt.output.filter(telling)?;
        let gave = match gave.to_string() {
            long if long.len() > LONGEST_FOUND => {
                Value::String(format!("{}…", cut(&long, LONGEST_FOUND)))
            }
            _ => gave,
        };
        let step = steps
            .iter()
            .find(|s| s.id == id(&place))
            .and_then(|s| s.summary.clone())
            .unwrap_or(place);
        Some(Found { step, gave })
    });
    let mut found: Vec<Found> = found.collect();
    let left_out = found.len().saturating_sub(MOST_FOUND);
    found.drain(..left_out);
    let mut job = row.item;
    set_doing(std::slice::from_mut(&mut job), &[]);
    Ok(DecisionContext {
        decision: item(decision),
        job,
        alert,
        raised,
        found,
        left_out,
        signed_in: None,
    })
}
