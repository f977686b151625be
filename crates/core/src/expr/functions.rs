//! The functions of the language, and the few that Arvok adds.

use super::{ExprError, value::Val};
use crate::{Period, glob::Glob, text::nearest};
use chrono::{DateTime, Utc};
use std::{borrow::Cow, rc::Rc};

/// Name, and how many arguments with the receiver counted as the first.
pub(super) const KNOWN: [(&str, usize); 21] = [
    ("size", 1),
    ("string", 1),
    ("int", 1),
    ("double", 1),
    ("timestamp", 1),
    ("duration", 1),
    ("contains", 2),
    ("startsWith", 2),
    ("endsWith", 2),
    ("matches", 2),
    ("glob", 2),
    ("lowerAscii", 1),
    ("upperAscii", 1),
    ("trim", 1),
    ("split", 2),
    ("join", 2),
    ("replace", 3),
    ("min", 2),
    ("max", 2),
    ("round", 1),
    ("seconds", 1),
];

pub(super) fn check(name: &str, args: usize, extra: &[&str]) -> Result<(), ExprError> {
    if extra.contains(&name) {
        return if args == 1 {
            Ok(())
        } else {
            Err(ExprError::new(format!("{name}() takes one argument, not {args}")))
        };
    }
    let Some((_, wanted)) = KNOWN.iter().find(|(n, _)| *n == name) else {
        let hint = nearest(name, KNOWN.iter().map(|(n, _)| *n).chain(extra.iter().copied()));
        let hint = hint.map_or_else(String::new, |n| format!("; did you mean {n}()?"));
        return Err(ExprError::new(format!("there is no function {name}() here{hint}")));
    };
    if *wanted == args {
        return Ok(());
    }
    Err(ExprError::new(format!("{name}() takes {wanted} values with the one before the dot, not {args}")))
}

pub(super) fn call<'a>(name: &str, args: &[Val<'a>]) -> Result<Val<'a>, ExprError> {
    let wrong = || {
        let kinds: Vec<_> = args.iter().map(Val::kind).collect();
        ExprError::new(format!("{name}() cannot take {}", kinds.join(" and ")))
    };
    let made = |text: String| Ok(Val::Str(Cow::Owned(text)));
    match (name, args) {
        ("size", [Val::Str(s)]) => Ok(Val::Int(s.chars().count() as i64)),
        ("size", [v]) => v.len().map(|n| Val::Int(n as i64)).ok_or_else(wrong),
        ("string", [v]) => made(v.text()),
        ("int", [v]) => to_int(v).ok_or_else(wrong),
        ("double", [v]) => to_double(v).ok_or_else(wrong),
        ("timestamp", [Val::Str(s)]) => DateTime::parse_from_rfc3339(s)
            .map(|t| Val::Time(t.with_timezone(&Utc)))
            .map_err(|_| ExprError::new(format!("`{}` is not an RFC 3339 time", crate::text::cut(s, 40)))),
        ("timestamp", [Val::Int(s)]) => DateTime::from_timestamp(*s, 0).map(Val::Time).ok_or_else(wrong),
        ("duration", [Val::Str(s)]) => Period::parse(s).map(|p| Val::Span(p.delta())).map_err(ExprError::new),
        ("seconds", [Val::Span(d)]) => Ok(Val::Double(d.num_milliseconds() as f64 / 1000.0)),
        ("contains", [Val::Str(a), Val::Str(b)]) => Ok(Val::Bool(a.contains(b.as_ref()))),
        ("startsWith", [Val::Str(a), Val::Str(b)]) => Ok(Val::Bool(a.starts_with(b.as_ref()))),
        ("endsWith", [Val::Str(a), Val::Str(b)]) => Ok(Val::Bool(a.ends_with(b.as_ref()))),
        ("matches", [Val::Str(a), Val::Str(b)]) => Ok(Val::Bool(regex(b)?.is_match(a))),
        ("glob", [Val::Str(a), Val::Str(b)]) => Glob::parse(b).map(|g| Val::Bool(g.matches(a))).map_err(ExprError::new),
        ("lowerAscii", [Val::Str(a)]) => made(a.to_ascii_lowercase()),
        ("upperAscii", [Val::Str(a)]) => made(a.to_ascii_uppercase()),
        ("trim", [Val::Str(a)]) => made(a.trim().to_owned()),
        ("replace", [Val::Str(a), Val::Str(b), Val::Str(c)]) => replace(a, b, c).map(|s| Val::Str(Cow::Owned(s))),
        ("split", [Val::Str(a), Val::Str(b)]) => {
            let parts = a.split(b.as_ref()).map(|p| Val::Str(Cow::Owned(p.to_owned()))).collect();
            Ok(Val::List(Rc::new(parts)))
        }
        ("join", [list, Val::Str(between)]) if !list.is_map() => {
            let parts: Vec<_> = list.entries().ok_or_else(wrong)?.map(|(_, v)| v.text()).collect();
            made(parts.join(between))
        }
        ("min" | "max", [a, b]) => {
            let order = a.order(b).ok_or_else(wrong)?;
            Ok(if order.is_lt() == (name == "min") { a.clone() } else { b.clone() })
        }
        ("round", [Val::Double(d)]) => Ok(whole(d.round()).unwrap_or(Val::Double(*d))),
        ("round", [Val::Int(i)]) => Ok(Val::Int(*i)),
        _ => Err(wrong()),
    }
}

fn whole<'a>(d: f64) -> Option<Val<'a>> {
    (d.abs() < 9e15).then_some(Val::Int(d as i64))
}

fn to_int<'a>(v: &Val<'_>) -> Option<Val<'a>> {
    match v {
        Val::Int(i) => Some(Val::Int(*i)),
        Val::Double(d) => whole(d.trunc()),
        Val::Str(s) => s.trim().parse().ok().map(Val::Int),
        Val::Time(t) => Some(Val::Int(t.timestamp())),
        _ => None,
    }
}

fn to_double<'a>(v: &Val<'_>) -> Option<Val<'a>> {
    match v {
        Val::Int(i) => Some(Val::Double(*i as f64)),
        Val::Double(d) => Some(Val::Double(*d)),
        Val::Str(s) => s.trim().parse().ok().filter(|d: &f64| d.is_finite()).map(Val::Double),
        _ => None,
    }
}

/// RE2's syntax and its promise of linear time are those of the `regex` crate; the compiled
/// size is bounded as well.
pub(super) fn regex(pattern: &str) -> Result<regex::Regex, ExprError> {
    regex::RegexBuilder::new(pattern).size_limit(256 << 10).dfa_size_limit(1 << 20).nest_limit(32).build().map_err(
        |_| {
            ExprError::new(format!(
                "`{}` is not a regular expression, or too large a one",
                crate::text::cut(pattern, 40)
            ))
        },
    )
}

fn replace(text: &str, what: &str, with: &str) -> Result<String, ExprError> {
    if text.len().saturating_mul(with.len().max(1)) > 4 << 20 {
        return Err(ExprError::new("replace() would make too long a text"));
    }
    Ok(text.replace(what, with))
}
