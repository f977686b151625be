//! Events on their way to subscribers: asks each address whether it wants them, then sends what is
//! kept for it.
//!
//! Any node sends; what one has taken no other sends for a minute. Whoever does not answer, or
//! answers badly, is left alone for a growing time and keeps nobody else waiting.

use crate::{
    clock,
    node::{Node, Published, SecretScope},
};
use arvok_connect::{Keys, NotTaken, Posted};
use arvok_core::{
    Alert, Kind,
    job::CALLED_BACK,
    matcher::Match,
    subscriber::{self, Subscriber},
};
use arvok_store::{
    StoreError, calls,
    outside::subscribers::{self as store, Failed, Handshake, Leaving, Outgoing},
};
use chrono::{DateTime, Utc};
use std::{collections::BTreeMap, sync::Arc, time::Duration};
use tokio::{sync::Semaphore, task::JoinSet};

/// How often is looked for events that are to be sent when nobody calls.
const LOOK: Duration = Duration::from_millis(500);
/// Looks between two for what has waited for a day.
const OLD: u32 = 120;
/// Events that one subscriber is sent at once.
const AT_ONCE: usize = 8;
/// Events that this node sends at once; each subscriber has room for one whatever the others do.
const ALL_AT_ONCE: i64 = 128;
/// Times between the tries of an event; the last goes on.
const AGAIN: [u64; 6] = [5, 30, 120, 600, 1_800, 3_600];
/// How long a turn at a rate is waited for with the event in hand.
const TURN: Duration = Duration::from_secs(5);
/// What the consent of an address is sealed for.
const SEALED_FOR: &str = "consent of a subscriber";

/// Sends until the node stops.
pub(crate) async fn run(node: Arc<Node>) {
    let mut stopping = node.stopping.clone();
    let mut sending = Sending::default();
    let mut looks = 0u32;
    let mut look = tokio::time::interval(LOOK);
    look.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        let mut looked = false;
        tokio::select! {
            _ = stopping.changed() => return,
            _ = look.tick() => looked = true,
            () = node.wakeups.events.notified() => {}
            Some(_) = sending.under_way.join_next() => {}
        }
        if looked {
            looks += 1;
            log_error(sending.look(&node, looks.is_multiple_of(OLD)).await);
        }
        log_error(sending.send(&node).await);
    }
}

/// What this node is sending.
#[derive(Default)]
struct Sending {
    under_way: JoinSet<()>,
    /// Those who are published and can be sent something, each with the room that is left for it.
    room: BTreeMap<String, Arc<Semaphore>>,
    /// The generation of what is published by which they are known.
    known: Option<i64>,
}

impl Sending {
    /// Looks whom there is to be sent to, whom to ask, and what is too old.
    async fn look(&mut self, node: &Arc<Node>, old: bool) -> Result<(), StoreError> {
        let published = node.published();
        if self.known != Some(published.generation) {
            let all = published.catalog.all::<Subscriber>();
            let ready =
                all.filter_map(|(s, _)| Some((s.name.clone(), ready(&published, s).ok()?.0)));
            let all: Vec<(String, String)> = ready.collect();
            store::note(&node.pools.work, published.generation, &all).await?;
            self.room.retain(|name, _| all.iter().any(|(known, _)| known == name));
            for (name, _) in all {
                self.room.entry(name).or_insert_with(|| Arc::new(Semaphore::new(AT_ONCE)));
            }
            self.known = Some(published.generation);
        }
        if old {
            store::give_up(&node.pools.work).await?;
        }
        if self.room.is_empty() {
            return Ok(());
        }
        for asked in store::to_ask(&node.pools.work, self.room.keys().cloned().collect()).await? {
            let node = Arc::clone(node);
            self.under_way.spawn(async move { log_error(ask(&node, &asked).await) });
        }
        Ok(())
    }

