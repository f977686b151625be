//! What people do about an alarm, done at its sender as well: operations that a source names.

use crate::{
    alarm::AlarmAct,
    alert::Alert,
    connector::misfits_of_call,
    definition::{Mismatch, Others},
    document::Checker,
    expr::{Expr, ExprError, Names, Scope, Template, Val},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeMap;

const GIVES: Names<'static> = Names { roots: &["alert", "by", "text"], functions: &[], types: &[] };

/// Operations by which the sender is told what people do about an alarm of its alerts.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WriteBackDoc {
    /// The connection through which they are called.
    pub via: String,
    /// Called when somebody acknowledges an alarm.
    #[serde(default)]
    pub acknowledge: Option<WriteBackCallDoc>,
    /// Called when something is noted of one.
    #[serde(default)]
    pub note: Option<WriteBackCallDoc>,
    /// Called when one is cleared by hand.
    #[serde(default)]
    pub clear: Option<WriteBackCallDoc>,
}

/// An operation that is called, and what it is given.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WriteBackCallDoc {
    /// The operation.
    pub call: String,
    /// What it is given. Expressions may use `alert`, the newest one of the alarm, `by`, who did it
    /// (`token/vera`), and `text`, what was said. What is null is left out.
    #[serde(default)]
    pub give: Map<String, Value>,
}

/// The operations, checked.
#[derive(Clone, Debug)]
pub struct WriteBack {
    /// The connection through which they are called.
    pub via: String,
    calls: BTreeMap<AlarmAct, WriteBackCall>,
}

/// An operation, checked.
#[derive(Clone, Debug)]
pub struct WriteBackCall {
    /// The operation.
    pub operation: String,
    given: Vec<String>,
    give: Template,
}

/// What somebody did about an alarm.
#[derive(Clone, Copy, Debug)]
pub struct DoneAlarmAct<'a> {
    /// The alarm's newest alert.
    pub alert: &'a Alert,
    /// Who did it.
    pub by: &'a str,
    /// What was said.
    pub text: &'a str,
}

impl WriteBackDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<WriteBack> {
        let docs = [
            (AlarmAct::Acknowledged, self.acknowledge),
            (AlarmAct::Noted, self.note),
            (AlarmAct::Cleared, self.clear),
        ];
        if docs.iter().all(|(_, doc)| doc.is_none()) {
            check.fail(at, "has `acknowledge`, `note` or `clear`, or several of them");
        }
        let mut calls = BTreeMap::new();
        for (act, doc) in docs {
            let Some(doc) = doc else { continue };
            let given = doc.give.keys().cloned().collect();
            let at = format!("{at}/{}/give", key_of(act));
            let give = check.template(&at, &Value::Object(doc.give), GIVES);
            if let Some(give) = give {
                calls.insert(act, WriteBackCall { operation: doc.call, given, give });
            }
        }
        Some(WriteBack { via: self.via, calls })
    }
}

/// What an act is called in a document.
const fn key_of(act: AlarmAct) -> &'static str {
    match act {
        AlarmAct::Acknowledged => "acknowledge",
        AlarmAct::Noted => "note",
        AlarmAct::Cleared => "clear",
    }
}

impl WriteBack {
    /// The operation by which the sender is told of an act.
    pub fn call(&self, act: AlarmAct) -> Option<&WriteBackCall> {
        self.calls.get(&act)
    }

    pub(super) fn expressions(&self, at: &str) -> Vec<(String, &Expr)> {
        let each = self.calls.iter().flat_map(|(act, call)| {
            let expressions = call.give.expressions().into_iter();
            expressions.map(move |(place, e)| (format!("{at}/{}/give{place}", key_of(*act)), e))
        });
        each.collect()
    }

    pub(super) fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        let mut missing = false;
        let each = self.calls.iter().flat_map(|(act, call)| {
            let at = format!("{at}/{}", key_of(*act));
            let names = (self.via.as_str(), call.operation.as_str());
            misfits_of_call(&at, names, (&call.given, &call.give), others)
        });
        // The connection stands once for all of them.
        let each = each.filter_map(|mut misfit| {
            if misfit.pointer.ends_with("/via") {
                misfit.pointer = format!("{at}/via");
                return (!std::mem::replace(&mut missing, true)).then_some(misfit);
            }
            Some(misfit)
        });
        each.collect()
    }
}

impl WriteBackCall {
    /// What the operation is given.
    ///
    /// # Errors
    /// If that cannot be worked out.
    pub fn give(&self, done: DoneAlarmAct<'_>) -> Result<Map<String, Value>, ExprError> {
        let Value::Object(filled) = self.give.fill(&ActScope(done))? else {
            return Ok(Map::new());
        };
        Ok(filled.into_iter().filter(|(_, value)| !value.is_null()).collect())
    }
}

struct ActScope<'a>(DoneAlarmAct<'a>);

impl<'a> Scope<'a> for ActScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        match name {
            "alert" => Some(Val::Alert(self.0.alert)),
            "by" => Some(Val::str(self.0.by)),
            "text" => Some(Val::str(self.0.text)),
            _ => None,
        }
    }
}
