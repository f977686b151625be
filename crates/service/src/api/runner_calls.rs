//! What runners say: they claim calls, begin them, beat while they make them, and end them. Each
//! speaks for its own calls alone, and no more often than a runner needs to.

use super::{ApiError, caller::bearer, refusals};
use crate::{
    calls::{RunnerReport, new_claim, runner_work, seal_result},
    clock,
    node::Node,
};
use actix_web::{
    Error, FromRequest, HttpMessage, HttpRequest, HttpResponse,
    body::{BoxBody, MessageBody},
    dev::{Payload, ServiceRequest, ServiceResponse},
    middleware::Next,
    post, web,
};
use arvok_api::{
    CallBeat, CallNumbers, Change, ClaimedCall, Problem, RUNNER_PROTOCOL, RunnerBeat, RunnerBegin,
    RunnerCall, RunnerCalls, RunnerClaim, RunnerEnd, RunnerResult,
};
use arvok_connect::last_lines;
use arvok_core::{JobId, Labels, job::Place};
use arvok_store::{
    live_output::{self, LiveCall},
    runners::{self as known, KnownRunner, RunnerNews, calls as store},
};
use std::{
    future::{Ready, ready},
    time::{Duration, Instant},
};

/// Most calls of one claim, and of one message.
const MOST: usize = 64;
/// Longest time that a claim waits for the first call.
const LONGEST_WAIT: Duration = Duration::from_secs(25);
/// How often a claim that waits looks by itself.
const LOOK: Duration = Duration::from_secs(1);
/// Longest version of a program that is kept, in characters.
const LONGEST_BUILD: usize = 60;

/// A runner that has shown its token.
#[derive(Clone)]
pub(super) struct RunnerCaller(KnownRunner);

impl FromRequest for RunnerCaller {
    type Error = ApiError;
    type Future = Ready<Result<Self, ApiError>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(request.extensions().get::<Self>().cloned().ok_or(ApiError::NoToken))
    }
}

/// Asks which runner it is before anything of a body is read.
pub(crate) async fn known_runner(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<BoxBody>, Error> {
    let known = match request.app_data::<web::Data<Node>>() {
        None => Err(ApiError::Internal),
        Some(node) => identify(node, request.request()).await,
    };
    match known {
        Ok(runner) => drop(request.extensions_mut().insert(RunnerCaller(runner))),
        Err(e) => return Ok(request.error_response(e)),
    }
    let answer = tokio::time::timeout(LONGEST_WAIT * 2, next.call(request)).await;
    Ok(answer.map_err(|_| ApiError::Slow)??.map_into_boxed_body())
}

async fn identify(node: &web::Data<Node>, request: &HttpRequest) -> Result<KnownRunner, ApiError> {
    let token = bearer(request).ok_or(ApiError::NoToken)?;
    let runner = known::by_token(&node.pools.questions, token).await?.ok_or_else(|| {
        refusals::refused(node, request, "request.refused", "an unknown token");
        ApiError::BadToken
    })?;
    match node.runner_pace.may_speak(&runner.name) {
        true => Ok(runner),
        false => Err(ApiError::Asked),
    }
}

/// Hands out calls that a runner has room for: waits for the first, as long as is asked.
#[utoipa::path(operation_id = "claimCalls", tag = "runner", request_body = RunnerClaim,
    responses((status = 200, body = RunnerCalls), (status = 400, body = Problem),
        (status = 401, body = Problem), (status = 429, body = Problem)))]
#[post("/claim")]
pub(super) async fn claim_calls(
    node: web::Data<Node>,
    runner: RunnerCaller,
    body: web::Json<RunnerClaim>,
) -> Result<web::Json<RunnerCalls>, ApiError> {
    let (runner, body) = (runner.0, body.into_inner());
    let _waiting = node.runner_pace.wait(&runner.name).ok_or(ApiError::Asked)?;
    let serves = served(&runner, &body)?;
    tell(&node, &runner, &serves, &body).await?;
    let most = body.room.min(u32::try_from(MOST).unwrap_or(u32::MAX));
    let until = Instant::now() + Duration::from_millis(body.wait_ms).min(LONGEST_WAIT);
    let (mut asked, mut stopping) = (node.runner_calls.asked(), node.stopping.clone());
    loop {
        asked.mark_unchanged();
        let claim = new_claim();
        let found = store::claim(&node.pools.work, (&runner.name, &serves), &claim, most).await?;
        let is_late = Instant::now() >= until || most == 0 || *stopping.borrow();
        if !found.is_empty() || is_late {
            let mut calls = Vec::new();
            for one in found {
                calls.extend(handed_out(&node, &runner.name, &claim, one).await?);
            }
            return Ok(web::Json(RunnerCalls { calls }));
        }
        let left = until.saturating_duration_since(Instant::now());
        tokio::select! {
            _ = asked.changed() => {}
            _ = stopping.changed() => {}
            () = tokio::time::sleep(LOOK.min(left)) => {}
        }
    }
}

/// The labels that a runner serves: no others than it may.
fn served(runner: &KnownRunner, body: &RunnerClaim) -> Result<Labels, ApiError> {
    if body.protocol.abs_diff(RUNNER_PROTOCOL) > 1 {
        return Err(ApiError::BadRequest(format!(
            "this runner speaks protocol {} and the node {RUNNER_PROTOCOL}; they are to be one \
            version apart at most",
            body.protocol
        )));
    }
    let Some(serves) = body.serves.clone().map(Labels) else { return Ok(runner.labels.clone()) };
    match runner.labels.cover(&serves) {
        true => Ok(serves),
        false => Err(ApiError::BadRequest(format!(
            "runner {} may serve {}, and not {serves}",
            runner.name, runner.labels
        ))),
    }
}

