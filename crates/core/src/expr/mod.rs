//! Expressions: the Common Expression Language, compiled once, evaluated within a budget.
//!
//! `syntax` parses the text by the language's grammar, `lower` checks names and functions and makes
//! the program, `typing` checks that it fits, and `eval` goes through it and counts every step
//! against [`BUDGET`]. [`Template`] fills `${ ... }` in strings.
//!
//! ```
//! use arvok_core::expr::{Expr, Names, Scope, Val};
//! use serde_json::{Value, json};
//!
//! struct Body(Value);
//!
//! impl<'a> Scope<'a> for Body {
//!     fn name(&'a self, name: &str) -> Option<Val<'a>> {
//!         (name == "body").then(|| Val::json(&self.0))
//!     }
//! }
//!
//! let names = Names { roots: &["body"], functions: &[], types: &[] };
//! let full = Expr::compile("body.disks.exists(d, d.used > 0.9)", names).expect("compiles");
//! let body = Body(json!({ "disks": [{ "used": 0.4 }, { "used": 0.93 }] }));
//! assert_eq!(full.holds(&body), Ok(true));
//!
//! let wrong = Expr::compile("bdy.disks", names).expect_err("is refused");
//! assert_eq!(wrong.to_string(), "`bdy` is not known here; did you mean `body`?");
//! assert_eq!(wrong.span, Some((0, 3)));
//! ```
//!
//! `functions` is the table of all functions, `times` what the specification says of times,
//! `length` lengths of time that an expression makes. The cases in `cases/expressions` say what
//! follows the specification, and the reference what does not.
//!
//! One extension to the language: a number may be compared and combined with another whether
//! either was written with a decimal point or not, since senders are careless about that.

mod check;
mod demands;
mod error;
mod eval;
mod explain;
mod field_uses;
mod functions;
mod length;
mod lower;
mod node;
mod syntax;
mod template;
mod times;
mod types;
mod typing;
mod value;

pub use demands::{Demand, Path};
pub use error::ExprError;
pub use explain::ExplainedPart;
pub use field_uses::FieldUse;
pub use functions::{FUNCTIONS, Function, Gives, Takes};
pub use length::{Length, LengthDoc};
pub use template::{Part, Template, TemplateError};
pub use types::{ALERT_FIELDS, Type};
pub use value::{Scope, Val};

use node::Node;
use serde_json::{Map, Value};
use std::{cell::Cell, fmt};

/// Most steps one evaluation may take; a step is one node visited or 64 bytes made.
pub const BUDGET: u32 = 20_000;
/// Longest text of one expression, in bytes.
pub const MAX_TEXT: usize = 4096;
/// Deepest nesting of one expression.
pub const MAX_DEPTH: u16 = 32;

/// The names an expression may start from, by the place it stands in.
#[derive(Clone, Copy, Debug)]
pub struct Names<'a> {
    /// Variables. `alert` and `tally` have their fields wherever they are known.
    pub roots: &'a [&'a str],
    /// Functions beyond the language's own.
    pub functions: &'a [&'a str],
    /// What is known of the other variables; one that is not named here may be anything.
    pub types: &'a [(&'a str, Type)],
}

/// A compiled expression with its source text.
#[derive(Clone, Debug)]
pub struct Expr {
    text: String,
    node: Node,
}

impl Expr {
    /// Parses and checks; every name must be known in this place.
    pub fn compile(text: &str, names: Names<'_>) -> Result<Self, ExprError> {
        Ok(Self { text: text.to_owned(), node: lower::compile(text, names)? })
    }

    /// Whether the alert's payload is looked at.
    pub fn reads_body(&self) -> bool {
        demands::reads_body(&self.node)
    }

    /// Whether the payloads of gathered alerts may be looked at.
    pub fn reads_gathered_bodies(&self) -> bool {
        demands::reads_gathered_bodies(&self.node)
    }

    /// Whether it starts from this name anywhere.
    pub fn reads(&self, name: &str) -> bool {
        demands::reads(&self.node, name)
    }

    /// The fields of a name that it reads; none where the name is used as a whole.
    pub fn fields_of(&self, name: &str) -> Vec<Option<&str>> {
        let mut found = Vec::new();
        demands::fields(&self.node, name, &mut found);
        found
    }

    /// Each use of a field of a name, and what it is compared with.
    pub fn field_uses(&self, name: &str) -> Vec<FieldUse> {
        field_uses::uses(&self.node, name)
    }

