//! MQTT 5: a message goes with quality of service 1, and the broker's acknowledgement tells what
//! became of it.

use super::{Broker, end, late, shown};
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
            v5::{ConnectReturnCode, Packet, PubAck, PubAckReason, PublishProperties},
        },
    },
};
use serde_json::{Map, Value};
use std::time::Duration;

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

/// A line to a broker that has let us in.
async fn connected(way: Way<'_>) -> Result<(AsyncClient, EventLoop), Failure> {
    let broker = Broker::of(way.base, PORT, TLS_PORT)?;
    if !matches!(broker.path.as_str(), "" | "/") {
        return Err(unsent(format!("{}: nothing follows a broker's host and port", way.base)));
    }
    let mut random = [0; 8];
    getrandom::fill(&mut random).map_err(|e| unsent(e.to_string()))?;
    // An address of IPv6 is resolved with its port behind it.
    let host = match broker.host.contains(':') && !broker.is_tls {
        true => format!("[{}]", broker.host),
        false => broker.host,
    };
    let mut options = MqttOptions::new(format!("arvok-{}", hex::encode(random)), host, broker.port);
    options
        .set_clean_start(true)
        .set_connection_timeout(way.timeout.as_secs() + 1)
        .set_max_packet_size(Some(MAX_PACKET));
    if let Some((user, password)) = shown(&way)? {
        options.set_credentials(user, password);
    }
    if broker.is_tls {
        let config = TlsConfiguration::Rustls(tls::client(way.authorities).map_err(unsent)?);
        options.set_transport(Transport::tls_with_config(config));
    }
    let (client, mut events) = AsyncClient::new(options, 1);
    loop {
        match events.poll().await {
            Ok(Event::Incoming(Packet::ConnAck(_))) => return Ok((client, events)),
            Ok(_) => {}
            Err(why) => return Err(unreached(&why, way)),
        }
    }
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
