//! What messages to brokers have in common: a payload, a life, and names and texts that go with it.

use super::{RequestError, shared::CallScope};
use crate::{
    Period,
    document::Checker,
    expr::{Names, Template},
};
use serde_json::{Map, Value};

/// Largest payload of a message, in bytes.
const MAX_PAYLOAD: usize = 256 << 10;
/// Most properties of a message, and their longest, in bytes.
const MAX_PROPERTIES: usize = 32;
const MAX_PROPERTY: usize = 4096;
/// Longest name of a property, and longest content type, in bytes: what a short string of AMQP
/// holds (section 4.2.5.3).
const MAX_NAME: usize = 255;
/// Longest life of a message, in seconds: a year.
const MAX_LIFE: u64 = 366 * 24 * 3600;

/// What a message carries to a broker.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MessagePayload {
    /// As it is sent.
    pub bytes: Vec<u8>,
    /// What it is said to be.
    pub content_type: Option<String>,
}

impl MessagePayload {
    /// Text as it is, other values as JSON.
    pub(super) fn new(
        part: &str,
        value: Value,
        content_type: &Option<String>,
    ) -> Result<Self, RequestError> {
        let json = || Some("application/json".to_owned());
        let (bytes, otherwise) = match value {
            Value::String(text) => (text.into_bytes(), None),
            other => (other.to_string().into_bytes(), json()),
        };
        if bytes.len() > MAX_PAYLOAD {
            let wrong = format!("{part}: has {} bytes; {MAX_PAYLOAD} are allowed", bytes.len());
            return Err(RequestError::Part(wrong));
        }
        Ok(Self { bytes, content_type: content_type.clone().or(otherwise) })
    }

    /// As people see it.
    pub(super) fn shown(&self) -> Value {
        let text = || String::from_utf8_lossy(&self.bytes).into_owned();
        match &self.content_type {
            Some(json) if json == "application/json" => {
                serde_json::from_slice(&self.bytes).unwrap_or_else(|_| text().into())
            }
            _ => text().into(),
        }
    }

    /// What a payload is said to be.
    pub(super) fn content_type(
        check: &mut Checker<'_>,
        at: &str,
        said: Option<String>,
    ) -> Option<Option<String>> {
        match said.as_ref().is_some_and(|said| said.len() > MAX_NAME) {
            true => {
                check.fail(at, format!("has at most {MAX_NAME} bytes"));
                None
            }
            false => Some(said),
        }
    }

    /// How long a message lives, in seconds.
    pub(super) fn seconds(
        check: &mut Checker<'_>,
        at: &str,
        life: Option<Period>,
    ) -> Option<Option<u32>> {
        let Some(life) = life else { return Some(None) };
        let seconds = life.millis().div_ceil(1000);
        match u32::try_from(seconds).ok().filter(|_| (1..=MAX_LIFE).contains(&seconds)) {
            Some(seconds) => Some(Some(seconds)),
            None => {
                check.fail(at, "is from 1s to 366d");
                None
            }
        }
    }
}

/// Checks the names and texts that go with a message.
pub(super) fn properties(
    check: &mut Checker<'_>,
    at: &str,
    doc: Map<String, Value>,
    names: Names<'_>,
) -> Option<Template> {
    if doc.len() > MAX_PROPERTIES {
        check.fail(at, format!("has {} names; {MAX_PROPERTIES} are allowed", doc.len()));
        return None;
    }
    if let Some(name) = doc.keys().find(|name| name.is_empty() || name.len() > MAX_NAME) {
        check.fail(&format!("{at}/{name}"), format!("has a name of 1 to {MAX_NAME} bytes"));
        return None;
    }
    check.template(at, &Value::Object(doc), names)
}

/// Fills them in: a value that is no text is JSON, one that is not given is left out.
pub(super) fn filled_properties(
    properties: &Template,
    view: &CallScope<'_>,
) -> Result<Vec<(String, String)>, RequestError> {
    let Some(Value::Object(filled)) = properties.fill_given(view)? else { return Ok(Vec::new()) };
    let text = |(name, value): (String, Value)| {
        let text = match value {
            Value::String(text) => text,
            other => other.to_string(),
        };
        if text.len() > MAX_PROPERTY || text.contains('\0') {
            let wrong = format!("{name}: has a NUL, or more than {MAX_PROPERTY} bytes");
            return Err(RequestError::Part(wrong));
        }
        Ok((name, text))
    };
    filled.into_iter().filter(|(_, value)| !value.is_null()).map(text).collect()
}
