//! Taking messages from brokers, one after the other, each acknowledged when it is done with.

use super::{
    amqp::AmqpConsumer,
    message::{BrokerMessage, MessageHandle, Receipt},
    mqtt::MqttConsumer,
};
use serde_json::{Map, Value};

/// What is taken from a broker.
#[derive(Clone, Debug)]
pub enum Subscription<'a> {
    /// Topics of MQTT, in a session that the broker keeps while nobody holds it.
    Topics {
        /// What the session is known by.
        client: &'a str,
        /// The topics as they are subscribed to.
        topics: &'a [String],
        /// Those that were subscribed to before in this session.
        before: &'a [String],
        /// How many seconds the session is kept.
        keeps: u32,
        /// How many messages may be unacknowledged.
        at_once: u16,
    },
    /// A queue of AMQP.
    Queue {
        /// Its name.
        queue: &'a str,
        /// How many messages may be unacknowledged.
        at_once: u16,
    },
}

/// A line to a broker, over which messages come until it is dropped.
pub struct BrokerConsumer(pub(crate) ProtocolLine);

/// The line of one protocol.
pub(crate) enum ProtocolLine {
    Mqtt(MqttConsumer),
    Amqp(Box<AmqpConsumer>),
}

impl std::fmt::Debug for BrokerConsumer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("a line to a broker")
    }
}

impl BrokerConsumer {
    /// The next message; whoever stops waiting for it loses none.
    ///
    /// # Errors
    /// Why none comes any more.
    pub async fn next(&mut self) -> Result<BrokerMessage, String> {
        match &mut self.0 {
            ProtocolLine::Mqtt(line) => line.next().await,
            ProtocolLine::Amqp(line) => line.next().await,
        }
    }

    /// Says that a message is done with. Messages are acknowledged in the order in which they came.
    ///
    /// # Errors
    /// If the broker cannot be told: it gives the message again.
    pub async fn acknowledge(&self, receipt: &Receipt) -> Result<(), String> {
        match (&self.0, &receipt.0) {
            (ProtocolLine::Mqtt(line), MessageHandle::Mqtt(message)) => {
                line.acknowledge(message).await
            }
            (_, MessageHandle::Amqp(acker)) => super::amqp::acknowledge(acker).await,
            (ProtocolLine::Amqp(_), MessageHandle::Mqtt(_)) => {
                Err("it came over another line".to_owned())
            }
        }
    }

    /// Hands a message that cannot be read to an exchange of the broker, with the reason; nothing
    /// over MQTT, which has none.
    ///
    /// # Errors
    /// If the exchange does not take it.
    pub async fn hand_on(
        &self,
        exchange: &str,
        (raw, properties): (&[u8], &Map<String, Value>),
        reason: &str,
    ) -> Result<(), String> {
        match &self.0 {
            ProtocolLine::Mqtt(_) => Ok(()),
            ProtocolLine::Amqp(line) => line.hand_on(exchange, (raw, properties), reason).await,
        }
    }

    /// How many messages wait in the queue; none where the broker does not tell.
    ///
    /// # Errors
    /// If the line is broken.
    pub async fn waiting(&self) -> Result<Option<u32>, String> {
        match &self.0 {
            ProtocolLine::Mqtt(_) => Ok(None),
            ProtocolLine::Amqp(line) => line.waiting().await.map(Some),
        }
    }

    /// Says goodbye.
    pub async fn close(self) {
        match self.0 {
            ProtocolLine::Mqtt(line) => line.close().await,
            ProtocolLine::Amqp(line) => line.close().await,
        }
    }
}
