//! An operation by which a definition looks something up: called through a connection with what is
//! written out, again and again, and an expression over `result` takes from it what is wanted.

use super::{Repeat, misfits_of_call, operation};
use crate::{
    definition::{Fault, Mismatch, Others},
    document::Checker,
    expr::{Expr, ExprError, Names, Scope, Template, Val},
};
use serde_json::{Map, Value};
use std::fmt;

const RESULT: Names<'static> = Names { roots: &["result"], functions: &[], types: &[] };
const NOTHING: Names<'static> = Names { roots: &[], functions: &[], types: &[] };

/// As written.
pub(crate) struct LookupDoc<'d> {
    pub call: &'d str,
    pub via: Option<&'d String>,
    pub give: &'d Map<String, Value>,
    /// The key of the expression, and the expression.
    pub reads: (&'static str, &'d str),
}

/// A checked lookup.
#[derive(Clone, Debug)]
pub struct Lookup {
    /// The operation.
    pub operation: String,
    /// The connection through which it is called.
    pub via: String,
    /// What it is given.
    pub give: Map<String, Value>,
    give_template: Template,
    reads: Expr,
}

impl LookupDoc<'_> {
    /// The lookup whose keys stand in the map at a pointer.
    pub(crate) fn check(&self, check: &mut Checker<'_>, at: &str) -> Option<Lookup> {
        if self.via.is_none() {
            check.fail(at, "the key `via` is missing here: through which connection is it called?");
        }
        let give = Value::Object(self.give.clone());
        let give_template = check.template(&format!("{at}/give"), &give, NOTHING);
        let (key, reads) = self.reads;
        let reads = check.expr(&format!("{at}/{key}"), reads, RESULT);
        Some(Lookup {
            operation: self.call.to_owned(),
            via: self.via?.clone(),
            give: self.give.clone(),
            give_template: give_template?,
            reads: reads?,
        })
    }
}

impl Lookup {
    /// What is wanted of what the operation gave.
    ///
    /// # Errors
    /// If it is not there.
    pub fn read(&self, result: &Value) -> Result<Value, ExprError> {
        Ok(self.reads.eval(&ResultScope(result))?.to_json())
    }

    /// Its expression.
    pub(crate) fn expression(&self) -> &Expr {
        &self.reads
    }

    /// What does not fit of the lookup at a pointer; `why` it must change nothing is said where it
    /// may.
    pub(crate) fn misfits(&self, at: &str, why: &str, others: &dyn Others) -> Vec<Mismatch> {
        let given: Vec<String> = self.give.keys().cloned().collect();
        let names = (self.via.as_str(), self.operation.as_str());
        let mut misfits = misfits_of_call(at, names, (&given, &self.give_template), others);
        misfits.extend(must_be_safe(at, names, why, others));
        misfits
    }
}

/// What is wrong with the operation of a call at a pointer that is made again and again; `why` it
/// must change nothing is said where it may.
pub(crate) fn must_be_safe(
    at: &str,
    (via, name): (&str, &str),
    why: &str,
    others: &dyn Others,
) -> Option<Mismatch> {
    let (_, found) = operation(others, via, name).ok()?;
    (found.repeat != Repeat::Safe).then(|| {
        let wrong = format!("{why}; call an operation that is `repeat: safe`");
        Mismatch::at(format!("{at}/call"), Fault::Unfit(wrong))
    })
}

impl fmt::Display for Lookup {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} via {}", self.operation, self.via)
    }
}

struct ResultScope<'a>(&'a Value);

impl<'a> Scope<'a> for ResultScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        (name == "result").then(|| Val::json(self.0))
    }
}
