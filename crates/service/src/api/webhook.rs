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
    clock,
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
use arvok_connect::{carries_signature, unsigned_sender};
use arvok_core::{
    Kind, Role, Trial,
    connector::{Credential, Opened},
    source::{HEADERS, HttpIntake, SenderProof, SenderProofOf, Source},
    text::cut,
};
use arvok_store::{Class, access, intake::TRIAL};
use serde_json::{Map, Value};
use std::{collections::BTreeMap, time::Instant};
use subtle::ConstantTimeEq;

/// The content type of a body that is in the normal form whatever the source's own lines say.
const NORMAL: &str = "application/vnd.arvok.alert+json";
/// Most bytes that are recorded of why a sender was refused.
const LONGEST_REFUSAL: usize = 300;
/// Headers that are kept from expressions and records.
const HIDDEN: [&str; 4] = ["authorization", "cookie", "proxy-authorization", "x-api-key"];

/// Takes a payload of a source, and answers when its alerts are recorded and decided upon.
///
/// Shown must be a credential of the source's own, or a token; it is asked for before the body is
/// read. Where that is a signature, it is compared once the body is there.
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
    let refuse = |e: &ApiError| {
        if is_of_sender(e) && standing.catalog.get::<Source>(&name).is_some() {
            note_refused(&node, &request, &name, e);
        }
    };
    let Sender { source, http, trial, signed_by } = sender.inspect_err(refuse)?;
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

/// A sender that has shown what it must, but for the signature of what it sends.
struct Sender<'a> {
    source: &'a Source,
    http: &'a HttpIntake,
    trial: Option<Trial>,
    /// What the body must be signed by, any of these; nothing if more was shown than that.
    signed_by: Vec<SenderProofOf<String>>,
}

/// Whether a refusal is one of a sender, and not of what it has sent.
fn is_of_sender(e: &ApiError) -> bool {
    e.status_code() == StatusCode::UNAUTHORIZED || matches!(e, ApiError::From(_))
}

/// Notes that a sender was refused, and why.
fn note_refused(node: &web::Data<Node>, request: &HttpRequest, source: &str, why: &ApiError) {
    let label = SourceLabel { source: source.to_owned() };
    node.metrics.intake.refused_senders.get_or_create(&label).inc();
    let why = format!("source {source}: {why}");
    refusals::refused(node, request, "sender.refused", cut(&why, LONGEST_REFUSAL));
}

/// Whether the body is signed by one of these.
fn believe(
    request: &HttpRequest,
    signed_by: &[SenderProofOf<String>],
    body: &[u8],
) -> Result<(), ApiError> {
    let header = |name: &str| Some(request.headers().get(name)?.to_str().ok()?.to_owned());
    let now = clock::now().timestamp();
    let mut why = String::new();
    for proof in signed_by {
        match unsigned_sender(proof, now, header, body) {
            None => return Ok(()),
            Some(wrong) => why = wrong,
        }
    }
    Err(ApiError::UnsignedSender(why))
}

/// The source, once the sender has shown what it must; a signature is compared later, once there is
/// a body.
async fn authenticate<'a>(
    node: &Node,
    published: &'a Published,
    name: &str,
    request: &HttpRequest,
    asked: Option<AskedTrial>,
) -> Result<Sender<'a>, ApiError> {
    if let Some(fault) = &node.calls.key_fault {
        return Err(ApiError::NotReady(fault.clone()));
    }
    let source = published.catalog.get::<Source>(name).map(|(source, _)| source);
    let scope = SecretScope::of(published, Kind::Source, name);
    let posted = source.and_then(|source| Some((source, source.intake.http()?)));
    let has_header = |name: &str| request.headers().contains_key(name);
    let admits = |http: &HttpIntake| http.admits(request.peer_addr().map(|peer| peer.ip()));
    let is_elsewhere = posted.is_some_and(|(_, http)| !admits(http));
    if let Some((source, http)) = posted.filter(|_| !is_elsewhere) {
        let mut signed_by = Vec::new();
        let mut is_shown = false;
        for proof in &http.proofs {
            match proof.open(|template| scope.fill(template)) {
                Ok(SenderProofOf::Shown(wanted)) => is_shown |= shows(request, &wanted),
                Ok(proof) if carries_signature(&proof, has_header) => signed_by.push(proof),
                Ok(_) => {}
                Err(e) => tracing::warn!(source = name, "the credential cannot be opened: {e}"),
            }
        }
        if is_shown || !signed_by.is_empty() {
            let signed_by = if is_shown { Vec::new() } else { signed_by };
            return Ok(Sender { source, http, trial: AskedTrial::of_sender(asked)?, signed_by });
        }
    }
    let proofs = posted.map_or(&[][..], |(_, http)| &http.proofs);
    let shown = bearer(request).ok_or_else(|| match is_elsewhere {
        true => ApiError::From(refusals::from(request)),
        false => unproved(proofs, basic(request).is_some()),
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
    Ok(Sender { source, http, trial: asked.trial(), signed_by: Vec::new() })
}

/// What is told a sender that has shown nothing, or another password: it is challenged by the
/// scheme that its source takes (RFC 9110, section 11.6.1).
fn unproved(proofs: &[SenderProof], has_password: bool) -> ApiError {
    let takes = |is: fn(&SenderProof) -> bool| proofs.iter().any(is);
    if takes(|p| matches!(p, SenderProofOf::Shown(Credential::Basic { .. }))) {
        return if has_password { ApiError::BadPassword } else { ApiError::NoPassword };
    }
    let is_signed = |p: &SenderProof| !matches!(p, SenderProofOf::Shown(_));
    match takes(is_signed) {
        true => ApiError::UnsignedSender("it carries no signature".to_owned()),
        false => ApiError::NoToken,
    }
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
    let shown = |name: &str| {
        let is_it = |proof: &SenderProof| match proof {
            SenderProofOf::Shown(Credential::Header { name: its, .. }) => its == name,
            SenderProofOf::Hmac(hmac) => hmac.at.header == name,
            _ => false,
        };
        http.proofs.iter().any(is_it)
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
