//! One operation: what it takes, the request it makes, the output it gives, and whether doing
//! it twice is harmless.

use crate::{
    Period,
    bounds::{depth_complaint, too_deep},
    document::Checker,
    expr::{Expr, Names, Scope, Template, Type, Val},
    inputs::Inputs,
    text::{clean_json, cut},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::{collections::BTreeMap, sync::Arc};

/// What the expressions of an operation start from; a request knows the first only.
const ROOTS: [&str; 2] = ["give", "response"];

/// What is known of an answer.
fn response() -> Type {
    let fields = [("status", Type::Number), ("headers", Type::Map(Arc::new(Type::Text))), ("body", Type::Any)];
    Type::Record(Arc::new(fields.map(|(name, t)| (name.to_owned(), t)).into()))
}

/// Largest output of one operation, in bytes of JSON.
pub const MAX_OUTPUT: usize = 256 << 10;

/// An operation as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct OperationDoc {
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// What must be given: JSON Schema properties.
    #[serde(default)]
    pub takes: Map<String, Value>,
    /// The HTTP request.
    pub request: RequestDoc,
    /// An expression over `response` (`status`, `headers`, `body`) and `give`. Left out: the body.
    #[serde(default)]
    pub output: Option<String>,
    /// Whether doing it twice is harmless. Left out: `safe` for GET, else `never`.
    #[serde(default)]
    pub repeat: Option<Repeat>,
    /// The header that carries the key of a `keyed` operation. Left out: `Idempotency-Key`.
    #[serde(default)]
    pub key_header: Option<String>,
    /// Statuses of answers after which another try makes sense. Left out: 429 and 500, 502, 503,
    /// 504. After one of 500 and above nobody knows whether it was done, so that only what is
    /// `safe` or `keyed` is tried again.
    #[serde(default)]
    pub retry_on: Option<Vec<u16>>,
}

/// Whether doing it twice is harmless.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Repeat {
    /// Harmless.
    Safe,
    /// Harmless with the same key.
    Keyed,
    /// Not harmless.
    Never,
}

/// An HTTP request with `${give...}` in its parts.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RequestDoc {
    /// GET, POST, PUT, PATCH or DELETE.
    pub method: Method,
    /// Below the connection's base address; what is filled in is percent-encoded.
    pub path: String,
    /// Query parameters.
    #[serde(default)]
    pub query: BTreeMap<String, String>,
    /// Headers.
    #[serde(default)]
    pub headers: BTreeMap<String, String>,
    /// The JSON body.
    #[serde(default)]
    pub body: Option<Value>,
}

/// Methods of HTTP (RFC 9110, section 9).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "UPPERCASE")]
pub enum Method {
    /// GET
    Get,
    /// POST
    Post,
    /// PUT
    Put,
    /// PATCH
    Patch,
    /// DELETE
    Delete,
}

impl Method {
    /// The word of the protocol.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Get => "GET",
            Self::Post => "POST",
            Self::Put => "PUT",
            Self::Patch => "PATCH",
            Self::Delete => "DELETE",
        }
    }
}

/// A checked operation.
#[derive(Clone, Debug)]
pub struct Operation {
    /// One line for people.
    pub summary: Option<String>,
    /// What must be given.
    pub takes: Inputs,
    /// Whether doing it twice is harmless.
    pub repeat: Repeat,
    method: Method,
    path: Template,
    query: Vec<(String, Template)>,
    headers: Vec<(String, Template)>,
    body: Option<Template>,
    output: Option<Expr>,
    key_header: String,
    retry_on: Vec<u16>,
}

/// A planned request: all that is sent, but for the base address and the credential.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Request {
    /// The method.
    pub method: &'static str,
    /// Percent-encoded path, with the query.
    pub target: String,
    /// Headers.
    pub headers: Vec<(String, String)>,
    /// The JSON body.
    pub body: Option<Value>,
}

/// What came back.
#[derive(Clone, Debug)]
pub struct Answer {
    /// The status code.
    pub status: u16,
    /// Names in lower case.
    pub headers: Map<String, Value>,
    /// JSON, or the text of a body that is none.
    pub body: Value,
}

/// Why a call failed, and what is known of the other side.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// What happened.
    pub message: String,
    /// What became of the request.
    pub end: CallEnd,
    /// Whether every other try would end the same way.
    pub lasting: bool,
    /// How long the other side asked to be left alone (RFC 9110, section 10.2.3).
    pub retry_after: Option<Period>,
}

/// What is known of a request that failed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CallEnd {
    /// It never left, or nobody was there to take it: nothing was done.
    NotSent,
    /// The other side said no: nothing was done.
    Refused,
    /// It may have been done: no answer came, or one that does not tell.
    Unknown,
    /// It was done, but what came back cannot be used.
    Done,
}

impl Failure {
    /// A failure after which another try may end otherwise.
    pub fn new(end: CallEnd, message: impl Into<String>) -> Self {
        Self { message: message.into(), end, lasting: false, retry_after: None }
    }

    /// A failure that every try would meet.
    pub fn lasting(end: CallEnd, message: impl Into<String>) -> Self {
        Self { lasting: true, ..Self::new(end, message) }
    }
}

struct View<'a> {
    give: &'a Value,
    response: Option<&'a Value>,
}

impl<'a> Scope<'a> for View<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        match name {
            "give" => Some(Val::json(self.give)),
            "response" => self.response.map(Val::json),
            _ => None,
        }
    }
}

