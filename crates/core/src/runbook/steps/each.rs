//! `each`: the same steps for each item of a list, several at once if wished.

use super::{
    Action, Step,
    document::{Build, KindDoc},
    visit,
};
use crate::{
    expr::{Expr, Names, Type},
    runbook::type_environment::{Evaluated, TypeEnvironment, Visitor},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// Most items of one list.
pub const MAX_ITEMS: usize = 1_000;
/// Most items at once.
const MOST_AT_ONCE: usize = 100;

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct EachDoc {
    /// An expression that gives a list, of at most 1000 items.
    pub each: String,
    /// The name of an item in the steps.
    #[serde(rename = "as")]
    pub name: String,
    /// How many items at once, at most 100. Left out: 1.
    #[serde(default)]
    pub at_once: Option<usize>,
    /// What follows when the steps of an item fail. Left out: `stop`.
    #[serde(default)]
    pub failures: Failures,
    /// An expression: what of each item is given to the steps behind. Left out: what its steps
    /// gave, by id.
    #[serde(default)]
    pub gives: Option<String>,
    /// What is done for each item.
    #[schemars(with = "Vec<super::StepDoc>")]
    pub steps: Vec<Map<String, Value>>,
}

/// What follows when the steps of one item fail.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Failures {
    /// The step fails; no further item is begun.
    #[default]
    Stop,
    /// The others go on; the output says which failed, and why.
    Report,
}

/// A checked loop.
#[derive(Clone, Debug)]
pub struct Each {
    /// What gives the list.
    pub items: Expr,
    /// The name of an item.
    pub name: String,
    /// How many items at once.
    pub at_once: usize,
    /// What follows when one fails.
    pub failures: Failures,
    /// What of each item is given to the steps behind.
    pub gives: Option<Expr>,
    /// What is done for each.
    pub steps: Vec<Step>,
}

impl KindDoc for EachDoc {
    const KEYS: &'static [&'static str] = &["each", "as", "at_once", "failures", "gives", "steps"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let items = build.check.expr(&format!("{at}/each"), &self.each, names);
        let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
        let good =
            self.name.starts_with(|c: char| c.is_ascii_lowercase()) && self.name.chars().all(plain);
        if !good {
            let rule = "use lower case letters, digits and _, a letter first";
            build.check.fail(
                &format!("{at}/as"),
                format!("`{}` cannot be the name of an item; {rule}", self.name),
            );
        } else if names.roots.contains(&self.name.as_str()) || self.name == "result" {
            build.check.fail(
                &format!("{at}/as"),
                format!("`{}` stands for something else here already", self.name),
            );
        }
        let at_once = self.at_once.unwrap_or(1);
        if !(1..=MOST_AT_ONCE).contains(&at_once) {
            build.check.fail(&format!("{at}/at_once"), format!("1 to {MOST_AT_ONCE} at once"));
        }
        let roots = [names.roots, &[self.name.as_str()]].concat();
        let within = Names { roots: &roots, ..names };
        let steps = build.steps_beside(&format!("{at}/steps"), self.steps, within);
        let gives = match &self.gives {
            None => Some(None),
            Some(text) => build.check.expr(&format!("{at}/gives"), text, within).map(Some),
        };
        let (items, gives, steps) = (items?, gives?, steps?);
        let failures = self.failures;
        Some(Action::Each(Each { items, name: self.name, at_once, failures, gives, steps }))
    }
}

impl Each {
    pub(super) fn does(&self) -> String {
        format!("{} of {}", self.name, self.items.text())
    }

    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        look(&format!("{at}/each"), Evaluated::List(&self.items), known.names());
        let mut within = known.clone();
        within.bind(&self.name, Type::Any);
        visit(&self.steps, &format!("{at}/steps"), &mut within, look);
        if let Some(gives) = &self.gives {
            look(&format!("{at}/gives"), Evaluated::Expr(gives), within.names());
        }
    }
}
