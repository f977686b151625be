//! `POST /in/{source}`: the door for alerts.

use super::{
    ApiError, MAX_BODY, body,
    caller::{Caller, basic, bearer},
};
use crate::{
    clock,
    door::{Admission, KEPT, NotTaken},
    intake::deliver,
    metrics::LineLabel,
    node::{Node, Published, SecretScope},
    random,
};
use actix_web::{
    HttpRequest, HttpResponse,
    http::{StatusCode, header},
    post, routes, web,
};
use arvok_api::{KeptItem, Problem, Retried, RetryRequest, Role, Taken};
use arvok_core::{
    Kind,
    bounds::{depth_complaint, too_deep},
    connector::{Credential, Opened},
    read::{Payload, ReadOutcome, Source},
    text::{clean_json, cut, nearest},
};
use arvok_store::{
    Class, access,
    entity::unreadable,
    intake::{Parcel, Strange},
    read as rows,
};
use chrono::{DateTime, Utc};
use serde_json::{Map, Value};
use subtle::ConstantTimeEq;

/// The content type of a body that is in the normal form whatever the source's own lines say.
const NORMAL: &str = "application/vnd.arvok.alert+json";
/// Headers that are kept from expressions and records.
const HIDDEN: [&str; 4] = ["authorization", "cookie", "proxy-authorization", "x-api-key"];

/// Takes a payload of a source, and answers when its alerts are recorded and decided upon.
///
/// Shown must be the source's own credential, or a token with the role author; it is asked for
/// before the body is read. A source whose sender needs it answers 200 instead of 202. Of several alerts those that can be read are taken, the others are kept
/// and named in the answer. A payload of which nothing can be read is kept and answered with 422.
#[utoipa::path(operation_id = "takeAlerts", tag = "alerts", request_body = Object, responses(
    (status = 200, body = Taken), (status = 202, body = Taken), (status = 401, body = Problem), (status = 403, body = Problem),
    (status = 404, body = Problem), (status = 408, body = Problem), (status = 413, body = Problem),
    (status = 422, body = Problem), (status = 429, body = Problem), (status = 503, body = Problem)))]
#[routes]
#[post("/in/{source}")]
#[post("/in/{source}/")]
pub(super) async fn take(
    node: web::Data<Node>,
    name: web::Path<String>,
    request: HttpRequest,
    payload: web::Payload,
) -> Result<HttpResponse, ApiError> {
    let published = node.published();
    let source = known(&node, &published, &name, &request).await?;
    let admission = admit(&node, &request)?;
    let body = body::read(payload, MAX_BODY).await?;
    let received = clock::now();
    let strange = |reason: String, text: &str, item: bool| {
        let redactor = &published.redactor;
        Strange { reason: redactor.text(&reason), payload: redactor.text(cut(text, KEPT)), item }
    };
    let mut parcel = Parcel { source: name.clone(), received, ..Parcel::default() };
    let mut left_out = 0;
    let mut items = Vec::new();
    match read(source, &request, &body, received) {
        Ok(outcome) => {
            parcel.alerts = outcome.alerts;
            left_out = outcome.left_out;
            for (line, times) in outcome.absent {
                let label = LineLabel { source: name.clone(), line };
                node.metrics.absent.get_or_create(&label).inc_by(times);
            }
            for (why, item) in outcome.unreadable {
                items.push(why.item);
                parcel.strange.push(strange(why.to_string(), &item.to_string(), true));
            }
        }
        Err(reason) => parcel.strange.push(strange(reason, &String::from_utf8_lossy(&body), false)),
    }
    drop(body);
    let nothing = parcel.alerts.is_empty() && left_out == 0;
    let reasons: Vec<String> = parcel.strange.iter().map(|s| s.reason.clone()).collect();
    let taken = deliver(&node, parcel, admission).await.map_err(|e| match e {
        NotTaken::Store => ApiError::Unavailable,
        NotTaken::Strange { id, reason } => ApiError::Unreadable { id, reason },
    })?;
    let mut kept = taken.kept.into_iter().zip(reasons);
    if nothing && let Some((id, reason)) = kept.next() {
        return Err(ApiError::Unreadable { id, reason });
    }
    let unreadable = items.into_iter().zip(kept).map(|(item, (id, reason))| KeptItem { id, item, reason }).collect();
    let status = StatusCode::from_u16(source.answer).unwrap_or(StatusCode::ACCEPTED);
    Ok(HttpResponse::build(status).json(Taken { alerts: taken.alerts, left_out, unreadable }))
}

