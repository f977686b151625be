//! Values during an evaluation. Payloads are borrowed, never copied: only what an expression
//! makes is owned.

use crate::{Alert, Period, Severity, bounds::MAX_DEPTH};
use chrono::{DateTime, SecondsFormat, TimeDelta, Utc};
use serde_json::Value;
use std::{borrow::Cow, cmp::Ordering, collections::BTreeMap, rc::Rc};

/// A literal of a program.
#[derive(Clone, Debug)]
pub(super) enum Const {
    Null,
    Bool(bool),
    Int(i64),
    Double(f64),
    Str(String),
    Severity(Severity),
}

/// Where an expression finds its names and the functions of its place.
pub trait Scope<'a> {
    /// The value of a root name; absent when there is none in this evaluation.
    fn name(&'a self, name: &str) -> Option<Val<'a>>;

    /// A function beyond the language's own, already checked to be allowed in this place.
    fn call(&'a self, function: &str, args: &[Val<'a>]) -> Option<Result<Val<'a>, String>> {
        let _ = (function, args);
        None
    }
}

/// What a list or a map holds, one by one.
pub(super) type Entries<'a> = Box<dyn Iterator<Item = (Val<'a>, Val<'a>)> + 'a>;

/// A value.
#[derive(Clone, Debug)]
pub enum Val<'a> {
    /// null
    Null,
    /// true or false
    Bool(bool),
    /// A whole number.
    Int(i64),
    /// Any other number.
    Double(f64),
    /// A string.
    Str(Cow<'a, str>),
    /// A severity; ordered, and equal to its name.
    Severity(Severity),
    /// An instant.
    Time(DateTime<Utc>),
    /// A length of time.
    Span(TimeDelta),
    /// A list or map of a payload.
    Json(&'a Value),
    /// A list that an expression made.
    List(Rc<Vec<Val<'a>>>),
    /// A map that an expression made.
    Map(Rc<Vec<(String, Val<'a>)>>),
    /// The labels of an alert.
    Labels(&'a BTreeMap<String, String>),
    /// The alert, with the fields of the normal form.
    Alert(&'a Alert),
}

impl<'a> Val<'a> {
    /// A borrowed string.
    pub fn str(text: &'a str) -> Self {
        Self::Str(Cow::Borrowed(text))
    }

    /// A payload's value; its scalars become the language's own.
    pub fn json(value: &'a Value) -> Self {
        match value {
            Value::Null => Self::Null,
            Value::Bool(b) => Self::Bool(*b),
            Value::Number(n) => n.as_i64().map_or_else(|| Self::Double(n.as_f64().unwrap_or(f64::NAN)), Self::Int),
            Value::String(s) => Self::str(s),
            Value::Array(_) | Value::Object(_) => Self::Json(value),
        }
    }

    pub(super) fn constant(c: &'a Const) -> Self {
        match c {
            Const::Null => Self::Null,
            Const::Bool(b) => Self::Bool(*b),
            Const::Int(i) => Self::Int(*i),
            Const::Double(d) => Self::Double(*d),
            Const::Str(s) => Self::str(s),
            Const::Severity(s) => Self::Severity(*s),
        }
    }

    /// What it is, for messages.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Null => "null",
            Self::Bool(_) => "true or false",
            Self::Int(_) | Self::Double(_) => "a number",
            Self::Str(_) => "a string",
            Self::Severity(_) => "a severity",
            Self::Time(_) => "a time",
            Self::Span(_) => "a length of time",
            Self::Json(Value::Array(_)) | Self::List(_) => "a list",
            Self::Json(_) | Self::Map(_) | Self::Labels(_) => "a map",
            Self::Alert(_) => "an alert",
        }
    }

    /// A field of a map or an alert.
    pub(super) fn field(&self, name: &str) -> Option<Val<'a>> {
        match self {
            Self::Json(Value::Object(map)) => map.get(name).map(Val::json),
            Self::Map(entries) => entries.iter().find(|(k, _)| k == name).map(|(_, v)| v.clone()),
            Self::Labels(labels) => labels.get(name).map(|v| Val::str(v)),
            Self::Alert(alert) => alert_field(alert, name),
            _ => None,
        }
    }

    /// An element of a list.
    pub(super) fn element(&self, index: i64) -> Option<Val<'a>> {
        let i = usize::try_from(index).ok()?;
        match self {
            Self::Json(Value::Array(items)) => items.get(i).map(Val::json),
            Self::List(items) => items.get(i).cloned(),
            _ => None,
        }
    }

    /// Elements of a list, or keys of a map, with the values beside them; made one by one, so that
    /// whoever stops early, or cannot pay for more, has made no more.
    pub(super) fn entries(&self) -> Option<Entries<'a>> {
        let numbered = |(i, v): (usize, Val<'a>)| (Val::Int(i as i64), v);
        Some(match self {
            Self::Json(Value::Array(items)) => Box::new(items.iter().map(Val::json).enumerate().map(numbered)),
            Self::List(items) => {
                let items = Rc::clone(items);
                Box::new((0..items.len()).map(move |i| (Val::Int(i as i64), items[i].clone())))
            }
            Self::Json(Value::Object(map)) => Box::new(map.iter().map(|(k, v)| (Val::str(k), Val::json(v)))),
            Self::Map(map) => {
                let map = Rc::clone(map);
                Box::new((0..map.len()).map(move |i| (Val::Str(Cow::Owned(map[i].0.clone())), map[i].1.clone())))
            }
            Self::Labels(labels) => Box::new(labels.iter().map(|(k, v)| (Val::str(k), Val::str(v)))),
            _ => return None,
        })
    }

    /// How many elements a list, or keys a map has.
    pub(super) fn len(&self) -> Option<usize> {
        match self {
            Self::Json(Value::Array(items)) => Some(items.len()),
            Self::Json(Value::Object(map)) => Some(map.len()),
            Self::List(items) => Some(items.len()),
            Self::Map(map) => Some(map.len()),
            Self::Labels(labels) => Some(labels.len()),
            _ => None,
        }
    }

    /// About how many bytes it takes when it is written out with all that it shares, and whether
    /// it is nested deeper than allowed; counting stops a little above `most`.
    pub(super) fn measure(&self, most: usize) -> (usize, bool) {
        self.measured(most, MAX_DEPTH)
    }

    fn measured(&self, most: usize, levels: usize) -> (usize, bool) {
        let mut all = (size_of::<Val<'_>>(), false);
        let mut add = |key: usize, item: &Val<'_>| {
            if all.0 <= most && !all.1 {
                let (bytes, deep) = item.measured(most - all.0, levels.saturating_sub(1));
                all = (all.0 + key + bytes, deep || levels == 0);
            }
        };
        match self {
            Self::Str(text) => all.0 += text.len(),
            Self::List(items) => items.iter().for_each(|item| add(0, item)),
            Self::Map(map) => map.iter().for_each(|(key, item)| add(key.len(), item)),
            Self::Json(Value::Array(items)) => items.iter().for_each(|item| add(0, &Val::json(item))),
            Self::Json(Value::Object(map)) => map.iter().for_each(|(key, item)| add(key.len(), &Val::json(item))),
            Self::Labels(labels) => labels.iter().for_each(|(key, text)| add(key.len(), &Val::str(text))),
            Self::Alert(alert) => {
                add(0, &Val::Labels(&alert.labels));
                add(alert.summary.len(), &Val::json(&alert.body));
            }
            _ => {}
        }
        all
    }

    /// Whether iteration yields keys, as it does for maps.
    pub(super) fn is_map(&self) -> bool {
        matches!(self, Self::Map(_) | Self::Labels(_) | Self::Json(Value::Object(_)))
    }

    /// The text of a value in the middle of a string.
    pub fn text(&self) -> String {
        match self {
            Self::Str(s) => s.to_string(),
            Self::Severity(s) => s.to_string(),
            Self::Double(d) => {
                serde_json::Number::from_f64(*d).map_or_else(|| d.to_string(), |n| trim_zero(&n.to_string()))
            }
            other => match other.to_json() {
                Value::String(s) => s,
                json => json.to_string(),
            },
        }
    }

    /// As JSON, for inputs and outputs.
    pub fn to_json(&self) -> Value {
        match self {
            Self::Null => Value::Null,
            Self::Bool(b) => Value::Bool(*b),
            Self::Int(i) => Value::from(*i),
            Self::Double(d) => Value::from(*d),
            Self::Str(s) => Value::from(s.as_ref()),
            Self::Severity(s) => Value::from(s.as_str()),
            Self::Time(t) => Value::from(t.to_rfc3339_opts(SecondsFormat::AutoSi, true)),
            Self::Span(d) => {
                Value::from(Period::from_millis(u64::try_from(d.num_milliseconds()).unwrap_or(0)).to_string())
            }
            Self::Json(v) => (*v).clone(),
            Self::List(items) => Value::Array(items.iter().map(Val::to_json).collect()),
            Self::Map(map) => Value::Object(map.iter().map(|(k, v)| (k.clone(), v.to_json())).collect()),
            Self::Labels(labels) => {
                Value::Object(labels.iter().map(|(k, v)| (k.clone(), Value::from(v.as_str()))).collect())
            }
            Self::Alert(alert) => serde_json::to_value(alert).unwrap_or(Value::Null),
        }
    }

    fn number(&self) -> Option<f64> {
        match self {
            Self::Int(i) => Some(*i as f64),
            Self::Double(d) => Some(*d),
            _ => None,
        }
    }

    /// Equality of what has no parts, across kinds: numbers by value, a severity with its name, all
    /// else must be alike.
    pub(super) fn same_scalar(&self, other: &Val<'_>) -> bool {
        match (self, other) {
            (Self::Null, Val::Null) => true,
            (Self::Bool(a), Val::Bool(b)) => a == b,
            (Self::Int(a), Val::Int(b)) => a == b,
            (Self::Str(a), Val::Str(b)) => a == b,
            (Self::Severity(a), Val::Severity(b)) => a == b,
            (Self::Severity(a), Val::Str(b)) | (Self::Str(b), Val::Severity(a)) => a.as_str() == b,
            (Self::Time(a), Val::Time(b)) => a == b,
            (Self::Span(a), Val::Span(b)) => a == b,
            _ => match (self.number(), other.number()) {
                (Some(a), Some(b)) => a == b,
                _ => false,
            },
        }
    }

    /// Steps that comparing it with another takes, as far as its own text is concerned.
    pub(super) fn text_steps(&self, other: &Val<'_>) -> usize {
        match (self, other) {
            (Self::Str(a), Val::Str(b)) => a.len().min(b.len()) / 64,
            _ => 0,
        }
    }

    /// Order where there is one.
    pub(super) fn order(&self, other: &Val<'_>) -> Option<Ordering> {
        match (self, other) {
            (Self::Int(a), Val::Int(b)) => Some(a.cmp(b)),
            (Self::Str(a), Val::Str(b)) => Some(a.cmp(b)),
            (Self::Bool(a), Val::Bool(b)) => Some(a.cmp(b)),
            (Self::Severity(a), Val::Severity(b)) => Some(a.cmp(b)),
            (Self::Severity(a), Val::Str(b)) => Severity::parse(b).map(|b| a.cmp(&b)),
            (Self::Time(a), Val::Time(b)) => Some(a.cmp(b)),
            (Self::Span(a), Val::Span(b)) => Some(a.cmp(b)),
            _ => self.number()?.partial_cmp(&other.number()?),
        }
    }

    /// Bytes it takes to make, for the budget.
    pub(super) fn weight(&self) -> usize {
        match self {
            Self::Str(Cow::Owned(s)) => s.len(),
            Self::List(items) => items.len() * 16,
            Self::Map(items) => items.len() * 32,
            _ => 0,
        }
    }
}

fn trim_zero(text: &str) -> String {
    text.strip_suffix(".0").unwrap_or(text).to_owned()
}

fn alert_field<'a>(alert: &'a Alert, name: &str) -> Option<Val<'a>> {
    Some(match name {
        "id" => Val::str(&alert.id),
        "source" => Val::str(&alert.source),
        "kind" => Val::str(&alert.kind),
        "severity" => Val::Severity(alert.severity),
        "state" => Val::str(alert.state.as_str()),
        "resource" => Val::str(alert.resource.as_str()),
        "time" => Val::Time(alert.time),
        "received" => Val::Time(alert.received),
        "summary" => Val::str(&alert.summary),
        "value" => Val::Double(alert.value?),
        "labels" => Val::Labels(&alert.labels),
        "body" => Val::json(&alert.body),
        _ => return None,
    })
}