/// Keeps what a runner says of itself.
async fn tell(
    node: &Node,
    runner: &KnownRunner,
    serves: &Labels,
    body: &RunnerClaim,
) -> Result<(), ApiError> {
    let behind = (clock::now() - body.at).num_milliseconds() as f64 / 1000.0;
    let build: String =
        body.build.chars().filter(|c| !c.is_control()).take(LONGEST_BUILD).collect();
    let news = RunnerNews {
        serves,
        build: &build,
        at_once: i32::try_from(body.at_once).unwrap_or(i32::MAX),
        clock_offset: behind,
    };
    Ok(known::note_news(&node.pools.work, &runner.name, news).await?)
}

/// A call with what is needed for it; none if it cannot be made, which ends it.
async fn handed_out(
    node: &Node,
    runner: &str,
    claim: &str,
    one: store::ClaimedWork,
) -> Result<Option<RunnerCall>, ApiError> {
    let call = ClaimedCall { id: one.id, claim: claim.to_owned() };
    match runner_work(node, &one.sealed) {
        Ok(work) => Ok(Some(RunnerCall { id: call.id, claim: call.claim, work })),
        Err(failure) => {
            let said = RunnerReport { result: RunnerResult::Failed(failure.into()), answer: None };
            let sealed = seal_result(node, &said).map_err(|_| ApiError::Internal)?;
            store::end(&node.pools.work, runner, &call, sealed).await?;
            Ok(None)
        }
    }
}

fn must_be_few(calls: usize) -> Result<(), ApiError> {
    match calls <= MOST {
        true => Ok(()),
        false => Err(ApiError::BadRequest(format!("calls: {MOST} at most"))),
    }
}

/// Begins calls before anything is sent; only those that are told of may be made.
#[utoipa::path(operation_id = "beginCalls", tag = "runner", request_body = RunnerBegin,
    responses((status = 200, body = CallNumbers), (status = 401, body = Problem)))]
#[post("/begin")]
pub(super) async fn begin_calls(
    node: web::Data<Node>,
    runner: RunnerCaller,
    body: web::Json<RunnerBegin>,
) -> Result<web::Json<CallNumbers>, ApiError> {
    must_be_few(body.calls.len())?;
    let calls = store::begin(&node.pools.work, &runner.0.name, &body.calls).await?;
    Ok(web::Json(CallNumbers { calls }))
}

/// Calls go on, and what they have written is shown; those that are told of are over, for nobody
/// waits for them any more.
#[utoipa::path(operation_id = "beatCalls", tag = "runner", request_body = RunnerBeat,
    responses((status = 200, body = CallNumbers), (status = 401, body = Problem)))]
#[post("/beat")]
pub(super) async fn beat_calls(
    node: web::Data<Node>,
    runner: RunnerCaller,
    body: web::Json<RunnerBeat>,
) -> Result<web::Json<CallNumbers>, ApiError> {
    must_be_few(body.calls.len())?;
    let going_on = store::beat(&node.pools.work, &runner.0.name, &body.calls).await?;
    for one in &going_on {
        let beat = body.calls.iter().find(|beat| beat.call.id == one.id);
        if let Some(beat) = beat {
            show(&node, one, beat).await;
        }
    }
    let is_over = |id: &i64| !going_on.iter().any(|one| one.id == *id);
    let calls = body.calls.iter().map(|beat| beat.call.id).filter(is_over).collect();
    Ok(web::Json(CallNumbers { calls }))
}

/// Shows what the call of a step has written.
async fn show(node: &Node, one: &store::GoingOn, beat: &CallBeat) {
    let (Some(lines), Some(job), Some(place), Some(attempt)) =
        (&beat.lines, one.job_id, &one.place, one.attempt)
    else {
        return;
    };
    let attempt = u32::try_from(attempt).unwrap_or_default();
    let call = LiveCall { job: JobId(job), place: Place::new(place.as_str()), attempt };
    let text = last_lines(&node.published().redactor.text(lines));
    match live_output::put(&node.pools.work, &call, &text, beat.line_count).await {
        Ok(()) => node.announcer.tell(Change { jobs: vec![job], ..Change::default() }),
        Err(e) => tracing::debug!(job, "its output is not shown: {e}"),
    }
}

/// Ends a call with what came of it. Of a claim that has gone nothing is taken.
#[utoipa::path(operation_id = "endCall", tag = "runner", request_body = RunnerEnd,
    responses((status = 204), (status = 401, body = Problem), (status = 409, body = Problem)))]
#[post("/end")]
pub(super) async fn end_call(
    node: web::Data<Node>,
    runner: RunnerCaller,
    body: web::Json<RunnerEnd>,
) -> Result<HttpResponse, ApiError> {
    let RunnerEnd { call, result, answer } = body.into_inner();
    let sealed = seal_result(&node, &RunnerReport { result, answer }).map_err(|e| {
        tracing::error!("{e}");
        ApiError::Internal
    })?;
    match store::end(&node.pools.work, &runner.0.name, &call, sealed).await? {
        true => Ok(HttpResponse::NoContent().finish()),
        false => Err(ApiError::Conflict(format!(
            "call {} is not this runner's any more; nothing of it is recorded",
            call.id
        ))),
    }
}
