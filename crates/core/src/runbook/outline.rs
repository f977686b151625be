//! A runbook as people see it drawn: its tree of steps with what each does, what steps give, and
//! whom it needs.

use super::{Action, OnError, Reference, Runbook, Step, given_by};
use crate::{definition::Others, expr::Type};
use std::collections::BTreeMap;

/// A runbook drawn.
#[derive(Clone, Debug, PartialEq)]
pub struct Outline {
    /// Its steps.
    pub steps: Vec<OutlineStep>,
    /// What else may be done, by name: `announce`, `confirm`, `otherwise`, `recover`, `always`.
    pub further: Vec<(&'static str, Vec<OutlineStep>)>,
    /// What expressions know: `inputs`, `steps`, `job`, `alarm`.
    pub known: BTreeMap<String, Type>,
    /// The connections that its steps call, each with the operations.
    pub connections: BTreeMap<String, Vec<String>>,
    /// The runbooks that its steps have done as jobs.
    pub runbooks: Vec<String>,
}

/// A step drawn.
#[derive(Clone, Debug, PartialEq)]
pub struct OutlineStep {
    /// Where it stands in the document, as a JSON pointer.
    pub pointer: String,
    /// Its `id`.
    pub id: String,
    /// The word for its kind.
    pub kind: &'static str,
    /// One line for people.
    pub summary: Option<String>,
    /// What it does, in a line.
    pub does: String,
    /// The shared step that it is.
    pub shared: Option<String>,
    /// The condition under which it is run.
    pub when: Option<String>,
    /// What follows a failure, if not the end: `continue`, or the step at which it goes on.
    pub on_error: Option<String>,
    /// What stands within it, each with a condition, a name or `undo`.
    pub parts: Vec<(String, Vec<OutlineStep>)>,
}

impl Runbook {
    /// Draws it, with what the operations of its connections give.
    pub fn outline(&self, others: &dyn Others) -> Outline {
        let outputs = |via: &Reference, operation: &str| given_by(via, operation, others);
        let mut known = BTreeMap::new();
        self.visit(&outputs, &mut |at, _, names| {
            if at == "/outputs" {
                known =
                    names.types.iter().map(|(name, of)| ((*name).to_owned(), of.clone())).collect();
            }
        });
        let announced = self.announce.iter();
        let announced = announced.map(|a| ("announce", vec![one(&a.step, "/announce", &[])]));
        let further = self.lists().into_iter().skip(1).filter(|(_, steps)| !steps.is_empty());
        let further = further.map(|(at, steps)| (at.trim_start_matches('/'), drawn(steps, at)));
        let mut connections: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for (via, operation) in self.calls() {
            for name in named_by(via, others) {
                let operations = connections.entry(name).or_default();
                if !operations.iter().any(|o| o == operation) {
                    operations.push(operation.to_owned());
                }
            }
        }
        let mut runbooks: Vec<String> =
            self.children().into_iter().flat_map(|child| named_by(child, others)).collect();
        runbooks.dedup();
        Outline {
            steps: drawn(&self.steps, "/steps"),
            further: announced.chain(further).collect(),
            known,
            connections,
            runbooks,
        }
    }
}

/// What a reference may name, or the reference itself where that is nothing yet.
fn named_by(reference: &Reference, others: &dyn Others) -> Vec<String> {
    let all = reference.all(others);
    match all.is_empty() {
        true => vec![reference.to_string()],
        false => all.into_iter().map(str::to_owned).collect(),
    }
}

fn drawn(steps: &[Step], at: &str) -> Vec<OutlineStep> {
    let step = |(i, step): (usize, &Step)| one(step, &format!("{at}/{i}"), steps);
    steps.iter().enumerate().map(step).collect()
}

fn one(step: &Step, at: &str, beside: &[Step]) -> OutlineStep {
    let mut parts: Vec<(String, Vec<OutlineStep>)> = labels(&step.action)
        .into_iter()
        .zip(step.action.inner())
        .map(|(label, (below, steps))| (label, drawn(steps, &format!("{at}{below}"))))
        .collect();
    if let Some(undo) = &step.undo {
        parts.push(("undo".into(), vec![one(undo, &format!("{at}/undo"), &[])]));
    }
    OutlineStep {
        pointer: at.to_owned(),
        id: step.id.clone(),
        kind: step.action.kind(),
        summary: step.summary.clone(),
        does: step.action.does(),
        shared: step.shared.as_ref().map(|shared| shared.name.clone()),
        when: step.when.as_ref().map(|when| when.text().to_owned()),
        on_error: match step.on_error {
            OnError::Stop => None,
            OnError::Continue => Some("continue".into()),
            OnError::GoTo(to) => beside.get(to).map(|s| s.id.clone()),
        },
        parts,
    }
}

/// What the lists within a step are called.
fn labels(action: &Action) -> Vec<String> {
    match action {
        Action::Choose(choose) => {
            let label = |when: Option<&str>| when.unwrap_or("else").to_owned();
            choose
                .branches
                .iter()
                .map(|b| label(b.when.as_ref().map(crate::expr::Expr::text)))
                .collect()
        }
        Action::Each(each) => vec![format!("each {}", each.name)],
        Action::Together(together) => together.ways.iter().map(|(name, _)| name.clone()).collect(),
        _ => Vec::new(),
    }
}
