//! The functions of the language, those of its published extensions that a need has shown, and the
//! few that Arvok adds: one table, by which expressions are checked and evaluated, words completed,
//! and the reference written.

mod bodies;
mod function;
mod table;

pub(super) use bodies::regex;
pub use function::{Function, Gives, Takes};
pub use table::FUNCTIONS;

use super::{ExprError, value::Val};
use crate::text::nearest;

/// The function of that name.
pub(super) fn find(name: &str) -> Option<&'static Function> {
    FUNCTIONS.iter().find(|f| f.name == name)
}

pub(super) fn check(name: &str, args: usize, extra: &[&str]) -> Result<(), ExprError> {
    let wrong = |wanted: &str| {
        ExprError::new(format!("{name}() takes {wanted} with the one before the dot, not {args}"))
    };
    if extra.contains(&name) {
        return if args == 1 { Ok(()) } else { Err(wrong("1 value")) };
    }
    let Some(function) = find(name) else {
        let hint = nearest(name, FUNCTIONS.iter().map(|f| f.name).chain(extra.iter().copied()));
        let hint = hint.map_or_else(String::new, |n| format!("; did you mean {n}()?"));
        return Err(ExprError::new(format!("there is no function {name}() here{hint}")));
    };
    let most = function.takes.len();
    let least = most - function.optional;
    match (least..=most).contains(&args) {
        true => Ok(()),
        false if least == most => {
            Err(wrong(&format!("{most} {}", if most == 1 { "value" } else { "values" })))
        }
        false => Err(wrong(&format!("{least} to {most} values"))),
    }
}

pub(super) fn call<'a>(name: &str, args: &[Val<'a>]) -> Result<Val<'a>, ExprError> {
    let made = find(name).and_then(|f| (f.call)(args));
    made.unwrap_or_else(|| {
        let kinds: Vec<_> = args.iter().map(Val::kind).collect();
        Err(ExprError::new(format!("{name}() cannot take {}", kinds.join(" and "))))
    })
}

/// Whether a call that is written out whole can only fail: it is tried.
pub(super) fn try_constant(name: &str, args: &[Val<'_>]) -> Result<(), ExprError> {
    match find(name) {
        Some(function) if function.tried => call(name, args).map(|_| ()),
        _ => Ok(()),
    }
}
