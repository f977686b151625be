//! What a sender posts in a form of its own: JSON, a form, XML, text, or lines of text. Without
//! lines of its own a source of JSON takes the normal form.

use super::{
    Malformed, Message,
    handshake::{Handshake, HandshakeDoc},
    http::{HttpIntake, HttpIntakeDoc},
    json,
    sender::SenderProofs,
    text_parts::{TextParts, TextPartsDoc},
};
use crate::{
    bounds::{depth_diagnostic, too_deep},
    document::Checker,
    source::MAX_ALERTS,
    text::clean_json,
    xml::{self, XmlValues},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// What a message offers to expressions: its body, and its headers with names in lower case.
pub(super) const OFFERS: [&str; 2] = ["body", super::HEADERS];
/// Most fields of a form.
const MOST_FIELDS: usize = 1_000;

crate::words! {
    /// What the body of a request is.
    #[derive(Default, JsonSchema)]
    pub enum BodyFormat("body") {
        /// JSON (RFC 8259), a value.
        #[default]
        Json = "json",
        /// A form (`application/x-www-form-urlencoded`): a map of texts, and a list of texts where
        /// a name stands several times.
        Form = "form",
        /// XML 1.0: the outermost element by its name. An element is a text, or a map of its
        /// attributes, as `@name`, and of what is in it; what stands several times is a list.
        Xml = "xml",
        /// Text in UTF-8, as a whole.
        Text = "text",
        /// Text in UTF-8: each line that is not empty is a message.
        Lines = "lines",
    }
}

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
    body: WebhookBody,
}

/// What bodies are, with what belongs to it.
#[derive(Clone, Debug)]
enum WebhookBody {
    Json,
    Form { field: Option<String> },
    Xml { lists: Vec<String> },
    Text { parts: TextParts },
    Lines { parts: TextParts },
}

impl WebhookDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Webhook> {
        let Self { credential, from, answer, body, field, lists, parts, handshake } = self;
        for (key, is_given, goes_with) in [
            ("field", field.is_some(), &[BodyFormat::Form][..]),
            ("lists", !lists.is_empty(), &[BodyFormat::Xml]),
            ("parts", parts.is_some(), &[BodyFormat::Text, BodyFormat::Lines]),
        ] {
            if is_given && !goes_with.contains(&body) {
                let with: Vec<String> = goes_with.iter().map(|b| format!("`body: {b}`")).collect();
                let wrong = format!("goes with {} alone, not with `{body}`", with.join(" and "));
                check.fail_key(&format!("{at}/{key}"), wrong);
            }
        }
        let http = HttpIntakeDoc { credential, from, answer }.check(check, at);
        let parts = match parts {
            Some(parts) => parts.check(check, &format!("{at}/parts")),
            None => Some(TextParts::Whole),
        };
        let handshake = match handshake {
            Some(handshake) => handshake.check(check, &format!("{at}/handshake")).map(Some),
            None => Some(None),
        };
        let parts = parts?;
        let body = match body {
            BodyFormat::Json => WebhookBody::Json,
            BodyFormat::Form => WebhookBody::Form { field },
            BodyFormat::Xml => WebhookBody::Xml { lists },
            BodyFormat::Text => WebhookBody::Text { parts },
            BodyFormat::Lines => WebhookBody::Lines { parts },
        };
        Some(Webhook { http: http?, handshake: handshake?, body })
    }
}

impl Webhook {
    /// Whether a source of it may do without lines of its own: JSON in the normal form.
    pub(super) const fn may_be_normal(&self) -> bool {
        matches!(self.body, WebhookBody::Json)
    }

    /// The messages of a body.
    ///
    /// # Errors
    /// Why it holds none.
    pub(super) fn decode(&self, raw: &[u8]) -> Result<Vec<Result<Message, Malformed>>, String> {
        let whole = |body: Value| vec![Ok(Message { body, part: None })];
        match &self.body {
            WebhookBody::Json => json(raw).map(whole),
            WebhookBody::Form { field } => form(raw, field.as_deref()).map(whole),
            WebhookBody::Xml { lists } => {
                let root = xml::read(raw, "")?;
                let body = xml::fields(vec![root], XmlValues { lists, attributes: true });
                if too_deep(&body) { Err(depth_diagnostic()) } else { Ok(whole(clean_json(body))) }
            }
            WebhookBody::Text { parts } => parts.value(text(raw)?).map(whole),
            WebhookBody::Lines { parts } => lines(text(raw)?, parts),
        }
    }

    /// The content type of its bodies, and one as an example; none of JSON.
    pub const fn example(&self) -> (&'static str, Option<&'static str>) {
        match self.body {
            WebhookBody::Json => ("application/json", None),
            WebhookBody::Form { .. } => {
                ("application/x-www-form-urlencoded", Some("host=quill-booking-db-1&used=91"))
            }
            WebhookBody::Xml { .. } => {
                ("application/xml", Some("<check host=\"quill-booking-db-1\">91</check>"))
            }
            WebhookBody::Text { .. } | WebhookBody::Lines { .. } => {
                ("text/plain; charset=utf-8", Some("quill-booking-db-1 warn: 91 % full"))
            }
        }
    }

    /// The body of a request as its handshake sees it: of several messages the first.
    pub fn first_body(&self, raw: &[u8]) -> Option<Value> {
        self.decode(raw).ok()?.into_iter().next()?.ok().map(|message| message.body)
    }
}

/// A body without the mark that some begin a text with.
fn text(raw: &[u8]) -> Result<&str, String> {
    let text = str::from_utf8(raw).map_err(|e| format!("is no text in UTF-8: {e}"))?;
    Ok(text.strip_prefix('\u{feff}').unwrap_or(text))
}

/// A message of each line; one that stands alone is taken apart in the same way when it is read
/// again.
fn lines(text: &str, parts: &TextParts) -> Result<Vec<Result<Message, Malformed>>, String> {
    let lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
    let lines: Vec<&str> = lines.take(MAX_ALERTS + 1).collect();
    match lines.len() {
        0 => return Err("holds no line".into()),
        many if many > MAX_ALERTS => {
            return Err(format!("holds more than {MAX_ALERTS} lines"));
        }
        _ => {}
    }
    let one = |line: &str| {
        let part = line.to_owned();
        match parts.value(line) {
            Ok(body) => Ok(Message { body, part: Some(part) }),
            Err(reason) => Err(Malformed { reason, part }),
        }
    };
    Ok(lines.into_iter().map(one).collect())
}

/// The fields of a form, or the JSON in one of them.
fn form(raw: &[u8], field: Option<&str>) -> Result<Value, String> {
    let mut fields = Map::new();
    for (n, (name, value)) in form_urlencoded::parse(raw).enumerate() {
        if n >= MOST_FIELDS {
            return Err(format!("is a form of more than {MOST_FIELDS} fields"));
        }
        let value = Value::String(value.into_owned());
        match fields.get_mut(name.as_ref()) {
            Some(Value::Array(all)) => all.push(value),
            Some(one) => *one = Value::Array(vec![one.take(), value]),
            None => _ = fields.insert(name.into_owned(), value),
        }
    }
    let Some(field) = field else { return Ok(clean_json(Value::Object(fields))) };
    match fields.get(field) {
        Some(Value::String(text)) => {
            json(text.as_bytes()).map_err(|e| format!("the field `{field}` of its form {e}"))
        }
        Some(_) => Err(format!("is a form in which `{field}` stands several times")),
        None => Err(format!("is no form with a field `{field}`")),
    }
}
