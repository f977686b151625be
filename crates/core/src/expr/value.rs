//! Values during an evaluation. Payloads are borrowed, never copied: only what an expression
//! makes is owned.

use crate::{Alert, Period, Severity};
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

    /// Elements of a list, or keys of a map, with the values beside them.
    pub(super) fn entries(&self) -> Option<Vec<(Val<'a>, Val<'a>)>> {
        let numbered = |(i, v): (usize, Val<'a>)| (Val::Int(i as i64), v);
        match self {
            Self::Json(Value::Array(items)) => Some(items.iter().map(Val::json).enumerate().map(numbered).collect()),
            Self::List(items) => Some(items.iter().cloned().enumerate().map(numbered).collect()),
            Self::Json(Value::Object(map)) => Some(map.iter().map(|(k, v)| (Val::str(k), Val::json(v))).collect()),
            Self::Map(map) => Some(map.iter().map(|(k, v)| (Val::Str(Cow::Owned(k.clone())), v.clone())).collect()),
            Self::Labels(labels) => Some(labels.iter().map(|(k, v)| (Val::str(k), Val::str(v))).collect()),
            _ => None,
        }
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

    /// Equality across kinds: numbers by value, a severity with its name, all else must be alike.
    pub(super) fn equal(&self, other: &Val<'_>) -> bool {
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
                (None, None) => self.is_compound() && other.is_compound() && self.to_json() == other.to_json(),
                _ => false,
            },
        }
    }

    fn is_compound(&self) -> bool {
        matches!(self, Self::Json(_) | Self::List(_) | Self::Map(_) | Self::Labels(_) | Self::Alert(_))
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
