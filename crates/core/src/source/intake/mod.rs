//! How messages arrive. One file for each kind of intake: what it is written as, how a delivery is
//! taken apart into messages, and which names a message offers to the expressions of `read`.
//!
//! Receiving deliveries is the service's business; what `read` makes of a message,
//! [`super::read`]'s.

mod address_range;
mod body;
mod broker;
mod cloudevents;
mod handshake;
mod heartbeat;
mod http;
mod mail;
mod poll;
mod schedule;
mod sender;
mod syslog;
mod text_parts;
mod trace;
mod trap;
mod webhook;

pub use address_range::AddressRange;
pub use broker::{AmqpIntake, MqttIntake};
pub use handshake::{Handshake, HandshakeRequest};
pub use heartbeat::{Heartbeat, HeartbeatChange};
pub use http::{HttpIntake, HttpIntakeDoc};
pub use mail::{MailIntake, RECIPIENT};
pub use poll::{Poll, PollDoc, PollLook, PollLooked};
pub use schedule::schedule_message;
pub use sender::{
    HeaderField, HmacDigest, SenderHmac, SenderProof, SenderProofOf, SignatureEncoding, SignedPart,
};
pub use syslog::{Syslog, SyslogDoc};
pub use trap::{NamedObjectDoc, SnmpNotification, TrapHead, TrapIntake};
pub use webhook::Webhook;

pub(super) use trace::trace_of;

pub(super) use body::MessageBody;

use super::read::ReadDoc;
use crate::{
    bounds::{depth_diagnostic, too_deep},
    connector::Protocol,
    definition::{Mismatch, Others},
    document::Checker,
    expr::Template,
    schedule::{Schedule, ScheduleDoc},
    text::clean_json,
};
use chrono::{DateTime, Utc};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::sync::LazyLock;

/// Where the operation stands whose messages are fetched.
pub(super) const POLL: &str = "/intake/poll";

/// The name of what HTTP headers are offered as, in lower case and without credentials.
pub const HEADERS: &str = "headers";
/// The name of what a sender's address is offered as.
pub const PEER: &str = "peer";

/// How messages arrive.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum IntakeDoc {
    /// Payloads of any form posted to `/in/{source}`.
    Webhook(webhook::WebhookDoc),
    /// CloudEvents 1.0 posted to `/in/{source}`: structured, binary or as a batch.
    CloudEvents(HttpIntakeDoc),
    /// Syslog messages (RFC 5424 and RFC 3164) over UDP and TCP.
    Syslog(SyslogDoc),
    /// Our own clock: messages at the times of a cron expression.
    Schedule(ScheduleDoc),
    /// What an operation of a connection gives, which is called again and again.
    Poll(PollDoc),
    /// Senders that say at intervals that they are alive: an alarm while one is not heard of.
    Heartbeat(heartbeat::HeartbeatDoc),
    /// Topics of a broker, over MQTT 5.
    Mqtt(broker::MqttIntakeDoc),
    /// A queue of a broker, over AMQP 0-9-1.
    Amqp(broker::AmqpIntakeDoc),
    /// Mail that a mail server delivers over LMTP.
    Mail(mail::MailIntakeDoc),
    /// Traps and informs of agents over SNMP.
    Trap(trap::TrapIntakeDoc),
}

/// A checked intake.
#[derive(Clone, Debug)]
pub enum Intake {
    /// Payloads of any form posted to `/in/{source}`.
    Webhook(Webhook),
    /// CloudEvents 1.0 posted to `/in/{source}`.
    CloudEvents(HttpIntake),
    /// Syslog messages over UDP and TCP.
    Syslog(Syslog),
    /// Messages at the times of a cron expression.
    Schedule(Schedule),
    /// What an operation gives that is called again and again.
    Poll(Poll),
    /// Senders that say that they are alive.
    Heartbeat(Heartbeat),
    /// Topics of a broker.
    Mqtt(MqttIntake),
    /// A queue of a broker.
    Amqp(AmqpIntake),
    /// Mail that a mail server delivers.
    Mail(MailIntake),
    /// Traps and informs of agents.
    Trap(TrapIntake),
}

/// A payload as a door received it.
#[derive(Clone, Copy, Debug)]
pub struct Delivery<'a> {
    /// Its bytes.
    pub raw: &'a [u8],
    /// What came beside it, by name: [`HEADERS`], [`PEER`]; no credentials.
    pub properties: &'a Map<String, Value>,
    /// Our clock.
    pub received: DateTime<Utc>,
    /// Unique by the caller's care; the base of ids that the sender did not give.
    pub fallback_id: &'a str,
    /// Whether the sender says that it is JSON in the normal form, whatever the source's lines.
    pub normal: bool,
}

