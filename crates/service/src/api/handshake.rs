//! How senders ask whether they may post: by `GET /in/{source}` or a message of their own, as the
//! source says, and by `OPTIONS /in/{source}`, as CloudEvents' *HTTP 1.1 Web Hooks* (section 4) has
//! it.

use super::{ApiError, heartbeats, refusals, sender::headers};
use crate::node::{Node, Published};
use actix_web::{
    HttpRequest, HttpResponse, get, head,
    http::header::{self, HeaderName, HeaderValue},
    options, route, web,
};
use arvok_core::source::{HandshakeRequest, Intake, Source};
use serde_json::{Map, Value};
use std::{collections::BTreeMap, time::Instant};

/// Longest name of a sender that is given back.
const LONGEST_ORIGIN: usize = 300;
/// Who asks whether it may post, and how many requests a minute; and what it is told.
const REQUEST_ORIGIN: &str = "webhook-request-origin";
const REQUEST_RATE: &str = "webhook-request-rate";
const ALLOWED_ORIGIN: HeaderName = HeaderName::from_static("webhook-allowed-origin");
const ALLOWED_RATE: HeaderName = HeaderName::from_static("webhook-allowed-rate");

/// Answers a sender that asks by a request without a body. Nothing is taken, so it need not prove
/// who it is; it gets back what it has sent.
#[get("/in/{source}")]
pub(super) async fn by_query(
    node: web::Data<Node>,
    name: web::Path<String>,
    request: HttpRequest,
) -> Result<HttpResponse, ApiError> {
    if let Some(taken) = heartbeats::of_source(&node, &name, &request).await {
        return taken;
    }
    with_source(&node, &name, |source| {
        let source =
            source.filter(|source| source.intake.handshake().is_some()).ok_or_else(only)?;
        admitted(source, &request)?;
        answer(source, &request, None).unwrap_or_else(|| Err(only()))
    })
    .await
}

/// Lets a sender of CloudEvents post here.
#[options("/in/{source}")]
pub(super) async fn by_options(
    node: web::Data<Node>,
    name: web::Path<String>,
    request: HttpRequest,
) -> Result<HttpResponse, ApiError> {
    let asks = |name: &str| {
        let value = request.headers().get(name)?;
        (value.len() <= LONGEST_ORIGIN).then(|| value.clone())
    };
    let Some(origin) = asks(REQUEST_ORIGIN) else { return Err(only()) };
    with_source(&node, &name, |source| {
        let is_it = |source: &&Source| matches!(source.intake, Intake::CloudEvents(_));
        let source = source.filter(is_it).ok_or_else(only)?;
        admitted(source, &request)?;
        // What comes too fast is told so when it comes.
        let rate = asks(REQUEST_RATE).unwrap_or_else(|| HeaderValue::from_static("*"));
        let mut answer = HttpResponse::Ok();
        answer.insert_header((header::ALLOW, "POST"));
        Ok(answer
            .insert_header((ALLOWED_ORIGIN, origin.clone()))
            .insert_header((ALLOWED_RATE, rate))
            .finish())
    })
    .await
}

/// Hears the only sender of a source that asks whether there is a page, and wants none of it.
#[head("/in/{source}")]
pub(super) async fn by_head(
    node: web::Data<Node>,
    name: web::Path<String>,
    request: HttpRequest,
) -> Result<HttpResponse, ApiError> {
    heartbeats::of_source(&node, &name, &request).await.unwrap_or_else(|| Err(only()))
}

/// Other methods of the door.
#[route("/in/{source}", method = "PUT", method = "PATCH", method = "DELETE")]
pub(super) async fn only_post() -> Result<HttpResponse, ApiError> {
    Err(only())
}

/// The answer to what comes, if it is the question of the source's handshake.
pub(super) fn answer(
    source: &Source,
    request: &HttpRequest,
    raw: Option<&[u8]>,
) -> Option<Result<HttpResponse, ApiError>> {
    let (webhook, handshake) = source.intake.handshake()?;
    let body = match raw {
        Some(raw) => Some(webhook.first_body(raw)?),
        None => None,
    };
    let headers = headers(request, &webhook.http);
    let query = web::Query::<BTreeMap<String, String>>::from_query(request.query_string());
    let query = query.map(web::Query::into_inner).unwrap_or_default();
    let query = query.into_iter().map(|(name, value)| (name, Value::String(value)));
    let query = Value::Object(query.collect::<Map<_, _>>());
    let asks = HandshakeRequest { body: body.as_ref(), headers: &headers, query: &query };
    Some(match handshake.answer(&asks)? {
        // Whatever was sent comes back: no browser may take it for a page.
        Ok(Value::String(text)) => {
            Ok(HttpResponse::Ok().content_type("text/plain; charset=utf-8").body(text))
        }
        Ok(value) => Ok(HttpResponse::Ok().json(value)),
        Err(why) => Err(ApiError::BadRequest(why)),
    })
}

/// Asks what is published for a source; once more, if another node may know more of it.
async fn with_source(
    node: &Node,
    name: &str,
    ask: impl Fn(Option<&Source>) -> Result<HttpResponse, ApiError>,
) -> Result<HttpResponse, ApiError> {
    let came = Instant::now();
    let ask = |published: &Published| ask(published.catalog.get(name).map(|(source, _)| source));
    let published = node.published();
    let answer = ask(&published);
    match answer.is_err() && node.catch_up(&published, came).await {
        true => ask(&node.published()),
        false => answer,
    }
}

/// Whether the sender may come from where it comes from.
fn admitted(source: &Source, request: &HttpRequest) -> Result<(), ApiError> {
    let peer = request.peer_addr().map(|peer| peer.ip());
    match source.intake.http().is_none_or(|http| http.admits(peer)) {
        true => Ok(()),
        false => Err(ApiError::From(refusals::from(request))),
    }
}

fn only() -> ApiError {
    ApiError::Method("POST".into())
}
