//! `runbook`: another runbook as one step: a job of its own that this one waits for.

use super::{
    Action,
    document::{Build, KindDoc},
    reference::{Reference, ReferenceDoc},
};
use crate::{
    definition::{Fault, Kind, Mismatch, Others},
    expr::{Names, Template, Type},
    runbook::{
        Runbook,
        type_environment::{Evaluated, TypeEnvironment, Visitor},
    },
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::{cell::RefCell, collections::BTreeMap};

/// How deep jobs may stand below each other.
pub const MAX_GENERATIONS: usize = 5;

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct ChildDoc {
    /// The name of a runbook; its job has a target, a record and an effect of its own. With
    /// expressions, it is one of `runbooks`.
    pub runbook: String,
    /// The names and globs of all runbooks that it may be, where it is worked out.
    #[serde(default)]
    pub runbooks: Vec<String>,
    /// Its inputs.
    #[serde(default)]
    pub give: Map<String, Value>,
}

/// A checked use of another runbook.
#[derive(Clone, Debug)]
pub struct Child {
    /// What names it.
    pub runbook: Reference,
    /// Its inputs.
    pub give: Template,
    /// The names of these.
    given: Vec<String>,
}

impl KindDoc for ChildDoc {
    const KEYS: &'static [&'static str] = &["runbook", "runbooks", "give"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let given = self.give.keys().cloned().collect();
        let doc = ReferenceDoc {
            kind: Kind::Runbook,
            named: ("runbook", self.runbook),
            listed: ("runbooks", &self.runbooks),
            otherwise: None,
        };
        let runbook = doc.check(build, at, names);
        let give = build.check.template(&format!("{at}/give"), &Value::Object(self.give), names)?;
        Some(Action::Child(Child { runbook: runbook?, give, given }))
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
        self.runbook.visit(&format!("{at}/runbook"), known, look);
    }

    pub(super) fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        let counted = RefCell::new(Counted::new());
        self.runbook.misfits(others, &|name| match others.get::<Runbook>(name) {
            Err(missing) => vec![Mismatch::at(format!("{at}/runbook"), missing)],
            Ok(runbook) => {
                let whose = format!("runbook `{name}`");
                let mut misfits =
                    runbook.inputs.misfits(&format!("{at}/give"), &whose, &self.given, &self.give);
                let counted = &mut counted.borrow_mut();
                let below = generations(runbook, others, MAX_GENERATIONS - 1, counted);
                if below >= MAX_GENERATIONS - 1 {
                    let message = format!(
                        "jobs would stand more than {MAX_GENERATIONS} deep below each other, or \
                        without end"
                    );
                    misfits.push(Mismatch::at(format!("{at}/runbook"), Fault::Unfit(message)));
                }
                misfits
            }
        })
    }
}

/// How many generations of jobs stand below one of a runbook, by its name and how far it is
/// counted.
type Counted = BTreeMap<(String, usize), usize>;

/// How many generations of jobs stand below one of a runbook; counting ends at `most`. Where steps
/// list many runbooks, each is counted once.
fn generations(
    runbook: &Runbook,
    others: &dyn Others,
    most: usize,
    counted: &mut Counted,
) -> usize {
    if most == 0 {
        return 0;
    }
    let key = (runbook.name.clone(), most);
    if let Some(known) = counted.get(&key) {
        return *known;
    }
    let below = runbook.children().into_iter().flat_map(|child| child.all(others));
    let below = below.filter_map(|name| others.get::<Runbook>(name).ok());
    let deepest = below.map(|child| 1 + generations(child, others, most - 1, counted)).max();
    counted.insert(key, deepest.unwrap_or(0));
    deepest.unwrap_or(0)
}
