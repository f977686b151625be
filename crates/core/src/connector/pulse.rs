//! An operation that is called again and again while Arvok does its work, so that somebody outside
//! who hears no more of it knows that it does not: a dead man's switch.

use super::misfits_of_call;
use crate::{
    Period,
    definition::{Mismatch, Others},
    document::Checker,
    expr::{Expr, ExprError, Names, Scope, Template, Val},
    glob::Glob,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};

/// Where it stands in the document of a connection.
const AT: &str = "/pulse";
const GIVES: Names<'static> = Names { roots: &["node", "alarms"], functions: &[], types: &[] };
const EVERY: Period = Period::from_secs(60);
const SHORTEST: Period = Period::from_secs(1);
const LONGEST: Period = Period::from_secs(86_400);
/// Most kinds of alarms that keep it from being called.
const MOST_KINDS: usize = 20;

/// An operation by which somebody outside hears that Arvok does its work.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PulseDoc {
    /// The operation.
    pub call: String,
    /// What it is given. Expressions may use `node`, the node that calls it, and `alarms`, those
    /// that Arvok has raised about itself and that stand, each with `kind`, `resource` and
    /// `summary`. What is null is left out.
    #[serde(default)]
    pub give: Map<String, Value>,
    /// How often it is called, from 1s to 1d. Left out: 1m.
    #[serde(default)]
    pub every: Option<Period>,
    /// Kinds of alarms that Arvok raises about itself, as globs: it is not called while one of
    /// these stands. Left out: it is called as long as a node does its work.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unless: Vec<String>,
}

/// The operation, checked.
#[derive(Clone, Debug)]
pub struct Pulse {
    /// The operation.
    pub operation: String,
    /// How often it is called.
    pub every: Period,
    unless: Vec<Glob>,
    given: Vec<String>,
    give: Template,
}

/// An alarm of Arvok about itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OwnAlarm {
    /// Its kind, such as `node.missing`.
    pub kind: String,
    /// What it is about.
    pub resource: String,
    /// What is wrong.
    pub summary: String,
}

impl PulseDoc {
    pub(super) fn check(self, check: &mut Checker<'_>) -> Option<Pulse> {
        let every = self.every.unwrap_or(EVERY);
        if !(SHORTEST..=LONGEST).contains(&every) {
            let wrong = format!("is from {SHORTEST} to {LONGEST}, not {every}");
            check.fail(&format!("{AT}/every"), wrong);
        }
        let unless = Glob::parse_all("kinds", &self.unless, MOST_KINDS);
        if let Err(e) = &unless {
            check.fail(&format!("{AT}/unless"), e);
        }
        let given = self.give.keys().cloned().collect();
        let give = check.template(&format!("{AT}/give"), &Value::Object(self.give), GIVES)?;
        Some(Pulse { operation: self.call, every, unless: unless.ok()?, given, give })
    }
}

impl Pulse {
    /// The alarms that keep it from being called.
    pub fn held_by<'a>(&self, alarms: &'a [OwnAlarm]) -> Vec<&'a OwnAlarm> {
        let holds = |alarm: &&OwnAlarm| self.unless.iter().any(|kind| kind.matches(&alarm.kind));
        alarms.iter().filter(holds).collect()
    }

    /// What the operation is given by a node.
    ///
    /// # Errors
    /// If that cannot be worked out.
    pub fn give(&self, node: &str, alarms: &[OwnAlarm]) -> Result<Map<String, Value>, ExprError> {
        let one =
            |a: &OwnAlarm| json!({ "kind": a.kind, "resource": a.resource, "summary": a.summary });
        let alarms = Value::Array(alarms.iter().map(one).collect());
        let Value::Object(filled) = self.give.fill(&PulseScope { node, alarms })? else {
            return Ok(Map::new());
        };
        Ok(filled.into_iter().filter(|(_, value)| !value.is_null()).collect())
    }

    pub(super) fn expressions(&self) -> Vec<(String, &Expr)> {
        let all = self.give.expressions().into_iter();
        all.map(|(place, e)| (format!("{AT}/give{place}"), e)).collect()
    }

    pub(super) fn misfits(&self, connection: &str, others: &dyn Others) -> Vec<Mismatch> {
        let names = (connection, self.operation.as_str());
        misfits_of_call(AT, names, (&self.given, &self.give), others)
    }
}

struct PulseScope<'a> {
    node: &'a str,
    alarms: Value,
}

impl<'a> Scope<'a> for PulseScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        match name {
            "node" => Some(Val::str(self.node)),
            "alarms" => Some(Val::json(&self.alarms)),
            _ => None,
        }
    }
}
