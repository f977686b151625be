//! Who is asking: a bearer token, or the console's cookie.

use super::{ApiError, refusals};
use crate::{clock, node::Node};
use actix_web::{
    Error, FromRequest, HttpMessage, HttpRequest,
    body::{BoxBody, MessageBody},
    dev::{Payload, ServiceRequest, ServiceResponse},
    http::{Method, header},
    middleware::Next,
    web,
};
use arvok_api::Who;
use arvok_core::{Principal, Role, TRACEPARENT, TraceContext};
use arvok_store::access;
use base64::{Engine, engine::general_purpose::STANDARD};
use std::{future::Future, pin::Pin, time::Duration};

/// The cookie of the console. The prefix makes browsers insist on its being secure and bound to
/// this very host.
pub(super) const COOKIE: &str = "__Host-arvok";

/// The requests with a body that need nobody known: a token or a link is in the body.
const STRANGERS: [&str; 3] =
    ["/api/v1/session", "/api/v1/decisions/link", "/api/v1/decisions/link/take"];

/// A caller who is known.
pub(super) struct Caller(pub Who);

/// By which way a request comes, as it is recorded of a decision.
pub(super) fn way(request: &HttpRequest) -> &'static str {
    let agent =
        request.headers().get(header::USER_AGENT).and_then(|a| a.to_str().ok()).unwrap_or_default();
    match bearer(request) {
        None => "console",
        Some(_) if agent.starts_with("arvok/") => "command",
        Some(_) => "api",
    }
}

impl Caller {
    /// Who it is, for the records.
    pub fn principal(&self) -> Principal {
        Principal::token(&self.0.name)
    }

    /// Insists on a role.
    pub fn must(&self, needed: Role) -> Result<(), ApiError> {
        if self.0.role >= needed { Ok(()) } else { Err(ApiError::role(needed, self.0.role)) }
    }
}

/// The text behind `Authorization: Bearer`.
pub(super) fn bearer(request: &HttpRequest) -> Option<&str> {
    let value = request.headers().get(header::AUTHORIZATION)?.to_str().ok()?;
    let (scheme, token) = value.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then(|| token.trim())
}

/// The trace that a request belongs to (W3C Trace Context), where it names one.
pub(super) fn trace(request: &HttpRequest) -> Option<TraceContext> {
    TraceContext::parse(request.headers().get(TRACEPARENT)?.to_str().ok()?)
}

/// Name and password behind `Authorization: Basic` (RFC 7617), with the colon between them.
pub(super) fn basic(request: &HttpRequest) -> Option<String> {
    let value = request.headers().get(header::AUTHORIZATION)?.to_str().ok()?;
    let (scheme, encoded) = value.split_once(' ')?;
    let decoded =
        STANDARD.decode(encoded.trim()).ok().filter(|_| scheme.eq_ignore_ascii_case("basic"))?;
    String::from_utf8(decoded).ok()
}

impl FromRequest for Caller {
    type Error = ApiError;
    type Future = Pin<Box<dyn Future<Output = Result<Self, ApiError>>>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let request = request.clone();
        Box::pin(async move {
            if let Some(who) = request.extensions().get::<Who>() {
                return Ok(Self(who.clone()));
            }
            let who = authenticate(&request).await?;
            request.extensions_mut().insert(who.clone());
            Ok(Self(who))
        })
    }
}

/// Whether what a request showed when it was let in still stands. A database that cannot be asked
/// ends nothing.
pub(super) async fn still_known(request: &HttpRequest) -> bool {
    !matches!(authenticate(request).await, Err(ApiError::BadToken | ApiError::NoToken))
}

/// Who is asking, where one may ask without signing in as well.
pub(super) async fn signed_in(request: &HttpRequest) -> Option<Caller> {
    authenticate(request).await.ok().map(Caller)
}

/// Who is asking.
async fn authenticate(request: &HttpRequest) -> Result<Who, ApiError> {
    let node = request.app_data::<web::Data<Node>>().ok_or(ApiError::Internal)?;
    if let Some(token) = bearer(request) {
        let known = access::by_token(&node.pools.questions, token).await?;
        return known.map(|(_, who)| who).ok_or_else(|| {
            refusals::refused(node, request, "request.refused", "an unknown token");
            ApiError::BadToken
        });
    }
    let cookie = request.cookie(COOKIE).ok_or(ApiError::NoToken)?;
    let who = access::by_session(&node.pools.questions, cookie.value(), clock::now())
        .await?
        .ok_or(ApiError::BadToken)?;
    // A foreign page can send the cookie's owner here, but cannot set this header.
    let reads = matches!(*request.method(), Method::GET | Method::HEAD);
    if !reads && !request.headers().contains_key("x-arvok-console") {
        return Err(ApiError::CrossSite);
    }
    Ok(who)
}

/// Longest time of a request with a body, from its head to the head of its answer.
const WHOLE: Duration = Duration::from_secs(60);
/// The same for whoever is not known.
const SIGNING_IN: Duration = Duration::from_secs(10);

/// Asks who it is before anything of a body is read, and does not wait for a body for ever. What
/// could not be a part of any record is refused here.
pub(crate) async fn before_the_body(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<BoxBody>, Error> {
    let odd = [request.path(), request.query_string()].into_iter().find(|p| p.contains("%00"));
    if let Some(shown) = odd.map(|part| arvok_core::text::cut(part, 80).to_owned()) {
        return Ok(request.error_response(ApiError::BadRequest(format!(
            "{shown}: the character U+0000 is not allowed"
        ))));
    }
    let reads = matches!(*request.method(), Method::GET | Method::HEAD | Method::OPTIONS);
    if reads {
        return next.call(request).await.map(ServiceResponse::map_into_boxed_body);
    }
    let signs_in = STRANGERS.contains(&request.path()) && *request.method() == Method::POST;
    if !signs_in {
        let caller = authenticate(request.request()).await;
        match caller {
            Ok(who) => drop(request.extensions_mut().insert(who)),
            Err(e) => return Ok(request.error_response(e)),
        }
    }
    match tokio::time::timeout(if signs_in { SIGNING_IN } else { WHOLE }, next.call(request)).await
    {
        Ok(answer) => answer.map(ServiceResponse::map_into_boxed_body),
        Err(_) => Err(ApiError::Slow.into()),
    }
}