    /// Sends what there is room for.
    async fn send(&mut self, node: &Arc<Node>) -> Result<(), StoreError> {
        let mut left = ALL_AT_ONCE - i64::try_from(self.under_way.len()).unwrap_or(i64::MAX);
        let mut room = Vec::new();
        for (name, free) in &self.room {
            let most = i64::try_from(free.available_permits()).unwrap_or(0).min(left.max(1));
            if most > 0 {
                left -= most;
                room.push((name.clone(), most));
            }
        }
        if room.is_empty() {
            return Ok(());
        }
        for event in store::claim(&node.pools.work, &room).await? {
            let place = self
                .room
                .get(&event.subscriber)
                .and_then(|free| Arc::clone(free).try_acquire_owned().ok());
            let node = Arc::clone(node);
            self.under_way.spawn(async move {
                log_error(post(&node, &event).await);
                drop(place);
            });
        }
        Ok(())
    }
}

fn log_error(done: Result<(), StoreError>) {
    if let Err(e) = done {
        tracing::warn!("subscribers: {e}");
    }
}

/// The address of a subscriber.
pub(crate) fn address(published: &Published, subscriber: &Subscriber) -> Result<String, String> {
    SecretScope::of(published, Kind::Subscriber, &subscriber.name).fill(&subscriber.address)
}

/// The address of a subscriber and its opened keys; or why nothing can be sent to it from this
/// node.
pub(crate) fn ready(
    published: &Published,
    subscriber: &Subscriber,
) -> Result<(String, Keys), String> {
    let scope = SecretScope::of(published, Kind::Subscriber, &subscriber.name);
    let texts =
        subscriber.signed_with.iter().map(|key| scope.fill(key)).collect::<Result<Vec<_>, _>>()?;
    let keys =
        Keys::read(texts.iter().map(String::as_str)).map_err(|e| format!("signed_with: {e}"))?;
    Ok((address(published, subscriber)?, keys))
}

/// What leaves of the events that have entered, for whoever wants it or for one subscriber alone.
pub(crate) fn leaving(
    published: &Published,
    installation: &str,
    events: &[Alert],
    only: Option<&str>,
) -> Vec<Leaving> {
    let all = published.catalog.all::<Subscriber>().map(|(s, _)| s);
    let all: Vec<&Subscriber> = all.filter(|s| only.is_none_or(|name| s.name == name)).collect();
    let mut leaving = Vec::new();
    // What the other side of a call has said is for its step alone.
    for event in events.iter().filter(|event| event.kind != CALLED_BACK) {
        for subscriber in &all {
            match subscriber.wants(event) {
                Match::Yes => leaving.push(Leaving {
                    subscriber: subscriber.name.clone(),
                    event_id: event.id.clone(),
                    event: subscriber::envelope(event, installation),
                }),
                Match::No => {}
                Match::Broken(why) => {
                    tracing::debug!(subscriber = subscriber.name, event = event.id, "{why}")
                }
            }
        }
    }
    leaving
}

/// Who the events are of, for those who agree to take them: the host of the console's address.
fn origin(node: &Node) -> String {
    host_of(&node.public_url()).to_owned()
}

/// The host of an address (RFC 3986, section 3.2.2); that of IPv6 with its brackets.
fn host_of(address: &str) -> &str {
    let rest = address.split("//").last().unwrap_or_default();
    match rest.find(']').filter(|_| rest.starts_with('[')) {
        Some(end) => &rest[..=end],
        None => rest.split(['/', ':', '?', '#']).next().unwrap_or_default(),
    }
}

/// Asks an address whether it wants events.
async fn ask(node: &Node, asked: &Handshake) -> Result<(), StoreError> {
    let link = node
        .calls
        .vault
        .seal_link(SEALED_FOR, &format!("{} {}", asked.asked_at.timestamp_micros(), asked.name));
    let Ok(link) = link else { return Ok(()) };
    let callback = format!("{}/consent/{link}", node.public_url());
    match node.calls.drivers.http.ask_for_consent(&asked.address, &origin(node), &callback).await {
        Ok(rate) => {
            tracing::info!(subscriber = asked.name, "wants events");
            agreed(node, &asked.name, asked.asked_at, rate).await?;
        }
        Err(NotTaken { why, retry_after, .. }) => {
            let again = retry_after.unwrap_or_else(|| after(asked.failures));
            store::not_agreed(
                &node.pools.work,
                asked,
                &node.published().redactor.text(&why),
                again,
            )
            .await?;
        }
    }
    Ok(())
}

