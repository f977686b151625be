//! `POST /in/{source}`: the door of what is posted, in any form or as CloudEvents. It knows the
//! sender, weighs the payload and hands it to the one way in.

use super::{
    ApiError, MAX_BODY, body, handshake, heartbeats,
    sender::{Sender, believe, headers, note_refused, proved},
};
use crate::{
    admission::Admission,
    intake::{ReceivedMessage, accept},
    node::Node,
};
use actix_web::{
    HttpRequest, HttpResponse,
    http::{StatusCode, header},
    routes, web,
};
use arvok_api::{PostedAnswer, Problem};
use arvok_core::source::{HEADERS, Source};
use serde_json::Map;
use std::{cell::OnceCell, time::Instant};

/// The content type of a body that is in the normal form whatever the source's own lines say.
const NORMAL: &str = "application/vnd.arvok.alert+json";

/// Takes a payload of a source, and answers when its alerts are recorded and decided upon.
///
/// Shown must be a credential of the source's own, or a token; it is asked for before the body is
/// read. Where that is a signature, it is compared once the body is there. What comes with a token
/// is a trial (`trial=dry`), for which the role responder is enough: it is marked wherever it is
/// seen, and nothing that changes anything leaves for it. With the role author it may be one that
/// acts (`trial=acting`), or be real (`trial=no`). With the source's own credential it is real
/// unless it says `trial=dry`. A source whose sender needs it answers 200 instead of 202. Of
/// several alerts those that can be read are taken, the others are kept and named in the answer. A
/// payload of which nothing can be read is kept and answered with 422. What a sender asks by a
/// handshake is answered with 200 and as its source says; a source of heartbeats answers what it
/// has noted.
#[utoipa::path(operation_id = "takeAlerts", tag = "alerts", request_body = Object, responses(
    (status = 200, body = PostedAnswer), (status = 202, body = PostedAnswer), (status = 400,
        body = Problem), (status = 401, body = Problem), (status = 403, body = Problem),
    (status = 404, body = Problem), (status = 408, body = Problem), (status = 409, body = Problem),
    (status = 413, body = Problem),
    (status = 422, body = Problem), (status = 429, body = Problem), (status = 503,
        body = Problem)))]
#[routes]
#[post("/in/{source}")]
#[post("/in/{source}/")]
pub(super) async fn receive(
    node: web::Data<Node>,
    name: web::Path<String>,
    request: HttpRequest,
    payload: web::Payload,
) -> Result<HttpResponse, ApiError> {
    let came = Instant::now();
    let (published, newer) = (node.published(), OnceCell::new());
    let (standing, sender) = proved(&node, (&published, &newer), (&name, &request), came).await?;
    let refuse = |e: &ApiError| note_refused(&node, &request, (standing, &name), e);
    let Sender { source, http, trial, signed_by } = sender;
    if let Some(wait) = node.source_limits.over(source) {
        return Err(ApiError::over_limit(source, wait));
    }
    let key = key(&request)?;
    let mut admission = admit(&node, source, &request)?;
    let raw = body::read_charged(payload, MAX_BODY, &mut admission).await.inspect_err(|e| {
        if matches!(e, ApiError::Busy) {
            node.metrics.intake.refused.inc();
        }
    })?;
    if !signed_by.is_empty() {
        believe(&request, &signed_by, &raw).inspect_err(refuse)?;
    }
    if let Some(heartbeat) = source.intake.heartbeat() {
        let name = &source.name;
        return heartbeats::take(&node, standing, (source, heartbeat), name, trial).await;
    }
    if let Some(answer) = handshake::answer(source, &request, Some(&raw)) {
        return answer;
    }
    let properties = Map::from_iter([(HEADERS.to_owned(), headers(&request, http))]);
    let message =
        ReceivedMessage { raw: &raw, properties, normal: is_normal(&request), key, trial };
    let taken = accept(&node, standing, source, message, admission).await?;
    let status = StatusCode::from_u16(http.answer).unwrap_or(StatusCode::ACCEPTED);
    Ok(HttpResponse::build(status).json(PostedAnswer::Alerts(taken)))
}

/// A place among what is under way; what the head announces is only looked at to refuse what is too
/// large.
fn admit(node: &Node, source: &Source, request: &HttpRequest) -> Result<Admission, ApiError> {
    let length =
        request.headers().get(header::CONTENT_LENGTH).and_then(|v| v.to_str().ok()?.parse().ok());
    if length.is_some_and(|length: usize| length > MAX_BODY) {
        return Err(ApiError::TooLarge(MAX_BODY));
    }
    node.admission.admit(&source.name, 0).ok_or_else(|| {
        node.metrics.intake.refused.inc();
        ApiError::Busy
    })
}

/// A key of the sender's by which what it sends again is known (`Idempotency-Key`): it stands for
/// the id of what has none of its own. One that cannot do so is refused: ignored, it would let
/// everything in twice.
fn key(request: &HttpRequest) -> Result<Option<String>, ApiError> {
    let Some(key) = request.headers().get("idempotency-key") else { return Ok(None) };
    let fits = |key: &&str| {
        !key.is_empty() && key.len() <= 100 && key.bytes().all(|b| b.is_ascii_graphic())
    };
    match key.to_str().ok().filter(fits) {
        Some(key) => Ok(Some(key.to_owned())),
        None => Err(ApiError::BadRequest(
            "Idempotency-Key: 1 to 100 visible characters of ASCII".into(),
        )),
    }
}

fn is_normal(request: &HttpRequest) -> bool {
    let content_type = request
        .headers()
        .get(header::CONTENT_TYPE)
        .and_then(|v| v.to_str().ok())
        .unwrap_or_default();
    content_type.split(';').next().is_some_and(|t| t.trim().eq_ignore_ascii_case(NORMAL))
}
