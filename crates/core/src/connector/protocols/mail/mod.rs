//! Mail: a message (RFC 5322) that a server takes for its recipients (SMTP, RFC 5321); plain text,
//! or a text in Markdown that is sent as HTML beside itself.

mod markdown;

use super::{
    RequestError,
    shared::{CallScope, GivenValues, OneAnswer, ShownRequest},
};
use crate::{
    connector::failure::{CallEnd, Failure, Hiding},
    document::Checker,
    expr::{Names, Template, Type},
    text::{cut, slug},
};
use rustc_hash::FxHasher;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::{
    fmt,
    hash::{Hash, Hasher},
    sync::Arc,
};

/// Most addresses of one message.
const MAX_RECIPIENTS: usize = 100;
/// Longest subject and longest text, in bytes.
const MAX_SUBJECT: usize = 500;
const MAX_TEXT: usize = 256 << 10;

/// A message with `${give...}` in its parts.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MailDoc {
    /// Who sends it: `name@example.net`, or `Name <name@example.net>`.
    pub from: String,
    /// Whom it is for: one address or a list; `${give.to}` may be either.
    pub to: Addresses,
    /// Who gets a copy.
    #[serde(default)]
    pub cc: Option<Addresses>,
    /// Where answers go. Left out: to whoever sends it.
    #[serde(default)]
    pub reply_to: Option<String>,
    /// One line.
    pub subject: String,
    /// Plain text. A message has this or `markdown`.
    #[serde(default)]
    pub text: Option<String>,
    /// A text in Markdown (CommonMark): sent as it is, and as HTML for those who prefer that. HTML
    /// within it is shown as it is written, and links as their addresses, so that what comes of an
    /// alert can hide nothing.
    #[serde(default)]
    pub markdown: Option<String>,
}

/// One address or several.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Addresses {
    /// One, or an expression that gives one or a list.
    One(String),
    /// A list.
    Several(Vec<String>),
}

impl<'de> Deserialize<'de> for Addresses {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        match Value::deserialize(d)? {
            Value::String(text) => Ok(Self::One(text)),
            other => {
                serde_json::from_value(other).map(Self::Several).map_err(serde::de::Error::custom)
            }
        }
    }
}

impl Addresses {
    fn into_value(self) -> Value {
        match self {
            Self::One(one) => one.into(),
            Self::Several(several) => several.into(),
        }
    }
}

/// A checked message.
#[derive(Clone, Debug)]
pub struct MailCall {
    line: String,
    from: Template,
    to: Template,
    cc: Option<Template>,
    reply_to: Option<Template>,
    subject: Template,
    text: Template,
    is_markdown: bool,
}

/// An address, with the name of whoever has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mailbox {
    /// The name that is shown; none if it has none.
    pub name: Option<String>,
    /// The local part.
    pub local: String,
    /// The domain.
    pub domain: String,
}

impl Mailbox {
    /// Reads `local@domain` or `Name <local@domain>`. The local part is a dot-atom, the domain a
    /// name (RFC 5322, section 3.4.1): quoted local parts and literal addresses are not read.
    pub fn parse(text: &str) -> Option<Self> {
        let (name, address) =
            match text.trim().strip_suffix('>').and_then(|text| text.rsplit_once('<')) {
                Some((name, address)) => (Some(name.trim().trim_matches('"').to_owned()), address),
                None => (None, text.trim()),
            };
        let (local, domain) = address.split_once('@')?;
        let atom = |c: char| c.is_ascii_alphanumeric() || "!#$%&'*+-/=?^_`{|}~".contains(c);
        let label = |part: &str| {
            !part.is_empty()
                && part.len() <= 63
                && part.chars().all(|c| c.is_ascii_alphanumeric() || c == '-')
        };
        let fits = local.len() <= 64
            && domain.len() <= 253
            && local.split('.').all(|part| !part.is_empty() && part.chars().all(atom))
            && domain.split('.').all(label)
            && name
                .as_deref()
                .is_none_or(|name| name.len() <= 100 && !name.contains(char::is_control));
        let name = name.filter(|name| !name.is_empty());
        fits.then(|| Self { name, local: local.to_owned(), domain: domain.to_owned() })
    }
}

impl fmt::Display for Mailbox {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}@{}", self.local, self.domain)
    }
}

/// A message that is to be sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Letter {
    /// Who sends it.
    pub from: Mailbox,
    /// Whom it is for.
    pub to: Vec<Mailbox>,
    /// Who gets a copy.
    pub cc: Vec<Mailbox>,
    /// Where answers go, if not to whoever sends it.
    pub reply_to: Option<Mailbox>,
    /// One line.
    pub subject: String,
    /// Plain text.
    pub text: String,
    /// The same text as a document in HTML, if it is sent as such as well.
    pub html: Option<String>,
    /// The same for every try of the same step (RFC 5322, section 3.6.4), with its angle brackets.
    pub message_id: String,
}

impl Letter {
    pub(super) fn shown(&self) -> ShownRequest {
        let all =
            |of: &[Mailbox]| of.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        let mut body =
            json!({ "from": self.from.to_string(), "subject": self.subject, "text": self.text });
        if !self.cc.is_empty() {
            body["cc"] = all(&self.cc).into();
        }
        if let Some(reply_to) = &self.reply_to {
            body["reply_to"] = reply_to.to_string().into();
        }
        ShownRequest {
            method: "MAIL".into(),
            target: format!("to {}", all(&self.to)),
            body: Some(body),
        }
    }
}

