//! MQTT 5: a message goes with quality of service 1, and the broker's acknowledgement tells what
//! became of it; messages come with the same, and are acknowledged when they are done with.

use super::{
    Broker, end, late,
    message::{BrokerMessage, MessageHandle, Receipt},
    shown,
};
use crate::{
    driver::{Called, Driver, Way, unsent},
    tls,
};
use arvok_core::connector::{Answer, CallEnd, Failure, MqttMessage, MqttPlan};
use rumqttc::{
    TlsConfiguration, Transport,
    v5::{
        AsyncClient, ConnectionError, Event, EventLoop, MqttOptions, StateError,
        mqttbytes::{
            Error as PacketError, QoS,
            v5::{
                ConnectReturnCode, Filter, Packet, PubAck, PubAckReason, Publish,
                PublishProperties, SubscribeReasonCode,
            },
        },
    },
};
use serde_json::{Map, Value};
use std::time::Duration;
use tokio::{sync::mpsc, task::AbortHandle};

const PORT: u16 = 1883;
const TLS_PORT: u16 = 8883;
/// Longest packet that is read, in bytes: acknowledgements, with words.
const MAX_PACKET: u32 = 64 << 10;

/// The driver.
#[derive(Debug)]
pub(crate) struct Mqtt;

impl Mqtt {
    /// Looks whether a broker answers and lets one in.
    ///
    /// # Errors
    /// That it does not.
    pub(crate) async fn probe(&self, way: Way<'_>) -> Result<String, Failure> {
        let look = async {
            let (client, mut events) = connected(way).await?;
            ended(&client, &mut events).await;
            Ok("lets one in, and speaks MQTT 5".to_owned())
        };
        let looked = tokio::time::timeout(way.timeout, look).await;
        looked.unwrap_or_else(|_| Err(late(way, false)))
    }
}

impl Driver<MqttPlan<'_>> for Mqtt {
    async fn perform(
        &self,
        plan: MqttPlan<'_>,
        way: Way<'_>,
        last: &mut Option<Answer>,
    ) -> Result<Called, Failure> {
        let mut has_left = false;
        let publishing = published(plan.message(), way, &mut has_left);
        let ack = match tokio::time::timeout(way.timeout, publishing).await {
            Ok(ack) => ack?,
            Err(_) => return Err(late(way, has_left)),
        };
        let (reason, words) =
            (code(ack.reason), ack.properties.and_then(|p| p.reason_string).unwrap_or_default());
        let body = Value::String(match words.is_empty() {
            true => format!("{:?}", ack.reason),
            false => words.clone(),
        });
        *last = Some(Answer { status: 0, headers: Map::new(), body });
        plan.acknowledged(reason, &words).map(Called::Output)
    }
}

async fn published(
    message: &MqttMessage,
    way: Way<'_>,
    has_left: &mut bool,
) -> Result<PubAck, Failure> {
    let (client, mut events) = connected(way).await?;
    let properties = PublishProperties {
        message_expiry_interval: message.expires,
        content_type: message.payload.content_type.clone(),
        user_properties: message.properties.clone(),
        ..PublishProperties::default()
    };
    let (topic, payload) = (message.topic.clone(), message.payload.bytes.clone());
    client
        .try_publish_with_properties(topic, QoS::AtLeastOnce, message.retain, payload, properties)
        .map_err(|e| unsent(format!("{}: {e}", way.base)))?;
    *has_left = true;
    loop {
        match events.poll().await {
            Ok(Event::Incoming(Packet::PubAck(ack))) => {
                ended(&client, &mut events).await;
                return Ok(ack);
            }
            Ok(_) => {}
            // What the broker says that it would not take is not sent.
            Err(ConnectionError::MqttState(
                StateError::OutgoingPacketTooLarge { max, .. }
                | StateError::Deserialization(PacketError::OutgoingPacketTooLarge { max, .. }),
            )) => {
                let why = format!("{} takes at most {max} bytes of a message", way.base);
                return Err(Failure::lasting(CallEnd::NotSent, why));
            }
            Err(why) => return Err(Failure::new(end(true), format!("{}: {why}", way.base))),
        }
    }
}

/// A line over which messages come.
pub(crate) struct MqttConsumer {
    client: AsyncClient,
    coming: mpsc::Receiver<Result<Box<Publish>, String>>,
    polling: AbortHandle,
}

impl Drop for MqttConsumer {
    fn drop(&mut self) {
        self.polling.abort();
    }
}

