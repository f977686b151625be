//! What the expressions of a runbook know at each place: the inputs, which steps have surely run
//! and which may have, what each gives, and the names of items.
//!
//! The same pass over a checked runbook is made twice: when it is checked by itself, and with the
//! types that operations tell when it is checked with the definitions around it.

use super::steps::{Reference, Step, all};
use crate::expr::{Expr, ExprError, Names, Template, Type};
use std::sync::Arc;

/// Something of an author's that is evaluated.
#[derive(Clone, Copy)]
pub(super) enum Evaluated<'a> {
    Expr(&'a Expr),
    Condition(&'a Expr),
    List(&'a Expr),
    Template(&'a Template),
}

/// Is shown where something stands, and what is known there.
pub(super) type Visitor<'a, 'l> = dyn FnMut(&str, Evaluated<'a>, Names<'_>) + 'l;

/// Tells what an operation of a connection gives.
pub(super) type Outputs<'a> = dyn Fn(&Reference, &str) -> Type + 'a;

/// What does not fit: the pointer of its string, the expression as written, and why.
pub(super) type Unfit = (String, String, ExprError);

impl<'a> Evaluated<'a> {
    /// Whether it starts from this name anywhere.
    pub(super) fn reads(self, name: &str) -> bool {
        match self {
            Self::Expr(e) | Self::Condition(e) | Self::List(e) => e.reads(name),
            Self::Template(t) => t.reads(name),
        }
    }

    /// The expressions in it, each with the JSON pointer of its string below the place of all.
    pub(super) fn expressions(self) -> Vec<(String, &'a Expr)> {
        match self {
            Self::Expr(e) | Self::Condition(e) | Self::List(e) => vec![(String::new(), e)],
            Self::Template(t) => t.expressions(),
        }
    }

    /// What does not fit by what is known.
    pub(super) fn unfit(self, at: &str, names: Names<'_>) -> Vec<Unfit> {
        let one = |at: String, e: &Expr, fits: Result<(), ExprError>| {
            fits.err().map(|why| (at, e.text().to_owned(), why))
        };
        match self {
            Self::Expr(e) => one(at.to_owned(), e, e.fits(names)).into_iter().collect(),
            Self::Condition(e) => {
                one(at.to_owned(), e, e.may_be_condition(names)).into_iter().collect()
            }
            Self::List(e) => one(at.to_owned(), e, e.may_be_list(names)).into_iter().collect(),
            Self::Template(t) => t
                .expressions()
                .into_iter()
                .filter_map(|(below, e)| one(format!("{at}{below}"), e, e.fits(names)))
                .collect(),
        }
    }
}

/// The names that the expressions of steps start from.
pub(super) const ROOTS: [&str; 6] = ["inputs", "steps", "job", "alert", "alarm", "memory"];

/// What is known at one place.
#[derive(Clone)]
pub(super) struct TypeEnvironment<'a> {
    outputs: &'a Outputs<'a>,
    roots: Vec<&'a str>,
    /// The second is the type of `steps`.
    types: Vec<(&'a str, Type)>,
}

impl<'a> TypeEnvironment<'a> {
    /// Before the first step; `outputs` tells what an operation of a connection gives.
    pub(super) fn new(inputs: Type, memory: Type, outputs: &'a Outputs<'a>) -> Self {
        let types = vec![
            ("inputs", inputs),
            ("steps", Type::record([])),
            ("job", job()),
            ("alarm", alarm()),
            ("memory", memory),
        ];
        Self { outputs, roots: ROOTS.to_vec(), types }
    }

    pub(super) fn names(&self) -> Names<'_> {
        Names { roots: &self.roots, functions: &[], types: &self.types }
    }

    /// What an operation of a connection gives.
    pub(super) fn output_of(&self, via: &Reference, operation: &str) -> Type {
        (self.outputs)(via, operation)
    }

    /// What runs remember.
    pub(super) fn memory(&self) -> Type {
        let memory = self.types.iter().find(|(name, _)| *name == "memory");
        memory.map_or(Type::Any, |(_, of)| of.clone())
    }

    /// A name of its own from here on.
    pub(super) fn bind(&mut self, name: &'a str, of: Type) {
        self.roots.push(name);
        self.types.retain(|(n, _)| *n != name);
        self.types.push((name, of));
    }

    /// A step has run.
    pub(super) fn ran(&mut self, id: &str, gives: Type) {
        self.steps().insert(id.to_owned(), gives);
    }

    /// A step, and what is within it, may have run or not.
    pub(super) fn may_have_run(&mut self, step: &Step) {
        let steps = self.steps();
        for step in all(std::slice::from_ref(step)) {
            if let Some(of) = steps.get_mut(&step.id).filter(|of| !matches!(of, Type::Maybe(_))) {
                *of = Type::Maybe(Arc::new(of.clone()));
            }
        }
    }

    /// Any step so far may have run or not.
    pub(super) fn any_may_have_run(&mut self) {
        for of in self.steps().values_mut().filter(|of| !matches!(of, Type::Maybe(_))) {
            *of = Type::Maybe(Arc::new(of.clone()));
        }
    }

    /// Steps that a condition asks for have run where it holds.
    pub(super) fn guard(&mut self, condition: &Expr) {
        let guarded: Vec<String> =
            condition.guards("steps").into_iter().map(str::to_owned).collect();
        let steps = self.steps();
        for id in guarded {
            if let Some(Type::Maybe(of)) = steps.get(&id).cloned() {
                steps.insert(id, (*of).clone());
            }
        }
    }

    /// Knows the steps that are known elsewhere and not here.
    pub(super) fn take_over(&mut self, elsewhere: &Self) {
        let Type::Record(theirs) = &elsewhere.types[1].1 else { return };
        let steps = self.steps();
        for (id, of) in theirs.iter() {
            steps.entry(id.clone()).or_insert_with(|| of.clone());
        }
    }

    fn steps(&mut self) -> &mut std::collections::BTreeMap<String, Type> {
        if !matches!(self.types[1].1, Type::Record(_)) {
            self.types[1].1 = Type::record([]);
        }
        match &mut self.types[1].1 {
            Type::Record(steps) => Arc::make_mut(steps),
            _ => unreachable!("has just been made a record"),
        }
    }
}

/// What is told of the job itself.
fn job() -> Type {
    let texts = ["runbook", "target"].map(|n| (n.to_owned(), Type::Text));
    let anything = ["failure", "failed_step", "state", "effect"].map(|n| (n.to_owned(), Type::Any));
    let others =
        [("id".to_owned(), Type::Number), ("errors".to_owned(), Type::Map(Arc::new(Type::Text)))];
    Type::record(texts.into_iter().chain(anything).chain(others))
}

/// What is told of the alarm as it stands.
fn alarm() -> Type {
    let fields = [
        ("state", Type::Text),
        ("severity", Type::Severity),
        ("summary", Type::Text),
        ("value", Type::Number),
        ("count", Type::Number),
        ("since", Type::Time),
    ];
    Type::record(fields.map(|(n, t)| (n.to_owned(), t)))
}
