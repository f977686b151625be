//! `POST /in/{source}`: the door for alerts.

use super::{ApiError, MAX_BODY, caller::bearer};
use crate::{
    clock,
    intake::{NotTaken, deliver},
    metrics::SourceLabel,
    node::{Node, Published, SecretScope},
    random,
};
use actix_web::{HttpRequest, HttpResponse, http::header, post, web};
use arvok_api::{Problem, Role, Taken};
use arvok_core::Kind;
use arvok_core::{
    alert::{clean_json, cut},
    document::nearest,
    read::{Payload, ReadOutcome, Source},
};
use arvok_store::{access, intake as store};
use serde_json::{Map, Value};
use subtle::ConstantTimeEq;

/// The content type of a body that is in the normal form whatever the source's own lines say.
const NORMAL: &str = "application/vnd.arvok.alert+json";
/// Bytes of an unreadable payload that are kept.
const KEPT: usize = 64 << 10;
/// Headers that are kept from expressions and records.
const HIDDEN: [&str; 4] = ["authorization", "cookie", "proxy-authorization", "x-api-key"];

/// Takes a payload of a source, and answers when its alerts are recorded and decided upon.
///
/// Shown must be the source's own credential, or a token with the role author. A payload that
/// cannot be read is kept and answered with 422.
#[utoipa::path(operation_id = "takeAlerts", tag = "alerts", request_body = Object, responses(
    (status = 202, body = Taken), (status = 401, body = Problem), (status = 404, body = Problem),
    (status = 413, body = Problem), (status = 422, body = Problem), (status = 429, body = Problem),
    (status = 503, body = Problem)))]
#[post("/in/{source}")]
pub(super) async fn take(
    node: web::Data<Node>,
    name: web::Path<String>,
    request: HttpRequest,
    body: Result<web::Bytes, actix_web::Error>,
) -> Result<HttpResponse, ApiError> {
    let published = node.published();
    let source = known(&node, &published, &name, &request).await?;
    let body = body.map_err(|_| ApiError::TooLarge(MAX_BODY))?;
    let outcome = match read(source, &request, &body) {
        Ok(outcome) => outcome,
        Err(reason) => return Err(keep(&node, &name, &reason, &body).await?),
    };
    let alerts = deliver(&node, outcome.alerts).await.map_err(|e| match e {
        NotTaken::Full => ApiError::Busy,
        NotTaken::Store => ApiError::Unavailable,
    })?;
    Ok(HttpResponse::Accepted().json(Taken { alerts, left_out: outcome.left_out }))
}

/// The source, once the sender has shown what it must.
async fn known<'a>(
    node: &Node,
    published: &'a Published,
    name: &str,
    request: &HttpRequest,
) -> Result<&'a Source, ApiError> {
    let shown = bearer(request).ok_or(ApiError::NoToken)?;
    let source = published.catalog.source(name);
    let scope = SecretScope { secrets: &published.secrets, settings: &node.settings };
    if let Some(source) = source {
        match scope.fill(&source.bearer) {
            Ok(wanted) if bool::from(wanted.as_bytes().ct_eq(shown.as_bytes())) => return Ok(source),
            Ok(_) => {}
            Err(e) => tracing::warn!(source = name, "the credential cannot be opened: {e}"),
        }
    }
    let (_, who) = access::by_token(&node.db, shown).await?.ok_or(ApiError::BadToken)?;
    if who.role < Role::Author {
        return Err(ApiError::role(Role::Author, who.role));
    }
    source.ok_or_else(|| {
        let known = published.catalog.entries(Kind::Source).map(|e| e.name.as_str());
        let hint = nearest(name, known).map_or_else(String::new, |n| format!("; did you mean `{n}`?"));
        ApiError::NotFound(format!("source `{}`{hint}", cut(name, 64)))
    })
}

fn read(source: &Source, request: &HttpRequest, body: &[u8]) -> Result<ReadOutcome, String> {
    let json: Value = serde_json::from_slice(body).map_err(|e| format!("is not JSON: {e}"))?;
    let json = clean_json(json);
    let headers: Map<String, Value> = request
        .headers()
        .iter()
        .filter(|(name, _)| !HIDDEN.contains(&name.as_str()))
        .filter_map(|(name, value)| Some((name.to_string(), Value::from(value.to_str().ok()?))))
        .collect();
    let content_type = request.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    let payload = Payload {
        body: &json,
        headers: &Value::Object(headers),
        received: clock::now(),
        fallback_id: &random::id(),
        normal: content_type.split(';').next().is_some_and(|t| t.trim().eq_ignore_ascii_case(NORMAL)),
    };
    source.read(payload).map_err(|e| e.to_string())
}

async fn keep(node: &Node, source: &str, reason: &str, body: &[u8]) -> Result<ApiError, ApiError> {
    let text = String::from_utf8_lossy(body);
    let reason = node.published().redactor.text(reason);
    let payload = node.published().redactor.text(cut(&text, KEPT));
    let id = store::keep_unreadable(&node.db, source, clock::now(), &reason, &payload).await?;
    node.metrics.unreadable.get_or_create(&SourceLabel { source: source.to_owned() }).inc();
    Ok(ApiError::Unreadable { id, reason })
}
