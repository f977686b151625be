//! Sources whose messages are fetched: what an operation gives goes the one way in, and only then
//! is it remembered how far was looked. What dies in between is given again, and known by its ids.

use super::{
    Handled,
    asking::{self, AskedOperation},
    message::take,
};
use crate::{
    admission::KEPT,
    clock,
    node::{Node, Published},
};
use arvok_core::source::{Delivery, Poll, PollLook, Source};
use arvok_store::{
    polls,
    timers::{Timer, WantedTimer},
};
use chrono::{DateTime, Utc};
use serde_json::{Map, Value};
use sha2::{Digest, Sha256};
use std::sync::Arc;
use tokio::task::spawn_blocking;

/// Each at once, when it is new or what it is called through has changed.
pub(super) fn wanted(published: &Published, now: DateTime<Utc>) -> Vec<WantedTimer> {
    let timer = |(source, version): (&Source, i32)| {
        let spec = timer_spec(published, source.intake.poll()?, version);
        Some(WantedTimer { key: source.name.clone(), spec, due: now })
    };
    published.catalog.all::<Source>().filter_map(timer).collect()
}

fn timer_spec(published: &Published, poll: &Poll, version: i32) -> String {
    format!("{version} {}", asking::versions(published, &poll.via))
}

/// Looks once, and takes what there is.
pub(super) async fn handle(node: &Node, timer: &Timer) -> Result<Handled, String> {
    let published = node.published();
    let found = published.catalog.shared::<Source>(&timer.key);
    let Some((source, version)) = found else { return Ok(Handled::Unwanted) };
    let poll = source.intake.poll().filter(|p| timer_spec(&published, p, version) == timer.spec);
    let Some(poll) = poll else { return Ok(Handled::Unwanted) };
    // What is not fetched stays where it is.
    if let Some(wait) = node.source_limits.over(&source) {
        return Ok(Handled::GoesOn(clock::now() + wait));
    }
    let spec = poll.fingerprint();
    let last = polls::last(&node.pools.work, &source.name, &spec).await;
    let last = last.map_err(|_| "the records cannot be read at the moment")?;
    let look = PollLook::new(last.map_or(Value::Null, |last| last.cursor), clock::now());
    let given = evaluated(poll, &look, Poll::give).await?.map_err(|e| format!("`give`: {e}"))?;
    let asked = AskedOperation {
        via: &poll.via,
        operation: &poll.operation,
        give: &given,
        key: &format!("poll-{}-{}", timer.key, timer.due.timestamp_micros()),
    };
    let result = asking::called(node, asked).await?;
    let raw = result.to_string();
    // Before anything is taken: what cannot be gone on from would be taken again and again.
    let looked = evaluated(poll, &look, move |poll, look| poll.looked(look, &result)).await??;
    let message = FetchedMessage { raw, key: key(timer, &look) };
    let message = readable(Arc::clone(&source), message).await?;
    take(node, (&published, &source), message.raw.as_bytes(), message.key).await?;
    let of = (source.name.as_str(), spec.as_str());
    let kept = polls::remember(&node.pools.work, of, &look.cursor, &looked.cursor).await;
    kept.map_err(|_| "the records cannot be written at the moment")?;
    let now = clock::now();
    Ok(Handled::GoesOn(if looked.more { now } else { now + poll.every.delta() }))
}

/// What an author wrote, worked out where nobody waits.
async fn evaluated<T: Send + 'static>(
    poll: &Poll,
    look: &PollLook,
    evaluate: impl FnOnce(&Poll, &PollLook) -> T + Send + 'static,
) -> Result<T, String> {
    let (poll, look) = (poll.clone(), look.clone());
    let evaluated = spawn_blocking(move || evaluate(&poll, &look)).await;
    evaluated.map_err(|_| "to work out what is asked ended unexpectedly; the log says where".into())
}

/// What tells the messages of a look from those of others, where they have no ids: the same when it
/// is made again because it failed, or whoever made it died.
fn key(timer: &Timer, look: &PollLook) -> String {
    let cursor = Sha256::digest(look.cursor.to_string());
    format!("{}-{}", timer.due.timestamp_micros(), &hex::encode(cursor)[..16])
}

/// What a look has given.
struct FetchedMessage {
    raw: String,
    key: String,
}

/// The same, unless nothing of it can be read and it is too large to be kept whole: it stays where
/// it is until its source reads it, and the look is made again.
async fn readable(source: Arc<Source>, message: FetchedMessage) -> Result<FetchedMessage, String> {
    if message.raw.len() <= KEPT {
        return Ok(message);
    }
    let reading = spawn_blocking(move || {
        let delivery = Delivery {
            raw: message.raw.as_bytes(),
            properties: &Map::new(),
            received: clock::now(),
            fallback_id: &message.key,
            normal: false,
        };
        let read = source.read(&delivery);
        match read.unreadable.first() {
            Some(unread) if read.alerts.is_empty() && read.left_out == 0 => Err(format!(
                "nothing of what came can be read, and it is too large to be kept: {}",
                unread.reason
            )),
            _ => Ok(message),
        }
    });
    reading.await.map_err(|_| "to read what came ended unexpectedly; the log says where")?
}
