//! HTTP: a request with filled-in parts, and what its answer means.

use crate::{
    Period,
    connector::failure::{CallEnd, Failure},
    document::Checker,
    expr::{ExprError, Names, Scope, Template, Type},
    inputs::InputsError,
    text::cut,
};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::{collections::BTreeMap, sync::Arc};

/// All but unreserved characters are encoded (RFC 3986, section 2).
const RESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

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

/// A checked request, and how its answers are read.
#[derive(Clone, Debug)]
pub struct HttpCall {
    method: Method,
    path: Template,
    query: Vec<(String, Template)>,
    headers: Vec<(String, Template)>,
    body: Option<Template>,
    /// The header that carries the key of a call that may be repeated with it.
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

/// Why a request cannot be made of what is given.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum RequestError {
    /// What is given does not fit.
    #[error(transparent)]
    Given(#[from] InputsError),
    /// A part cannot be filled in.
    #[error(transparent)]
    Unfilled(#[from] ExprError),
    /// It would lead to another path.
    #[error("`{part}` cannot be a part of the path {target}")]
    Path {
        /// What would stand between two slashes.
        part: String,
        /// The whole.
        target: String,
    },
}

impl HttpCall {
    /// Checks a request, whose parts may use `names`.
    pub fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: RequestDoc,
        names: Names<'_>,
        key_header: Option<String>,
        retry_on: Option<Vec<u16>>,
    ) -> Option<Self> {
        let path_at = format!("{at}/path");
        if !doc.path.starts_with('/') {
            check.fail(&path_at, "a path begins with /");
            return None;
        }
        let path = check.template(&path_at, &Value::String(doc.path), names);
        let mut named = |key: &str, map: BTreeMap<String, String>| -> Option<Vec<(String, Template)>> {
            map.into_iter()
                .map(|(k, v)| {
                    let made = check.template(&format!("{at}/{key}/{k}"), &Value::String(v), names)?;
                    Some((k, made))
                })
                .collect()
        };
        let (query, headers) = (named("query", doc.query), named("headers", doc.headers));
        let body = match doc.body {
            None => Some(None),
            Some(body) => check.template(&format!("{at}/body"), &body, names).map(Some),
        };
        Some(Self {
            method: doc.method,
            path: path?,
            query: query?,
            headers: headers?,
            body: body?,
            key_header: key_header.unwrap_or_else(|| "Idempotency-Key".into()),
            retry_on: retry_on.unwrap_or_else(|| vec![429, 500, 502, 503, 504]),
        })
    }

    /// Whether the method itself says that repeating is harmless.
    pub const fn is_safe(&self) -> bool {
        matches!(self.method, Method::Get)
    }

    /// The request; with a key if the call may be repeated with the same one.
    ///
    /// # Errors
    /// What cannot be filled in, or would lead to another path.
    pub fn request<'a>(&'a self, scope: &'a impl Scope<'a>, key: Option<&str>) -> Result<Request, RequestError> {
        let text = |t: &'a Template| t.fill_text(scope);
        let mut target = self.path.fill_encoded(scope, percent)?;
        if let Some(part) = target.split('/').skip(1).find(|p| matches!(*p, "" | "." | "..")) {
            return Err(RequestError::Path { part: part.to_owned(), target });
        }
        for (i, (name, value)) in self.query.iter().enumerate() {
            target.push(if i == 0 { '?' } else { '&' });
            target.push_str(&format!("{}={}", percent(name), percent(&text(value)?)));
        }
        let mut headers = Vec::new();
        for (name, value) in &self.headers {
            headers.push((name.clone(), text(value)?));
        }
        if let Some(key) = key {
            headers.push((self.key_header.clone(), key.to_owned()));
        }
        let body = self.body.as_ref().map(|b| b.fill(scope)).transpose()?;
        Ok(Request { method: self.method.as_str(), target, headers, body })
    }

    /// The failure that an answer stands for, if it does. A refusal is an answer of 300 and above and below 500;
    /// after any other the request may have been done.
    pub fn failure(&self, answer: &Answer) -> Option<Failure> {
        (!(200..300).contains(&answer.status)).then(|| Failure {
            message: format!("answered {}{}", answer.status, hint(&answer.body)),
            end: if (300..500).contains(&answer.status) { CallEnd::Refused } else { CallEnd::Unknown },
            lasting: !self.retry_on.contains(&answer.status),
            retry_after: answer.headers.get("retry-after").and_then(Value::as_str).and_then(retry_after),
        })
    }
}

impl Answer {
    /// What expressions see of it as `response`.
    pub fn as_value(&self) -> Value {
        json!({ "status": self.status, "headers": self.headers, "body": self.body })
    }

    /// What is known of any before it came.
    pub fn as_type() -> Type {
        let fields = [("status", Type::Number), ("headers", Type::Map(Arc::new(Type::Text))), ("body", Type::Any)];
        Type::Record(Arc::new(fields.map(|(name, t)| (name.to_owned(), t)).into()))
    }
}

/// The seconds of `Retry-After` (RFC 9110, section 10.2.3); a date would need a clock. Nobody is made to wait longer than an
/// hour.
pub fn retry_after(text: &str) -> Option<Period> {
    text.trim().parse().ok().map(|seconds: u64| Period::from_secs(seconds.min(3600)))
}

/// What the other side said about its refusal, where it used one of the usual fields.
fn hint(body: &Value) -> String {
    let said = ["detail", "message", "error", "title"].iter().find_map(|k| body.get(k)?.as_str());
    let said = said.or(body.as_str()).unwrap_or_default().trim();
    if said.is_empty() { String::new() } else { format!(": {}", cut(said, 200)) }
}

fn percent(text: &str) -> String {
    utf8_percent_encode(text, RESERVED).to_string()
}