impl Operation {
    pub(super) fn check(check: &mut Checker<'_>, at: &str, doc: OperationDoc) -> Option<Self> {
        let takes = Inputs::check(check, &format!("{at}/takes"), doc.takes);
        let give = takes.as_ref().map_or(Type::Any, Inputs::as_type);
        let types = [("give", give), ("response", response())];
        let request = Names { roots: &ROOTS[..1], functions: &[], types: &types };
        let answer = Names { roots: &ROOTS, ..request };
        let path_at = format!("{at}/request/path");
        if !doc.request.path.starts_with('/') {
            check.fail(&path_at, "a path begins with /");
            return None;
        }
        let path = check.template(&path_at, &Value::String(doc.request.path), request);
        let mut named = |key: &str, map: BTreeMap<String, String>| -> Option<Vec<(String, Template)>> {
            map.into_iter()
                .map(|(k, v)| {
                    let made = check.template(&format!("{at}/request/{key}/{k}"), &Value::String(v), request)?;
                    Some((k, made))
                })
                .collect()
        };
        let (query, headers) = (named("query", doc.request.query), named("headers", doc.request.headers));
        let body = match doc.request.body {
            None => Some(None),
            Some(body) => check.template(&format!("{at}/request/body"), &body, request).map(Some),
        };
        let output = match doc.output {
            None => Some(None),
            Some(text) => check.expr(&format!("{at}/output"), &text, answer).map(Some),
        };
        let method = doc.request.method;
        let repeat = doc.repeat.unwrap_or(if method == Method::Get { Repeat::Safe } else { Repeat::Never });
        Some(Self {
            summary: doc.summary,
            takes: takes?,
            repeat,
            method,
            path: path?,
            query: query?,
            headers: headers?,
            body: body?,
            output: output?,
            key_header: doc.key_header.unwrap_or_else(|| "Idempotency-Key".into()),
            retry_on: doc.retry_on.unwrap_or_else(|| vec![429, 500, 502, 503, 504]),
        })
    }

    /// The request for what is given; `key` is the same for every try of the same step.
    pub fn request(&self, give: &Map<String, Value>, key: &str) -> Result<Request, String> {
        let give = Value::Object(self.takes.complete(give.clone())?);
        let view = View { give: &give, response: None };
        let text = |t: &Template| t.fill_text(&view).map_err(|e| e.to_string());
        let mut target = self.path.fill_encoded(&view, percent).map_err(|e| e.to_string())?;
        if let Some(part) = target.split('/').skip(1).find(|p| matches!(*p, "" | "." | "..")) {
            return Err(format!("`{part}` cannot be a part of the path {target}"));
        }
        for (i, (name, value)) in self.query.iter().enumerate() {
            target.push(if i == 0 { '?' } else { '&' });
            target.push_str(&format!("{}={}", percent(name), percent(&text(value)?)));
        }
        let mut headers = Vec::new();
        for (name, value) in &self.headers {
            headers.push((name.clone(), text(value)?));
        }
        if self.repeat == Repeat::Keyed {
            headers.push((self.key_header.clone(), key.to_owned()));
        }
        let body = self.body.as_ref().map(|b| b.fill(&view)).transpose().map_err(|e| e.to_string())?;
        Ok(Request { method: self.method.as_str(), target, headers, body })
    }

    /// The output of an answer, or the failure it stands for. A refusal is an answer of 400 and above
    /// and below 500; after any other the request may have been done.
    pub fn answer(&self, give: &Map<String, Value>, answer: &Answer) -> Result<Value, Failure> {
        if !(200..300).contains(&answer.status) {
            return Err(Failure {
                message: format!("answered {}{}", answer.status, hint(&answer.body)),
                end: if (300..500).contains(&answer.status) { CallEnd::Refused } else { CallEnd::Unknown },
                lasting: !self.retry_on.contains(&answer.status),
                retry_after: answer.headers.get("retry-after").and_then(Value::as_str).and_then(seconds),
            });
        }
        let output = match &self.output {
            None => answer.body.clone(),
            Some(expr) => {
                let response = json!({ "status": answer.status, "headers": answer.headers, "body": answer.body });
                let give = Value::Object(give.clone());
                let view = View { give: &give, response: Some(&response) };
                let value = expr.eval(&view).map_err(|e| {
                    let wrong = format!("answered {}, but the output cannot be made of it: {e}", answer.status);
                    Failure::lasting(CallEnd::Done, wrong)
                })?;
                clean_json(value.to_json())
            }
        };
        let size = output.to_string().len();
        if size > MAX_OUTPUT {
            let message =
                format!("answered {}, but its output has {size} bytes; {MAX_OUTPUT} are allowed", answer.status);
            return Err(Failure::lasting(CallEnd::Done, message));
        }
        if too_deep(&output) {
            let message = format!("answered {}, but its output {}", answer.status, depth_complaint());
            return Err(Failure::lasting(CallEnd::Done, message));
        }
        Ok(output)
    }
}

/// The seconds of `Retry-After`; a date would need a clock. Nobody is made to wait longer than an
/// hour.
fn seconds(text: &str) -> Option<Period> {
    text.trim().parse().ok().map(|seconds: u64| Period::from_secs(seconds.min(3600)))
}

/// What the other side said about its refusal, where it used one of the usual fields.
fn hint(body: &Value) -> String {
    let said = ["detail", "message", "error", "title"].iter().find_map(|k| body.get(k)?.as_str());
    let said = said.or(body.as_str()).unwrap_or_default().trim();
    if said.is_empty() { String::new() } else { format!(": {}", cut(said, 200)) }
}

/// RFC 3986, section 2: all but unreserved characters are encoded.
fn percent(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for b in text.bytes() {
        if b.is_ascii_alphanumeric() || matches!(b, b'-' | b'.' | b'_' | b'~') {
            out.push(char::from(b));
        } else {
            out.push_str(&format!("%{b:02X}"));
        }
    }
    out
}
