//! Messages that are fetched from where they stand: an operation, called again and again, which is
//! given what was remembered of the look before.

use crate::{
    Period,
    bounds::too_deep,
    connector::{misfits_of_call, must_be_safe},
    definition::{Mismatch, Others},
    document::Checker,
    expr::{Expr, ExprError, Names, Scope, Template, Val},
    text::clean_json,
};
use chrono::{DateTime, SecondsFormat, Utc};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// What a message offers to expressions: what the operation gave.
pub(super) const OFFERS: [&str; 1] = ["body"];

/// How often is looked where nothing else is said, at least and at most.
const EVERY: Period = Period::from_secs(60);
const SHORTEST: Period = Period::from_secs(5);
const LONGEST: Period = Period::from_secs(24 * 3_600);
/// Most bytes of a cursor, as JSON.
const LONGEST_CURSOR: usize = 4 << 10;

const GIVEN: [&str; 2] = ["cursor", "looked_at"];
const GIVES: Names<'static> = Names { roots: &GIVEN, functions: &[], types: &[] };
const SEES: Names<'static> =
    Names { roots: &["result", "cursor", "looked_at"], functions: &[], types: &[] };

/// An operation that gives messages.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PollDoc {
    /// The operation. It changes nothing (`repeat: safe`), and is called again and again.
    pub call: String,
    /// The connection through which it is called.
    pub via: String,
    /// What it is given. Expressions may use `cursor`, what is remembered of the look before (null
    /// at first), and `looked_at`, the moment of this one (RFC 3339). What is null is left out, and
    /// at first what reads a field of `cursor`.
    #[serde(default)]
    pub give: Map<String, Value>,
    /// An expression over `result`, what the operation gave, `cursor` and `looked_at`: what is
    /// remembered for the next look, 4 KiB of JSON at most. Left out: nothing.
    #[serde(default)]
    pub cursor: Option<String>,
    /// A condition over the same: whether there is more by now. Then the next look comes at once.
    #[serde(default)]
    pub more: Option<String>,
    /// How often it is called, from 5s to 1d. Left out: 1m.
    #[serde(default)]
    pub every: Option<Period>,
}

/// A checked operation that gives messages.
#[derive(Clone, Debug)]
pub struct Poll {
    /// The operation.
    pub operation: String,
    /// The connection through which it is called.
    pub via: String,
    /// How often.
    pub every: Period,
    given: Vec<String>,
    give: Template,
    cursor: Option<Expr>,
    more: Option<Expr>,
}

/// A look: when it is, and what is remembered of the one before.
#[derive(Clone, Debug, PartialEq)]
pub struct PollLook {
    /// What is remembered; null at first.
    pub cursor: Value,
    at: Value,
}

/// What follows what a look has given.
#[derive(Clone, Debug, PartialEq)]
pub struct PollLooked {
    /// What is remembered from now on.
    pub cursor: Value,
    /// Whether there is more.
    pub more: bool,
}

impl PollLook {
    /// The look of a moment.
    #[must_use]
    pub fn new(cursor: Value, at: DateTime<Utc>) -> Self {
        Self { cursor, at: at.to_rfc3339_opts(SecondsFormat::Millis, true).into() }
    }
}

impl PollDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Poll> {
        let every = self.every.unwrap_or(EVERY);
        if !(SHORTEST..=LONGEST).contains(&every) {
            let wrong = format!("is from {SHORTEST} to {LONGEST}, not {every}");
            check.fail(&format!("{at}/every"), wrong);
        }
        let given = self.give.keys().cloned().collect();
        let give = check.template(&format!("{at}/give"), &Value::Object(self.give), GIVES);
        let mut expr = |key: &str, text: Option<&String>| match text {
            None => Some(None),
            Some(text) => check.expr(&format!("{at}/{key}"), text, SEES).map(Some),
        };
        let (cursor, more) =
            (expr("cursor", self.cursor.as_ref()), expr("more", self.more.as_ref()));
        if self.more.is_some() && self.cursor.is_none() {
            let wrong = "without `cursor` the next look gives the same again; write what is \
                remembered, or leave this out";
            check.fail(&format!("{at}/more"), wrong);
        }
        if let Some(Some(more)) = &more
            && let Err(wrong) = more.may_be_condition(SEES)
        {
            check.fail(&format!("{at}/more"), wrong);
        }
        Some(Poll {
            operation: self.call,
            via: self.via,
            every,
            given,
            give: give?,
            cursor: cursor?,
            more: more?,
        })
    }
}

impl Poll {
    /// What tells it from another that remembers something else: with these changed, it begins
    /// anew.
    #[must_use]
    pub fn fingerprint(&self) -> String {
        let cursor = self.cursor.as_ref().map(Expr::text).unwrap_or_default();
        format!("{} {} {cursor}", self.via, self.operation)
    }

    /// What the operation is given at a look.
    ///
    /// # Errors
    /// If that cannot be worked out.
    pub fn give(&self, look: &PollLook) -> Result<Map<String, Value>, ExprError> {
        let scope = LookScope { look, result: None };
        let filled = match look.cursor {
            Value::Null => self.give.fill_given(&scope)?,
            _ => Some(self.give.fill(&scope)?),
        };
        let Some(Value::Object(filled)) = filled else { return Ok(Map::new()) };
        Ok(filled.into_iter().filter(|(_, value)| !value.is_null()).collect())
    }

    /// What follows what the operation gave.
    ///
    /// # Errors
    /// Why that cannot be worked out.
    pub fn looked(&self, look: &PollLook, result: &Value) -> Result<PollLooked, String> {
        let scope = LookScope { look, result: Some(result) };
        let of = |key: &str, e: &Expr, wrong: ExprError| {
            format!("`{key}`, which is {}: {wrong}", e.text())
        };
        let cursor = match &self.cursor {
            None => Value::Null,
            Some(e) => {
                clean_json(e.eval(&scope).map_err(|wrong| of("cursor", e, wrong))?.to_json())
            }
        };
        if too_deep(&cursor) || cursor.to_string().len() > LONGEST_CURSOR {
            return Err(format!("`cursor` is larger than {LONGEST_CURSOR} bytes, or too deep"));
        }
        let more = match &self.more {
            None => false,
            Some(e) => e.holds(&scope).map_err(|wrong| of("more", e, wrong))?,
        };
        if more && cursor == look.cursor {
            return Err("there is more, as `more` says, and `cursor` stays as it was: the next \
                look would give the same"
                .into());
        }
        Ok(PollLooked { cursor, more })
    }

    pub(in crate::source) fn expressions(&self, at: &str) -> Vec<(String, &Expr)> {
        let give = self.give.expressions().into_iter();
        let give = give.map(|(place, e)| (format!("{at}/give{place}"), e));
        let own = [("cursor", &self.cursor), ("more", &self.more)];
        let own = own.into_iter().filter_map(|(key, e)| Some((format!("{at}/{key}"), e.as_ref()?)));
        give.chain(own).collect()
    }

    pub(in crate::source) fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        let names = (self.via.as_str(), self.operation.as_str());
        let mut misfits = misfits_of_call(at, names, (&self.given, &self.give), others);
        misfits.extend(must_be_safe(at, names, "it is called again and again", others));
        misfits
    }
}

struct LookScope<'a> {
    look: &'a PollLook,
    result: Option<&'a Value>,
}

impl<'a> Scope<'a> for LookScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        match name {
            "cursor" => Some(Val::json(&self.look.cursor)),
            "looked_at" => Some(Val::json(&self.look.at)),
            "result" => self.result.map(Val::json),
            _ => None,
        }
    }
}
