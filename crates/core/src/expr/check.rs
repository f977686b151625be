//! Expressions of a document, compiled; a diagnostic gets its place within the document.

use super::{Expr, ExprError, Names, Template};
use crate::document::Checker;
use serde_json::Value;

impl Checker<'_> {
    /// Compiles a condition, which must be true or false.
    pub fn condition(&mut self, pointer: &str, text: &str, names: Names<'_>) -> Option<Expr> {
        let made = self.expr(pointer, text, names)?;
        match made.may_be_condition(names) {
            Ok(()) => Some(made),
            Err(e) => {
                self.fail_within(pointer, e.span, e.message);
                None
            }
        }
    }

    /// Compiles an expression.
    pub fn expr(&mut self, pointer: &str, text: &str, names: Names<'_>) -> Option<Expr> {
        let made = Expr::compile(text, names);
        made.map_err(|e| self.fail_within(pointer, e.span, e.message)).ok()
    }

    /// Compiles a value with `${ ... }` in its strings.
    pub fn template(&mut self, pointer: &str, value: &Value, names: Names<'_>) -> Option<Template> {
        let errors = match Template::compile(value, names) {
            Ok(template) => return Some(template),
            Err(errors) => errors,
        };
        for e in errors {
            self.within(&format!("{pointer}{}", e.pointer), &e.text, e.error);
        }
        None
    }

    /// Notes what is wrong with an expression that stands somewhere within a string.
    pub fn within(&mut self, pointer: &str, text: &str, error: ExprError) {
        let string = self.string_at(pointer);
        let offset =
            string.find(text).and_then(|o| u32::try_from(string[..o].chars().count()).ok());
        let span = offset.map(|o| match error.span {
            Some((from, to)) => (o + from, o + to),
            None => (o, o + u32::try_from(text.chars().count()).unwrap_or(1)),
        });
        self.fail_within(pointer, span, error.message);
    }
}
