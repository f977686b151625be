//! Subscribers: how it stands with them, what became of their events, and the door at which an
//! address agrees.

use super::{ApiError, caller::Caller, query::in_range};
use crate::{
    clock,
    node::{Node, Published},
    subscribers::{address, consent, hurry, leaving, ready},
};
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use arvok_api::{
    OutgoingFilter, OutgoingItem, OutgoingState, PAGE, Page, Problem, Replay, Replayed,
    SubscriberItem, SubscriberState, Who,
};
use arvok_connect::allowed_rate;
use arvok_core::{Alert, Role, source::OWN, subscriber::Subscriber, text::cut};
use arvok_store::{
    outside::subscribers::{self as store, MOST_WAITING, Sent, SubscriberRecord},
    read,
};
use chrono::{DateTime, Utc};
use futures_util::StreamExt;
use serde_json::Value;
use std::pin::pin;

/// Subscribers, by name.
#[utoipa::path(
    operation_id = "listSubscribers", tag = "subscribers",
    responses((status = 200, body = Page<SubscriberItem>))
)]
#[get("/subscribers")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
) -> Result<web::Json<Page<SubscriberItem>>, ApiError> {
    let published = node.published();
    let all: Vec<&Subscriber> = published.catalog.all::<Subscriber>().map(|(s, _)| s).collect();
    let known =
        store::states_of(&node.pools.questions, all.iter().map(|s| s.name.clone()).collect())
            .await?;
    let known = |name: &str| known.iter().find(|k| k.name == name).cloned();
    let items = all.into_iter().map(|s| item(&published, s, known(&s.name))).collect();
    Ok(web::Json(Page { items, next: None, bounded: false }))
}

fn item(
    published: &Published,
    subscriber: &Subscriber,
    known: Option<SubscriberRecord>,
) -> SubscriberItem {
    let wrong = ready(published, subscriber).err();
    // One that was published a moment ago is not known yet.
    let known = known.unwrap_or_default();
    let state = match &wrong {
        Some(_) => SubscriberState::Faulty,
        None if known.gone => SubscriberState::Gone,
        None if known.confirmed_at.is_some() => SubscriberState::Confirmed,
        None => SubscriberState::Asked,
    };
    let rests = known.failures > 0 && !known.gone && known.next_at > clock::now();
    SubscriberItem {
        name: subscriber.name.clone(),
        summary: subscriber.summary.clone(),
        address: address(published, subscriber).ok(),
        state,
        trouble: wrong.or(known.failure),
        failures: known.failures,
        rests_until: rests.then_some(known.next_at),
        confirmed_at: known.confirmed_at,
        rate: known.rate,
        waiting: known.waiting,
        given_up: known.given_up,
        left_out: known.left_out,
        delivered: known.delivered,
        delivered_at: known.delivered_at,
    }
}

async fn shown(node: &Node, name: &str) -> Result<SubscriberItem, ApiError> {
    let published = node.published();
    let missing = || ApiError::NotFound(format!("subscriber `{}`", cut(name, 64)));
    let (subscriber, _) = published.catalog.get::<Subscriber>(name).ok_or_else(missing)?;
    let known =
        store::states_of(&node.pools.questions, vec![name.to_owned()]).await?.into_iter().next();
    Ok(item(&published, subscriber, known))
}

/// One subscriber.
#[utoipa::path(operation_id = "showSubscriber", tag = "subscribers", params(("name" = String,
    Path)),
    responses((status = 200, body = SubscriberItem), (status = 404, body = Problem)))]
#[get("/subscribers/{name}")]
pub(super) async fn one(
    node: web::Data<Node>,
    _caller: Caller,
    name: web::Path<String>,
) -> Result<web::Json<SubscriberItem>, ApiError> {
    shown(&node, &name).await.map(web::Json)
}

/// Events of a subscriber, the newest first: those that wait, that were taken within a day, and
/// that were given up.
#[utoipa::path(operation_id = "listOutgoing", tag = "subscribers", params(("name" = String, Path),
    OutgoingFilter),
    responses((status = 200, body = Page<OutgoingItem>), (status = 400, body = Problem),
        (status = 404, body = Problem)))]
#[get("/subscribers/{name}/events")]
pub(super) async fn events(
    node: web::Data<Node>,
    _caller: Caller,
    name: web::Path<String>,
    query: web::Query<OutgoingFilter>,
) -> Result<web::Json<Page<OutgoingItem>>, ApiError> {
    let filter = query.into_inner();
    in_range(filter.limit, [])?;
    shown(&node, &name).await?;
    let limit = i64::try_from(filter.limit.unwrap_or(PAGE)).unwrap_or(i64::MAX);
    let found =
        store::sent(&node.pools.questions, &name, filter.state, filter.after, limit).await?;
    let full = found.len() as i64 == limit;
    let next = found.last().filter(|_| full).map(|s| s.number.to_string());
    let items = found.into_iter().map(outgoing).collect();
    Ok(web::Json(Page { items, next, bounded: false }))
}

fn outgoing(sent: Sent) -> OutgoingItem {
    let text = |pointer: &str| {
        sent.event.pointer(pointer).and_then(Value::as_str).unwrap_or_default().to_owned()
    };
    let state = sent.state.0;
    OutgoingItem {
        number: sent.number,
        kind: text("/type"),
        job: sent.event.pointer("/data/job/id").and_then(Value::as_i64),
        resource: text("/subject"),
        summary: text("/data/summary"),
        at: text("/time").parse().unwrap_or_default(),
        state,
        tries: sent.tries,
        next_at: (state == OutgoingState::Waiting).then_some(sent.next_at),
        status: sent.status,
        failure: sent.failure,
        ended_at: sent.ended_at,
    }
}

