//! A request as it is written, and as it is planned for what is given.

use crate::{
    connector::protocols::ShownRequest,
    document::Checker,
    expr::{ExprError, Names, Scope, Template},
    inputs::InputsError,
    text::percent,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// An HTTP request with `${give...}` in its parts. A parameter, a header, a field of a form or a
/// key of a body that is one `${give...}` and nothing else is left out where that is not given; a
/// list makes a parameter or a field several times.
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
    /// Instead of a JSON body: the fields of a form (`application/x-www-form-urlencoded`).
    #[serde(default)]
    pub form: Option<BTreeMap<String, String>>,
    /// Instead of a JSON body: a text, `text/plain` unless the headers say otherwise.
    #[serde(default)]
    pub text: Option<String>,
}

crate::words! {
    /// Methods of HTTP (RFC 9110, section 9).
    #[derive(JsonSchema)]
    pub enum Method("method") {
        /// GET
        Get = "GET",
        /// POST
        Post = "POST",
        /// PUT
        Put = "PUT",
        /// PATCH
        Patch = "PATCH",
        /// DELETE
        Delete = "DELETE",
    }
}

/// A checked request.
#[derive(Clone, Debug)]
pub struct PlannedRequest {
    /// The method and the path as written.
    pub(super) line: String,
    method: Method,
    path: Template,
    query: Vec<(String, Template)>,
    headers: Vec<(String, Template)>,
    body: PlannedBody,
}

#[derive(Clone, Debug)]
enum PlannedBody {
    None,
    Json(Template),
    Form(Vec<(String, Template)>),
    Text(Template),
}

/// A planned request: all that is sent, but for the base address and the credential.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Request {
    /// The method.
    pub method: &'static str,
    /// Percent-encoded path, with the query, below the base address.
    pub target: String,
    /// The target is an address that an answer gave, whole or relative to the base (RFC 3986,
    /// section 5). It may not lead to another origin.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub follows: bool,
    /// Headers.
    pub headers: Vec<(String, String)>,
    /// The body.
    pub body: Option<Body>,
}

/// What is sent along.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(untagged)]
pub enum Body {
    /// JSON.
    Json(Value),
    /// A text; the fields of a form are encoded already.
    Text {
        /// Its media type (RFC 9110, section 8.3.1), unless the headers name one.
        kind: &'static str,
        /// The text.
        text: String,
    },
}

impl Request {
    /// As people and records see it.
    pub(in crate::connector) fn shown(&self) -> ShownRequest {
        let body = self.body.as_ref().map(Body::shown);
        ShownRequest { method: self.method.to_owned(), target: self.target.clone(), body }
    }
}

impl Body {
    fn shown(&self) -> Value {
        match self {
            Self::Json(value) => value.clone(),
            Self::Text { text, .. } => Value::String(text.clone()),
        }
    }
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
    /// A part cannot be sent as it is.
    #[error("{0}")]
    Part(String),
    /// It would lead to another path.
    #[error("`{part}` cannot be a part of the path {target}")]
    Path {
        /// What would stand between two slashes.
        part: String,
        /// The whole.
        target: String,
    },
}

