//! CloudEvents 1.0 with their HTTP protocol binding: structured (section 3.2), batched (3.3) and
//! binary (3.1). An event is its attributes and extensions, with its data as `data`.

use super::{Delivery, HEADERS, Malformed, Message, json};
use crate::{
    Severity,
    source::{
        MAX_ALERTS,
        read::{ReadDoc, SeverityDoc, SeverityWords},
    },
    text::clean,
};
use base64::{Engine, engine::general_purpose::STANDARD};
use chrono::DateTime;
use percent_encoding::percent_decode_str;
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// What a message offers to expressions: the event, and the headers of its request with names in
/// lower case.
pub(super) const OFFERS: [&str; 2] = ["event", HEADERS];

/// What an event must have.
const REQUIRED: [&str; 3] = ["id", "source", "type"];

/// The kind is the type, the resource its source and subject; an event needs not be cleared.
pub(super) fn default_read() -> ReadDoc {
    let words =
        [("WARN", Severity::Warning), ("ERROR", Severity::Major), ("FATAL", Severity::Critical)];
    ReadDoc {
        each: None,
        id: Some(r#"event.source + " " + event.id"#.into()),
        kind: "slug(event.type)".into(),
        severity: Some(SeverityDoc::Words(SeverityWords {
            of: "event.severitytext".into(),
            words: words.map(|(word, severity)| (word.to_owned(), severity)).into(),
            otherwise: Some(Severity::Indeterminate),
        })),
        state: Some(r#""noted""#.into()),
        resource: r#""events/" + slug(event.source) + (has(event.subject) ? "/" + slug(event.subject) : "")"#.into(),
        time: Some("event.time".into()),
        summary: Some(r#"event.type + (has(event.subject) ? ": " + event.subject : "")"#.into()),
        value: None,
        labels: BTreeMap::new(),
        labels_of: None,
        keep: None,
        trial: None,
    }
}

/// The events of a request.
pub(super) fn decode(delivery: &Delivery<'_>) -> Result<Vec<Result<Message, Malformed>>, String> {
    let headers = delivery.properties.get(HEADERS).and_then(Value::as_object);
    let header = |name: &str| headers.and_then(|all| all.get(name)).and_then(Value::as_str);
    let content_type = header("content-type").unwrap_or_default();
    let media = content_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    match media.strip_prefix("application/cloudevents") {
        Some("+json") => Ok(vec![Ok(Message { body: checked(json(delivery.raw)?)?, part: None })]),
        Some("-batch+json") => batch(json(delivery.raw)?),
        Some(other) => {
            Err(format!("is a CloudEvent in the format `{other}`, which is not read; send JSON"))
        }
        None if header("ce-specversion").is_some() => {
            let body = checked(Value::Object(binary(
                headers.into_iter().flatten(),
                content_type,
                &media,
                delivery.raw,
            )?))?;
            Ok(vec![Ok(Message { body, part: None })])
        }
        None => Err(
            "is no CloudEvent: it has neither the content type application/cloudevents+json or \
            application/cloudevents-batch+json, nor headers that begin with `ce-`"
                .into(),
        ),
    }
}

/// The event of a broker's message: structured, a batch, or binary with these attributes.
pub(super) fn of_broker(
    content_type: &str,
    attributes: impl Iterator<Item = (String, String)>,
    raw: &[u8],
) -> Result<Vec<Result<Message, Malformed>>, String> {
    let media = content_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    match media.strip_prefix("application/cloudevents") {
        Some("+json") => Ok(vec![Ok(Message { body: checked(json(raw)?)?, part: None })]),
        Some("-batch+json") => batch(json(raw)?),
        Some(other) => {
            Err(format!("is a CloudEvent in the format `{other}`, which is not read; send JSON"))
        }
        None => {
            let clean = |(name, value): (String, String)| (name, clean(&value).into_owned().into());
            let mut event: Map<String, Value> = attributes.map(clean).collect();
            if !event.contains_key("specversion") {
                return Err("is no CloudEvent: it has neither the content type \
                    application/cloudevents+json or application/cloudevents-batch+json, nor \
                    `specversion` among what comes with it"
                    .into());
            }
            if !content_type.is_empty() {
                event.insert("datacontenttype".into(), content_type.into());
            }
            if !raw.is_empty() {
                let (name, data) = data(&media, raw)?;
                event.insert(name.into(), data);
            }
            Ok(vec![Ok(Message { body: checked(Value::Object(event))?, part: None })])
        }
    }
}

/// One element of a batch stands alone when it is read again.
fn batch(body: Value) -> Result<Vec<Result<Message, Malformed>>, String> {
    let events = match body {
        Value::Array(events) => events,
        one @ Value::Object(_) => vec![one],
        _ => return Err("is no batch of CloudEvents: it is not a list".into()),
    };
    if events.len() > MAX_ALERTS {
        return Err(format!("the batch holds {} events; {MAX_ALERTS} are allowed", events.len()));
    }
    let one = |event: Value| {
        let part = event.to_string();
        match checked(event) {
            Ok(body) => Ok(Message { body, part: Some(part) }),
            Err(reason) => Err(Malformed { reason, part }),
        }
    };
    Ok(events.into_iter().map(one).collect())
}

/// The event of a request whose headers are its attributes and whose body is its data.
fn binary<'a>(
    headers: impl Iterator<Item = (&'a String, &'a Value)>,
    content_type: &str,
    media: &str,
    raw: &[u8],
) -> Result<Map<String, Value>, String> {
    let attribute = |(name, value): (&'a String, &'a Value)| {
        let name = name.strip_prefix("ce-")?;
        let value = percent_decode_str(value.as_str()?).decode_utf8_lossy();
        Some((name.to_owned(), clean(&value).into_owned().into()))
    };
    let mut event: Map<String, Value> = headers.filter_map(attribute).collect();
    if !content_type.is_empty() {
        event.insert("datacontenttype".into(), content_type.into());
    }
    if !raw.is_empty() {
        let (name, data) = data(media, raw)?;
        event.insert(name.into(), data);
    }
    Ok(event)
}

fn is_json(media: &str) -> bool {
    media.is_empty()
        || media == "application/json"
        || media == "text/json"
        || media.ends_with("+json")
}

/// Data by its media type: JSON as its value, text as text, whatever else as it is in base64.
fn data(media: &str, raw: &[u8]) -> Result<(&'static str, Value), String> {
    if is_json(media) {
        return json(raw).map(|value| ("data", value)).map_err(|e| format!("data: {e}"));
    }
    Ok(match std::str::from_utf8(raw) {
        Ok(text) => ("data", clean(text).into_owned().into()),
        Err(_) => ("data_base64", STANDARD.encode(raw).into()),
    })
}

/// An event that has what it must have; of data in base64 what they say, if they say it as JSON or
/// text.
fn checked(event: Value) -> Result<Value, String> {
    let Value::Object(mut event) = event else {
        return Err("is no CloudEvent: it is not an object".into());
    };
    match event.get("specversion").and_then(Value::as_str) {
        Some("1.0") => {}
        Some(other) => {
            return Err(format!("specversion: is `{}`; 1.0 is read", crate::text::cut(other, 20)));
        }
        None => return Err("is no CloudEvent: it has no `specversion`".into()),
    }
    for name in REQUIRED {
        match event.get(name) {
            Some(Value::String(text)) if !text.is_empty() => {}
            Some(_) => return Err(format!("{name}: is not a text, or is empty")),
            None => return Err(format!("{name}: is missing")),
        }
    }
    if let Some(time) = event.get("time")
        && time.as_str().is_none_or(|text| DateTime::parse_from_rfc3339(text).is_err())
    {
        return Err("time: is not an RFC 3339 time".into());
    }
    if let Some(text) = event.get("data_base64") {
        let raw = text
            .as_str()
            .and_then(|text| STANDARD.decode(text).ok())
            .ok_or("data_base64: is not base64")?;
        let media =
            event.get("datacontenttype").and_then(Value::as_str).unwrap_or("application/json");
        let media = media.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        let (name, value) = data(&media, &raw)?;
        event.remove("data_base64");
        event.insert(name.into(), value);
    }
    Ok(Value::Object(event))
}