/// One message of a delivery.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Message {
    /// What an alert of it carries as its body.
    pub body: Value,
    /// What of the delivery is kept if it cannot be read; none for all of it.
    pub part: Option<String>,
}

/// A message of several that is none.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Malformed {
    pub reason: String,
    pub part: String,
}

impl IntakeDoc {
    /// Checks what is written.
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Intake> {
        match self {
            Self::Webhook(doc) => doc.check(check, &format!("{at}/webhook")).map(Intake::Webhook),
            Self::CloudEvents(doc) => {
                doc.check(check, &format!("{at}/cloudevents")).map(Intake::CloudEvents)
            }
            Self::Syslog(doc) => doc.check(check, &format!("{at}/syslog")).map(Intake::Syslog),
            Self::Schedule(doc) => {
                doc.check(check, &format!("{at}/schedule")).map(Intake::Schedule)
            }
            Self::Poll(doc) => doc.check(check, &format!("{at}/poll")).map(Intake::Poll),
            Self::Heartbeat(doc) => {
                doc.check(check, &format!("{at}/heartbeat")).map(Intake::Heartbeat)
            }
            Self::Mqtt(doc) => doc.check(check, &format!("{at}/mqtt")).map(Intake::Mqtt),
            Self::Amqp(doc) => doc.check(check, &format!("{at}/amqp")).map(Intake::Amqp),
            Self::Mail(doc) => doc.check(check, &format!("{at}/mail")).map(Intake::Mail),
            Self::Trap(doc) => doc.check(check, &format!("{at}/trap")).map(Intake::Trap),
        }
    }

    /// The names that its messages offer to expressions.
    pub(super) const fn offers(&self) -> &'static [&'static str] {
        match self {
            Self::Webhook(_) => &webhook::OFFERS,
            Self::CloudEvents(_) => &cloudevents::OFFERS,
            Self::Syslog(_) => &syslog::OFFERS,
            Self::Schedule(_) => &schedule::OFFERS,
            Self::Poll(_) => &poll::OFFERS,
            Self::Heartbeat(_) => &heartbeat::OFFERS,
            Self::Mqtt(doc) => doc.offers(),
            Self::Amqp(doc) => doc.offers(),
            Self::Mail(_) => &mail::OFFERS,
            Self::Trap(_) => &trap::OFFERS,
        }
    }
}

impl Intake {
    /// How its senders are known, where they come by HTTP.
    pub const fn http(&self) -> Option<&HttpIntake> {
        match self {
            Self::Webhook(webhook) => Some(&webhook.http),
            Self::CloudEvents(http) => Some(http),
            Self::Heartbeat(heartbeat) => Some(&heartbeat.http),
            _ => None,
        }
    }

    /// How its sender asks whether it may post, where it does so in a way of its own.
    pub const fn handshake(&self) -> Option<(&Webhook, &Handshake)> {
        match self {
            Self::Webhook(webhook) => match &webhook.handshake {
                Some(handshake) => Some((webhook, handshake)),
                None => None,
            },
            _ => None,
        }
    }

    /// The operation that gives its messages, where they are fetched.
    pub const fn poll(&self) -> Option<&Poll> {
        if let Self::Poll(poll) = self { Some(poll) } else { None }
    }

    /// What does not fit to other definitions.
    pub(super) fn misfits(&self, others: &dyn Others) -> Vec<Mismatch> {
        match self {
            Self::Poll(poll) => poll.misfits(POLL, others),
            Self::Mqtt(mqtt) => {
                broker::misfits(("/intake/mqtt/via", &mqtt.via), Protocol::Mqtt, others)
            }
            Self::Amqp(amqp) => {
                broker::misfits(("/intake/amqp/via", &amqp.via), Protocol::Amqp, others)
            }
            _ => Vec::new(),
        }
    }

    /// The connection through which its messages are fetched, where they are.
    pub fn via(&self) -> Option<&str> {
        match self {
            Self::Poll(poll) => Some(&poll.via),
            Self::Mqtt(mqtt) => Some(&mqtt.via),
            Self::Amqp(amqp) => Some(&amqp.via),
            _ => None,
        }
    }

    /// How its senders say that they are alive, where they do.
    pub const fn heartbeat(&self) -> Option<&Heartbeat> {
        if let Self::Heartbeat(heartbeat) = self { Some(heartbeat) } else { None }
    }

