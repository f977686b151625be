//! Who sends: what it shows, the signatures that it may prove itself by, and what is told one that
//! does neither.

use super::{
    ApiError,
    caller::{basic, bearer},
    definitions::unknown,
    refusals,
};
use crate::{
    clock,
    metrics::SourceLabel,
    node::{Node, Published, SecretScope},
    tls::ClientNames,
};
use actix_web::{HttpRequest, ResponseError, http::StatusCode, web};
use arvok_connect::{carries_signature, unsigned_sender};
use arvok_core::{
    Kind, Role, Trial,
    connector::{Credential, Opened},
    source::{HttpIntake, SenderProof, SenderProofOf, Source},
    text::cut,
};
use arvok_store::{Class, access, intake::TRIAL};
use serde_json::Value;
use std::{cell::OnceCell, collections::BTreeMap, sync::Arc, time::Instant};
use subtle::ConstantTimeEq;

/// Most bytes that are recorded of why a sender was refused.
const LONGEST_REFUSAL: usize = 300;
/// Headers that are kept from expressions and records.
const HIDDEN: [&str; 4] = ["authorization", "cookie", "proxy-authorization", "x-api-key"];

/// A sender that has shown what it must, but for the signature of what it sends.
pub(super) struct Sender<'a> {
    pub source: &'a Source,
    pub http: &'a HttpIntake,
    pub trial: Option<Trial>,
    /// What the body must be signed by, any of these; nothing if more was shown than that.
    pub signed_by: Vec<SenderProofOf<String>>,
}

/// The sender of a request, and what is published as it was asked for. A source or a secret of a
/// moment ago, of which only another node has heard, is waited for: a sender that is refused may
/// give up.
pub(super) async fn proved<'p>(
    node: &web::Data<Node>,
    (published, newer): (&'p Published, &'p OnceCell<Arc<Published>>),
    (name, request): (&str, &HttpRequest),
    came: Instant,
) -> Result<(&'p Published, Sender<'p>), ApiError> {
    let asked = AskedTrial::of(request)?;
    let (mut standing, mut sender) =
        (published, authenticate(node, published, name, request, asked).await);
    if sender.is_err() && node.catch_up(published, came).await {
        standing = newer.get_or_init(|| node.published());
        sender = authenticate(node, standing, name, request, asked).await;
    }
    let sender = sender.inspect_err(|e| note_refused(node, request, (standing, name), e))?;
    Ok((standing, sender))
}

/// Whether a refusal is one of a sender, and not of what it has sent.
fn is_of_sender(e: &ApiError) -> bool {
    e.status_code() == StatusCode::UNAUTHORIZED
        || matches!(e, ApiError::From(_) | ApiError::NoCertificate(_))
}

/// Notes that a sender of a source that there is was refused, and why.
pub(super) fn note_refused(
    node: &web::Data<Node>,
    request: &HttpRequest,
    (published, source): (&Published, &str),
    why: &ApiError,
) {
    if !is_of_sender(why) || published.catalog.get::<Source>(source).is_none() {
        return;
    }
    let label = SourceLabel { source: source.to_owned() };
    node.metrics.intake.refused_senders.get_or_create(&label).inc();
    let why = format!("source {source}: {why}");
    refusals::refused(node, request, "sender.refused", cut(&why, LONGEST_REFUSAL));
}

/// Whether the body is signed by one of these.
pub(super) fn believe(
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
        let names = request.conn_data::<ClientNames>().map_or(&[][..], |names| &names.0);
        let mut is_shown = http.knows_certificate(names);
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
        false => unproved(node, request, proofs),
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
fn unproved(node: &Node, request: &HttpRequest, proofs: &[SenderProof]) -> ApiError {
    let takes = |is: fn(&SenderProof) -> bool| proofs.iter().any(is);
    let has_password = basic(request).is_some();
    if takes(|p| matches!(p, SenderProofOf::Shown(Credential::Basic { .. }))) {
        return if has_password { ApiError::BadPassword } else { ApiError::NoPassword };
    }
    if !proofs.is_empty() && proofs.iter().all(|p| matches!(p, SenderProofOf::Certificate(_))) {
        return ApiError::NoCertificate(why_no_certificate(node, request));
    }
    let is_signed =
        |p: &SenderProof| matches!(p, SenderProofOf::Hmac(_) | SenderProofOf::StandardWebhooks(_));
    match takes(is_signed) {
        true => ApiError::UnsignedSender("it carries no signature".to_owned()),
        false => ApiError::NoToken,
    }
}

/// Why a sender is not known by its certificate.
fn why_no_certificate(node: &Node, request: &HttpRequest) -> String {
    match request.conn_data::<ClientNames>() {
        _ if node.tls.as_ref().is_none_or(|tls| !tls.asks_clients()) => {
            "this node asks for none: it has no tls.client_authorities".to_owned()
        }
        Some(ClientNames(names)) if !names.is_empty() => {
            format!("that of {} is not", cut(&names.join(", "), LONGEST_REFUSAL / 2))
        }
        _ => "none was shown".to_owned(),
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

/// What is neither credential nor cookie.
pub(super) fn headers(request: &HttpRequest, http: &HttpIntake) -> Value {
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
