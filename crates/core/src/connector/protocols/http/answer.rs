//! What an answer means.

use crate::{
    Period,
    connector::failure::{CallEnd, Failure, Hiding},
    expr::Type,
    text::clean_json,
    xml::{self, XmlValues},
};
use serde_json::{Map, Value, json};
use std::sync::Arc;

/// What came back.
#[derive(Clone, Debug, PartialEq)]
pub struct Answer {
    /// The status code.
    pub status: u16,
    /// Names in lower case; one that came several times has all its values, with commas between
    /// (RFC 9110, section 5.3).
    pub headers: Map<String, Value>,
    /// JSON, or the text of a body that is none. What a call makes of XML is a map.
    pub body: Value,
}

impl Answer {
    /// What expressions see of it as `response`.
    pub fn as_value(&self) -> Value {
        json!({ "status": self.status, "headers": self.headers, "body": self.body })
    }

    /// What is known of any before it came.
    pub fn as_type() -> Type {
        let fields = [
            ("status", Type::Number),
            ("headers", Type::Map(Arc::new(Type::Text))),
            ("body", Type::Any),
        ];
        Type::Record(Arc::new(fields.map(|(name, t)| (name.to_owned(), t)).into()))
    }

    /// The failure that it stands for, if it does. A refusal is an answer of 300 and above and
    /// below 500; after any other the request may have been done.
    pub(super) fn failure(&self, retry_on: &[u16], hiding: Hiding<'_>) -> Option<Failure> {
        (!(200..300).contains(&self.status)).then(|| Failure {
            message: format!("answered {}{}", self.status, hint(&self.body, hiding)),
            end: if (300..500).contains(&self.status) {
                CallEnd::Refused
            } else {
                CallEnd::Unknown
            },
            lasting: !retry_on.contains(&self.status),
            retry_after: self.header("retry-after").and_then(retry_after),
        })
    }

    /// The same with a body of XML as a map, by the name of its outermost element; elements of a
    /// name of `lists` are lists, however many there are. One that cannot be read stays a text.
    pub(super) fn with_xml(self, lists: &[String]) -> Self {
        let is_xml = self.header("content-type").is_some_and(is_xml);
        let Value::String(text) = &self.body else { return self };
        let Some(root) = is_xml.then(|| xml::read(text.as_bytes(), "").ok()).flatten() else {
            return self;
        };
        let body = xml::fields(vec![root], XmlValues { lists, attributes: true });
        Self { body: clean_json(body), ..self }
    }

    pub(super) fn header(&self, name: &str) -> Option<&str> {
        self.headers.get(name).and_then(Value::as_str)
    }

    /// The address of a relation of its `Link` header (RFC 8288, section 3).
    pub(super) fn link(&self, relation: &str) -> Option<String> {
        let header = self.header("link")?;
        let is_it = |parameters: &str| {
            parameters.split(';').any(|parameter| {
                let (name, value) = parameter.split_once('=').unwrap_or((parameter, ""));
                let mut values = value.trim().trim_matches('"').split_whitespace();
                name.trim().eq_ignore_ascii_case("rel")
                    && values.any(|v| v.eq_ignore_ascii_case(relation))
            })
        };
        let links = header.split('<').skip(1).filter_map(|link| link.split_once('>'));
        links
            .into_iter()
            .find(|(_, parameters)| is_it(parameters.trim_end_matches([',', ' '])))
            .map(|l| l.0.to_owned())
    }
}

/// Whether a media type is that of XML (RFC 7303, section 4.2).
fn is_xml(content_type: &str) -> bool {
    let kind = content_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    matches!(kind.as_str(), "application/xml" | "text/xml") || kind.ends_with("+xml")
}

/// The seconds of `Retry-After` (RFC 9110, section 10.2.3); a date would need a clock. Nobody is
/// made to wait longer than an hour.
pub fn retry_after(text: &str) -> Option<Period> {
    text.trim().parse().ok().map(|seconds: u64| Period::from_secs(seconds.min(3600)))
}

/// What the other side said about its refusal, where it used one of the usual fields.
fn hint(body: &Value, hiding: Hiding<'_>) -> String {
    let said = ["detail", "message", "error", "title"].iter().find_map(|k| body.get(k)?.as_str());
    let said = said.or_else(|| message_within(body)).or(body.as_str()).unwrap_or_default().trim();
    if said.is_empty() { String::new() } else { format!(": {}", hiding.cut(said, 200)) }
}

/// The message that is deeper in an answer of XML, as query-style services have it.
fn message_within(value: &Value) -> Option<&str> {
    match value {
        Value::Object(map) => {
            let here = map.get("Message").or_else(|| map.get("message"));
            here.and_then(Value::as_str).or_else(|| map.values().find_map(message_within))
        }
        Value::Array(all) => all.iter().find_map(message_within),
        _ => None,
    }
}
