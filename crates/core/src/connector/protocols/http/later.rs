//! Operations whose answer is only a beginning: they are looked at until they are done, or they
//! call back.

use super::{PlannedRequest, RequestDoc};
use crate::{
    Period,
    connector::Hiding,
    document::Checker,
    expr::{Expr, Names, Scope, Type, Val},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Between two looks at least, and a whole wait at most.
const LEAST_EVERY: Period = Period::from_millis(50);
const MOST_WITHIN: Period = Period::from_secs(3600);

/// How to see that an operation is done which answers before it is.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct UntilDoc {
    /// The request by which it is looked at, a GET. It knows `give` and `first`, the first answer.
    #[serde(default)]
    pub look: Option<RequestDoc>,
    /// Instead: an expression over `first`, the address at which it is looked at, such as
    /// `first.headers.location`.
    #[serde(default)]
    pub follow: Option<String>,
    /// A condition over `response`, what the look gave: whether it is done.
    pub done: String,
    /// A condition over `response`: whether it has failed.
    #[serde(default)]
    pub failed: Option<String>,
    /// An expression over `response`: why it has failed.
    #[serde(default)]
    pub because: Option<String>,
    /// How often it is looked at. Left out: 2s.
    #[serde(default)]
    pub every: Option<Period>,
    /// How long it may take; at most an hour.
    pub within: Period,
}

/// How to hear from an operation that calls back: its request hands over `${callback}`, an address
/// at which we wait once for a POST.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CallbackDoc {
    /// How long the other side may take; at most a day.
    pub within: Period,
    /// A condition over `called`, what it sent (`body`, `headers`): whether it has failed.
    #[serde(default)]
    pub failed: Option<String>,
    /// An expression over `called`: why it has failed.
    #[serde(default)]
    pub because: Option<String>,
    /// An expression over `called`: the output. Left out: the body.
    #[serde(default)]
    pub output: Option<String>,
    /// How the other side signs what it sends, with `${callback_key}`, which its request hands over
    /// and which is good for that alone. Left out: whoever knows the address is believed.
    #[serde(default)]
    pub signed: Option<Signed>,
}

/// How a call back is signed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Signed {
    /// As Standard Webhooks says: `webhook-id`, `webhook-timestamp` and `webhook-signature`; the
    /// key begins with `whsec_`.
    StandardWebhooks,
    /// An HMAC of the body with SHA-256 (RFC 2104), in hexadecimal or base64, in the header of this
    /// name; `sha256=` may stand before it.
    #[serde(rename = "hmac_sha256")]
    HmacSha256(String),
}

/// Checked looks.
#[derive(Clone, Debug)]
pub struct DoneWhen {
    pub(super) look: Look,
    pub(super) done: Expr,
    pub(super) verdict: LaterVerdict,
    pub(super) every: Period,
    pub(super) within: Period,
}

#[derive(Clone, Debug)]
pub(super) enum Look {
    Request(PlannedRequest),
    Follow(Expr),
}

/// Whether something failed, and why.
#[derive(Clone, Debug)]
pub(super) struct LaterVerdict {
    failed: Option<Expr>,
    because: Option<Expr>,
}

/// A checked callback.
#[derive(Clone, Debug)]
pub struct Callback {
    /// How long the other side may take.
    pub within: Period,
    /// How what it sends is signed.
    pub signed: Option<Signed>,
    verdict: LaterVerdict,
    output: Option<Expr>,
}

impl LaterVerdict {
    fn check(
        check: &mut Checker<'_>,
        at: &str,
        failed: Option<String>,
        because: Option<String>,
        names: Names<'_>,
    ) -> Option<Self> {
        if failed.is_none() && because.is_some() {
            check.fail(&format!("{at}/because"), "says why it `failed`, which is missing");
            return None;
        }
        let failed = match failed {
            None => Some(None),
            Some(text) => check.condition(&format!("{at}/failed"), &text, names).map(Some),
        };
        let because = match because {
            None => Some(None),
            Some(text) => check.expr(&format!("{at}/because"), &text, names).map(Some),
        };
        Some(Self { failed: failed?, because: because? })
    }

