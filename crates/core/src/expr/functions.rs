//! The functions of the language, those of its published extensions that a need has shown, and the
//! few that Arvok adds: one table, by which expressions are checked and evaluated, words completed,
//! and the reference written.

use super::{
    ExprError,
    times::{self, TimePart},
    types::Type,
    value::Val,
};
use crate::{glob::Glob, text::nearest};
use chrono::{DateTime, Utc};
use std::{borrow::Cow, cmp::Ordering, rc::Rc, sync::Arc};

/// What a function takes in one place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Takes {
    /// Anything.
    Any,
    /// A string.
    Text,
    /// A number.
    Number,
    /// A string or a number.
    TextOrNumber,
    /// A string or a length of time.
    TextOrSpan,
    /// A length of time.
    Span,
    /// A time or a length of time.
    TimeOrSpan,
    /// A list.
    List,
}

impl Takes {
    /// The types that fit; none where anything does.
    pub(super) fn types(self) -> Vec<Type> {
        match self {
            Self::Any => vec![],
            Self::Text => vec![Type::Text],
            Self::Number => vec![Type::Number],
            Self::TextOrNumber => vec![Type::Text, Type::Number, Type::Time],
            Self::TextOrSpan => vec![Type::Text, Type::Span],
            Self::Span => vec![Type::Span],
            Self::TimeOrSpan => vec![Type::Time, Type::Span],
            Self::List => vec![Type::List(Arc::new(Type::Any))],
        }
    }

    fn word(self) -> &'static str {
        match self {
            Self::Any => "value",
            Self::Text => "text",
            Self::Number => "number",
            Self::TextOrNumber => "text or number",
            Self::TextOrSpan => "text or length",
            Self::Span => "length",
            Self::TimeOrSpan => "time or length",
            Self::List => "list",
        }
    }
}

/// What a function gives.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gives {
    /// What cannot be told beforehand.
    Any,
    /// true or false
    Bool,
    /// A number.
    Number,
    /// A string.
    Text,
    /// Bytes.
    Bytes,
    /// An instant.
    Time,
    /// A length of time.
    Span,
    /// A list of strings.
    Texts,
    /// A list.
    List,
}

impl Gives {
    pub(super) fn as_type(self) -> Type {
        match self {
            Self::Any => Type::Any,
            Self::Bool => Type::Bool,
            Self::Number => Type::Number,
            Self::Text => Type::Text,
            Self::Bytes => Type::Bytes,
            Self::Time => Type::Time,
            Self::Span => Type::Span,
            Self::Texts => Type::List(Arc::new(Type::Text)),
            Self::List => Type::List(Arc::new(Type::Any)),
        }
    }

    fn word(self) -> &'static str {
        match self {
            Self::Any => "a value",
            Self::Bool => "true or false",
            Self::Number => "a number",
            Self::Text => "a text",
            Self::Bytes => "bytes",
            Self::Time => "a time",
            Self::Span => "a length of time",
            Self::Texts => "a list of texts",
            Self::List => "a list",
        }
    }
}

/// One function.
#[derive(Debug)]
pub struct Function {
    /// Its name, as it is called.
    pub name: &'static str,
    /// What it takes, the value before the dot first.
    pub takes: &'static [Takes],
    /// How many of these may be left out, from the end.
    pub optional: usize,
    /// What it gives.
    pub gives: Gives,
    /// What it does, in one line.
    pub says: &'static str,
    /// Whether a call with values that are all written out is tried before anything is published.
    tried: bool,
    call: Call,
}

type Call = for<'a> fn(&[Val<'a>]) -> Option<Result<Val<'a>, ExprError>>;

impl Function {
    const fn new(
        name: &'static str,
        takes: &'static [Takes],
        gives: Gives,
        says: &'static str,
        call: Call,
    ) -> Self {
        Self { name, takes, optional: 0, gives, says, tried: false, call }
    }

    /// Whether it stands for a value of another kind: then a text that is none is found out early.
    const fn tried(mut self) -> Self {
        self.tried = true;
        self
    }

    const fn optional(mut self, optional: usize) -> Self {
        self.optional = optional;
        self
    }

    /// How it is written.
    pub fn form(&self) -> String {
        let least = self.takes.len() - self.optional;
        let shown =
            self.takes.iter().enumerate().map(|(i, t)| {
                if i < least { t.word().to_owned() } else { format!("[{}]", t.word()) }
            });
        format!("{}({}): {}", self.name, shown.collect::<Vec<_>>().join(", "), self.gives.word())
    }
}

use Takes::{Any, List, Number, Span, Text, TextOrNumber, TextOrSpan, TimeOrSpan};

