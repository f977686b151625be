//! The `step:` document: one step with inputs of its own, which runbooks share.
//!
//! It is checked as the only step of a runbook, so that whatever holds of steps holds of it. A
//! runbook takes it by `use` (`steps/shared`).

use super::{Action, Runbook, RunbookDoc, Step, steps::AnyStepDoc};
use crate::{
    Period,
    definition::{Defined, Definition, Kind, Mismatch, Others},
    document::{Checker, Document, Problem},
    expr::{Expr, LengthDoc, Type},
    inputs::Inputs,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// Where expressions of it start: what else there is differs from runbook to runbook.
const ROOTS: [&str; 2] = ["inputs", "job"];

/// What the runbook says that takes it, each with why it says nothing of it itself.
const SAID_BY_RUNBOOK: [(&str, &str); 3] = [
    ("id", "the runbook that uses the step names it"),
    ("when", "the runbook that uses the step says when"),
    ("on_error", "the runbook that uses the step says what follows"),
];

/// A shared step as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SharedStepDoc {
    /// The name.
    pub step: String,
    /// One line for people; runbooks that use it may say it otherwise.
    #[serde(default)]
    pub summary: Option<String>,
    /// JSON Schema properties; an input without a default must be given.
    #[serde(default)]
    pub inputs: Map<String, Value>,
    /// What is done: a step without `id`, `when` and `on_error`, which the runbook says. Its
    /// expressions see `inputs`, those of this document, and `job`.
    #[schemars(with = "AnyStepDoc")]
    pub does: Map<String, Value>,
    /// The names and globs of all connections that a `via` may give which is worked out, where the
    /// step lists none itself.
    #[serde(default)]
    pub connections: Vec<String>,
    /// The files that its script uses, by name. What lies beside the document is put in here when
    /// it is checked and published.
    #[serde(default)]
    pub files: BTreeMap<String, String>,
}

/// A checked shared step.
#[derive(Clone, Debug)]
pub struct SharedStep {
    /// The name.
    pub name: String,
    /// Its only step is what is shared.
    runbook: Runbook,
}

impl SharedStep {
    /// What must be given.
    pub fn inputs(&self) -> &Inputs {
        &self.runbook.inputs
    }

    /// What is done.
    pub fn step(&self) -> Option<&Step> {
        self.runbook.steps.first()
    }

    /// Its line for people.
    pub(super) fn summary_text(&self) -> Option<String> {
        let own = self.step().and_then(|step| step.summary.clone());
        self.runbook.summary.clone().or(own)
    }
}

impl Definition for SharedStep {
    fn summary(&self) -> Option<&str> {
        self.runbook.summary.as_deref()
    }

    fn uses(&self) -> Vec<(Kind, String)> {
        self.runbook.uses()
    }

    fn may_use(&self, kind: Kind, name: &str) -> bool {
        self.runbook.may_use(kind, name)
    }

    fn expressions(&self) -> Vec<(String, &Expr)> {
        let found = self.runbook.expressions().into_iter();
        found.map(|(at, expr)| (written_at(&at), expr)).collect()
    }

    fn misfits(&self, others: &dyn Others) -> Vec<Mismatch> {
        let misfits = self.runbook.misfits(others).into_iter();
        misfits.map(|misfit| Mismatch { pointer: written_at(&misfit.pointer), ..misfit }).collect()
    }
}

impl Defined for SharedStep {
    const KIND: Kind = Kind::Step;
    type Doc = SharedStepDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::decoding::<SharedStepDoc>(document)?;
        let mut does = doc.does;
        for (key, why) in SAID_BY_RUNBOOK {
            if does.remove(key).is_some() {
                check.fail(&format!("/does/{key}"), why);
            }
        }
        if does.contains_key("use") {
            check.fail("/does/use", "a shared step does not use another; write out what it does");
            return check.finish(None);
        }
        does.insert("id".to_owned(), "step".into());
        let made = RunbookDoc {
            runbook: doc.step,
            summary: doc.summary,
            inputs: doc.inputs,
            target: "step/shared".to_owned(),
            // How long that may be, the runbook says that uses it.
            timeout: Some(LengthDoc::Written(Period::from_secs(u32::MAX.into()))),
            steps: vec![does],
            connections: doc.connections,
            files: doc.files,
            ..RunbookDoc::default()
        };
        check.of_what_is_made(written_at);
        let runbook = Runbook::of_doc(&mut check, made);
        check.of_what_is_made(str::to_owned);
        if let Some(runbook) = &runbook {
            check_shared(&mut check, runbook);
        }
        check.finish(runbook.map(|runbook| Self { name: document.name.clone(), runbook }))
    }
}

/// Complains of what fits a step of one runbook, and not one of many.
fn check_shared(check: &mut Checker<'_>, runbook: &Runbook) {
    let Some(step) = runbook.steps.first() else { return };
    let wrong = match &step.action {
        Action::Choose(_) | Action::Each(_) | Action::Together(_) => {
            Some("is a single step, without others in it")
        }
        Action::Remember(_) => Some("does not know what the runbook remembers"),
        Action::Finish(_) => Some("does not end the job"),
        _ => None,
    };
    if let Some(wrong) = wrong {
        check.fail("/does", format!("a shared step {wrong}; write this one into the runbook"));
    }
    if runbook.scripts().into_iter().any(|script| !script.secrets().is_empty()) {
        let wrong = "a secret is allowed to the script of one runbook; write this step into it";
        check.fail("/does/secrets", wrong);
    }
    let mut unknown = Vec::new();
    runbook.visit(&|_, _| Type::Any, &mut |at, what, _| {
        for (below, expr) in what.expressions() {
            let foreign = super::ROOTS.iter().filter(|root| !ROOTS.contains(root));
            unknown.extend(
                foreign.filter(|root| expr.reads(root)).map(|root| (format!("{at}{below}"), *root)),
            );
        }
    });
    for (at, root) in unknown {
        let wrong =
            format!("a shared step sees `inputs` and `job`; `{root}` is given to it as an input");
        check.fail(&written_at(&at), wrong);
    }
}

/// Where that stands which stands at a pointer of the runbook that is made of it.
fn written_at(pointer: &str) -> String {
    match pointer.strip_prefix("/steps/0") {
        Some(below) => format!("/does{below}"),
        None if pointer == "/steps" => "/does".to_owned(),
        None => pointer.to_owned(),
    }
}
