//! Messages that a broker keeps until they are taken: a queue over AMQP 0-9-1, or topics over
//! MQTT 5. Each is acknowledged once it is recorded.

use super::{
    Delivery, HEADERS, Malformed, Message,
    body::{BodyDoc, BodyFormat, MessageBody},
    cloudevents,
    text_parts::TextPartsDoc,
};
use crate::{
    Period,
    connector::{Connection, Protocol},
    definition::{Fault, Mismatch, Others},
    document::Checker,
    source::read::ReadDoc,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// What a message over MQTT offers to expressions: its body, or the event, and what comes with it.
pub(super) const OF_MQTT: [&str; 4] = ["body", "topic", "properties", "content_type"];
const EVENT_OF_MQTT: [&str; 4] = ["event", "topic", "properties", "content_type"];
/// What a message over AMQP offers to expressions.
pub(super) const OF_AMQP: [&str; 6] =
    ["body", "exchange", "routing_key", HEADERS, "content_type", "message_id"];
const EVENT_OF_AMQP: [&str; 6] =
    ["event", "exchange", "routing_key", HEADERS, "content_type", "message_id"];

/// Longest name in AMQP (section 4.2.5.3), in bytes.
const LONGEST_NAME: usize = 255;
/// Longest topic that is subscribed to, in bytes; and most of them.
const LONGEST_TOPIC: usize = 1_000;
const MOST_TOPICS: usize = 32;
/// Most sessions of a source.
const MOST_SESSIONS: u8 = 8;
/// How many messages may be on their way to the commit at once.
const AT_ONCE: u16 = 64;
const MOST_AT_ONCE: u16 = 256;
/// How long a broker keeps messages for a session that nobody holds.
const KEEPS: Period = Period::from_secs(24 * 3_600);
const KEEPS_LONGEST: Period = Period::from_secs(30 * 24 * 3_600);

/// Topics of a broker (MQTT 5).
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MqttIntakeDoc {
    /// The connection to the broker: `mqtt://` or `mqtts://`.
    pub via: String,
    /// The topics, with `+` and `#` as the protocol has them (section 4.7), such as
    /// `piers/+/alarms`.
    pub topics: Vec<String>,
    /// How many sessions take messages, 1 to 8, each held by one node; several share the
    /// subscription (section 4.8.2). Left out: 1.
    #[serde(default)]
    pub sessions: Option<u8>,
    /// How long the broker keeps what comes while no node holds a session, 30d at most. Left out:
    /// 1d.
    #[serde(default)]
    pub keeps: Option<Period>,
    /// How many messages may be on their way to the records at once, 1 to 256. Left out: 64.
    #[serde(default)]
    pub at_once: Option<u16>,
    /// What its bodies are: `json`, `xml`, `text`, `lines` or `cloudevents`. Left out: `json`.
    #[serde(default)]
    pub body: BrokerBody,
    /// Of XML: the elements that are lists, however many there are.
    #[serde(default)]
    pub lists: Vec<String>,
    /// Of text, and of each line: what it is taken apart by. Left out: the body is the text itself.
    #[serde(default)]
    pub parts: Option<TextPartsDoc>,
}

/// A queue of a broker (AMQP 0-9-1).
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AmqpIntakeDoc {
    /// The connection to the broker: `amqp://` or `amqps://`.
    pub via: String,
    /// The queue. It is there already: what it is bound to is the broker's business. Each node
    /// takes from it.
    pub queue: String,
    /// The exchange to which messages go that cannot be read, with the reason as the header
    /// `x-arvok-unreadable`. Left out: they are kept here alone.
    #[serde(default)]
    pub dead_letters: Option<String>,
    /// How many messages may be on their way to the records at once at each node, 1 to 256. Left
    /// out: 64.
    #[serde(default)]
    pub at_once: Option<u16>,
    /// What its bodies are: `json`, `xml`, `text`, `lines` or `cloudevents`. Left out: `json`.
    #[serde(default)]
    pub body: BrokerBody,
    /// Of XML: the elements that are lists, however many there are.
    #[serde(default)]
    pub lists: Vec<String>,
    /// Of text, and of each line: what it is taken apart by. Left out: the body is the text itself.
    #[serde(default)]
    pub parts: Option<TextPartsDoc>,
}

crate::words! {
    /// What the body of a broker's message is.
    #[derive(Default, JsonSchema)]
    pub enum BrokerBody("body") {
        /// JSON (RFC 8259), a value.
        #[default]
        Json = "json",
        /// XML 1.0: the outermost element by its name.
        Xml = "xml",
        /// Text in UTF-8, as a whole.
        Text = "text",
        /// Text in UTF-8: each line that is not empty is a message.
        Lines = "lines",
        /// A CloudEvent 1.0, structured or binary: its attributes are user properties of MQTT, or
        /// headers of AMQP that begin with `cloudEvents:` or `cloudEvents_`.
        CloudEvents = "cloudevents",
    }
}

/// What messages of a broker are.
#[derive(Clone, Debug)]
enum MessageForm {
    Body(MessageBody),
    CloudEvents,
}

/// How messages of a broker are taken apart.
#[derive(Clone, Debug)]
pub struct BrokerMessages {
    form: MessageForm,
    /// What comes with each, by name, after its body.
    names: &'static [&'static str],
    /// Where the attributes of events stand, and what their names begin with there.
    attributes: (&'static str, &'static [&'static str]),
}

impl BrokerMessages {
    /// MQTT Protocol Binding for CloudEvents, section 3.
    const fn of_mqtt(form: MessageForm) -> Self {
        Self { form, names: &OF_MQTT, attributes: ("properties", &[]) }
    }

    /// AMQP Protocol Binding for CloudEvents, section 3.1.3.1; its headers are those of AMQP 0-9-1
    /// here.
    const fn of_amqp(form: MessageForm) -> Self {
        let attributes: (_, &[_]) = (HEADERS, &["cloudEvents:", "cloudEvents_"]);
        Self { form, names: &OF_AMQP, attributes }
    }
}

/// Checked topics.
#[derive(Clone, Debug)]
pub struct MqttIntake {
    /// The connection to the broker.
    pub via: String,
    /// The topics.
    pub topics: Vec<String>,
    /// How many sessions take messages.
    pub sessions: u8,
    /// How long the broker keeps what comes while nobody holds a session.
    pub keeps: Period,
    /// How many messages may be on their way at once.
    pub at_once: u16,
    /// How its messages are taken apart.
    pub(super) messages: BrokerMessages,
}

/// A checked queue.
#[derive(Clone, Debug)]
pub struct AmqpIntake {
    /// The connection to the broker.
    pub via: String,
    /// The queue.
    pub queue: String,
    /// Where messages go that cannot be read.
    pub dead_letters: Option<String>,
    /// How many messages may be on their way at once.
    pub at_once: u16,
    /// How its messages are taken apart.
    pub(super) messages: BrokerMessages,
}

impl MqttIntakeDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<MqttIntake> {
        let topics_at = format!("{at}/topics");
        if self.topics.is_empty() || self.topics.len() > MOST_TOPICS {
            let count = self.topics.len();
            check.fail(&topics_at, format!("has {count} entries; 1 to {MOST_TOPICS} are possible"));
        }
        for (n, topic) in self.topics.iter().enumerate() {
            if let Some(wrong) = wrong_topic(topic) {
                check.fail(&format!("{topics_at}/{n}"), wrong);
            }
        }
        let sessions = self.sessions.unwrap_or(1);
        if !(1..=MOST_SESSIONS).contains(&sessions) {
            let wrong = format!("is from 1 to {MOST_SESSIONS}, not {sessions}");
            check.fail(&format!("{at}/sessions"), wrong);
        }
        let keeps = self.keeps.unwrap_or(KEEPS);
        if keeps > KEEPS_LONGEST || keeps < Period::from_secs(1) {
            let wrong = format!("is from 1s to {KEEPS_LONGEST}, not {keeps}");
            check.fail(&format!("{at}/keeps"), wrong);
        }
        let at_once = at_once(check, at, self.at_once);
        let form = form(check, at, (self.body, self.lists, self.parts))?;
        let messages = BrokerMessages::of_mqtt(form);
        let Self { via, topics, .. } = self;
        Some(MqttIntake { via, topics, sessions, keeps, at_once, messages })
    }

    pub(super) const fn offers(&self) -> &'static [&'static str] {
        match self.body {
            BrokerBody::CloudEvents => &EVENT_OF_MQTT,
            _ => &OF_MQTT,
        }
    }
}

