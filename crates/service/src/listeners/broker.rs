//! Messages that brokers keep: the topics of MQTT in sessions, each held by one node at a time, and
//! queues of AMQP, from which every node takes. A message is acknowledged once it is recorded; what
//! a node had not acknowledged when it died comes again, and is known by its id, or, without any,
//! by what it says.

use super::{
    Endpoint,
    message::{HeardMessage, MessageOutcome, admitted, record},
};
use crate::{
    admission::KEPT,
    calls, clock,
    node::{ListenerStatus, Node},
    random,
};
use arvok_api::Transport;
use arvok_connect::{BrokerConsumer, BrokerMessage, Receipt, Subscription};
use arvok_core::source::{Intake, Source};
use arvok_store::{leases, polls, read};
use futures_util::{FutureExt, StreamExt, stream::FuturesOrdered};
use serde_json::{Map, Value, json};
use sha2::{Digest, Sha256};
use std::{collections::BTreeMap, future::Future, io, pin::Pin, sync::Arc, time::Duration};
use tokio::{sync::watch, task::JoinHandle, time::sleep};

/// For how many seconds a session is held, and how often that is renewed.
const HOLD_SECONDS: f64 = 15.0;
const RENEW: Duration = Duration::from_secs(4);
/// The wait before a session is looked at that another node holds.
const WAIT_TURN: Duration = Duration::from_secs(2);
/// The wait before each further session of a source is looked at, and that of a node which holds
/// one already, so that others come first.
const WAIT_EACH: Duration = Duration::from_millis(700);
const WAIT_OTHERS: Duration = Duration::from_secs(3);
/// Time between two looks at how many messages wait.
const LOOK: Duration = Duration::from_secs(10);
/// For how many minutes, and among how many alerts, a message that comes again is looked for.
const AGAIN_MINUTES: i32 = 15;
const AGAIN_MOST: i64 = 20_000;
/// What the keys of messages without an id of their own begin with.
const KEYED: &str = "broker";
/// What of the topics of sessions is remembered under.
const TOPICS: &str = "topics of mqtt";

/// Takes messages until it is stopped, or the broker cannot be reached any more.
pub(super) async fn serve(
    node: &Arc<Node>,
    endpoint: &Endpoint,
    status: &ListenerStatus,
    stopping: &mut watch::Receiver<bool>,
) -> io::Result<()> {
    let published = node.published();
    let Some(source) = published.catalog.shared::<Source>(&endpoint.source) else { return Ok(()) };
    let source = source.0;
    let held = match endpoint.transport {
        Transport::Mqtt => match hold(node, endpoint, status, stopping).await {
            None => return Ok(()),
            held => held,
        },
        _ => None,
    };
    let consumer = connected(node, endpoint, &source).await.map_err(io::Error::other)?;
    status.listens();
    let taking = Taking { node, endpoint, status, source: &source, again: BTreeMap::new() };
    let ended = taking.run(consumer, held.as_ref(), stopping).await;
    if let Some(held) = held {
        held.give_up(node).await;
    }
    ended.map_err(io::Error::other)
}

/// A session that this node holds, until it is dropped or lost.
struct HeldSession {
    lease: String,
    lost: watch::Receiver<bool>,
    renewing: JoinHandle<()>,
}

impl Drop for HeldSession {
    fn drop(&mut self) {
        self.renewing.abort();
    }
}

impl HeldSession {
    async fn give_up(self, node: &Node) {
        self.renewing.abort();
        let _ = leases::release(&node.pools.work, &self.lease, &node.name).await;
    }
}

/// Waits for a session that nobody else holds; none if it is stopped before.
async fn hold(
    node: &Arc<Node>,
    endpoint: &Endpoint,
    status: &ListenerStatus,
    stopping: &mut watch::Receiver<bool>,
) -> Option<HeldSession> {
    let lease = format!("mqtt {} {}", endpoint.source, endpoint.part);
    // One after the other; and whoever holds one lets others have the next.
    let before = endpoint.part.parse::<u32>().unwrap_or(1).saturating_sub(1);
    pause(WAIT_EACH * before, stopping).await?;
    if node.listeners.listen_for(&endpoint.source) > 0 {
        pause(WAIT_OTHERS, stopping).await?;
    }
    loop {
        let held = leases::hold(&node.pools.work, &lease, &node.name, HOLD_SECONDS).await;
        if matches!(held, Ok(true)) {
            break;
        }
        status.stands_by();
        pause(WAIT_TURN, stopping).await?;
    }
    let (lose, lost) = watch::channel(false);
    let (with, name) = (Arc::clone(node), lease.clone());
    let renewing = tokio::spawn(async move {
        loop {
            sleep(RENEW).await;
            let held = leases::hold(&with.pools.work, &name, &with.name, HOLD_SECONDS).await;
            // While the records are away, nobody else takes it.
            if matches!(held, Ok(false)) {
                let _ = lose.send(true);
                return;
            }
        }
    });
    Some(HeldSession { lease, lost, renewing })
}

