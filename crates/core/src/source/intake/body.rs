//! What the body of a message is: JSON, a form, XML, text, or lines of text.

use super::{
    Malformed, Message, json,
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
use serde_json::{Map, Value};

/// Most fields of a form.
const MOST_FIELDS: usize = 1_000;

crate::words! {
    /// What a body is.
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

/// What is written of bodies.
pub(super) struct BodyDoc {
    pub format: BodyFormat,
    /// Of a form: the field that holds JSON.
    pub field: Option<String>,
    /// Of XML: the elements that are lists.
    pub lists: Vec<String>,
    /// Of text: what it is taken apart by.
    pub parts: Option<TextPartsDoc>,
}

/// What bodies are, with what belongs to it.
#[derive(Clone, Debug)]
pub(in crate::source) enum MessageBody {
    Json,
    Form { field: Option<String> },
    Xml { lists: Vec<String> },
    Text { parts: TextParts },
    Lines { parts: TextParts },
}

impl BodyDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<MessageBody> {
        let Self { format, field, lists, parts } = self;
        for (key, is_given, goes_with) in [
            ("field", field.is_some(), &[BodyFormat::Form][..]),
            ("lists", !lists.is_empty(), &[BodyFormat::Xml]),
            ("parts", parts.is_some(), &[BodyFormat::Text, BodyFormat::Lines]),
        ] {
            if is_given && !goes_with.contains(&format) {
                let with: Vec<String> = goes_with.iter().map(|b| format!("`body: {b}`")).collect();
                let wrong = format!("goes with {} alone, not with `{format}`", with.join(" and "));
                check.fail_key(&format!("{at}/{key}"), wrong);
            }
        }
        let parts = match parts {
            Some(parts) => parts.check(check, &format!("{at}/parts"))?,
            None => TextParts::Whole,
        };
        Some(match format {
            BodyFormat::Json => MessageBody::Json,
            BodyFormat::Form => MessageBody::Form { field },
            BodyFormat::Xml => MessageBody::Xml { lists },
            BodyFormat::Text => MessageBody::Text { parts },
            BodyFormat::Lines => MessageBody::Lines { parts },
        })
    }
}

impl MessageBody {
    /// The messages of a body.
    ///
    /// # Errors
    /// Why it holds none.
    pub(in crate::source) fn decode(
        &self,
        raw: &[u8],
    ) -> Result<Vec<Result<Message, Malformed>>, String> {
        let whole = |body: Value| vec![Ok(Message { body, part: None })];
        match self {
            Self::Json => json(raw).map(whole),
            Self::Form { field } => form(raw, field.as_deref()).map(whole),
            Self::Xml { lists } => {
                let root = xml::read(raw, "")?;
                let body = xml::fields(vec![root], XmlValues { lists, attributes: true });
                if too_deep(&body) { Err(depth_diagnostic()) } else { Ok(whole(clean_json(body))) }
            }
            Self::Text { parts } => parts.value(text(raw)?).map(whole),
            Self::Lines { parts } => lines(text(raw)?, parts),
        }
    }

    /// What bodies of an unknown form most likely are: what each of them is taken for, with the
    /// line that says so in an intake; none where they are nothing but text.
    pub(in crate::source) fn guess(bodies: &[&[u8]]) -> Option<(Self, &'static str)> {
        let forms = [
            (Self::Json, ""),
            (Self::Xml { lists: Vec::new() }, "body: xml"),
            (Self::Form { field: None }, "body: form"),
            (Self::Text { parts: TextParts::Pairs }, "body: text, parts: { pairs: true }"),
        ];
        let fits = |form: &Self, raw: &[u8]| match form.decode(raw) {
            // Any text is a form, of one field without a value.
            Ok(messages) if matches!(form, Self::Form { .. }) => {
                let is_field = |value: &Value| value.as_str().is_some_and(|text| !text.is_empty());
                let is_spaced = raw.iter().any(u8::is_ascii_whitespace);
                let body = messages.into_iter().next().and_then(Result::ok).map(|m| m.body);
                !is_spaced
                    && body
                        .as_ref()
                        .and_then(Value::as_object)
                        .is_some_and(|map| !map.is_empty() && map.values().all(is_field))
            }
            Ok(messages) => messages
                .iter()
                .all(|m| m.as_ref().is_ok_and(|m| m.body.is_object() || m.body.is_array())),
            Err(_) => false,
        };
        let share = |form: &Self| bodies.iter().filter(|raw| fits(form, raw)).count() * 2;
        forms.into_iter().find(|(form, _)| share(form) > bodies.len())
    }

    /// The content type of its bodies, and one as an example; none of JSON.
    pub(super) const fn example(&self) -> (&'static str, Option<&'static str>) {
        match self {
            Self::Json => ("application/json", None),
            Self::Form { .. } => {
                ("application/x-www-form-urlencoded", Some("host=quill-booking-db-1&used=91"))
            }
            Self::Xml { .. } => {
                ("application/xml", Some("<check host=\"quill-booking-db-1\">91</check>"))
            }
            Self::Text { .. } | Self::Lines { .. } => {
                ("text/plain; charset=utf-8", Some("quill-booking-db-1 warn: 91 % full"))
            }
        }
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