impl MailCall {
    /// Checks a message; what is given has the type `give`. With it comes what `output` may use,
    /// and the types of that.
    pub(in crate::connector) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: MailDoc,
        give: &Type,
    ) -> (Option<Self>, Vec<(&'static str, Type)>) {
        let given = [("give", give.clone())];
        let names = Names { roots: &["give"], functions: &[], types: &given };
        let line = format!("MAIL to {}", crate::document::flow(&doc.to.clone().into_value()));
        let mut part =
            |key: &str, value: Value| check.template(&format!("{at}/mail/{key}"), &value, names);
        let (from, to) = (part("from", doc.from.into()), part("to", doc.to.into_value()));
        let subject = part("subject", doc.subject.into());
        let (key, text, is_markdown) = match (doc.text, doc.markdown) {
            (Some(text), None) => ("text", text, false),
            (None, Some(markdown)) => ("markdown", markdown, true),
            (None, None) | (Some(_), Some(_)) => {
                check.fail(&format!("{at}/mail"), "has one of `text` and `markdown`");
                return (None, Vec::new());
            }
        };
        let text = part(key, text.into());
        let cc = doc.cc.map(|cc| part("cc", cc.into_value()));
        let reply_to = doc.reply_to.map(|reply_to| part("reply_to", reply_to.into()));
        let made = || {
            let (cc, reply_to) = (
                cc.map_or(Some(None), |cc| cc.map(Some))?,
                reply_to.map_or(Some(None), |r| r.map(Some))?,
            );
            Some(Self {
                line,
                from: from?,
                to: to?,
                cc,
                reply_to,
                subject: subject?,
                text: text?,
                is_markdown,
            })
        };
        let fields = [("status", Type::Number), ("text", Type::Text), ("message_id", Type::Text)];
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
        key: &str,
    ) -> Result<Mailing<'o>, RequestError> {
        let view = CallScope { give: &give, response: None };
        let text = |template: &Template| {
            template.fill(&view).map(|value| match value {
                Value::String(text) => text,
                other => other.to_string(),
            })
        };
        let from = mailbox("from", &text(&self.from)?)?;
        let to = mailboxes("to", self.to.fill(&view)?)?;
        let cc = self
            .cc
            .as_ref()
            .map(|cc| mailboxes("cc", cc.fill(&view)?))
            .transpose()?
            .unwrap_or_default();
        if to.is_empty() {
            return Err(RequestError::Part("to: names nobody".into()));
        }
        if to.len() + cc.len() > MAX_RECIPIENTS {
            let wrong =
                format!("has {} recipients; {MAX_RECIPIENTS} are allowed", to.len() + cc.len());
            return Err(RequestError::Part(wrong));
        }
        let reply_to =
            self.reply_to.as_ref().map(|r| mailbox("reply_to", &text(r)?)).transpose()?;
        // A line end would begin another field (RFC 5322, section 2.2).
        let subject = text(&self.subject)?.split(char::is_control).collect::<Vec<_>>().join(" ");
        let subject = cut(subject.trim(), MAX_SUBJECT).to_owned();
        let text = text(&self.text)?;
        if text.len() > MAX_TEXT {
            let wrong = format!("text: has {} bytes; {MAX_TEXT} are allowed", text.len());
            return Err(RequestError::Part(wrong));
        }
        let message_id = format!("<{}@{}>", name_of(key), from.domain);
        let html = self.is_markdown.then(|| markdown::html(&text));
        let letter = Letter { from, to, cc, reply_to, subject, text, html, message_id };
        Ok(Mailing { letter, answer: OneAnswer::new(gives, give) })
    }
}

/// A key as the left side of a message's id: where it cannot stand there as it is, a number that
/// was worked out of it stands beside what is left, so that two keys have two names.
fn name_of(key: &str) -> String {
    let name = slug(key);
    if name == key {
        return name;
    }
    let mut hasher = FxHasher::default();
    key.hash(&mut hasher);
    format!("{name}.{:016x}", hasher.finish())
}

fn mailbox(part: &str, text: &str) -> Result<Mailbox, RequestError> {
    let wrong =
        || format!("{part}: `{}` is not an address, such as ops@skerrow.example", cut(text, 80));
    Mailbox::parse(text).ok_or_else(|| RequestError::Part(wrong()))
}

fn mailboxes(part: &str, value: Value) -> Result<Vec<Mailbox>, RequestError> {
    let one = |value: &Value| match value {
        Value::String(text) => mailbox(part, text),
        other => mailbox(part, &other.to_string()),
    };
    match &value {
        Value::Array(all) => all.iter().map(one).collect(),
        Value::Null => Ok(Vec::new()),
        value => one(value).map(|one| vec![one]),
    }
}

/// A message on its way.
#[derive(Debug)]
pub struct Mailing<'o> {
    letter: Letter,
    answer: OneAnswer<'o>,
}

impl<'o> Mailing<'o> {
    /// What its failures say of answers is hidden by this; its outputs are not touched.
    #[must_use]
    pub fn hiding(self, hiding: Hiding<'o>) -> Self {
        Self { answer: self.answer.hiding(hiding), ..self }
    }

    /// The message.
    pub const fn letter(&self) -> &Letter {
        &self.letter
    }

    /// What a server's reply to it means, or to a command before it (RFC 5321, section 4.2.1): 2yz,
    /// it has taken it; 4yz, not now; 5yz, never.
    ///
    /// # Errors
    /// That the server did not take it, or that no output can be made of what it says.
    pub fn replied(&self, status: u16, text: &str) -> Result<Value, Failure> {
        if !(200..300).contains(&status) {
            let message = format!("answered {status}: {}", self.answer.cut(text));
            return Err(Failure {
                lasting: status >= 500,
                ..Failure::new(CallEnd::Refused, message)
            });
        }
        let response =
            json!({ "status": status, "text": text, "message_id": self.letter.message_id });
        self.answer.output(response, status)
    }
}