/// Asks a subscriber's address at once whether it wants events, and sends at once what waits for
/// it.
#[utoipa::path(operation_id = "confirmSubscriber", tag = "subscribers", params(("name" = String,
    Path)),
    responses((status = 200, body = SubscriberItem), (status = 404, body = Problem)))]
#[post("/subscribers/{name}/confirm")]
pub(super) async fn confirm(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
) -> Result<web::Json<SubscriberItem>, ApiError> {
    caller.must(Role::Responder)?;
    shown(&node, &name).await?;
    hurry(&node, &name).await?;
    shown(&node, &name).await.map(web::Json)
}

/// Sends events once more: what was given up, or all that happened in a time. Each keeps its id, by
/// which the subscriber knows it.
#[utoipa::path(operation_id = "replayEvents", tag = "subscribers", params(("name" = String, Path)),
    request_body = Replay,
    responses((status = 200, body = Replayed), (status = 400, body = Problem), (status = 404,
        body = Problem)))]
#[post("/subscribers/{name}/replay")]
pub(super) async fn replay(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
    body: web::Json<Replay>,
) -> Result<web::Json<Replayed>, ApiError> {
    caller.must(Role::Responder)?;
    shown(&node, &name).await?;
    let replayed = match *body {
        Replay { since: Some(since), until } => {
            since_then((&node, &caller.0), &name, since, until).await?
        }
        Replay { since: None, until: Some(_) } => {
            return Err(ApiError::BadRequest("until: needs `since` beside it".into()));
        }
        Replay { since: None, until: None } => Replayed {
            events: store::replay_given_up(&node.pools.questions, &name).await?,
            next: None,
        },
    };
    tracing::info!(subscriber = %name, events = replayed.events, by = caller.0.name, "events are \
        sent once more");
    hurry(&node, &name).await?;
    Ok(web::Json(replayed))
}

/// Events that one replay looks at.
const MOST_LOOKED_AT: usize = 200_000;
/// Events whose conditions are evaluated together.
const SOME: usize = 500;

/// Takes the events of a time out of the stored alerts.
async fn since_then(
    (node, who): (&web::Data<Node>, &Who),
    name: &str,
    since: DateTime<Utc>,
    until: Option<DateTime<Utc>>,
) -> Result<Replayed, ApiError> {
    let which = read::Replay::of_source(OWN, since, until.unwrap_or_else(clock::now));
    let alerts = read::replay(&node.pools.replay, &which).await?;
    // What nodes tell of themselves does not leave.
    let of_jobs = |alert: &Alert| alert.body["job"].is_object();
    let mut some = pin!(alerts.chunks(SOME));
    let (mut sent, mut looked_at, mut next) = (0, 0, None);
    while let Some(chunk) = some.next().await {
        let chunk = chunk.into_iter().collect::<Result<Vec<_>, _>>()?;
        let first = chunk.first().map(|(_, alert)| alert.received);
        if sent >= MOST_WAITING.unsigned_abs() || looked_at >= MOST_LOOKED_AT {
            next = first;
            break;
        }
        looked_at += chunk.len();
        let told: Vec<Alert> = chunk.into_iter().map(|(_, alert)| alert).filter(of_jobs).collect();
        let (asking, only) = (node.clone(), name.to_owned());
        let wanted = move || leaving(&asking.published(), &asking.installation, &told, Some(&only));
        sent += store::replay(&node.pools.questions, &node.capacity.evaluate(who, wanted).await?)
            .await?;
    }
    Ok(Replayed { events: sent, next })
}

/// An address agrees to take events, by the link that it was given when it was asked (CloudEvents
/// web hooks, section 4.1): good for a day, and without signing in. `WebHook-Allowed-Rate` says how
/// many requests a minute it wants.
#[utoipa::path(operation_id = "consent", tag = "subscribers", params(("link" = String, Path)),
    responses((status = 200, body = String, content_type = "text/plain"), (status = 404,
        body = Problem)))]
#[post("/consent/{link}")]
pub(super) async fn agree(
    node: web::Data<Node>,
    request: HttpRequest,
    link: web::Path<String>,
) -> Result<HttpResponse, ApiError> {
    let rate = request.headers().get("webhook-allowed-rate").and_then(|v| v.to_str().ok());
    agreed(&node, &link, allowed_rate(rate)).await
}

/// The same for a person who opens the link in a browser.
#[utoipa::path(operation_id = "consentInBrowser", tag = "subscribers", params(("link" = String,
    Path)),
    responses((status = 200, body = String, content_type = "text/plain"), (status = 404,
        body = Problem)))]
#[get("/consent/{link}")]
pub(super) async fn agree_in_browser(
    node: web::Data<Node>,
    link: web::Path<String>,
) -> Result<HttpResponse, ApiError> {
    agreed(&node, &link, None).await
}

async fn agreed(node: &Node, link: &str, rate: Option<u32>) -> Result<HttpResponse, ApiError> {
    let name = consent(node, link, rate).await?.ok_or_else(|| {
        ApiError::NotFound(
            "a question behind this link: it is cut short, older than a day, or for another \
            address"
                .into(),
        )
    })?;
    tracing::info!(subscriber = name, "wants events, by its link");
    Ok(HttpResponse::Ok()
        .content_type("text/plain; charset=utf-8")
        .body(format!("Events will be sent to {name}.\n")))
}
