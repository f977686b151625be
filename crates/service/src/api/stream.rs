//! The event stream: server-sent events (WHATWG HTML, section 9.2) that name what changed.

use super::{ApiError, caller::Caller};
use crate::node::{Message, Node};
use actix_web::{HttpRequest, HttpResponse, get, http::header, web};
use arvok_api::Change;
use futures_util::stream;
use std::{collections::VecDeque, sync::Arc, time::Duration};
use tokio::sync::{OwnedSemaphorePermit, broadcast, watch};

/// A comment is sent when nothing else was, so that a gone client is noticed.
const KEEP_ALIVE: Duration = Duration::from_secs(12);

struct Follower {
    node: web::Data<Node>,
    ready: VecDeque<String>,
    changes: broadcast::Receiver<Message>,
    stopping: watch::Receiver<bool>,
    _place: OwnedSemaphorePermit,
}

impl Drop for Follower {
    fn drop(&mut self) {
        self.node.metrics.streams.dec();
    }
}

/// Follows changes. Each event's data is a `Change`; after a break, send `Last-Event-ID`.
#[utoipa::path(operation_id = "followChanges", tag = "watch", responses((status = 200, body = Change, content_type = "text/event-stream")))]
#[get("/stream")]
pub(super) async fn follow(
    node: web::Data<Node>,
    _caller: Caller,
    request: HttpRequest,
) -> Result<HttpResponse, ApiError> {
    let place = Arc::clone(&node.followers).try_acquire_owned().map_err(|_| ApiError::Followed)?;
    let last = request.headers().get("last-event-id").and_then(|v| v.to_str().ok());
    let (missed, changes) = node.changes.follow(last);
    node.metrics.streams.inc();
    let mut ready: VecDeque<String> = VecDeque::from(["retry: 2000\n\n".to_owned()]);
    ready.extend(missed.iter().map(event));
    let stopping = node.stopping.clone();
    let follower = Follower { node, ready, changes, stopping, _place: place };
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header((header::CACHE_CONTROL, "no-store, no-transform"))
        .streaming(stream::unfold(follower, next)))
}

async fn next(mut follower: Follower) -> Option<(Result<web::Bytes, actix_web::Error>, Follower)> {
    let text = match follower.ready.pop_front() {
        Some(text) => text,
        None => tokio::select! {
            _ = follower.stopping.changed() => return None,
            heard = follower.changes.recv() => match heard {
                Ok(message) => event(&message),
                // This follower is too slow; it asks for everything anew.
                Err(broadcast::error::RecvError::Lagged(_)) => {
                    event(&Message { id: String::new(), change: Change { reset: true, ..Change::default() } })
                }
                Err(broadcast::error::RecvError::Closed) => return None,
            },
            () = tokio::time::sleep(KEEP_ALIVE) => ": still here\n\n".to_owned(),
        },
    };
    Some((Ok(web::Bytes::from(text)), follower))
}

fn event(message: &Message) -> String {
    let data = serde_json::to_string(&message.change).unwrap_or_default();
    if message.id.is_empty() { format!("data: {data}\n\n") } else { format!("id: {}\ndata: {data}\n\n", message.id) }
}
