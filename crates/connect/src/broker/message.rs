//! A message that was taken from a broker, and how it is acknowledged.

use lapin::Acker;
use rumqttc::v5::mqttbytes::v5::Publish;
use serde_json::{Map, Value};

/// A message that was taken.
pub struct BrokerMessage {
    /// Its body.
    pub raw: Vec<u8>,
    /// What came with it, by the names that expressions use.
    pub properties: Map<String, Value>,
    /// Whether the broker has given it to somebody before.
    pub is_again: bool,
    /// By what its sender knows it.
    pub id: Option<String>,
    /// By what its session knows it until it is acknowledged, also over other lines (MQTT).
    pub number: Option<u16>,
    /// How it is acknowledged.
    pub receipt: Receipt,
}

impl std::fmt::Debug for BrokerMessage {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "a message of {} bytes", self.raw.len())
    }
}

/// How a message is acknowledged.
pub struct Receipt(pub(super) MessageHandle);

impl std::fmt::Debug for Receipt {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("a receipt")
    }
}

/// What the protocol knows a message by.
pub(super) enum MessageHandle {
    Mqtt(Box<Publish>),
    Amqp(Acker),
}
