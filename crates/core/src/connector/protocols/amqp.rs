//! AMQP (version 0-9-1): a message that a broker confirms, and a look at a queue, from which
//! nothing is taken.

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
    text::cut,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::sync::Arc;

/// Longest name, in bytes (a short string, section 4.2.5.3).
const MAX_NAME: usize = 255;

/// What is asked of a broker: `publish` or `look_at`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AmqpDoc {
    /// A message.
    #[serde(default)]
    pub publish: Option<AmqpMessageDoc>,
    /// The queue whose length and consumers are asked for; nothing is taken from it.
    #[serde(default)]
    pub look_at: Option<String>,
}

/// A message to a broker, with `${give...}` in its parts.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AmqpMessageDoc {
    /// The exchange. Left out: that which leads to the queue that the routing key names.
    #[serde(default)]
    pub exchange: String,
    /// The routing key.
    #[serde(default)]
    pub routing_key: String,
    /// What is sent: text, or a value that is written as JSON.
    pub body: Value,
    /// Whether the broker keeps it through its own restart. Left out: yes.
    #[serde(default)]
    pub persistent: Option<bool>,
    /// Whether it is refused if no queue takes it. Left out: yes.
    #[serde(default)]
    pub mandatory: Option<bool>,
    /// How long it waits in a queue: up to a year. Left out: without end.
    #[serde(default)]
    pub expires: Option<Period>,
    /// What the body is. Left out: `application/json` for what is written as JSON.
    #[serde(default)]
    pub content_type: Option<String>,
    /// Names and texts that go with it.
    #[serde(default)]
    pub headers: Map<String, Value>,
}

/// A checked call.
#[derive(Clone, Debug)]
pub struct AmqpCall {
    line: String,
    act: Act,
}

#[derive(Clone, Debug)]
enum Act {
    Publish(Box<Message>),
    LookAt(Template),
}

#[derive(Clone, Debug)]
struct Message {
    exchange: Template,
    routing_key: Template,
    body: Template,
    persistent: bool,
    mandatory: bool,
    expires: Option<u32>,
    content_type: Option<String>,
    headers: Template,
}

/// What is asked of a broker, with everything filled in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AmqpAct {
    /// It takes a message.
    Publish(AmqpMessage),
    /// It tells of a queue.
    LookAt(String),
}

/// A message with everything filled in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AmqpMessage {
    /// The exchange; empty: that which leads to the queue that the routing key names.
    pub exchange: String,
    /// The routing key.
    pub routing_key: String,
    /// What is sent.
    pub body: MessagePayload,
    /// Whether the broker keeps it through its own restart.
    pub persistent: bool,
    /// Whether it is refused if no queue takes it.
    pub mandatory: bool,
    /// How long it waits in a queue, in seconds.
    pub expires: Option<u32>,
    /// Names and texts that go with it.
    pub headers: Vec<(String, String)>,
    /// The same for every try of the same step: its message id.
    pub id: String,
}

impl AmqpCall {
    /// Checks a call; what is given has the type `give`. With it comes what `output` may use, and
    /// the types of that.
    pub(in crate::connector) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: AmqpDoc,
        give: &Type,
    ) -> (Option<Self>, Vec<(&'static str, Type)>) {
        let given = [("give", give.clone())];
        let names = Names { roots: &["give"], functions: &[], types: &given };
        let at = format!("{at}/amqp");
        let (made, fields): (_, &[(&str, Type)]) = match (doc.publish, doc.look_at) {
            (Some(message), None) => {
                let to = format!("{} {}", message.exchange, message.routing_key);
                let line = format!("AMQP publish to {}", to.trim());
                let act = Message::check(check, &format!("{at}/publish"), message, names);
                (act.map(|act| Self { line, act: Act::Publish(Box::new(act)) }), &[])
            }
            (None, Some(queue)) => {
                let line = format!("AMQP look at {queue}");
                let act = check.template(&format!("{at}/look_at"), &queue.into(), names);
                (
                    act.map(|queue| Self { line, act: Act::LookAt(queue) }),
                    &[("messages", Type::Number), ("consumers", Type::Number)],
                )
            }
            _ => {
                check.fail(&at, "has one of `publish` and `look_at`");
                (None, &[])
            }
        };
        let fields = fields.iter().map(|(name, t)| ((*name).to_owned(), t.clone()));
        let response = Type::Record(Arc::new(fields.collect()));
        (made, vec![("give", give.clone()), ("response", response)])
    }

    /// What it does, as written.
    pub fn line(&self) -> &str {
        &self.line
    }

    /// Whether it changes nothing.
    pub const fn is_safe(&self) -> bool {
        matches!(self.act, Act::LookAt(_))
    }

    pub(super) fn begin<'o>(
        &self,
        gives: GivenValues<'o>,
        give: Value,
        key: &str,
    ) -> Result<AmqpPlan<'o>, RequestError> {
        let view = CallScope { give: &give, response: None };
        let act = match &self.act {
            Act::LookAt(queue) => {
                AmqpAct::LookAt(required("look_at", name("look_at", queue.fill_text(&view)?)?)?)
            }
            Act::Publish(message) => AmqpAct::Publish(message.fill(&view, key)?),
        };
        Ok(AmqpPlan { act, answer: OneAnswer::new(gives, give) })
    }
}