    /// What is said of divisions of two integers that are written out, where something is cut off,
    /// and where each stands in the text: characters, from and to.
    pub fn cut_off(&self) -> Vec<(String, Option<(u32, u32)>)> {
        let mut found = Vec::new();
        demands::cut_off(&self.node, &mut found);
        let say = |(a, b, span): (i64, i64, _)| {
            (
                format!(
                    "{a} / {b} is {}: of integers the rest is cut off; write {a}.0 / {b} for a \
                    fraction",
                    a / b
                ),
                span,
            )
        };
        found.into_iter().map(say).collect()
    }

    /// Every call of a function of one argument: the text that it is given, where that is written
    /// out.
    pub fn calls(&self, function: &str) -> impl Iterator<Item = Option<String>> {
        let mut found = Vec::new();
        demands::calls(&self.node, function, &mut found);
        found.into_iter().map(|args| args.first().and_then(demands::text))
    }

    /// What fields of a name must equal for the condition to hold, as far as that can be said
    /// without it: the field, as `kind` or `labels.site`, and a text, or the list of those that it
    /// may be.
    pub fn equalities<'a>(&'a self, name: &str, scope: &'a dyn Scope<'a>) -> Vec<(String, Value)> {
        let mut found = Vec::new();
        demands::equalities(&self.node, name, &mut found);
        found
            .into_iter()
            .filter_map(|(field, node)| Some((field, eval::eval(node, scope).ok()?.to_json())))
            .collect()
    }

    /// What must be so for the condition to hold, as far as that can be told beforehand.
    pub fn demands(&self) -> Vec<Demand> {
        demands::demands_of(&self.node)
    }

    /// The parts that must all hold, each with its own truth and the values it sees.
    pub fn explain<'a>(&'a self, scope: &'a dyn Scope<'a>) -> Vec<ExplainedPart> {
        explain::parts(&self.text, &self.node, scope)
    }

    /// What it reads, and what that holds; null where it is missing. Large values are cut.
    pub fn saw<'a>(&'a self, scope: &'a dyn Scope<'a>) -> Map<String, Value> {
        explain::saw(&self.node, scope)
    }

    /// The text as written.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Whether it can be true or false at all.
    pub fn may_be_condition(&self, names: Names<'_>) -> Result<(), ExprError> {
        typing::check_condition(&self.node, names)
    }

    /// Whether it fits where it stands, by what is known there; it may be more than when it was
    /// compiled.
    pub fn fits(&self, names: Names<'_>) -> Result<(), ExprError> {
        typing::check(&self.node, names).map(|_| ())
    }

    /// Whether it can be a list at all.
    pub fn may_be_list(&self, names: Names<'_>) -> Result<(), ExprError> {
        typing::check_list(&self.node, names)
    }

    /// The fields of a name that are there for certain if the condition holds.
    pub fn guards(&self, name: &str) -> Vec<&str> {
        typing::guards(&self.node, true)
            .into_iter()
            .filter(|(of, _)| *of == name)
            .map(|(_, field)| field)
            .collect()
    }

    /// The value within [`BUDGET`], and within what its scope leaves for several together.
    pub fn eval<'a>(&'a self, scope: &'a dyn Scope<'a>) -> Result<Val<'a>, ExprError> {
        match scope.allowance() {
            None => eval::eval(&self.node, scope),
            Some(left) => self.eval_within(scope, left),
        }
    }

    /// The value within [`BUDGET`], and within what is left for several evaluations together.
    pub fn eval_within<'a>(
        &'a self,
        scope: &'a dyn Scope<'a>,
        left: &Cell<u32>,
    ) -> Result<Val<'a>, ExprError> {
        let steps = left.get().min(BUDGET);
        let (value, unspent) = eval::eval_within(&self.node, scope, steps);
        left.set(left.get() - (steps - unspent));
        if left.get() == 0 { Err(too_much_together()) } else { value }
    }

    /// A condition: anything but true or false is an error.
    pub fn holds<'a>(&'a self, scope: &'a dyn Scope<'a>) -> Result<bool, ExprError> {
        truth(self.eval(scope)?)
    }
}

/// Bytes that are made in one step.
const BYTES_A_STEP: usize = 64;

fn too_much_together() -> ExprError {
    ExprError::new(
        "the expressions together take too many steps and were stopped; make them simpler",
    )
}

/// Whether a value is true; anything but true or false is an error.
pub fn truth(value: Val<'_>) -> Result<bool, ExprError> {
    match value {
        Val::Bool(b) => Ok(b),
        other => Err(ExprError::new(format!("is {}, not true or false", other.kind()))),
    }
}

impl fmt::Display for Expr {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

#[cfg(test)]
mod tests;