/// Payloads of one call.
const RETRIED: usize = 100;

/// Reads payloads of a source again that could not be read before, by its lines as they are published
/// now. What can be read is taken as if it came now, and is kept as unreadable no longer; asking twice
/// takes nothing twice.
#[utoipa::path(operation_id = "retryUnreadable", tag = "alerts", request_body = RetryRequest,
    responses((status = 200, body = Retried), (status = 400, body = Problem), (status = 403, body = Problem),
        (status = 404, body = Problem), (status = 429, body = Problem), (status = 503, body = Problem)))]
#[post("/unreadable/retry")]
pub(super) async fn retry(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<RetryRequest>,
) -> Result<web::Json<Retried>, ApiError> {
    caller.must(Role::Author)?;
    let published = node.published();
    let (source, _) = published.catalog.get::<Source>(&body.source).ok_or_else(|| unknown(&published, &body.source))?;
    let found = rows::unreadable_from(&node.db, &body.source, body.after.unwrap_or(0), RETRIED as u64).await?;
    let mut retried =
        Retried { next: found.last().map(|u| u.id).filter(|_| found.len() == RETRIED), ..Retried::default() };
    for kept in found {
        match again(&node, source, &kept).await? {
            Ok(alerts) => {
                retried.read += 1;
                retried.alerts += alerts;
                rows::forget_unreadable(&node.db, kept.id).await?;
            }
            Err(reason) => {
                retried.still.push(KeptItem { id: kept.id, item: None, reason: published.redactor.text(&reason) })
            }
        }
    }
    Ok(web::Json(retried))
}

/// Takes a payload that was kept; how many alerts came of it, or why it still cannot be read.
async fn again(node: &Node, source: &Source, kept: &unreadable::Model) -> Result<Result<u64, String>, ApiError> {
    let json: Value = match serde_json::from_str(&kept.payload) {
        Ok(json) if too_deep(&json) => return Ok(Err(depth_complaint())),
        Ok(json) => clean_json(json),
        Err(_) if kept.payload.len() + 4 > KEPT => {
            return Ok(Err("was cut when it was kept; have it sent again".into()));
        }
        Err(e) => return Ok(Err(format!("is not JSON: {e}"))),
    };
    let received = clock::now();
    // The same id each time, so that a second try after a death takes nothing twice.
    let fallback_id = format!("unreadable-{}", kept.id);
    let headers = Value::Object(Map::new());
    let payload = Payload { body: &json, headers: &headers, received, fallback_id: &fallback_id, normal: false };
    let outcome = if kept.item { source.read_item(payload) } else { source.read(payload) };
    let outcome = match outcome {
        Ok(outcome) if outcome.unreadable.is_empty() => outcome,
        Ok(outcome) => return Ok(Err(outcome.unreadable.first().map(|(why, _)| why.to_string()).unwrap_or_default())),
        Err(why) => return Ok(Err(why.to_string())),
    };
    let admission = node.door.admit(kept.payload.len()).ok_or(ApiError::Busy)?;
    let parcel = Parcel { source: source.name.clone(), received, alerts: outcome.alerts, strange: Vec::new() };
    match deliver(node, parcel, admission).await {
        Ok(taken) => Ok(Ok(taken.alerts.iter().filter(|a| !a.duplicate).count() as u64)),
        Err(NotTaken::Store) => Err(ApiError::Unavailable),
        Err(NotTaken::Strange { reason, .. }) => Ok(Err(reason)),
    }
}

/// Other methods of the door.
#[actix_web::route(
    "/in/{source}",
    method = "GET",
    method = "HEAD",
    method = "PUT",
    method = "PATCH",
    method = "DELETE"
)]
pub(super) async fn only_post() -> Result<HttpResponse, ApiError> {
    Err(ApiError::Method("POST"))
}