fn name(part: &str, text: String) -> Result<String, RequestError> {
    match text.len() {
        0..=MAX_NAME => Ok(text),
        long => {
            Err(RequestError::Part(format!("{part}: has {long} bytes; {MAX_NAME} are allowed")))
        }
    }
}

fn required(part: &str, text: String) -> Result<String, RequestError> {
    match text.is_empty() {
        // A broker would take the queue that was declared last (section 1.7.2.1).
        true => Err(RequestError::Part(format!("{part}: is empty"))),
        false => Ok(text),
    }
}

impl Message {
    fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: AmqpMessageDoc,
        names: Names<'_>,
    ) -> Option<Self> {
        if doc.exchange.is_empty() && doc.routing_key.is_empty() {
            check.fail(at, "has an `exchange`, a `routing_key`, or both");
        }
        let content_type =
            MessagePayload::content_type(check, &format!("{at}/content_type"), doc.content_type);
        let mut part =
            |key: &str, value: Value| check.template(&format!("{at}/{key}"), &value, names);
        let exchange = part("exchange", doc.exchange.into());
        let routing_key = part("routing_key", doc.routing_key.into());
        let body = part("body", doc.body);
        let expires = MessagePayload::seconds(check, &format!("{at}/expires"), doc.expires);
        let headers = properties(check, &format!("{at}/headers"), doc.headers, names);
        Some(Self {
            exchange: exchange?,
            routing_key: routing_key?,
            body: body?,
            persistent: doc.persistent.unwrap_or(true),
            mandatory: doc.mandatory.unwrap_or(true),
            expires: expires?,
            content_type: content_type?,
            headers: headers?,
        })
    }

    fn fill(&self, view: &CallScope<'_>, key: &str) -> Result<AmqpMessage, RequestError> {
        Ok(AmqpMessage {
            exchange: name("exchange", self.exchange.fill_text(view)?)?,
            routing_key: name("routing_key", self.routing_key.fill_text(view)?)?,
            body: MessagePayload::new("body", self.body.fill(view)?, &self.content_type)?,
            persistent: self.persistent,
            mandatory: self.mandatory,
            expires: self.expires,
            headers: filled_properties(&self.headers, view)?,
            id: cut(key, MAX_NAME).to_owned(),
        })
    }
}

/// What is to be asked of a broker.
#[derive(Debug)]
pub struct AmqpPlan<'o> {
    act: AmqpAct,
    answer: OneAnswer<'o>,
}

/// What a broker says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AmqpAnswer {
    /// It has taken the message.
    Confirmed,
    /// It has not, for now.
    Declined,
    /// No queue takes it, or it knows no such exchange or queue: a reply code, and its words
    /// (section 1.1).
    Refused(u16, String),
    /// What it says of a queue.
    Queue {
        /// Messages that wait.
        messages: u32,
        /// Who takes them.
        consumers: u32,
    },
}

impl<'o> AmqpPlan<'o> {
    /// What its failures say of answers is hidden by this; its outputs are not touched.
    #[must_use]
    pub fn hiding(self, hiding: Hiding<'o>) -> Self {
        Self { answer: self.answer.hiding(hiding), ..self }
    }

    /// What is asked.
    pub const fn act(&self) -> &AmqpAct {
        &self.act
    }

    /// What is asked, as people see it.
    pub(super) fn shown(&self) -> ShownRequest {
        let method = "AMQP".to_owned();
        let message = match &self.act {
            AmqpAct::LookAt(queue) => {
                return ShownRequest { method, target: format!("look at {queue}"), body: None };
            }
            AmqpAct::Publish(message) => message,
        };
        let mut body = json!({ "body": message.body.shown() });
        if !message.headers.is_empty() {
            body["headers"] = message.headers.iter().cloned().collect();
        }
        if let Some(seconds) = message.expires {
            body["expires_in_seconds"] = seconds.into();
        }
        let to = format!("{} {}", message.exchange, message.routing_key);
        ShownRequest { method, target: format!("publish to {}", to.trim()), body: Some(body) }
    }

    /// What an answer means.
    ///
    /// # Errors
    /// That the broker has not done it, or that no output can be made.
    pub fn answered(&self, answer: &AmqpAnswer) -> Result<Value, Failure> {
        match answer {
            AmqpAnswer::Confirmed => self.answer.output(json!({}), 0),
            AmqpAnswer::Queue { messages, consumers } => {
                self.answer.output(json!({ "messages": messages, "consumers": consumers }), 0)
            }
            AmqpAnswer::Declined => {
                Err(Failure::new(CallEnd::Refused, "the broker has not taken it (nack)"))
            }
            AmqpAnswer::Refused(code, words) => {
                let message = format!("answered {code}: {}", self.answer.cut(words));
                // Too much for now, locked, or too few resources.
                let lasting = !matches!(*code, 311 | 405 | 506);
                Err(Failure { lasting, ..Failure::new(CallEnd::Refused, message) })
            }
        }
    }
}