impl AmqpIntakeDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<AmqpIntake> {
        for (key, name) in
            [("queue", Some(&self.queue)), ("dead_letters", self.dead_letters.as_ref())]
        {
            if let Some(name) = name
                && (name.is_empty() || name.len() > LONGEST_NAME)
            {
                let wrong = format!("is a name of 1 to {LONGEST_NAME} bytes");
                check.fail(&format!("{at}/{key}"), wrong);
            }
        }
        let at_once = at_once(check, at, self.at_once);
        let form = form(check, at, (self.body, self.lists, self.parts))?;
        let messages = BrokerMessages::of_amqp(form);
        let Self { via, queue, dead_letters, .. } = self;
        Some(AmqpIntake { via, queue, dead_letters, at_once, messages })
    }

    pub(super) const fn offers(&self) -> &'static [&'static str] {
        match self.body {
            BrokerBody::CloudEvents => &EVENT_OF_AMQP,
            _ => &OF_AMQP,
        }
    }
}

/// What is wrong with a topic that is subscribed to (section 4.7.1).
fn wrong_topic(topic: &str) -> Option<String> {
    if topic.is_empty() || topic.len() > LONGEST_TOPIC || topic.contains('\0') {
        return Some(format!("has 1 to {LONGEST_TOPIC} bytes, none of them zero"));
    }
    if topic.starts_with("$share/") {
        return Some("is shared by `sessions`; write the topic alone".to_owned());
    }
    let levels: Vec<&str> = topic.split('/').collect();
    let last = levels.len() - 1;
    let is_wrong = |(n, level): (usize, &&str)| {
        (level.contains('#') && (**level != *"#" || n != last))
            || (level.contains('+') && **level != *"+")
    };
    levels.iter().enumerate().any(is_wrong).then(|| {
        format!(
            "`{}` is none: `+` is a whole level, and `#` a whole level at the end",
            crate::text::cut(topic, 80)
        )
    })
}

