//! `GET` and `POST /in/{source}/{name}`: senders that say that they are alive.

use super::{
    ApiError,
    sender::{Sender, believe, note_refused, proved},
};
use crate::{
    heartbeats::{self, HeartbeatOutcome},
    node::{Node, Published},
};
use actix_web::{HttpRequest, HttpResponse, get, head, http::StatusCode, post, web};
use arvok_api::{HeartbeatAnswer, PostedAnswer, Problem};
use arvok_core::{
    Trial,
    source::{Heartbeat, Source},
};
use std::{cell::OnceCell, time::Instant};

/// Takes a heartbeat of one of several senders of a source.
///
/// Shown must be a credential of the source's own; a signature is that of an empty body. With a
/// token it is a trial, of which nothing is noted, or real (`trial=no`, for the role author).
#[utoipa::path(operation_id = "takeHeartbeat", tag = "alerts", responses(
    (status = 200, body = HeartbeatAnswer), (status = 202, body = HeartbeatAnswer), (status = 400,
        body = Problem), (status = 401, body = Problem), (status = 403, body = Problem),
    (status = 404, body = Problem), (status = 409, body = Problem), (status = 429, body = Problem), (status = 503,
        body = Problem)))]
#[post("/in/{source}/{name}")]
pub(super) async fn by_post(
    node: web::Data<Node>,
    path: web::Path<(String, String)>,
    request: HttpRequest,
) -> Result<HttpResponse, ApiError> {
    named(&node, &path.0, Some(&path.1), &request).await
}

/// The same for senders that can only ask for a page.
#[utoipa::path(operation_id = "takeHeartbeatByGet", tag = "alerts", responses(
    (status = 200, body = HeartbeatAnswer), (status = 202, body = HeartbeatAnswer), (status = 400,
        body = Problem), (status = 401, body = Problem), (status = 403, body = Problem),
    (status = 404, body = Problem), (status = 409, body = Problem), (status = 429, body = Problem), (status = 503,
        body = Problem)))]
#[get("/in/{source}/{name}")]
pub(super) async fn by_get(
    node: web::Data<Node>,
    path: web::Path<(String, String)>,
    request: HttpRequest,
) -> Result<HttpResponse, ApiError> {
    named(&node, &path.0, Some(&path.1), &request).await
}

/// The same for those that ask whether there is a page, and want none of it.
#[head("/in/{source}/{name}")]
pub(super) async fn by_head(
    node: web::Data<Node>,
    path: web::Path<(String, String)>,
    request: HttpRequest,
) -> Result<HttpResponse, ApiError> {
    named(&node, &path.0, Some(&path.1), &request).await
}

/// Takes the heartbeat of the only sender of a source; none if it is no source of heartbeats.
pub(super) async fn of_source(
    node: &web::Data<Node>,
    source: &str,
    request: &HttpRequest,
) -> Option<Result<HttpResponse, ApiError>> {
    let published = node.published();
    published.catalog.get::<Source>(source)?.0.intake.heartbeat()?;
    Some(named(node, source, None, request).await)
}

async fn named(
    node: &web::Data<Node>,
    source: &str,
    name: Option<&str>,
    request: &HttpRequest,
) -> Result<HttpResponse, ApiError> {
    let came = Instant::now();
    let (published, newer) = (node.published(), OnceCell::new());
    let (standing, sender) = proved(node, (&published, &newer), (source, request), came).await?;
    let Sender { source, trial, signed_by, .. } = sender;
    if !signed_by.is_empty() {
        let refuse = |e: &ApiError| note_refused(node, request, (standing, &source.name), e);
        believe(request, &signed_by, &[]).inspect_err(refuse)?;
    }
    let Some(heartbeat) = source.intake.heartbeat() else {
        let intake = source.intake.word();
        return Err(ApiError::NotFound(format!(
            "path under the source {}: it takes no heartbeats, its alerts come by {intake}",
            source.name
        )));
    };
    take(node, standing, (source, heartbeat), name.unwrap_or(&source.name), trial).await
}

/// Takes the heartbeat of a sender.
pub(super) async fn take(
    node: &Node,
    published: &Published,
    (source, heartbeat): (&Source, &Heartbeat),
    name: &str,
    trial: Option<Trial>,
) -> Result<HttpResponse, ApiError> {
    if !Heartbeat::is_name(name) {
        return Err(ApiError::BadRequest(
            "a sender of heartbeats has a name of 1 to 100 letters, digits, `.`, `-` and `_`"
                .into(),
        ));
    }
    if let Some(wait) = node.source_limits.over(source) {
        return Err(ApiError::over_limit(source, wait));
    }
    node.source_limits.count(source, 1);
    let mut answer = HeartbeatAnswer {
        heartbeat: source.name.clone(),
        name: name.to_owned(),
        noted: trial.is_none(),
        was_missing: false,
    };
    if trial.is_none() {
        match heartbeats::hear(node, published, (source, heartbeat), name).await? {
            HeartbeatOutcome::Alive => {}
            HeartbeatOutcome::Back => answer.was_missing = true,
            HeartbeatOutcome::TooMany => {
                return Err(ApiError::Conflict(format!(
                    "{} has as many senders as one source may have, {}",
                    source.name,
                    heartbeats::MOST
                )));
            }
        }
    }
    let status = StatusCode::from_u16(heartbeat.http.answer).unwrap_or(StatusCode::ACCEPTED);
    Ok(HttpResponse::build(status).json(PostedAnswer::Heartbeat(answer)))
}