/// All of them. Each may be written before its first value or after it: `size(x)`, `x.size()`.
pub static FUNCTIONS: [Function; 45] = [
    Function::new(
        "size",
        &[Any],
        Gives::Number,
        "characters of a text, bytes, elements of a list, keys of a map",
        size,
    ),
    Function::new(
        "type",
        &[Any],
        Gives::Any,
        "the type: `int`, `uint`, `double`, `bool`, `string`, `bytes`, `list`, `map`, `null_type`",
        |a| Some(Ok(Val::Type(a.first()?.type_name()))),
    ),
    Function::new(
        "dyn",
        &[Any],
        Gives::Any,
        "the same value, about which nothing is known \
        beforehand",
        |a| Some(Ok(a.first()?.clone())),
    ),
    Function::new("string", &[Any], Gives::Text, "a text that says the value", string),
    Function::new("bytes", &[Any], Gives::Bytes, "the bytes of a text in UTF-8", bytes).tried(),
    Function::new(
        "int",
        &[Any],
        Gives::Number,
        "a whole number: of a text, of the seconds since 1970 of a time; fractions are cut off",
        |a| a.first()?.as_int().transpose(),
    )
    .tried(),
    Function::new("uint", &[Any], Gives::Number, "a whole number that is not negative", |a| {
        a.first()?.as_uint().transpose()
    })
    .tried(),
    Function::new(
        "double",
        &[Any],
        Gives::Number,
        "a number with a \
        fraction",
        |a| a.first()?.as_double().transpose(),
    )
    .tried(),
    Function::new("bool", &[Any], Gives::Bool, "true or false, of a text that says so", |a| {
        a.first()?.as_bool().map(|b| Ok(Val::Bool(b)))
    })
    .tried(),
    Function::new(
        "timestamp",
        &[TextOrNumber],
        Gives::Time,
        "a time: of a text in RFC 3339, of seconds since 1970",
        timestamp,
    )
    .tried(),
    Function::new(
        "duration",
        &[TextOrSpan],
        Gives::Span,
        "a length of time: `90s`, `1h30m`, `1.5h`, `-1s`, `2d`",
        duration,
    )
    .tried(),
    Function::new(
        "contains",
        &[Text, Text],
        Gives::Bool,
        "whether the second text is somewhere in \
        the first",
        |a| on_texts(a, |x, y| x.contains(y)),
    ),
    Function::new(
        "startsWith",
        &[Text, Text],
        Gives::Bool,
        "whether the first text begins with \
        the second",
        |a| on_texts(a, |x, y| x.starts_with(y)),
    ),
    Function::new(
        "endsWith",
        &[Text, Text],
        Gives::Bool,
        "whether the first text ends with the \
        second",
        |a| on_texts(a, |x, y| x.ends_with(y)),
    ),
    Function::new(
        "matches",
        &[Text, Text],
        Gives::Bool,
        "whether a regular expression (RE2's syntax) is found in the text",
        matches,
    ),
    Function::new(
        "glob",
        &[Text, Text],
        Gives::Bool,
        "whether the whole text has a form: `*` within a part, `**` across parts, `?` for one \
        character",
        glob,
    ),
    Function::new(
        "getFullYear",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the \
        year",
        |a| part(a, TimePart::Year),
    )
    .optional(1),
    Function::new(
        "getMonth",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the month, 0 for January",
        |a| part(a, TimePart::Month),
    )
    .optional(1),
    Function::new(
        "getDayOfYear",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the day of the year, from \
        0",
        |a| part(a, TimePart::DayOfYear),
    )
    .optional(1),
    Function::new(
        "getDayOfMonth",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the day of the month, from \
        0",
        |a| part(a, TimePart::DayOfMonth),
    )
    .optional(1),
    Function::new(
        "getDate",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the day of the month, from \
        1",
        |a| part(a, TimePart::Date),
    )
    .optional(1),
    Function::new(
        "getDayOfWeek",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the day of the week, 0 for \
        Sunday",
        |a| part(a, TimePart::DayOfWeek),
    )
    .optional(1),
    Function::new(
        "getHours",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the hour, in UTC or in a zone such as `Europe/Oslo` or `+02:00`; of a length of time all \
        its hours",
        |a| part(a, TimePart::Hours),
    )
    .optional(1),
    Function::new(
        "getMinutes",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the minute; of a length of time all its minutes",
        |a| part(a, TimePart::Minutes),
    )
    .optional(1),
    Function::new(
        "getSeconds",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the second; of a length of time all its seconds",
        |a| part(a, TimePart::Seconds),
    )
    .optional(1),
    Function::new(
        "getMilliseconds",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the milliseconds within \
        the second",
        |a| part(a, TimePart::Milliseconds),
    )
    .optional(1),
    Function::new(
        "seconds",
        &[Span],
        Gives::Number,
        "a length of time in seconds, with its \
        fraction",
        seconds,
    ),
    Function::new("lowerAscii", &[Text], Gives::Text, "in small letters, A to Z only", |a| {
        one_text(a, str::to_ascii_lowercase)
    }),
    Function::new("upperAscii", &[Text], Gives::Text, "in capital letters, a to z only", |a| {
        one_text(a, str::to_ascii_uppercase)
    }),
    Function::new("trim", &[Text], Gives::Text, "without white space at both ends", |a| {
        one_text(a, |t| t.trim().to_owned())
    }),
    Function::new(
        "slug",
        &[Text],
        Gives::Text,
        "as a part of a kind or a resource: letters, digits, `.`, `-` and `_` stay, whatever else \
        is between them becomes one `-`",
        |a| one_text(a, crate::text::slug),
    ),
    Function::new("split", &[Text, Text], Gives::Texts, "the pieces between a separator", split),
    Function::new(
        "join",
        &[List, Text],
        Gives::Text,
        "the elements as one text, with a separator \
        between them",
        join,
    )
    .optional(1),
    Function::new(
        "replace",
        &[Text, Text, Text],
        Gives::Text,
        "with every occurrence of the second text replaced by the third",
        replace,
    ),
    Function::new(
        "indexOf",
        &[Text, Text],
        Gives::Number,
        "where the second text first stands in the first, from 0; -1 if nowhere",
        index_of,
    ),
    Function::new(
        "substring",
        &[Text, Number, Number],
        Gives::Text,
        "the characters from one place up to another, which does not belong to it",
        substring,
    )
    .optional(1),
    Function::new("sort", &[List], Gives::List, "the elements in their order", sort),
    Function::new(
        "distinct",
        &[List],
        Gives::List,
        "the elements without those that came \
        before",
        distinct,
    ),
    Function::new(
        "flatten",
        &[List],
        Gives::List,
        "lists within the list opened out, one \
        level",
        flatten,
    ),
    Function::new(
        "slice",
        &[List, Number, Number],
        Gives::List,
        "the elements from one place up to another, which does not belong to it",
        slice,
    )
    .optional(1),
    Function::new(
        "min",
        &[Any, Any],
        Gives::Any,
        "the smaller of \
        two",
        |a| smaller(a, Ordering::Less),
    ),
    Function::new(
        "max",
        &[Any, Any],
        Gives::Any,
        "the larger of \
        two",
        |a| smaller(a, Ordering::Greater),
    ),
    Function::new(
        "round",
        &[Number],
        Gives::Number,
        "the nearest whole number; halves away from \
        zero",
        round,
    ),
    Function::new("abs", &[Number], Gives::Number, "the number without its sign", abs),
    Function::new(
        "isNaN",
        &[Number],
        Gives::Bool,
        "whether it is no number at all, as \
        `double(\"NaN\")` is",
        |a| a.first()?.number().map(|n| Ok(Val::Bool(n.is_nan()))),
    ),
];

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

