//! One operation: what it takes, the call it makes, the output it gives, and whether doing it twice is harmless.

use super::{
    failure::{CallEnd, Failure},
    protocols::{Answer, Call, HttpCall, Request, RequestDoc, RequestError},
};
use crate::{
    bounds::{depth_complaint, too_deep},
    document::Checker,
    expr::{Expr, Names, Scope, Type, Val},
    inputs::Inputs,
    text::clean_json,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// What the expressions of an operation start from; a request knows the first only.
const ROOTS: [&str; 2] = ["give", "response"];

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
    /// What the output holds: JSON Schema properties. Steps that read it are checked by them. Left out:
    /// anything.
    #[serde(default)]
    pub gives: Option<Map<String, Value>>,
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

/// A checked operation.
#[derive(Clone, Debug)]
pub struct Operation {
    /// One line for people.
    pub summary: Option<String>,
    /// What must be given.
    pub takes: Inputs,
    /// What is known of its output.
    pub gives: Type,
    /// Whether doing it twice is harmless.
    pub repeat: Repeat,
    call: Call,
    output: Option<Expr>,
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
        let types = [("give", give), ("response", Answer::as_type())];
        let before = Names { roots: &ROOTS[..1], functions: &[], types: &types };
        let after = Names { roots: &ROOTS, ..before };
        let call = HttpCall::check(check, &format!("{at}/request"), doc.request, before, doc.key_header, doc.retry_on);
        let output = match doc.output {
            None => Some(None),
            Some(text) => check.expr(&format!("{at}/output"), &text, after).map(Some),
        };
        let gives = match doc.gives {
            None => Some(Type::Any),
            Some(properties) => Inputs::check(check, &format!("{at}/gives"), properties).map(|g| g.as_type()),
        };
        let (call, output, gives) = (call?, output?, gives?);
        let repeat = doc.repeat.unwrap_or(if call.is_safe() { Repeat::Safe } else { Repeat::Never });
        Some(Self { summary: doc.summary, takes: takes?, gives, repeat, call: Call::Http(call), output })
    }

    /// The request for what is given; `key` is the same for every try of the same step.
    ///
    /// # Errors
    /// What is given and not taken, or taken and not given; what cannot be filled in.
    pub fn request(&self, give: &Map<String, Value>, key: &str) -> Result<Request, RequestError> {
        let give = Value::Object(self.takes.complete(give.clone())?);
        let view = View { give: &give, response: None };
        let Call::Http(call) = &self.call;
        call.request(&view, (self.repeat == Repeat::Keyed).then_some(key))
    }

    /// The output of an answer.
    ///
    /// # Errors
    /// The failure that the answer stands for; an output that cannot be made of it, or is too large or too deep.
    pub fn answer(&self, give: &Map<String, Value>, answer: &Answer) -> Result<Value, Failure> {
        let Call::Http(call) = &self.call;
        if let Some(failure) = call.failure(answer) {
            return Err(failure);
        }
        let useless = |why: String| Failure::lasting(CallEnd::Done, format!("answered {}, but {why}", answer.status));
        let output = match &self.output {
            None => answer.body.clone(),
            Some(expr) => {
                let (give, response) = (Value::Object(give.clone()), answer.as_value());
                let view = View { give: &give, response: Some(&response) };
                let value = expr.eval(&view).map_err(|e| useless(format!("the output cannot be made of it: {e}")))?;
                clean_json(value.to_json())
            }
        };
        let size = output.to_string().len();
        if size > MAX_OUTPUT {
            return Err(useless(format!("its output has {size} bytes; {MAX_OUTPUT} are allowed")));
        }
        if too_deep(&output) {
            return Err(useless(format!("its output {}", depth_complaint())));
        }
        Ok(output)
    }
}