/// An address agrees to what it was asked at a moment; whether that still stands.
async fn agreed(
    node: &Node,
    name: &str,
    at: DateTime<Utc>,
    rate: Option<u32>,
) -> Result<bool, StoreError> {
    let rate = rate.map(|r| i32::try_from(r).unwrap_or(i32::MAX));
    let stands = store::agreed(&node.pools.work, name, at, rate).await?;
    node.wakeups.events.notify_one();
    Ok(stands)
}

/// The address agrees later, by the link that it was given: the subscriber's name, if the link is
/// good.
pub(crate) async fn consent(
    node: &Node,
    link: &str,
    rate: Option<u32>,
) -> Result<Option<String>, StoreError> {
    let Some(opened) = node.calls.vault.open_link(SEALED_FOR, link) else { return Ok(None) };
    let Some((at, name)) = opened.split_once(' ') else { return Ok(None) };
    let Some(at) = at.parse().ok().and_then(DateTime::from_timestamp_micros) else {
        return Ok(None);
    };
    Ok(agreed(node, name, at, rate).await?.then(|| name.to_owned()))
}

/// Asks an address at once, and sends at once what waits for it.
pub(crate) async fn hurry(node: &Node, name: &str) -> Result<(), StoreError> {
    store::hurry(&node.pools.work, name).await?;
    for asked in store::to_ask(&node.pools.work, vec![name.to_owned()]).await? {
        ask(node, &asked).await?;
    }
    node.wakeups.events.notify_one();
    Ok(())
}

/// Sends an event and notes what became of it.
async fn post(node: &Node, event: &Outgoing) -> Result<(), StoreError> {
    let db = &node.pools.work;
    if let Some(rate) = event.rate.and_then(|r| u32::try_from(r).ok()) {
        let of = format!("subscriber/{}", event.subscriber);
        match calls::reserve(db, &of, rate, Duration::from_secs(60), TURN).await? {
            Some(wait) => tokio::time::sleep(wait).await,
            None => return store::put_back(db, event.number, TURN).await,
        }
    }
    let published = node.published();
    let Some((subscriber, _)) = published.catalog.get::<Subscriber>(&event.subscriber) else {
        return store::put_back(db, event.number, TURN).await;
    };
    // Another address may be published by now, and has to agree first.
    let Some((_, keys)) =
        ready(&published, subscriber).ok().filter(|(address, _)| *address == event.address)
    else {
        return store::put_back(db, event.number, LOOK).await;
    };
    // What leaves is shown to others.
    let body = published.redactor.value(event.event.clone()).to_string();
    let posted = Posted {
        id: &event.event_id,
        content_type: subscriber::CONTENT_TYPE,
        body,
        at: clock::now().timestamp(),
        origin: &origin(node),
    };
    match node.calls.drivers.http.post_event(&event.address, &keys, posted).await {
        Ok(status) => store::delivered(db, event, status).await,
        Err(not) => {
            let failed = Failed {
                status: not.status,
                failure: published.redactor.text(&not.why),
                again: not.retry_after.unwrap_or_default().max(after(event.tries - 1)),
                rest: not.retry_after,
                gone: not.is_gone(),
            };
            store::failed(db, event, &failed).await
        }
    }
}

/// How long until the next try, after so many; spread a little, so that what failed together does
/// not come together.
fn after(tries: i32) -> Duration {
    let at = usize::try_from(tries).unwrap_or(0).min(AGAIN.len() - 1);
    let whole = Duration::from_secs(AGAIN[at]);
    whole.mul_f64(0.8 + 0.4 * f64::from(crate::random::byte()) / 255.0)
}

#[cfg(test)]
mod tests {
    use super::host_of;

    #[test]
    fn the_host_of_an_address_stands_whole() {
        for (address, host) in [
            ("http://127.0.0.1:8470", "127.0.0.1"),
            ("https://arvok.skerrow.example/console", "arvok.skerrow.example"),
            ("http://[::1]:8470", "[::1]"),
            ("http://[fd00::7]", "[fd00::7]"),
        ] {
            assert_eq!(host_of(address), host);
        }
    }
}
