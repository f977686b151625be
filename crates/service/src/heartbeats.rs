//! Senders that say at intervals that they are alive: noted when they are heard of, told of when
//! they are not for too long, and again when they are.
//!
//! A sender is first written down as missing, and then told of; and it is told that it is back
//! before it is written down. Whoever dies in between leaves what the next one finds, and what is
//! told twice has one id. Its row is held meanwhile, so that of both at one moment the later is the
//! later.

use crate::{
    admission::NotTaken,
    clock,
    intake::{ReceivedMessage, accept},
    node::{Node, Published},
};
use arvok_core::source::{Heartbeat, HeartbeatChange, Source, is_steady};
use arvok_store::{StoreError, heartbeats};
use chrono::{DateTime, Utc};
use serde_json::Map;

/// Most senders of one source.
pub(crate) const MOST: i64 = 5_000;
/// Most senders that are told of at one look.
const AT_ONCE: i64 = 100;

/// What was known of a sender that is heard of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum HeartbeatOutcome {
    /// It is alive, or new.
    Alive,
    /// It was missing.
    Back,
    /// It is new, and there are too many.
    TooMany,
}

/// Notes that a sender is heard of.
///
/// # Errors
/// [`NotTaken::Store`] if that is not kept.
pub(crate) async fn hear(
    node: &Node,
    published: &Published,
    (source, heartbeat): (&Source, &Heartbeat),
    name: &str,
) -> Result<HeartbeatOutcome, NotTaken> {
    let pool = &node.pools.door;
    let lost = |e: StoreError| {
        tracing::warn!(source = source.name, "a heartbeat: {e}");
        NotTaken::Store
    };
    // One that is new, or comes back, at two nodes at once is found by the one behind.
    for _ in 0..3 {
        if heartbeats::note(pool, &source.name, name).await.map_err(lost)? {
            return Ok(HeartbeatOutcome::Alive);
        }
        if let Some(held) = heartbeats::hold(pool, &source.name, name).await.map_err(lost)? {
            let at = clock::now();
            let change = HeartbeatChange {
                source: &source.name,
                name,
                missing: false,
                last: held.last_at,
                at,
            };
            tell(node, published, (source, heartbeat), &change).await?;
            held.is_back().await.map_err(lost)?;
            return Ok(HeartbeatOutcome::Back);
        }
        if heartbeats::add(pool, &source.name, name, MOST).await.map_err(lost)? {
            return Ok(HeartbeatOutcome::Alive);
        }
    }
    Ok(HeartbeatOutcome::TooMany)
}

/// Tells of the senders that are missing; `steady` is since when what came was taken.
///
/// # Errors
/// If the records cannot be worked with.
pub(crate) async fn look(node: &Node, steady: DateTime<Utc>) -> Result<(), StoreError> {
    let (published, pool) = (node.published(), &node.pools.work);
    let now = clock::now();
    let mut names = Vec::new();
    for (source, _) in published.catalog.all::<Source>() {
        let Some(heartbeat) = source.intake.heartbeat() else { continue };
        names.push(source.name.clone());
        if is_steady(steady, heartbeat.after, now) {
            heartbeats::miss(pool, &source.name, now - heartbeat.after.delta(), AT_ONCE).await?;
        }
    }
    if names.is_empty() {
        return Ok(());
    }
    for (name_of_source, name) in heartbeats::untold(pool, &names, AT_ONCE).await? {
        let source = published.catalog.get::<Source>(&name_of_source).map(|(source, _)| source);
        let known = source.and_then(|source| Some((source, source.intake.heartbeat()?)));
        let Some((source, heartbeat)) = known else { continue };
        // It may be back by now.
        let Some(held) = heartbeats::hold(pool, &source.name, &name).await? else { continue };
        let at = held.last_at + heartbeat.after.delta();
        let change = HeartbeatChange {
            source: &source.name,
            name: &name,
            missing: true,
            last: held.last_at,
            at: at.min(now),
        };
        match tell(node, &published, (source, heartbeat), &change).await {
            Ok(()) => held.is_told().await?,
            // The next look finds it.
            Err(e) => {
                tracing::warn!(source = source.name, "a missing sender: {e}");
                return Ok(());
            }
        }
    }
    Ok(())
}

/// Tells of a change as a message of its source.
async fn tell(
    node: &Node,
    published: &Published,
    (source, heartbeat): (&Source, &Heartbeat),
    change: &HeartbeatChange<'_>,
) -> Result<(), NotTaken> {
    let raw = heartbeat.message(change).to_string();
    let admission = node.admission.admit(&source.name, raw.len()).ok_or(NotTaken::Store)?;
    let how = if change.missing { "missing" } else { "back" };
    // Also by lines of its own that give no id it is told once.
    let key = format!("{} {how} {}", change.name, change.last.timestamp_micros());
    let message = ReceivedMessage {
        raw: raw.as_bytes(),
        properties: Map::new(),
        normal: false,
        key: Some(key),
        trial: None,
    };
    match accept(node, published, source, message, admission).await {
        // What the source's own lines cannot read is kept and told as for any sender.
        Ok(_) | Err(NotTaken::Malformed { .. }) => Ok(()),
        Err(e) => Err(e),
    }
}
