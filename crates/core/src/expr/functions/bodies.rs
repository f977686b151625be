//! What the functions do that take more than a line.

use super::function::FunctionResult;
use crate::{
    expr::{
        ExprError,
        times::{self, TimePart},
        value::Val,
    },
    glob::Glob,
};
use chrono::{DateTime, Utc};
use std::{borrow::Cow, cmp::Ordering, rc::Rc, sync::Arc};

pub(super) fn text_value<'a>(text: String) -> FunctionResult<'a> {
    Some(Ok(Val::Str(Cow::Owned(text))))
}

pub(super) fn list<'a>(items: Vec<Val<'a>>) -> FunctionResult<'a> {
    Some(Ok(Val::List(Rc::new(items))))
}

/// The elements of a list.
pub(super) fn elements<'a>(value: &Val<'a>) -> Option<Vec<Val<'a>>> {
    (!value.is_map()).then(|| value.entries().map(|all| all.map(|(_, v)| v).collect()))?
}

pub(super) fn size<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    let n = match args.first()? {
        Val::Str(s) => s.chars().count(),
        Val::Bytes(b) => b.len(),
        other => other.len()?,
    };
    Some(Ok(Val::Int(n as i64)))
}

pub(super) fn string<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    match args.first()? {
        Val::Bytes(bytes) => {
            let text = std::str::from_utf8(bytes).map(str::to_owned);
            Some(
                text.map(|t| Val::Str(Cow::Owned(t)))
                    .map_err(|_| ExprError::new("these bytes are not UTF-8")),
            )
        }
        Val::Span(span) => text_value(times::written(*span)),
        other => text_value(other.text()),
    }
}

pub(super) fn bytes<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    match args.first()? {
        Val::Bytes(bytes) => Some(Ok(Val::Bytes(Arc::clone(bytes)))),
        Val::Str(text) => Some(Ok(Val::Bytes(text.as_bytes().into()))),
        _ => None,
    }
}

pub(super) fn timestamp<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    Some(match args.first()? {
        Val::Time(t) => Ok(Val::Time(*t)),
        Val::Str(s) => match DateTime::parse_from_rfc3339(s) {
            Ok(t) => times::within(t.with_timezone(&Utc)),
            Err(_) => Err(ExprError::new(format!(
                "`{}` is not an RFC 3339 time, such as 2026-02-01T02:00:00Z",
                crate::text::cut(s, 40)
            ))),
        },
        Val::Int(s) | Val::Data(s) => {
            DateTime::from_timestamp(*s, 0).ok_or_else(times::beyond).and_then(times::within)
        }
        _ => return None,
    })
}

pub(super) fn duration<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    match args.first()? {
        Val::Span(span) => Some(Ok(Val::Span(*span))),
        Val::Str(text) => Some(times::length(text).map(Val::Span)),
        _ => None,
    }
}

pub(super) fn on_texts<'a>(args: &[Val<'a>], holds: fn(&str, &str) -> bool) -> FunctionResult<'a> {
    let [Val::Str(a), Val::Str(b)] = args else { return None };
    Some(Ok(Val::Bool(holds(a, b))))
}

pub(super) fn one_text<'a>(args: &[Val<'a>], change: fn(&str) -> String) -> FunctionResult<'a> {
    let [Val::Str(text)] = args else { return None };
    text_value(change(text))
}

pub(super) fn matches<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    let [Val::Str(text), Val::Str(pattern)] = args else { return None };
    Some(regex(pattern).map(|r| Val::Bool(r.is_match(text))))
}

pub(super) fn glob<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    let [Val::Str(text), Val::Str(pattern)] = args else { return None };
    Some(Glob::parse(pattern).map(|g| Val::Bool(g.matches(text))).map_err(ExprError::new))
}

pub(super) fn part<'a>(args: &[Val<'a>], part: TimePart) -> FunctionResult<'a> {
    match args {
        [Val::Span(span)] => times::part_of_length(*span, part).map(|n| Ok(Val::Int(n))),
        [Val::Time(time)] => Some(times::part(*time, None, part).map(Val::Int)),
        [Val::Time(time), Val::Str(zone)] => {
            Some(times::part(*time, Some(zone), part).map(Val::Int))
        }
        _ => None,
    }
}

pub(super) fn seconds<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    let [Val::Span(span)] = args else { return None };
    Some(Ok(Val::Double(span.num_milliseconds() as f64 / 1000.0)))
}

pub(super) fn split<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    let [Val::Str(text), Val::Str(between)] = args else { return None };
    let part = |p: &str| Val::Str(Cow::Owned(p.to_owned()));
    list(if between.is_empty() {
        text.chars().map(|c| part(c.encode_utf8(&mut [0; 4]))).collect()
    } else {
        text.split(between.as_ref()).map(part).collect()
    })
}

pub(super) fn join<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    let between = match args.get(1) {
        None => "",
        Some(Val::Str(between)) => between,
        Some(_) => return None,
    };
    let parts: Vec<String> = elements(args.first()?)?.iter().map(Val::text).collect();
    let all: usize = parts.iter().map(|p| p.len() + between.len()).sum();
    if all > MOST_TEXT {
        return Some(Err(ExprError::new("join() would make too long a text")));
    }
    text_value(parts.join(between))
}