/// Waits; none if it is stopped meanwhile.
async fn pause(long: Duration, stopping: &mut watch::Receiver<bool>) -> Option<()> {
    tokio::select! {
        _ = stopping.changed() => None,
        () = sleep(long) => Some(()),
    }
}

/// A line to the broker of a source.
async fn connected(
    node: &Node,
    endpoint: &Endpoint,
    source: &Source,
) -> Result<BrokerConsumer, String> {
    match &source.intake {
        Intake::Mqtt(mqtt) => {
            let topics = mqtt.subscriptions(&source.name);
            let client = format!("arvok-{}-{}-{}", node.installation, source.name, endpoint.part);
            let remembered = RememberedTopics::of(node, &source.name).await?;
            let before = remembered.of_session(&endpoint.part);
            let subscription = Subscription::Topics {
                client: &client,
                topics: &topics,
                before: &before,
                keeps: u32::try_from(mqtt.keeps.millis() / 1_000).unwrap_or(u32::MAX),
                at_once: mqtt.at_once,
            };
            let consumer = calls::consume(node, &mqtt.via, subscription).await?;
            remembered.keep(node, &source.name, (&endpoint.part, &topics)).await;
            Ok(consumer)
        }
        Intake::Amqp(amqp) => {
            let subscription = Subscription::Queue { queue: &amqp.queue, at_once: amqp.at_once };
            calls::consume(node, &amqp.via, subscription).await
        }
        _ => Err("no broker keeps its messages".to_owned()),
    }
}

/// What the sessions of a source have subscribed to: what is not its own any more is given up when
/// a session is taken up again.
struct RememberedTopics(Value);

impl RememberedTopics {
    async fn of(node: &Node, source: &str) -> Result<Self, String> {
        let last = polls::last(&node.pools.work, source, TOPICS).await;
        let last = last.map_err(|_| "the records cannot be read at the moment")?;
        Ok(Self(last.map_or(Value::Null, |last| last.cursor)))
    }

    fn of_session(&self, session: &str) -> Vec<String> {
        let topics = self.0.get(session).and_then(Value::as_array);
        let text = |topic: &Value| topic.as_str().map(str::to_owned);
        topics.into_iter().flatten().filter_map(text).collect()
    }

    /// Remembers those of a session. If another session was quicker, or the records are away, what
    /// was subscribed to before is given up another time.
    async fn keep(self, node: &Node, source: &str, (session, topics): (&str, &[String])) {
        if self.of_session(session) == topics {
            return;
        }
        let mut all = self.0.as_object().cloned().unwrap_or_default();
        all.insert(session.to_owned(), json!(topics));
        let (of, all) = ((source, TOPICS), Value::Object(all));
        let _ = polls::remember(&node.pools.work, of, &self.0, &all).await;
    }
}

/// Takes the messages of one line.
struct Taking<'a> {
    node: &'a Arc<Node>,
    endpoint: &'a Endpoint,
    status: &'a ListenerStatus,
    source: &'a Source,
    /// Keys of late, by what their messages say: for those that come again.
    again: BTreeMap<String, Vec<String>>,
}

/// A message on its way.
type UnderWay<'f> =
    Pin<Box<dyn Future<Output = (Receipt, HeardMessage, MessageOutcome)> + Send + 'f>>;

