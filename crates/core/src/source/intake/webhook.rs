//! What a sender posts in a form of its own: JSON, a form, XML, text, or lines of text. Without
//! lines of its own a source takes what is in the normal form, and catches what is not.

use super::{
    Malformed, Message,
    body::{BodyDoc, BodyFormat, MessageBody},
    handshake::{Handshake, HandshakeDoc},
    http::{HttpIntake, HttpIntakeDoc},
    sender::SenderProofs,
    text_parts::TextPartsDoc,
};
use crate::document::Checker;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// What a message offers to expressions: its body, and its headers with names in lower case.
pub(super) const OFFERS: [&str; 2] = ["body", super::HEADERS];
/// Payloads of any form that are posted to `/in/{source}`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WebhookDoc {
    /// What the sender must show; of several proofs any will do, so that one can take the place of
    /// another.
    pub credential: SenderProofs,
    /// The addresses that senders may come from, such as `10.4.0.0/16`. Left out: any.
    #[serde(default)]
    pub from: Vec<String>,
    /// The status of the answer when alerts are taken, 200 or 202. Left out: 202.
    #[serde(default)]
    pub answer: Option<u16>,
    /// What its bodies are. Left out: `json`.
    #[serde(default)]
    pub body: BodyFormat,
    /// Of a form: the field that holds JSON, which is the body then.
    #[serde(default)]
    pub field: Option<String>,
    /// Of XML: the elements that are lists, however many there are.
    #[serde(default)]
    pub lists: Vec<String>,
    /// Of text, and of each line: what it is taken apart by. Left out: the body is the text itself.
    #[serde(default)]
    pub parts: Option<TextPartsDoc>,
    /// How its sender asks whether it may post here.
    #[serde(default)]
    pub handshake: Option<HandshakeDoc>,
}

/// How payloads are posted, checked.
#[derive(Clone, Debug)]
pub struct Webhook {
    /// Who may post, and what they are answered.
    pub http: HttpIntake,
    /// How its sender asks whether it may post here.
    pub handshake: Option<Handshake>,
    body: MessageBody,
}

impl WebhookDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Webhook> {
        let Self { credential, from, answer, body, field, lists, parts, handshake } = self;
        let body = BodyDoc { format: body, field, lists, parts }.check(check, at);
        let http = HttpIntakeDoc { credential, from, answer }.check(check, at);
        let handshake = match handshake {
            Some(handshake) => handshake.check(check, &format!("{at}/handshake")).map(Some),
            None => Some(None),
        };
        Some(Webhook { http: http?, handshake: handshake?, body: body? })
    }
}

impl Webhook {
    /// The messages of a body.
    ///
    /// # Errors
    /// Why it holds none.
    pub(super) fn decode(&self, raw: &[u8]) -> Result<Vec<Result<Message, Malformed>>, String> {
        self.body.decode(raw)
    }

    /// The content type of its bodies, and one as an example; none of JSON.
    pub const fn example(&self) -> (&'static str, Option<&'static str>) {
        self.body.example()
    }

    /// The body of a request as its handshake sees it: of several messages the first.
    pub fn first_body(&self, raw: &[u8]) -> Option<Value> {
        self.decode(raw).ok()?.into_iter().next()?.ok().map(|message| message.body)
    }
}