/// A share of what may be under way, by what the head says about the body.
fn admit(node: &Node, request: &HttpRequest) -> Result<Admission, ApiError> {
    let length = request.headers().get(header::CONTENT_LENGTH).and_then(|v| v.to_str().ok()?.parse().ok());
    let length: usize = length.unwrap_or(MAX_BODY);
    if length > MAX_BODY {
        return Err(ApiError::TooLarge(MAX_BODY));
    }
    node.door.admit(length).ok_or_else(|| {
        node.metrics.refused.inc();
        ApiError::Busy
    })
}

/// The source, once the sender has shown what it must.
async fn known<'a>(
    node: &Node,
    published: &'a Published,
    name: &str,
    request: &HttpRequest,
) -> Result<&'a Source, ApiError> {
    let source = published.catalog.get::<Source>(name).map(|(source, _)| source);
    let scope = SecretScope::of(published, &node.settings, Kind::Source, name);
    if let Some(source) = source {
        match source.credential.open(|template| scope.fill(template)) {
            Ok(wanted) if shows(request, &wanted) => return Ok(source),
            Ok(_) => {}
            Err(e) => tracing::warn!(source = name, "the credential cannot be opened: {e}"),
        }
    }
    let shown = bearer(request).ok_or(ApiError::NoToken)?;
    let looked_up = match access::by_token(&node.door_db, shown).await {
        // The connection may have died while nobody used it; the next one is new.
        Err(e) if e.class() != Class::Lasting => access::by_token(&node.door_db, shown).await,
        found => found,
    };
    let (_, who) = looked_up?.ok_or(ApiError::BadToken)?;
    if who.role < Role::Author {
        return Err(ApiError::role(Role::Author, who.role));
    }
    source.ok_or_else(|| unknown(published, name))
}

fn unknown(published: &Published, name: &str) -> ApiError {
    let known = published.catalog.entries(Kind::Source).map(|e| e.name.as_str());
    let hint = nearest(name, known).map_or_else(String::new, |n| format!("; did you mean `{n}`?"));
    ApiError::NotFound(format!("source `{}`{hint}", cut(name, 64)))
}

/// Whether a request shows a credential. However much of it is right, the comparison takes as long.
fn shows(request: &HttpRequest, wanted: &Opened) -> bool {
    let same = |a: &str, b: &str| bool::from(a.as_bytes().ct_eq(b.as_bytes()));
    match wanted {
        Opened::Bearer(token) => bearer(request).is_some_and(|shown| same(shown, token)),
        Opened::Basic { user, password } => {
            basic(request).is_some_and(|shown| same(&shown, &format!("{user}:{password}")))
        }
        Opened::Header { name, value } => {
            let shown = request.headers().get(name.as_str()).and_then(|v| v.to_str().ok());
            shown.is_some_and(|shown| same(shown, value))
        }
    }
}

/// A key of the sender's by which what it sends again is known (`Idempotency-Key`): it stands for the
/// id of what has none of its own.
fn key(request: &HttpRequest) -> Option<String> {
    let key = request.headers().get("idempotency-key")?.to_str().ok()?;
    let fits = !key.is_empty() && key.len() <= 100 && key.bytes().all(|b| b.is_ascii_graphic());
    fits.then(|| key.to_owned())
}

fn is_credential(source: &Source, header: &str) -> bool {
    matches!(&source.credential, Credential::Header { name, .. } if name == header)
}

fn read(source: &Source, request: &HttpRequest, body: &[u8], received: DateTime<Utc>) -> Result<ReadOutcome, String> {
    let json: Value = serde_json::from_slice(body).map_err(|e| format!("is not JSON: {e}"))?;
    if too_deep(&json) {
        return Err(depth_complaint());
    }
    let json = clean_json(json);
    let headers: Map<String, Value> = request
        .headers()
        .iter()
        .filter(|(name, _)| !HIDDEN.contains(&name.as_str()) && !is_credential(source, name.as_str()))
        .filter_map(|(name, value)| Some((name.to_string(), Value::from(value.to_str().ok()?))))
        .collect();
    let content_type = request.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    let payload = Payload {
        body: &json,
        headers: &Value::Object(headers),
        received,
        fallback_id: &key(request).unwrap_or_else(random::id),
        normal: content_type.split(';').next().is_some_and(|t| t.trim().eq_ignore_ascii_case(NORMAL)),
    };
    source.read(payload).map_err(|e| e.to_string())
}