impl PlannedRequest {
    /// Checks a request, whose parts may use `names`.
    pub(super) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: RequestDoc,
        names: Names<'_>,
    ) -> Option<Self> {
        let path_at = format!("{at}/path");
        let line = format!("{} {}", doc.method.as_str(), doc.path);
        if !doc.path.starts_with('/') {
            check.fail(&path_at, "a path begins with /");
            return None;
        }
        let path = check.template(&path_at, &Value::String(doc.path), names);
        let mut named =
            |key: &str, map: BTreeMap<String, String>| -> Option<Vec<(String, Template)>> {
                map.into_iter()
                    .map(|(k, v)| {
                        let made =
                            check.template(&format!("{at}/{key}/{k}"), &Value::String(v), names)?;
                        Some((k, made))
                    })
                    .collect()
            };
        let (query, headers) = (named("query", doc.query), named("headers", doc.headers));
        let body = match (doc.body, doc.form, doc.text) {
            (None, None, None) => Some(PlannedBody::None),
            (Some(body), None, None) => {
                check.template(&format!("{at}/body"), &body, names).map(PlannedBody::Json)
            }
            (None, Some(fields), None) => named("form", fields).map(PlannedBody::Form),
            (None, None, Some(text)) => check
                .template(&format!("{at}/text"), &Value::String(text), names)
                .map(PlannedBody::Text),
            _ => {
                check.fail(at, "a request has one of `body`, `form` and `text`");
                None
            }
        };
        Some(Self {
            line,
            method: doc.method,
            path: path?,
            query: query?,
            headers: headers?,
            body: body?,
        })
    }

    /// Whether the method itself says that repeating is harmless.
    pub(super) const fn is_safe(&self) -> bool {
        matches!(self.method, Method::Get)
    }

    /// Whether it may be one that changes nothing: APIs in the style of a query ask by POST.
    pub(super) const fn may_only_ask(&self) -> bool {
        matches!(self.method, Method::Get | Method::Post)
    }

    /// The request; with a key, and the header that carries it, if the call may be repeated with
    /// the same one.
    ///
    /// # Errors
    /// What cannot be filled in, or would lead to another path.
    pub(super) fn request<'a>(
        &'a self,
        scope: &'a dyn Scope<'a>,
        key: Option<(&str, &str)>,
    ) -> Result<Request, RequestError> {
        let mut target = self.path.fill_encoded(scope, percent)?;
        // A slash at the end that is written is meant; one that is left by what was filled in is
        // not.
        let parts = match self.line.ends_with('/') {
            true => target.strip_suffix('/').unwrap_or(&target),
            false => &target,
        };
        if let Some(part) = parts.split('/').skip(1).find(|p| matches!(*p, "" | "." | "..")) {
            let part = part.to_owned();
            return Err(RequestError::Path { part, target });
        }
        let query = pairs(&self.query, scope)?;
        if !query.is_empty() {
            target = format!("{target}?{}", encoded(&query));
        }
        let mut headers = Vec::new();
        for (name, value) in &self.headers {
            let given = value.fill_given(scope)?.filter(|value| !value.is_null());
            headers.extend(given.map(|value| (name.clone(), text(value))));
        }
        headers.extend(key.map(|(name, key)| (name.to_owned(), key.to_owned())));
        let body = match &self.body {
            PlannedBody::None => None,
            PlannedBody::Json(body) => body.fill_given(scope)?.map(Body::Json),
            PlannedBody::Form(fields) => {
                let text = encoded(&pairs(fields, scope)?);
                Some(Body::Text { kind: "application/x-www-form-urlencoded", text })
            }
            PlannedBody::Text(body) => body
                .fill_given(scope)?
                .map(|v| Body::Text { kind: "text/plain; charset=utf-8", text: text(v) }),
        };
        Ok(Request { method: self.method.as_str(), target, follows: false, headers, body })
    }
}

/// Names with what is given for them; what is not given is left out, a list comes one by one.
fn pairs<'a>(
    fields: &'a [(String, Template)],
    scope: &'a dyn Scope<'a>,
) -> Result<Vec<(&'a str, String)>, ExprError> {
    let mut all = Vec::new();
    for (name, value) in fields {
        match value.fill_given(scope)? {
            None | Some(Value::Null) => {}
            Some(Value::Array(items)) => {
                all.extend(items.into_iter().map(|item| (name.as_str(), text(item))))
            }
            Some(one) => all.push((name.as_str(), text(one))),
        }
    }
    Ok(all)
}

fn text(value: Value) -> String {
    match value {
        Value::String(text) => text,
        other => other.to_string(),
    }
}

/// As in a query or a form.
pub(super) fn encoded(pairs: &[(&str, String)]) -> String {
    let pairs: Vec<_> =
        pairs.iter().map(|(name, value)| format!("{}={}", percent(name), percent(value))).collect();
    pairs.join("&")
}