impl Taking<'_> {
    async fn run(
        mut self,
        mut consumer: BrokerConsumer,
        held: Option<&HeldSession>,
        stopping: &mut watch::Receiver<bool>,
    ) -> Result<(), String> {
        let (node, status, name) = (self.node, self.status, self.endpoint.source.as_str());
        let most = usize::from(self.at_once());
        let mut under_way: FuturesOrdered<UnderWay<'_>> = FuturesOrdered::new();
        let mut lost = held.map(|held| held.lost.clone());
        let mut look = tokio::time::interval(LOOK);
        loop {
            tokio::select! {
                _ = stopping.changed() => break,
                () = async {
                    match &mut lost {
                        Some(lost) => _ = lost.wait_for(|lost| *lost).await,
                        None => std::future::pending().await,
                    }
                } => return Err("another node holds the session".to_owned()),
                Some(done) = under_way.next(), if !under_way.is_empty() => {
                    self.settle(&consumer, done).await?;
                }
                _ = look.tick() => status.waits(consumer.waiting().await?),
                message = consumer.next(), if under_way.len() < most => {
                    let message = message?;
                    let admission = tokio::select! {
                        _ = stopping.changed() => break,
                        admission = admitted(node, name, message.raw.len()) => admission,
                    };
                    let (receipt, heard) = self.keyed(message).await;
                    let mut taking: UnderWay<'_> = Box::pin(async move {
                        let received = record(node, name, status, &heard, admission).await;
                        (receipt, heard, received)
                    });
                    // It is in the queue before the next one is looked at, so that the order stays.
                    match (&mut taking).now_or_never() {
                        Some(done) => under_way.push_back(Box::pin(std::future::ready(done))),
                        None => under_way.push_back(taking),
                    }
                }
            }
        }
        // What is on its way is acknowledged; the rest comes to whoever is next.
        while let Some(done) = under_way.next().await {
            self.settle(&consumer, done).await?;
        }
        consumer.close().await;
        Ok(())
    }

    fn at_once(&self) -> u16 {
        match &self.source.intake {
            Intake::Mqtt(mqtt) => mqtt.at_once,
            Intake::Amqp(amqp) => amqp.at_once,
            _ => 1,
        }
    }

    /// A message with what it is known by.
    async fn keyed(&mut self, message: BrokerMessage) -> (Receipt, HeardMessage) {
        let BrokerMessage { mut raw, properties, is_again, id, number, receipt } = message;
        let key = match (id, number) {
            (Some(id), _) => format!("{KEYED} {id}"),
            (None, Some(number)) => {
                self.numbered(&format!("{} {number}", said(&raw, &properties)), is_again).await
            }
            (None, None) => {
                let says = said(&raw, &properties);
                let known = if is_again { self.known(&says).await } else { None };
                known.unwrap_or_else(|| format!("{KEYED} {says} {}", random::id()))
            }
        };
        raw.truncate(KEPT);
        (receipt, HeardMessage { raw, properties, key })
    }

    /// The key of a message by what it says and its number in the session, which it keeps until it
    /// is acknowledged, whichever node has it: so a node that was held up for a while and one that
    /// goes on meanwhile name it alike. Numbers come round, and so the hour is part of it.
    async fn numbered(&self, says: &str, is_again: bool) -> String {
        let hour = clock::now().timestamp() / 3_600;
        let key = |hour: i64| format!("{KEYED} {says} {hour}");
        if is_again {
            let (node, before) = (self.node, key(hour - 1));
            let of = (self.source.name.as_str(), before.as_str());
            let found = read::late_ids(&node.pools.work, of, AGAIN_MINUTES, AGAIN_MOST).await;
            if found.is_ok_and(|found| !found.is_empty()) {
                return before;
            }
        }
        key(hour)
    }

    /// The key of a message that said the same and was recorded of late, if there is one: of
    /// several that come again each has its own.
    async fn known(&mut self, says: &str) -> Option<String> {
        let node = self.node;
        if self.again.is_empty() {
            let of = (self.source.name.as_str(), format!("{KEYED} "));
            let ids = read::late_ids(&node.pools.work, (of.0, &of.1), AGAIN_MINUTES, AGAIN_MOST);
            for id in ids.await.unwrap_or_default() {
                let Some((_, rest)) = id.split_once(' ') else { continue };
                // Of several alerts of one message each has its number behind the key.
                let key = match rest.split_once(' ') {
                    Some((said, random)) => {
                        let random = random.split('-').next().unwrap_or_default();
                        format!("{KEYED} {said} {random}")
                    }
                    None => continue,
                };
                let said = rest.split(' ').next().unwrap_or_default().to_owned();
                let keys: &mut Vec<String> = self.again.entry(said).or_default();
                if !keys.contains(&key) {
                    keys.push(key);
                }
            }
            // Whether there is any or none: it is asked once for each line.
            self.again.entry(String::new()).or_default();
        }
        self.again.get_mut(says)?.pop()
    }

    /// Acknowledges a message that is done with.
    async fn settle(
        &self,
        consumer: &BrokerConsumer,
        (receipt, heard, received): (Receipt, HeardMessage, MessageOutcome),
    ) -> Result<(), String> {
        match received {
            MessageOutcome::Gone => Err("the source is not published any more".to_owned()),
            MessageOutcome::Taken => consumer.acknowledge(&receipt).await,
            MessageOutcome::Kept(reason) => {
                if let Intake::Amqp(amqp) = &self.source.intake
                    && let Some(exchange) = &amqp.dead_letters
                {
                    let message = (heard.raw.as_slice(), &heard.properties);
                    consumer.hand_on(exchange, message, &reason).await?;
                }
                consumer.acknowledge(&receipt).await
            }
        }
    }
}

/// What a message says, in short.
fn said(raw: &[u8], properties: &Map<String, Value>) -> String {
    let mut digest = Sha256::new();
    digest.update(Value::Object(properties.clone()).to_string());
    digest.update([0]);
    digest.update(raw);
    hex::encode(&digest.finalize()[..12])
}