fn at_once(check: &mut Checker<'_>, at: &str, written: Option<u16>) -> u16 {
    let at_once = written.unwrap_or(AT_ONCE);
    if !(1..=MOST_AT_ONCE).contains(&at_once) {
        let wrong = format!("is from 1 to {MOST_AT_ONCE}, not {at_once}");
        check.fail(&format!("{at}/at_once"), wrong);
    }
    at_once
}

fn form(
    check: &mut Checker<'_>,
    at: &str,
    (body, lists, parts): (BrokerBody, Vec<String>, Option<TextPartsDoc>),
) -> Option<MessageForm> {
    let format = match body {
        BrokerBody::Json | BrokerBody::CloudEvents => BodyFormat::Json,
        BrokerBody::Xml => BodyFormat::Xml,
        BrokerBody::Text => BodyFormat::Text,
        BrokerBody::Lines => BodyFormat::Lines,
    };
    let checked = BodyDoc { format, field: None, lists, parts }.check(check, at)?;
    Some(if body == BrokerBody::CloudEvents {
        MessageForm::CloudEvents
    } else {
        MessageForm::Body(checked)
    })
}

impl BrokerMessages {
    pub(super) fn default_read(&self) -> Option<ReadDoc> {
        matches!(self.form, MessageForm::CloudEvents).then(cloudevents::default_read)
    }

    /// The messages of a delivery.
    ///
    /// # Errors
    /// Why it holds none.
    pub(super) fn decode(
        &self,
        delivery: &Delivery<'_>,
    ) -> Result<Vec<Result<Message, Malformed>>, String> {
        let MessageForm::Body(body) = &self.form else { return self.event(delivery) };
        body.decode(delivery.raw)
    }

    fn event(&self, delivery: &Delivery<'_>) -> Result<Vec<Result<Message, Malformed>>, String> {
        let (held_by, prefixes) = self.attributes;
        let content_type = delivery.properties.get("content_type").and_then(Value::as_str);
        let beside = delivery.properties.get(held_by).and_then(Value::as_object);
        let attributes = beside.into_iter().flatten().filter_map(|(name, value)| {
            Some((attribute(name, prefixes)?.to_owned(), value.as_str()?.to_owned()))
        });
        cloudevents::of_broker(content_type.unwrap_or_default(), attributes, delivery.raw)
    }

    /// The names of its values: that of the body first.
    pub(super) fn names<'a>(
        &self,
        body: &'a Value,
        properties: &'a Map<String, Value>,
    ) -> Vec<(&'static str, &'a Value)> {
        let first = if matches!(self.form, MessageForm::CloudEvents) { "event" } else { "body" };
        let rest = self.names.iter().skip(1);
        let beside = rest.map(|name| (*name, properties.get(*name).unwrap_or(&Value::Null)));
        std::iter::once((first, body)).chain(beside).collect()
    }
}

/// The attributes of an event that are its message's own properties, by the names that they have
/// in AMQP with one of two prefixes; in MQTT they have none.
fn attribute<'p>(name: &'p str, prefixes: &[&str]) -> Option<&'p str> {
    if prefixes.is_empty() {
        return Some(name);
    }
    prefixes.iter().find_map(|prefix| name.strip_prefix(prefix))
}

impl MqttIntake {
    /// The topics as they are subscribed to, by the sessions of one source.
    pub fn subscriptions(&self, source: &str) -> Vec<String> {
        let shared = |topic: &String| match self.sessions {
            1 => topic.clone(),
            _ => format!("$share/arvok-{source}/{topic}"),
        };
        self.topics.iter().map(shared).collect()
    }
}

/// What is wrong with the connection through which messages are taken: it is not there, or leads
/// to no such broker, or nodes do not use it themselves.
pub(in crate::source) fn misfits(
    (at, via): (&str, &str),
    protocol: Protocol,
    others: &dyn Others,
) -> Vec<Mismatch> {
    let unfit = |why: String| vec![Mismatch::at(at, Fault::Unfit(why))];
    match others.get::<Connection>(via) {
        Err(missing) => vec![Mismatch::at(at, missing)],
        Ok(connection) if connection.protocol.is_some_and(|spoken| spoken != protocol) => {
            let schemes = protocol.schemes().join(" or ");
            unfit(format!("connection `{via}` leads to no such broker: its base is {schemes}"))
        }
        Ok(connection) if connection.through.is_some() => {
            unfit(format!("connection `{via}` goes through runners, and messages are for nodes"))
        }
        Ok(_) => Vec::new(),
    }
}
