//! Sources whose messages are fetched: what an operation gives goes the one way in, and only then
//! is it remembered how far was looked. What dies in between is given again, and known by its ids.

use super::{
    Handled,
    asking::{self, AskedOperation},
};
use crate::{
    admission::NotTaken,
    clock,
    intake::{ReceivedMessage, accept},
    node::{Node, Published},
};
use arvok_core::source::{Poll, PollLook, Source};
use arvok_store::{
    polls,
    timers::{Timer, WantedTimer},
};
use chrono::{DateTime, Utc};
use serde_json::{Map, Value};
use sha2::{Digest, Sha256};
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
    take(node, (&published, &source), raw.as_bytes(), key(timer, &look)).await?;
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

async fn take(
    node: &Node,
    (published, source): (&Published, &Source),
    raw: &[u8],
    key: String,
) -> Result<(), String> {
    let admission = node
        .admission
        .admit(&source.name, raw.len())
        .ok_or("there is no room for more messages at the moment")?;
    let message =
        ReceivedMessage { raw, properties: Map::new(), normal: false, key: Some(key), trial: None };
    match accept(node, published, source, message, admission).await {
        // What cannot be read is kept and told as for any sender.
        Ok(_) | Err(NotTaken::Malformed { .. }) => Ok(()),
        Err(NotTaken::Store) => Err("the records cannot be written at the moment".into()),
    }
}
