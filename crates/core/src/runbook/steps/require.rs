//! `require`: stops unless a condition holds.

use super::{
    Action,
    document::{Build, KindDoc},
};
use crate::{
    expr::{Expr, Names, Template},
    runbook::type_environment::{Evaluated, TypeEnvironment, Visitor},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct RequireDoc {
    /// A condition; the step fails unless it holds.
    pub require: String,
    /// What is said when it does not.
    #[serde(default, rename = "else")]
    pub otherwise: Option<String>,
}

/// A checked requirement.
#[derive(Clone, Debug)]
pub struct Require {
    /// What must hold.
    pub condition: Expr,
    /// What is said when it does not.
    pub otherwise: Option<Template>,
}

impl KindDoc for RequireDoc {
    const KEYS: &'static [&'static str] = &["require", "else"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let condition = build.check.condition(&format!("{at}/require"), &self.require, names);
        let otherwise = text(build, &format!("{at}/else"), self.otherwise, names);
        Some(Action::Require(Require { condition: condition?, otherwise: otherwise? }))
    }
}

/// A text that may be left out.
pub(super) fn text(
    build: &mut Build<'_, '_>,
    at: &str,
    text: Option<String>,
    names: Names<'_>,
) -> Option<Option<Template>> {
    match text {
        None => Some(None),
        Some(text) => build.check.template(at, &Value::String(text), names).map(Some),
    }
}

impl Require {
    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        look(&format!("{at}/require"), Evaluated::Condition(&self.condition), known.names());
        if let Some(text) = &self.otherwise {
            look(&format!("{at}/else"), Evaluated::Template(text), known.names());
        }
        known.guard(&self.condition);
    }
}
