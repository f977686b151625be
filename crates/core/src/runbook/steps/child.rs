//! `runbook`: another runbook as one step: a job of its own that this one waits for.

use super::{
    Action,
    document::{Build, KindDoc},
};
use crate::{
    definition::{Fault, Mismatch, Others},
    expr::{Names, Template, Type},
    runbook::{
        Runbook,
        type_environment::{Evaluated, TypeEnvironment, Visitor},
    },
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// How deep jobs may stand below each other.
pub const MAX_GENERATIONS: usize = 5;

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct ChildDoc {
    /// The name of a runbook; its job has a target, a record and an effect of its own.
    pub runbook: String,
    /// Its inputs.
    #[serde(default)]
    pub give: Map<String, Value>,
}

/// A checked use of another runbook.
#[derive(Clone, Debug)]
pub struct Child {
    /// Its name.
    pub runbook: String,
    /// Its inputs.
    pub give: Template,
    /// The names of these.
    given: Vec<String>,
}

impl KindDoc for ChildDoc {
    const KEYS: &'static [&'static str] = &["runbook", "give"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let given = self.give.keys().cloned().collect();
        let give = build.check.template(&format!("{at}/give"), &Value::Object(self.give), names)?;
        Some(Action::Child(Child { runbook: self.runbook, give, given }))
    }
}

impl Child {
    /// What the steps behind know of its job.
    pub(super) fn gives() -> Type {
        let fields = [("job", Type::Number), ("effect", Type::Text), ("gives", Type::Any)];
        Type::record(fields.map(|(n, t)| (n.to_owned(), t)))
    }

    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        look(&format!("{at}/give"), Evaluated::Template(&self.give), known.names());
    }

    pub(super) fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        match others.get::<Runbook>(&self.runbook) {
            Err(missing) => vec![Mismatch::at(format!("{at}/runbook"), missing)],
            Ok(runbook) => {
                let whose = format!("runbook `{}`", self.runbook);
                let mut misfits =
                    runbook.inputs.misfits(&format!("{at}/give"), &whose, &self.given, &self.give);
                if generations(runbook, others, MAX_GENERATIONS - 1) >= MAX_GENERATIONS - 1 {
                    let message = format!(
                        "jobs would stand more than {MAX_GENERATIONS} deep below each other, or \
                        without end"
                    );
                    misfits.push(Mismatch::at(format!("{at}/runbook"), Fault::Unfit(message)));
                }
                misfits
            }
        }
    }
}

/// How many generations of jobs stand below one of a runbook; counting ends at `most`.
fn generations(runbook: &Runbook, others: &dyn Others, most: usize) -> usize {
    if most == 0 {
        return 0;
    }
    let below = runbook.children().into_iter().filter_map(|name| others.get::<Runbook>(name).ok());
    below.map(|child| 1 + generations(child, others, most - 1)).max().unwrap_or(0)
}