type Made<'a> = Option<Result<Val<'a>, ExprError>>;

fn text_value<'a>(text: String) -> Made<'a> {
    Some(Ok(Val::Str(Cow::Owned(text))))
}

fn list<'a>(items: Vec<Val<'a>>) -> Made<'a> {
    Some(Ok(Val::List(Rc::new(items))))
}

/// The elements of a list.
fn elements<'a>(value: &Val<'a>) -> Option<Vec<Val<'a>>> {
    (!value.is_map()).then(|| value.entries().map(|all| all.map(|(_, v)| v).collect()))?
}

fn size<'a>(args: &[Val<'a>]) -> Made<'a> {
    let n = match args.first()? {
        Val::Str(s) => s.chars().count(),
        Val::Bytes(b) => b.len(),
        other => other.len()?,
    };
    Some(Ok(Val::Int(n as i64)))
}

fn string<'a>(args: &[Val<'a>]) -> Made<'a> {
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

fn bytes<'a>(args: &[Val<'a>]) -> Made<'a> {
    match args.first()? {
        Val::Bytes(bytes) => Some(Ok(Val::Bytes(Arc::clone(bytes)))),
        Val::Str(text) => Some(Ok(Val::Bytes(text.as_bytes().into()))),
        _ => None,
    }
}

fn timestamp<'a>(args: &[Val<'a>]) -> Made<'a> {
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

fn duration<'a>(args: &[Val<'a>]) -> Made<'a> {
    match args.first()? {
        Val::Span(span) => Some(Ok(Val::Span(*span))),
        Val::Str(text) => Some(times::length(text).map(Val::Span)),
        _ => None,
    }
}

fn on_texts<'a>(args: &[Val<'a>], holds: fn(&str, &str) -> bool) -> Made<'a> {
    let [Val::Str(a), Val::Str(b)] = args else { return None };
    Some(Ok(Val::Bool(holds(a, b))))
}