/// Longest text that one function makes, in bytes.
const MOST_TEXT: usize = 4 << 20;

pub(super) fn replace<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    let [Val::Str(text), Val::Str(what), Val::Str(with)] = args else { return None };
    if text.len().saturating_mul(with.len().max(1)) > MOST_TEXT {
        return Some(Err(ExprError::new("replace() would make too long a text")));
    }
    text_value(text.replace(what.as_ref(), with))
}

pub(super) fn index_of<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    let [Val::Str(text), Val::Str(what)] = args else { return None };
    let at = text.find(what.as_ref()).map_or(-1, |at| text[..at].chars().count() as i64);
    Some(Ok(Val::Int(at)))
}

/// Two places within something of that length, the second after the first.
pub(super) fn between(
    args: &[Val<'_>],
    length: usize,
) -> Option<Result<(usize, usize), ExprError>> {
    let number = |v: &Val<'_>| match v {
        Val::Int(i) | Val::Data(i) => Some(*i),
        Val::UInt(u) => i64::try_from(*u).ok(),
        _ => None,
    };
    let from = number(args.first()?)?;
    let to = args.get(1).map_or(Some(length as i64), number)?;
    let inside = |n: i64| usize::try_from(n).ok().filter(|n| *n <= length);
    Some(match (inside(from), inside(to)) {
        (Some(from), Some(to)) if from <= to => Ok((from, to)),
        _ => Err(ExprError::new(format!(
            "there is nothing from {from} up to {to}; there are {length}"
        ))),
    })
}

pub(super) fn substring<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    let Val::Str(text) = args.first()? else { return None };
    let places = between(&args[1..], text.chars().count())?;
    Some(
        places.map(|(from, to)| {
            Val::Str(Cow::Owned(text.chars().skip(from).take(to - from).collect()))
        }),
    )
}

pub(super) fn slice<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    let items = elements(args.first()?)?;
    let places = between(&args[1..], items.len())?;
    Some(places.map(|(from, to)| Val::List(Rc::new(items[from..to].to_vec()))))
}

pub(super) fn sort<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    let mut items = elements(args.first()?)?;
    let wrong = items.windows(2).find(|w| !w[0].ranks_with(&w[1]));
    if let Some([a, b]) = wrong {
        return Some(Err(ExprError::new(format!("cannot compare {} with {}", a.kind(), b.kind()))));
    }
    items.sort_by(|a, b| a.order(b).unwrap_or(Ordering::Equal));
    list(items)
}

/// Most elements that are compared with each other.
const COMPARED: usize = 1000;

pub(super) fn distinct<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    let items = elements(args.first()?)?;
    if items.len() > COMPARED {
        let wrong =
            format!("distinct() of a list of {} elements; {COMPARED} are allowed", items.len());
        return Some(Err(ExprError::new(wrong)));
    }
    let mut kept: Vec<Val<'a>> = Vec::new();
    for item in items {
        if item.len().is_some() {
            return Some(Err(ExprError::new(format!(
                "distinct() cannot take a list that holds {}",
                item.kind()
            ))));
        }
        if !kept.iter().any(|k| k.same_scalar(&item)) {
            kept.push(item);
        }
    }
    list(kept)
}

pub(super) fn flatten<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    let open = |item: Val<'a>| elements(&item).unwrap_or_else(|| vec![item]);
    list(elements(args.first()?)?.into_iter().flat_map(open).collect())
}

pub(super) fn smaller<'a>(args: &[Val<'a>], wanted: Ordering) -> FunctionResult<'a> {
    let [a, b] = args else { return None };
    let order = a.order(b)?;
    Some(Ok(if order == wanted { a.clone() } else { b.clone() }))
}

pub(super) fn round<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    Some(Ok(match args.first()? {
        Val::Double(d) if d.round().abs() < 9e15 => Val::Data(d.round() as i64),
        number @ (Val::Double(_) | Val::Int(_) | Val::UInt(_) | Val::Data(_)) => number.clone(),
        _ => return None,
    }))
}

pub(super) fn abs<'a>(args: &[Val<'a>]) -> FunctionResult<'a> {
    Some(match args.first()? {
        Val::Double(d) => Ok(Val::Double(d.abs())),
        Val::Int(i) => {
            i.checked_abs().map(Val::Int).ok_or_else(|| ExprError::new("the result is too large"))
        }
        Val::Data(i) => Ok(i.checked_abs().map_or(Val::Double((*i as f64).abs()), Val::Data)),
        Val::UInt(u) => Ok(Val::UInt(*u)),
        _ => return None,
    })
}

/// RE2's syntax and its promise of linear time are those of the `regex` crate; the compiled
/// size is bounded as well.
pub(in crate::expr) fn regex(pattern: &str) -> Result<regex::Regex, ExprError> {
    regex::RegexBuilder::new(pattern)
        .size_limit(256 << 10)
        .dfa_size_limit(1 << 20)
        .nest_limit(32)
        .build()
        .map_err(|_| {
            ExprError::new(format!(
                "`{}` is not a regular expression, or too large a one",
                crate::text::cut(pattern, 40)
            ))
        })
}
