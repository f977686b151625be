//! MQTT (version 5, OASIS): a message that a broker takes, with its confirmation.

use super::{
    RequestError,
    message::{MessagePayload, filled_properties, properties},
    shared::{CallScope, GivenValues, OneAnswer, ShownRequest},
};
use crate::{
    Period,
    connector::failure::{CallEnd, Failure, Hiding},
    document::Checker,
    expr::{Names, Template, Type},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::sync::Arc;

/// Longest name of a topic, in bytes (section 1.5.4).
const MAX_TOPIC: usize = 65_535;
/// Stands for what cannot be a part of a topic.
const IMPOSSIBLE: char = '\0';

/// A message to a broker, with `${give...}` in its parts.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MqttDoc {
    /// The topic. What is filled in is one level of it, or a part of one: it has no `/`, `+` or
    /// `#`.
    pub topic: String,
    /// What is sent: text, or a value that is written as JSON.
    pub payload: Value,
    /// Whether the broker keeps it for those who subscribe later. Left out: no.
    #[serde(default)]
    pub retain: bool,
    /// How long the broker keeps it for those who are away: up to a year. Left out: without end.
    #[serde(default)]
    pub expires: Option<Period>,
    /// What the payload is. Left out: `application/json` for what is written as JSON.
    #[serde(default)]
    pub content_type: Option<String>,
    /// Names and texts that go with it (user properties).
    #[serde(default)]
    pub properties: Map<String, Value>,
}

/// A checked message.
#[derive(Clone, Debug)]
pub struct MqttCall {
    line: String,
    topic: Template,
    payload: Template,
    retain: bool,
    expires: Option<u32>,
    content_type: Option<String>,
    properties: Template,
}

/// A message with everything filled in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MqttMessage {
    /// The topic.
    pub topic: String,
    /// What is sent.
    pub payload: MessagePayload,
    /// Whether the broker keeps it for those who subscribe later.
    pub retain: bool,
    /// How long it is kept for those who are away, in seconds.
    pub expires: Option<u32>,
    /// Names and texts that go with it.
    pub properties: Vec<(String, String)>,
}

impl MqttCall {
    /// Checks a message; what is given has the type `give`. With it comes what `output` may use,
    /// and the types of that.
    pub(in crate::connector) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: MqttDoc,
        give: &Type,
    ) -> (Option<Self>, Vec<(&'static str, Type)>) {
        let given = [("give", give.clone())];
        let names = Names { roots: &["give"], functions: &[], types: &given };
        let at = format!("{at}/mqtt");
        let line = format!("MQTT to {}", doc.topic);
        let expires = MessagePayload::seconds(check, &format!("{at}/expires"), doc.expires);
        let content_type =
            MessagePayload::content_type(check, &format!("{at}/content_type"), doc.content_type);
        let topic = check.template(&format!("{at}/topic"), &doc.topic.into(), names);
        let payload = check.template(&format!("{at}/payload"), &doc.payload, names);
        let properties = properties(check, &format!("{at}/properties"), doc.properties, names);
        let made = || {
            Some(Self {
                line,
                topic: topic?,
                payload: payload?,
                retain: doc.retain,
                expires: expires?,
                content_type: content_type?,
                properties: properties?,
            })
        };
        let fields = [("has_subscribers", Type::Bool)];
        let response = Type::Record(Arc::new(fields.map(|(name, t)| (name.to_owned(), t)).into()));
        (made(), vec![("give", give.clone()), ("response", response)])
    }

    /// What it sends, as written.
    pub fn line(&self) -> &str {
        &self.line
    }

    pub(super) fn begin<'o>(
        &self,
        gives: GivenValues<'o>,
        give: Value,
    ) -> Result<MqttPlan<'o>, RequestError> {
        let view = CallScope { give: &give, response: None };
        let topic = self
            .topic
            .fill_encoded(&view, |text| text.replace(['/', '+', '#'], &IMPOSSIBLE.to_string()))?;
        if topic.contains([IMPOSSIBLE, '+', '#']) || topic.is_empty() || topic.len() > MAX_TOPIC {
            let shown = topic.replace(IMPOSSIBLE, "?");
            let wrong = format!(
                "topic: what is filled into {} has a /, a + or a #, or it is empty or too long",
                crate::text::cut(&shown, 100)
            );
            return Err(RequestError::Part(wrong));
        }
        let message = MqttMessage {
            topic,
            payload: MessagePayload::new("payload", self.payload.fill(&view)?, &self.content_type)?,
            retain: self.retain,
            expires: self.expires,
            properties: filled_properties(&self.properties, &view)?,
        };
        Ok(MqttPlan { message, answer: OneAnswer::new(gives, give) })
    }
}

/// A message that is to be sent.
#[derive(Debug)]
pub struct MqttPlan<'o> {
    message: MqttMessage,
    answer: OneAnswer<'o>,
}

impl<'o> MqttPlan<'o> {
    /// What its failures say of answers is hidden by this; its outputs are not touched.
    #[must_use]
    pub fn hiding(self, hiding: Hiding<'o>) -> Self {
        Self { answer: self.answer.hiding(hiding), ..self }
    }

    /// The message.
    pub const fn message(&self) -> &MqttMessage {
        &self.message
    }

    /// What is sent, as people see it.
    pub(super) fn shown(&self) -> ShownRequest {
        let MqttMessage { topic, payload, retain, expires, properties } = &self.message;
        let mut body = json!({ "payload": payload.shown() });
        if *retain {
            body["retain"] = true.into();
        }
        if let Some(seconds) = expires {
            body["expires_in_seconds"] = (*seconds).into();
        }
        if !properties.is_empty() {
            body["properties"] = properties.iter().cloned().collect();
        }
        ShownRequest { method: "MQTT".into(), target: format!("to {topic}"), body: Some(body) }
    }

    /// What the reason means with which a broker acknowledges it (section 3.4.2.1).
    ///
    /// # Errors
    /// That the broker did not take it, or that no output can be made.
    pub fn acknowledged(&self, reason: u8, words: &str) -> Result<Value, Failure> {
        if reason >= 0x80 {
            let said = if words.is_empty() { meaning(reason) } else { words };
            let message = format!("answered 0x{reason:02x}: {}", self.answer.cut(said));
            // Too much for now, or no reason that would last: later it may be taken.
            let lasting = !matches!(reason, 0x80 | 0x83 | 0x97);
            return Err(Failure { lasting, ..Failure::new(CallEnd::Refused, message) });
        }
        // "No matching subscribers": a broker may say so, or not know.
        self.answer.output(json!({ "has_subscribers": reason != 0x10 }), 0)
    }
}

/// What a reason code says.
const fn meaning(reason: u8) -> &'static str {
    match reason {
        0x83 => "it cannot take it",
        0x87 => "not authorized",
        0x90 => "the topic is not valid",
        0x97 => "a quota is exceeded",
        0x99 => "the payload is not what it says that it is",
        _ => "an error",
    }
}