fn one_text<'a>(args: &[Val<'a>], change: fn(&str) -> String) -> Made<'a> {
    let [Val::Str(text)] = args else { return None };
    text_value(change(text))
}

fn matches<'a>(args: &[Val<'a>]) -> Made<'a> {
    let [Val::Str(text), Val::Str(pattern)] = args else { return None };
    Some(regex(pattern).map(|r| Val::Bool(r.is_match(text))))
}

fn glob<'a>(args: &[Val<'a>]) -> Made<'a> {
    let [Val::Str(text), Val::Str(pattern)] = args else { return None };
    Some(Glob::parse(pattern).map(|g| Val::Bool(g.matches(text))).map_err(ExprError::new))
}

fn part<'a>(args: &[Val<'a>], part: TimePart) -> Made<'a> {
    match args {
        [Val::Span(span)] => times::part_of_length(*span, part).map(|n| Ok(Val::Int(n))),
        [Val::Time(time)] => Some(times::part(*time, None, part).map(Val::Int)),
        [Val::Time(time), Val::Str(zone)] => {
            Some(times::part(*time, Some(zone), part).map(Val::Int))
        }
        _ => None,
    }
}

fn seconds<'a>(args: &[Val<'a>]) -> Made<'a> {
    let [Val::Span(span)] = args else { return None };
    Some(Ok(Val::Double(span.num_milliseconds() as f64 / 1000.0)))
}

fn split<'a>(args: &[Val<'a>]) -> Made<'a> {
    let [Val::Str(text), Val::Str(between)] = args else { return None };
    let part = |p: &str| Val::Str(Cow::Owned(p.to_owned()));
    list(if between.is_empty() {
        text.chars().map(|c| part(c.encode_utf8(&mut [0; 4]))).collect()
    } else {
        text.split(between.as_ref()).map(part).collect()
    })
}

fn join<'a>(args: &[Val<'a>]) -> Made<'a> {
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

fn replace<'a>(args: &[Val<'a>]) -> Made<'a> {
    let [Val::Str(text), Val::Str(what), Val::Str(with)] = args else { return None };
    if text.len().saturating_mul(with.len().max(1)) > MOST_TEXT {
        return Some(Err(ExprError::new("replace() would make too long a text")));
    }
    text_value(text.replace(what.as_ref(), with))
}

fn index_of<'a>(args: &[Val<'a>]) -> Made<'a> {
    let [Val::Str(text), Val::Str(what)] = args else { return None };
    let at = text.find(what.as_ref()).map_or(-1, |at| text[..at].chars().count() as i64);
    Some(Ok(Val::Int(at)))
}

/// Two places within something of that length, the second after the first.
fn between(args: &[Val<'_>], length: usize) -> Option<Result<(usize, usize), ExprError>> {
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

fn substring<'a>(args: &[Val<'a>]) -> Made<'a> {
    let Val::Str(text) = args.first()? else { return None };
    let places = between(&args[1..], text.chars().count())?;
    Some(
        places.map(|(from, to)| {
            Val::Str(Cow::Owned(text.chars().skip(from).take(to - from).collect()))
        }),
    )
}

fn slice<'a>(args: &[Val<'a>]) -> Made<'a> {
    let items = elements(args.first()?)?;
    let places = between(&args[1..], items.len())?;
    Some(places.map(|(from, to)| Val::List(Rc::new(items[from..to].to_vec()))))
}

fn sort<'a>(args: &[Val<'a>]) -> Made<'a> {
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

fn distinct<'a>(args: &[Val<'a>]) -> Made<'a> {
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

fn flatten<'a>(args: &[Val<'a>]) -> Made<'a> {
    let open = |item: Val<'a>| elements(&item).unwrap_or_else(|| vec![item]);
    list(elements(args.first()?)?.into_iter().flat_map(open).collect())
}

fn smaller<'a>(args: &[Val<'a>], wanted: Ordering) -> Made<'a> {
    let [a, b] = args else { return None };
    let order = a.order(b)?;
    Some(Ok(if order == wanted { a.clone() } else { b.clone() }))
}

fn round<'a>(args: &[Val<'a>]) -> Made<'a> {
    Some(Ok(match args.first()? {
        Val::Double(d) if d.round().abs() < 9e15 => Val::Data(d.round() as i64),
        number @ (Val::Double(_) | Val::Int(_) | Val::UInt(_) | Val::Data(_)) => number.clone(),
        _ => return None,
    }))
}

fn abs<'a>(args: &[Val<'a>]) -> Made<'a> {
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
pub(super) fn regex(pattern: &str) -> Result<regex::Regex, ExprError> {
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
