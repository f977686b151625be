//! `POST /in/{source}`: the door of what is posted, any JSON or CloudEvents. It knows the sender,
//! weighs the payload and hands it to the one way in.

use super::{
    ApiError, MAX_BODY, body,
    caller::{basic, bearer},
    definitions::unknown,
    refusals,
};
use crate::{
    admission::Admission,
    intake::{ReceivedMessage, accept},
    metrics::SourceLabel,
    node::{Node, Published, SecretScope},
};
use actix_web::{
    HttpRequest, HttpResponse, ResponseError,
    http::{StatusCode, header},
    routes, web,
};
use arvok_api::{DeliveryAnswer, Problem};
use arvok_core::{
    Kind, Role, Trial,
    connector::{Credential, Opened},
    source::{HEADERS, HttpIntake, Source},
    text::cut,
};
use arvok_store::{Class, access, intake::TRIAL};
use serde_json::{Map, Value};
use std::{collections::BTreeMap, time::Instant};
use subtle::ConstantTimeEq;

/// The content type of a body that is in the normal form whatever the source's own lines say.
const NORMAL: &str = "application/vnd.arvok.alert+json";
/// Headers that are kept from expressions and records.
const HIDDEN: [&str; 4] = ["authorization", "cookie", "proxy-authorization", "x-api-key"];

/// Takes a payload of a source, and answers when its alerts are recorded and decided upon.
///
/// Shown must be the source's own credential, or a token; it is asked for before the body is read.
/// What comes with a token is a trial (`trial=dry`), for which the role responder is enough: it is
/// marked wherever it is seen, and nothing that changes anything leaves for it. With the role
/// author it may be one that acts (`trial=acting`), or be real (`trial=no`). With the source's own
/// credential it is real unless it says `trial=dry`. A source whose sender needs it answers 200
/// instead of 202. Of several alerts those that can be read are taken, the others are kept and
/// named in the answer. A payload of which nothing can be read is kept and answered with 422.
#[utoipa::path(operation_id = "takeAlerts", tag = "alerts", request_body = Object, responses(
    (status = 200, body = DeliveryAnswer), (status = 202, body = DeliveryAnswer), (status = 400,
        body = Problem), (status = 401, body = Problem), (status = 403, body = Problem),
    (status = 404, body = Problem), (status = 408, body = Problem), (status = 413, body = Problem),
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
    let published = node.published();
    let mut standing = &published;
    let asked = AskedTrial::of(&request)?;
    let mut sender = authenticate(&node, &published, &name, &request, asked).await;
    // A source or a secret of a moment ago, of which only another node has heard: a sender that is
    // refused may give up.
    let newer;
    if sender.is_err() && node.catch_up(&published, came).await {
        newer = node.published();
        sender = authenticate(&node, &newer, &name, &request, asked).await;
        standing = &newer;
    }
    let (source, http, trial) = sender.inspect_err(|e| {
        if e.status_code() == StatusCode::UNAUTHORIZED
            && standing.catalog.get::<Source>(&name).is_some()
        {
            node.metrics
                .intake
                .refused_senders
                .get_or_create(&SourceLabel { source: name.clone() })
                .inc();
            refusals::refused(&node, &request, "sender.refused", &format!("source {}", *name));
        }
    })?;
    let key = key(&request)?;
    let mut admission = admit(&node, source, &request)?;
    let raw = body::read_charged(payload, MAX_BODY, &mut admission).await.inspect_err(|e| {
        if matches!(e, ApiError::Busy) {
            node.metrics.intake.refused.inc();
        }
    })?;
    let properties = Map::from_iter([(HEADERS.to_owned(), headers(&request, http))]);
    let message =
        ReceivedMessage { raw: &raw, properties, normal: is_normal(&request), key, trial };
    let taken = accept(&node, standing, source, message, admission).await?;
    let status = StatusCode::from_u16(http.answer).unwrap_or(StatusCode::ACCEPTED);
    Ok(HttpResponse::build(status).json(taken))
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
    Err(ApiError::Method("POST".into()))
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