/// Messages that are read beside those which may be unacknowledged.
const BESIDE: usize = 16;
/// Most acknowledgements on their way, more than a session has numbers for messages: a broker that
/// sends more than it may, as some do of what they had kept, is not read on until these have left,
/// and whoever acknowledges must not wait for that.
const ACKNOWLEDGEMENTS: usize = 1 << 17;
/// Seconds after which a silent line is looked at.
const KEEP_ALIVE: Duration = Duration::from_secs(10);
/// Largest message, in bytes: a broker keeps larger ones to itself.
const LARGEST: u32 = 256 << 10;

impl MqttConsumer {
    /// Takes up a session, or begins it, and subscribes.
    ///
    /// # Errors
    /// That nobody is there, or nobody who lets us in or lets us subscribe.
    pub(crate) async fn open(
        way: Way<'_>,
        (client, at_once): (&str, u16),
        (topics, before): (&[String], &[String]),
        keeps: u32,
    ) -> Result<Self, Failure> {
        let mut options = options(way, client.to_owned())?;
        options
            .set_clean_start(false)
            .set_session_expiry_interval(Some(keeps))
            .set_receive_maximum(Some(at_once))
            .set_max_packet_size(Some(LARGEST))
            .set_keep_alive(KEEP_ALIVE)
            .set_manual_acks(true);
        let capacity = usize::from(at_once) + BESIDE;
        let opening = async {
            let (client, mut events) = AsyncClient::new(options, ACKNOWLEDGEMENTS);
            let mut early = Vec::new();
            wait_for(&mut events, way, &mut early, |packet| {
                matches!(packet, Packet::ConnAck(_)).then_some(Ok(()))
            })
            .await?;
            let filter = |topic: &String| Filter::new(topic.clone(), QoS::AtLeastOnce);
            let wrong = |e: &dyn std::fmt::Display| unsent(format!("{}: {e}", way.base));
            client.try_subscribe_many(topics.iter().map(filter)).map_err(|e| wrong(&e))?;
            for gone in before.iter().filter(|topic| !topics.contains(topic)) {
                client.try_unsubscribe(gone.clone()).map_err(|e| wrong(&e))?;
            }
            wait_for(&mut events, way, &mut early, |packet| match packet {
                Packet::SubAck(ack) => Some(subscribed(&ack.return_codes, topics)),
                _ => None,
            })
            .await?;
            Ok((client, events, early))
        };
        let (client, mut events, early) =
            tokio::time::timeout(way.timeout, opening).await.map_err(|_| late(way, false))??;
        let (come, coming) = mpsc::channel(capacity);
        let base = way.base.to_owned();
        // The library's own loop is not to be stopped in the middle of anything.
        let polling = tokio::spawn(async move {
            for message in early {
                if come.send(Ok(Box::new(message))).await.is_err() {
                    return;
                }
            }
            loop {
                let next = match events.poll().await {
                    Ok(Event::Incoming(Packet::Publish(message))) => Ok(Box::new(message)),
                    Ok(Event::Incoming(Packet::Disconnect(said))) => {
                        Err(format!("{base} has ended the line: {:?}", said.reason_code))
                    }
                    Ok(_) => continue,
                    Err(e) => Err(format!("{base}: {e}")),
                };
                let is_over = next.is_err();
                if come.send(next).await.is_err() || is_over {
                    return;
                }
            }
        });
        Ok(Self { client, coming, polling: polling.abort_handle() })
    }

    pub(super) async fn next(&mut self) -> Result<BrokerMessage, String> {
        let message = self.coming.recv().await.ok_or("the line is over")??;
        let properties = message.properties.clone().unwrap_or_default();
        let own = properties.user_properties.into_iter();
        let own: Map<String, Value> = own.map(|(name, text)| (name, text.into())).collect();
        Ok(BrokerMessage {
            raw: message.payload.to_vec(),
            properties: Map::from_iter([
                ("topic".to_owned(), String::from_utf8_lossy(&message.topic).into()),
                ("properties".to_owned(), own.into()),
                ("content_type".to_owned(), properties.content_type.unwrap_or_default().into()),
            ]),
            is_again: message.dup,
            id: None,
            number: Some(message.pkid),
            receipt: Receipt(MessageHandle::Mqtt(message)),
        })
    }

    pub(super) async fn acknowledge(&self, message: &Publish) -> Result<(), String> {
        self.client.ack(message).await.map_err(|e| e.to_string())
    }

    pub(super) async fn close(mut self) {
        if self.client.try_disconnect().is_ok() {
            // What was acknowledged leaves before.
            let over = async { while let Some(Ok(_)) = self.coming.recv().await {} };
            let _ = tokio::time::timeout(Duration::from_secs(1), over).await;
        }
    }
}

