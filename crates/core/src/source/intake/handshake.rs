//! How a sender asks whether it may post: it sends something that must come back.

use crate::{
    document::Checker,
    expr::{Expr, ExprError, Names, Scope, Val, truth},
    text::cut,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// What it offers to expressions: the body, null where there is none; the headers, without
/// credentials and with names in lower case; and the fields of the query.
const OFFERS: [&str; 3] = ["body", super::HEADERS, "query"];
/// Longest answer, in bytes.
const LONGEST: usize = 4_096;

/// A question of the sender's, and its answer.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HandshakeDoc {
    /// Which requests are the question, over `body`, `headers` and `query`. Left out: those by
    /// `GET`, and no other.
    #[serde(default)]
    pub when: Option<String>,
    /// What is answered: a text, or a value that is answered as JSON.
    pub answer: String,
}

/// A question of the sender's, and its answer, checked.
#[derive(Clone, Debug)]
pub struct Handshake {
    when: Option<Expr>,
    answer: Expr,
}

/// A request that may be the question.
#[derive(Clone, Copy, Debug)]
pub struct HandshakeRequest<'a> {
    /// Its body; none of one by `GET`.
    pub body: Option<&'a Value>,
    /// Its headers.
    pub headers: &'a Value,
    /// The fields of its query.
    pub query: &'a Value,
}

impl HandshakeDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Handshake> {
        let names = Names { roots: &OFFERS, functions: &[], types: &[] };
        let when = match &self.when {
            Some(when) => check.expr(&format!("{at}/when"), when, names).map(Some),
            None => Some(None),
        };
        let answer = check.expr(&format!("{at}/answer"), &self.answer, names);
        Some(Handshake { when: when?, answer: answer? })
    }
}

impl<'a> Scope<'a> for HandshakeRequest<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        match name {
            "body" => Some(self.body.map_or(Val::Null, Val::json)),
            super::HEADERS => Some(Val::json(self.headers)),
            "query" => Some(Val::json(self.query)),
            _ => None,
        }
    }
}

impl Handshake {
    /// The answer, if the request is the question.
    ///
    /// # Errors
    /// Why there is none to the question.
    pub fn answer(&self, request: &HandshakeRequest<'_>) -> Option<Result<Value, String>> {
        let is_it = match &self.when {
            // What is missing in a message is no question.
            Some(when) => when.eval(request).and_then(truth).unwrap_or(false),
            None => request.body.is_none(),
        };
        is_it.then(|| {
            let said = |e: ExprError| format!("the answer to the handshake: {}", e.message);
            let answer = self.answer.eval(request).map_err(said)?.to_json();
            match answer.to_string() {
                text if text.len() > LONGEST => {
                    Err(format!("the answer to the handshake is too long: {}", cut(&text, 40)))
                }
                _ if answer.is_null() => Err("the answer to the handshake is null".into()),
                _ => Ok(answer),
            }
        })
    }
}