/// The source, once the sender has shown what it must.
async fn authenticate<'a>(
    node: &Node,
    published: &'a Published,
    name: &str,
    request: &HttpRequest,
    asked: Option<AskedTrial>,
) -> Result<(&'a Source, &'a HttpIntake, Option<Trial>), ApiError> {
    if let Some(fault) = &node.calls.key_fault {
        return Err(ApiError::NotReady(fault.clone()));
    }
    let source = published.catalog.get::<Source>(name).map(|(source, _)| source);
    let scope = SecretScope::of(published, Kind::Source, name);
    let posted = source.and_then(|source| Some((source, source.intake.http()?)));
    if let Some((source, http)) = posted {
        match http.credential.open(|template| scope.fill(template)) {
            Ok(wanted) if shows(request, &wanted) => {
                return Ok((source, http, AskedTrial::of_sender(asked)?));
            }
            Ok(_) => {}
            Err(e) => tracing::warn!(source = name, "the credential cannot be opened: {e}"),
        }
    }
    let by_password =
        posted.is_some_and(|(_, http)| matches!(http.credential, Credential::Basic { .. }));
    let shown = bearer(request).ok_or(match by_password {
        true if basic(request).is_some() => ApiError::BadPassword,
        true => ApiError::NoPassword,
        false => ApiError::NoToken,
    })?;
    let looked_up = match access::by_token(&node.pools.door, shown).await {
        // The connection may have died while nobody used it; the next one is new.
        Err(e) if e.class() != Class::Lasting => access::by_token(&node.pools.door, shown).await,
        found => found,
    };
    let (_, who) = looked_up?.ok_or(ApiError::BadToken)?;
    let asked = asked.unwrap_or(AskedTrial::Dry);
    if who.role < asked.role() {
        return Err(ApiError::role(asked.role(), who.role));
    }
    let source = source.ok_or_else(|| unknown(published, Kind::Source, name))?;
    let (source, http) = posted.ok_or_else(|| {
        let intake = source.intake.word();
        ApiError::BadRequest(format!(
            "nothing is posted to the source {name}: its alerts come by {intake}"
        ))
    })?;
    Ok((source, http, asked.trial()))
}

arvok_core::words! {
    /// Whether what is posted is a trial, as its sender says.
    enum AskedTrial("word for a trial") {
        /// It is one.
        Dry = "dry",
        /// It is one whose jobs act.
        Acting = "acting",
        /// It is real.
        No = "no",
    }
}

impl AskedTrial {
    /// What the query says. Other names in it are the sender's own.
    fn of(request: &HttpRequest) -> Result<Option<Self>, ApiError> {
        let query = web::Query::<BTreeMap<String, String>>::from_query(request.query_string());
        let Some(word) = query.ok().and_then(|query| query.into_inner().remove(TRIAL)) else {
            return Ok(None);
        };
        Self::parse(&word).map(Some).ok_or_else(|| {
            let word = cut(&word, 40);
            ApiError::BadRequest(format!("trial: `{word}` is not one of dry, acting, no"))
        })
    }

    /// What a source's own sender may say.
    fn of_sender(asked: Option<Self>) -> Result<Option<Trial>, ApiError> {
        match asked {
            Some(Self::Acting) => Err(ApiError::BadRequest(
                "trial: only a person with the role author may send a trial that acts".into(),
            )),
            asked => Ok(asked.and_then(Self::trial)),
        }
    }

    /// The role that a person needs for it.
    const fn role(self) -> Role {
        match self {
            Self::Dry => Role::Responder,
            Self::Acting | Self::No => Role::Author,
        }
    }

    const fn trial(self) -> Option<Trial> {
        match self {
            Self::Dry => Some(Trial::Dry),
            Self::Acting => Some(Trial::Acting),
            Self::No => None,
        }
    }
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
        // No source is published with another.
        _ => false,
    }
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

/// What is neither credential nor cookie.
fn headers(request: &HttpRequest, http: &HttpIntake) -> Value {
    let shown = |name: &str| match &http.credential {
        Credential::Header { name: its, .. } => its == name,
        _ => false,
    };
    let headers = request
        .headers()
        .iter()
        .filter(|(name, _)| !HIDDEN.contains(&name.as_str()) && !shown(name.as_str()));
    Value::Object(
        headers
            .filter_map(|(name, value)| Some((name.to_string(), value.to_str().ok()?.into())))
            .collect(),
    )
}

fn is_normal(request: &HttpRequest) -> bool {
    let content_type = request
        .headers()
        .get(header::CONTENT_TYPE)
        .and_then(|v| v.to_str().ok())
        .unwrap_or_default();
    content_type.split(';').next().is_some_and(|t| t.trim().eq_ignore_ascii_case(NORMAL))
}
