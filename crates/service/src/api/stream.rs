//! The event stream: server-sent events (WHATWG HTML, section 9.2) that name what changed.

use super::{
    ApiError,
    caller::{Caller, still_known},
};
use crate::node::{Node, Place, StreamMessage};
use actix_web::{HttpRequest, HttpResponse, get, http::header, web};
use arvok_api::Change;
use futures_util::stream;
use std::{
    collections::VecDeque,
    time::{Duration, Instant},
};
use tokio::sync::{broadcast, watch};

/// A comment is sent when nothing else was, so that a gone client is noticed.
const KEEP_ALIVE: Duration = Duration::from_secs(12);
/// How often is asked whether the token or the session still stands.
const ASKED: Duration = Duration::from_secs(if cfg!(test) { 1 } else { 5 });

struct Follower {
    node: web::Data<Node>,
    ready: VecDeque<String>,
    changes: broadcast::Receiver<StreamMessage>,
    stopping: watch::Receiver<bool>,
    /// The request that was let in, with what it showed.
    request: HttpRequest,
    asked: Instant,
    said: Instant,
    _place: Place,
}

impl Drop for Follower {
    fn drop(&mut self) {
        self.node.metrics.own.streams.dec();
    }
}

/// Follows changes. Each event's data is a `Change`; after a break, send `Last-Event-ID`.
#[utoipa::path(
    operation_id = "followChanges", tag = "watch",
    responses((status = 200, body = Change, content_type = "text/event-stream"))
)]
#[get("/stream")]
pub(super) async fn follow(
    node: web::Data<Node>,
    caller: Caller,
    request: HttpRequest,
) -> Result<HttpResponse, ApiError> {
    let place = node.capacity.followers.join(&caller.0).ok_or(ApiError::Followed)?;
    let last = request.headers().get("last-event-id").and_then(|v| v.to_str().ok());
    let (missed, changes) = node.changes.follow(last);
    node.metrics.own.streams.inc();
    let mut ready: VecDeque<String> = VecDeque::from(["retry: 2000\n\n".to_owned()]);
    ready.extend(missed.iter().map(event));
    let stopping = node.stopping.clone();
    let now = Instant::now();
    let follower = Follower {
        node,
        ready,
        changes,
        stopping,
        request: request.clone(),
        asked: now,
        said: now,
        _place: place,
    };
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header((header::CACHE_CONTROL, "no-store, no-transform"))
        .streaming(stream::unfold(follower, next)))
}

async fn next(mut follower: Follower) -> Option<(Result<web::Bytes, actix_web::Error>, Follower)> {
    loop {
        if follower.asked.elapsed() >= ASKED {
            follower.asked = Instant::now();
            if !still_known(&follower.request).await {
                return None;
            }
        }
        if let Some(text) = one(&mut follower).await? {
            follower.said = Instant::now();
            return Some((Ok(web::Bytes::from(text)), follower));
        }
    }
}

/// What is sent next; nothing if it is only time to ask whether the token still stands. The end if
/// the stream ends.
async fn one(follower: &mut Follower) -> Option<Option<String>> {
    Some(match follower.ready.pop_front() {
        Some(text) => Some(text),
        None => tokio::select! {
            _ = follower.stopping.changed() => return None,
            heard = follower.changes.recv() => match heard {
                Ok(message) => Some(event(&message)),
                // This follower is too slow; it asks for everything anew.
                Err(broadcast::error::RecvError::Lagged(_)) => {
                    Some(event(&StreamMessage { id: String::new(), change: Change { reset: true,
                        ..Change::default() } }))
                }
                Err(broadcast::error::RecvError::Closed) => return None,
            },
            () = tokio::time::sleep(ASKED.saturating_sub(follower.asked.elapsed())) => {
                (follower.said.elapsed() >= KEEP_ALIVE).then(|| ": still here\n\n".to_owned())
            }
        },
    })
}

fn event(message: &StreamMessage) -> String {
    let data = serde_json::to_string(&message.change).unwrap_or_default();
    if message.id.is_empty() {
        format!("data: {data}\n\n")
    } else {
        format!("id: {}\ndata: {data}\n\n", message.id)
    }
}