    /// Why it failed, if it did.
    pub(super) fn failure<'a>(
        &'a self,
        scope: &'a dyn Scope<'a>,
        hiding: Hiding<'_>,
    ) -> Option<String> {
        let failed = self.failed.as_ref()?.holds(scope).unwrap_or(false);
        failed.then(|| match self.because.as_ref().map(|because| because.eval(scope)) {
            Some(Ok(because)) => hiding.cut(&because.text(), 200),
            _ => "it says that it failed".to_owned(),
        })
    }
}

impl DoneWhen {
    /// Checks what may use `names`; the request of a look knows those of `before`.
    pub(super) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: UntilDoc,
        before: Names<'_>,
        names: Names<'_>,
    ) -> Option<Self> {
        let look = match (doc.look, doc.follow) {
            (Some(look), None) => {
                let plan = PlannedRequest::check(check, &format!("{at}/look"), look, before)?;
                if !plan.may_only_ask() {
                    let wrong = "a look changes nothing: it is a GET, or a POST that only asks";
                    check.fail(&format!("{at}/look/method"), wrong);
                }
                Some(Look::Request(plan))
            }
            (None, Some(follow)) => {
                check.expr(&format!("{at}/follow"), &follow, before).map(Look::Follow)
            }
            _ => {
                check.fail(at, "is looked at by `look` or by `follow`");
                None
            }
        };
        let done = check.condition(&format!("{at}/done"), &doc.done, names);
        let verdict = LaterVerdict::check(check, at, doc.failed, doc.because, names);
        let every = doc.every.unwrap_or(Period::from_secs(2));
        if every < LEAST_EVERY || every > doc.within {
            check.fail(&format!("{at}/every"), "is from 50ms to `within`");
        }
        if doc.within > MOST_WITHIN {
            check.fail(&format!("{at}/within"), "is at most 1h");
        }
        Some(Self { look: look?, done: done?, verdict: verdict?, every, within: doc.within })
    }
}

struct CalledScope<'a>(&'a Value);

impl<'a> Scope<'a> for CalledScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        (name == "called").then(|| Val::json(self.0))
    }
}

impl Callback {
    pub(super) fn check(check: &mut Checker<'_>, at: &str, doc: CallbackDoc) -> Option<Self> {
        let called = Type::record([
            ("headers".to_owned(), Type::Map(std::sync::Arc::new(Type::Text))),
            ("body".to_owned(), Type::Any),
        ]);
        let types = [("called", called)];
        let names = Names { roots: &["called"], functions: &[], types: &types };
        if doc.within > Period::from_secs(86_400) || doc.within < Period::from_secs(1) {
            check.fail(&format!("{at}/within"), "is from 1s to 1d");
        }
        let verdict = LaterVerdict::check(check, at, doc.failed, doc.because, names);
        let output = match doc.output {
            None => Some(None),
            Some(text) => check.expr(&format!("{at}/output"), &text, names).map(Some),
        };
        if let Some(Signed::HmacSha256(header)) = &doc.signed {
            let token = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_');
            if header.is_empty() || !header.chars().all(token) {
                check.fail(
                    &format!("{at}/signed/hmac_sha256"),
                    "is the name of a header, such as x-signature",
                );
            }
        }
        Some(Self { within: doc.within, signed: doc.signed, verdict: verdict?, output: output? })
    }

    /// What a call back gives, or why the operation failed; `called` has the `headers` and the
    /// `body` of the request.
    ///
    /// # Errors
    /// That it failed, or an output that cannot be made of it.
    pub fn output(&self, called: &Value, hiding: Hiding<'_>) -> Result<Value, String> {
        let scope = CalledScope(called);
        if let Some(why) = self.verdict.failure(&scope, hiding) {
            return Err(why);
        }
        match &self.output {
            None => Ok(called.get("body").cloned().unwrap_or(Value::Null)),
            Some(expr) => {
                let value = expr
                    .eval(&scope)
                    .map_err(|e| format!("it called back, but no output can be made of that: {e}"));
                value.map(|value| crate::text::clean_json(value.to_json()))
            }
        }
    }
}
