//! `check`: looks again and again until a condition holds, at what an operation gives or at what is
//! known anyway, such as the alarm.

use super::{
    Action, OnError, Step,
    call::{Call, MISSING_VIA, connection},
    document::{Build, KindDoc},
    look_at_length, require,
};
use crate::{
    Period,
    definition::{Mismatch, Others},
    expr::{Expr, Length, LengthDoc, Names, Template, Type},
    runbook::type_environment::{Evaluated, TypeEnvironment, Visitor},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct CheckDoc {
    /// A condition; `result` is what the operation gave. Looked at again until it holds.
    pub check: String,
    /// An operation that changes nothing, called for each look.
    #[serde(default)]
    pub call: Option<String>,
    /// The connection through which it is called; with expressions, it is one of `connections`.
    #[serde(default)]
    pub via: Option<String>,
    /// The names and globs of all connections that `via` may give, where it is worked out. Left
    /// out: those of the runbook.
    #[serde(default)]
    pub connections: Vec<String>,
    /// What the operation is given.
    #[serde(default)]
    pub give: Map<String, Value>,
    /// How long to wait between two looks. Left out: 5s.
    #[serde(default)]
    pub every: Option<Period>,
    /// Within which time it must hold.
    pub within: LengthDoc,
    /// What is said when it did not; `result` is what was seen last.
    #[serde(default, rename = "else")]
    pub otherwise: Option<String>,
}

/// A checked check.
#[derive(Clone, Debug)]
pub struct Check {
    /// What must hold.
    pub condition: Expr,
    /// What is called for each look.
    pub call: Option<Call>,
    /// How long to wait between two looks.
    pub every: Period,
    /// Within which time it must hold.
    pub within: Length,
    /// What is said when it did not.
    pub otherwise: Option<Template>,
}

/// Shortest wait between two looks.
const LEAST: Period = Period::from_secs(1);

impl KindDoc for CheckDoc {
    const KEYS: &'static [&'static str] =
        &["check", "call", "via", "connections", "give", "every", "within", "else"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let call = match (self.call, self.via) {
            (Some(operation), Some(via)) => connection(build, at, (via, &self.connections), names)
                .and_then(|via| Call::build(build, at, (operation, via), self.give, names))
                .map(Some),
            (None, None) => Some(None),
            (Some(_), None) => {
                build.check.fail(at, MISSING_VIA);
                None
            }
            (None, Some(_)) => {
                build.check.fail(
                    &format!("{at}/via"),
                    "`via` stands beside `call`: which operation is called?",
                );
                None
            }
        };
        let with_result = [names.roots, &["result"]].concat();
        let seen =
            if matches!(call, Some(None)) { names } else { Names { roots: &with_result, ..names } };
        let condition = build.check.condition(&format!("{at}/check"), &self.check, seen);
        let otherwise = require::text(build, &format!("{at}/else"), self.otherwise, seen);
        let every = self.every.unwrap_or(Period::from_secs(5));
        if every.millis() < LEAST.millis() {
            build
                .check
                .fail(&format!("{at}/every"), format!("at least {LEAST} lie between two looks"));
        }
        let within = build.check.length(&format!("{at}/within"), self.within, names);
        let (call, condition, otherwise, within) = (call?, condition?, otherwise?, within?);
        Some(Action::Check(Box::new(Check { condition, call, every, within, otherwise })))
    }
}

impl Check {
    pub(super) fn does(&self) -> String {
        let through = self.call.as_ref().map_or_else(String::new, |c| format!(" by {}", c.does()));
        format!("{}{through}, within {}", self.condition.text(), self.within)
    }

    pub(super) fn gives(&self, known: &TypeEnvironment<'_>) -> Type {
        self.call.as_ref().map_or(Type::Bool, |call| call.gives(known))
    }

    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        let mut within = known.clone();
        if let Some(call) = &self.call {
            call.visit(at, known, look);
            within.bind("result", call.gives(known));
        }
        look(&format!("{at}/check"), Evaluated::Condition(&self.condition), within.names());
        look_at_length(&format!("{at}/within"), Some(&self.within), known, look);
        if let Some(text) = &self.otherwise {
            within.bind("result", Type::Any);
            look(&format!("{at}/else"), Evaluated::Template(text), within.names());
        }
    }

    pub(super) fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        self.call.iter().flat_map(|call| call.harmless(at, "a check", others)).collect()
    }
}

/// The check that proves a job's effect, as the one step that it is executed as.
pub(crate) fn of_confirm(
    build: &mut Build<'_, '_>,
    mut doc: Map<String, Value>,
    within: &LengthDoc,
    names: Names<'_>,
) -> Option<Step> {
    let within = match within {
        LengthDoc::Written(period) => period.to_string(),
        LengthDoc::Made(text) => text.clone(),
    };
    doc.insert("within".into(), within.into());
    let doc: CheckDoc = build.check.decode("/confirm", &Value::Object(doc))?;
    let action = doc.build(build, "/confirm", names)?;
    let (summary, when, retry, timeout, undo) = (None, None, None, None, None);
    Some(Step {
        id: "confirm".into(),
        summary,
        when,
        retry,
        timeout,
        on_error: OnError::Stop,
        undo,
        shared: None,
        action,
    })
}