    /// What it is called in a document.
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Webhook(_) => "webhook",
            Self::CloudEvents(_) => "cloudevents",
            Self::Syslog(_) => "syslog",
            Self::Schedule(_) => "schedule",
            Self::Poll(_) => "poll",
            Self::Heartbeat(_) => "heartbeat",
            Self::Mqtt(_) => "mqtt",
            Self::Amqp(_) => "amqp",
            Self::Mail(_) => "mail",
            Self::Trap(_) => "trap",
        }
    }

    /// The lines by which messages of an open format are read where a source has none of its own.
    pub(super) fn default_read(&self) -> Option<ReadDoc> {
        match self {
            Self::Webhook(_) | Self::Poll(_) => None,
            Self::CloudEvents(_) => Some(cloudevents::default_read()),
            Self::Syslog(_) => Some(syslog::default_read()),
            Self::Schedule(_) => Some(schedule::default_read()),
            Self::Heartbeat(_) => Some(heartbeat::default_read()),
            Self::Mqtt(MqttIntake { messages, .. }) | Self::Amqp(AmqpIntake { messages, .. }) => {
                messages.default_read()
            }
            Self::Mail(_) => Some(mail::default_read()),
            Self::Trap(_) => Some(trap::default_read()),
        }
    }

    /// The messages of a delivery.
    ///
    /// # Errors
    /// Why it holds none.
    pub(super) fn decode(
        &self,
        delivery: &Delivery<'_>,
    ) -> Result<Vec<Result<Message, Malformed>>, String> {
        let whole = |body| vec![Ok(Message { body, part: None })];
        match self {
            _ if delivery.normal => json(delivery.raw).map(whole),
            Self::Webhook(webhook) => webhook.decode(delivery.raw),
            Self::Schedule(_) | Self::Poll(_) | Self::Heartbeat(_) => json(delivery.raw).map(whole),
            Self::CloudEvents(_) => cloudevents::decode(delivery),
            Self::Syslog(syslog) => syslog.decode(delivery).map(whole),
            Self::Mqtt(MqttIntake { messages, .. }) | Self::Amqp(AmqpIntake { messages, .. }) => {
                messages.decode(delivery)
            }
            Self::Mail(mail) => mail.decode(delivery).map(whole),
            Self::Trap(trap) => trap.decode(delivery).map(whole),
        }
    }

    /// The values that a message offers to expressions, by name.
    pub(super) fn names<'a>(
        &self,
        body: &'a Value,
        properties: &'a Map<String, Value>,
    ) -> Vec<(&'static str, &'a Value)> {
        let headers = || (HEADERS, properties.get(HEADERS).unwrap_or_else(|| &NO_HEADERS));
        match self {
            Self::Webhook(_) => vec![("body", body), headers()],
            Self::CloudEvents(_) => vec![("event", body), headers()],
            Self::Syslog(_) => fields(&syslog::OFFERS, body),
            Self::Schedule(_) => fields(&schedule::OFFERS, body),
            Self::Poll(_) => vec![("body", body)],
            Self::Heartbeat(_) => fields(&heartbeat::OFFERS, body),
            Self::Mqtt(MqttIntake { messages, .. }) | Self::Amqp(AmqpIntake { messages, .. }) => {
                messages.names(body, properties)
            }
            Self::Mail(_) => fields(&mail::OFFERS, body),
            Self::Trap(_) => fields(&trap::OFFERS, body),
        }
    }

    /// The templates of what a sender must show, with their places in the document.
    pub(super) fn credentials(&self) -> Vec<(&'static str, &Template)> {
        match self {
            Self::Webhook(webhook) => webhook.http.templates("/intake/webhook/credential"),
            Self::CloudEvents(http) => http.templates("/intake/cloudevents/credential"),
            Self::Heartbeat(heartbeat) => heartbeat.http.templates("/intake/heartbeat/credential"),
            Self::Trap(trap) => trap.templates(),
            _ => Vec::new(),
        }
    }
}

/// The fields of a message, each by its own name.
fn fields<'a>(names: &[&'static str], body: &'a Value) -> Vec<(&'static str, &'a Value)> {
    names.iter().map(|name| (*name, body.get(*name).unwrap_or(&Value::Null))).collect()
}

static NO_HEADERS: LazyLock<Value> = LazyLock::new(|| Value::Object(Map::new()));

/// Bytes as a value that can be stored.
pub(super) fn json(raw: &[u8]) -> Result<Value, String> {
    let value: Value = serde_json::from_slice(raw).map_err(|e| format!("is not JSON: {e}"))?;
    if too_deep(&value) { Err(depth_diagnostic()) } else { Ok(clean_json(value)) }
}