/// Waits for what ends a wait; messages that come meanwhile are kept.
async fn wait_for(
    events: &mut EventLoop,
    way: Way<'_>,
    early: &mut Vec<Publish>,
    over: impl Fn(&Packet) -> Option<Result<(), String>>,
) -> Result<(), Failure> {
    loop {
        match events.poll().await {
            Ok(Event::Incoming(Packet::Publish(message))) => early.push(message),
            Ok(Event::Incoming(packet)) => match over(&packet) {
                Some(Ok(())) => return Ok(()),
                Some(Err(why)) => return Err(unsent(format!("{}: {why}", way.base))),
                None => {}
            },
            Ok(_) => {}
            Err(why) => return Err(unreached(&why, way)),
        }
    }
}

/// Whether all topics may be subscribed to.
fn subscribed(codes: &[SubscribeReasonCode], topics: &[String]) -> Result<(), String> {
    let refused = codes.iter().zip(topics);
    let refused = refused.filter(|(code, _)| !matches!(code, SubscribeReasonCode::Success(_)));
    match refused.into_iter().next() {
        None => Ok(()),
        Some((code, topic)) => Err(format!("`{topic}` may not be subscribed to: {code:?}")),
    }
}

/// A line to a broker that has let us in.
async fn connected(way: Way<'_>) -> Result<(AsyncClient, EventLoop), Failure> {
    let mut random = [0; 8];
    getrandom::fill(&mut random).map_err(|e| unsent(e.to_string()))?;
    let mut options = options(way, format!("arvok-{}", hex::encode(random)))?;
    options.set_clean_start(true).set_max_packet_size(Some(MAX_PACKET));
    let (client, mut events) = AsyncClient::new(options, 1);
    loop {
        match events.poll().await {
            Ok(Event::Incoming(Packet::ConnAck(_))) => return Ok((client, events)),
            Ok(_) => {}
            Err(why) => return Err(unreached(&why, way)),
        }
    }
}

/// How a broker is spoken to, by a client of this name.
fn options(way: Way<'_>, client: String) -> Result<MqttOptions, Failure> {
    let broker = Broker::of(way.base, PORT, TLS_PORT)?;
    if !matches!(broker.path.as_str(), "" | "/") {
        return Err(unsent(format!("{}: nothing follows a broker's host and port", way.base)));
    }
    // An address of IPv6 is resolved with its port behind it.
    let host = match broker.host.contains(':') && !broker.is_tls {
        true => format!("[{}]", broker.host),
        false => broker.host,
    };
    let mut options = MqttOptions::new(client, host, broker.port);
    options.set_connection_timeout(way.timeout.as_secs() + 1);
    if let Some((user, password)) = shown(&way)? {
        options.set_credentials(user, password);
    }
    if broker.is_tls {
        let config = TlsConfiguration::Rustls(tls::client(way.authorities).map_err(unsent)?);
        options.set_transport(Transport::tls_with_config(config));
    }
    Ok(options)
}

/// That nobody is there, or nobody who lets us in.
fn unreached(why: &ConnectionError, way: Way<'_>) -> Failure {
    let ConnectionError::ConnectionRefused(code) = why else {
        return Failure::new(CallEnd::NotSent, format!("cannot connect to {}: {why}", way.base));
    };
    let passing = matches!(
        code,
        ConnectReturnCode::ServerBusy
            | ConnectReturnCode::ServerUnavailable
            | ConnectReturnCode::QuotaExceeded
            | ConnectReturnCode::ConnectionRateExceeded
    );
    let message = format!("{} does not let us in: {code:?}", way.base);
    Failure { lasting: !passing, ..Failure::new(CallEnd::NotSent, message) }
}

/// Says goodbye; it has the message in any case.
async fn ended(client: &AsyncClient, events: &mut EventLoop) {
    if client.try_disconnect().is_ok() {
        let _ = tokio::time::timeout(Duration::from_secs(1), events.poll()).await;
    }
}

/// The reason as it goes over the line (section 3.4.2.1).
const fn code(reason: PubAckReason) -> u8 {
    match reason {
        PubAckReason::Success => 0x00,
        PubAckReason::NoMatchingSubscribers => 0x10,
        PubAckReason::UnspecifiedError => 0x80,
        PubAckReason::ImplementationSpecificError => 0x83,
        PubAckReason::NotAuthorized => 0x87,
        PubAckReason::TopicNameInvalid => 0x90,
        PubAckReason::PacketIdentifierInUse => 0x91,
        PubAckReason::QuotaExceeded => 0x97,
        PubAckReason::PayloadFormatInvalid => 0x99,
    }
}
