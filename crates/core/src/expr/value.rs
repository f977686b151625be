//! Values during an evaluation. Payloads are borrowed, never copied: only what an expression
//! makes is owned.

use super::ExprError;
use crate::{Alert, Period, Severity, bounds::MAX_DEPTH};
use base64::Engine;
use chrono::{DateTime, SecondsFormat, TimeDelta, Utc};
use serde_json::Value;
use std::{borrow::Cow, cell::Cell, cmp::Ordering, collections::BTreeMap, rc::Rc, sync::Arc};

pub(super) const TIMESTAMP: &str = "google.protobuf.Timestamp";
pub(super) const DURATION: &str = "google.protobuf.Duration";
/// Below it every whole number is a double of its own.
const EXACT: f64 = 9_007_199_254_740_992.0;

/// The names that stand for types.
pub(super) const TYPES: [&str; 12] = [
    "int",
    "uint",
    "double",
    "bool",
    "string",
    "bytes",
    "list",
    "map",
    "null_type",
    "type",
    TIMESTAMP,
    DURATION,
];

/// A literal of a program.
#[derive(Clone, Debug)]
pub(super) enum Const {
    Null,
    Bool(bool),
    Int(i64),
    UInt(u64),
    Double(f64),
    Str(String),
    Bytes(Arc<[u8]>),
    Severity(Severity),
    Type(&'static str),
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

    /// How many steps are left for several evaluations together; none: each has [`super::BUDGET`].
    fn allowance(&self) -> Option<&Cell<u32>> {
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
    /// A whole number that cannot be negative.
    UInt(u64),
    /// A whole number of data, as JSON has it: a double by the language's conversion (cel-spec,
    /// JSON data conversion), kept exactly as it came. It divides as one, and still counts, indexes
    /// and prints as a whole one.
    Data(i64),
    /// Any other number.
    Double(f64),
    /// A string.
    Str(Cow<'a, str>),
    /// Bytes.
    Bytes(Arc<[u8]>),
    /// The name of a type.
    Type(&'static str),
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
    /// A map that an expression made; its keys are strings, whole numbers, true or false.
    Map(Rc<Vec<(Val<'a>, Val<'a>)>>),
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
            Value::Number(n) => match (n.as_i64(), n.as_u64()) {
                (Some(i), _) => Self::Data(i),
                (None, Some(u)) => Self::UInt(u),
                (None, None) => Self::Double(n.as_f64().unwrap_or(f64::NAN)),
            },
            Value::String(s) => Self::str(s),
            Value::Array(_) | Value::Object(_) => Self::Json(value),
        }
    }

    pub(super) fn constant(c: &'a Const) -> Self {
        match c {
            Const::Null => Self::Null,
            Const::Bool(b) => Self::Bool(*b),
            Const::Int(i) => Self::Int(*i),
            Const::UInt(u) => Self::UInt(*u),
            Const::Bytes(b) => Self::Bytes(Arc::clone(b)),
            Const::Type(name) => Self::Type(name),
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
            Self::Int(_) | Self::UInt(_) | Self::Data(_) | Self::Double(_) => "a number",
            Self::Str(_) => "a string",
            Self::Bytes(_) => "bytes",
            Self::Type(_) => "a type",
            Self::Severity(_) => "a severity",
            Self::Time(_) => "a time",
            Self::Span(_) => "a length of time",
            Self::Json(Value::Array(_)) | Self::List(_) => "a list",
            Self::Json(_) | Self::Map(_) | Self::Labels(_) => "a map",
            Self::Alert(_) => "an alert",
        }
    }

    /// The name of its type in the language.
    pub(super) fn type_name(&self) -> &'static str {
        match self {
            Self::Null => "null_type",
            Self::Bool(_) => "bool",
            Self::Int(_) => "int",
            Self::UInt(_) => "uint",
            Self::Data(_) | Self::Double(_) => "double",
            Self::Str(_) => "string",
            Self::Bytes(_) => "bytes",
            Self::Type(_) => "type",
            Self::Severity(_) => "severity",
            Self::Time(_) => TIMESTAMP,
            Self::Span(_) => DURATION,
            Self::Json(Value::Array(_)) | Self::List(_) => "list",
            Self::Json(_) | Self::Map(_) | Self::Labels(_) => "map",
            Self::Alert(_) => "alert",
        }
    }

    /// What a map holds under a key, which need not be a string.
    pub(super) fn under(&self, key: &Val<'_>) -> Option<Val<'a>> {
        match (self, key) {
            (_, Val::Str(key)) => self.field(key),
            (Self::Map(entries), key) => {
                entries.iter().find(|(k, _)| k.same_scalar(key)).map(|(_, v)| v.clone())
            }
            _ => None,
        }
    }

    /// A field of a map or an alert.
    pub(super) fn field(&self, name: &str) -> Option<Val<'a>> {
        match self {
            Self::Json(Value::Object(map)) => map.get(name).map(Val::json),
            Self::Map(entries) => {
                let found = entries.iter().find(|(k, _)| matches!(k, Val::Str(k) if k == name));
                found.map(|(_, v)| v.clone())
            }
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
            Self::Json(Value::Array(items)) => {
                Box::new(items.iter().map(Val::json).enumerate().map(numbered))
            }
            Self::List(items) => {
                let items = Rc::clone(items);
                Box::new((0..items.len()).map(move |i| (Val::Int(i as i64), items[i].clone())))
            }
            Self::Json(Value::Object(map)) => {
                Box::new(map.iter().map(|(k, v)| (Val::str(k), Val::json(v))))
            }
            Self::Map(map) => {
                let map = Rc::clone(map);
                Box::new((0..map.len()).map(move |i| map[i].clone()))
            }
            Self::Labels(labels) => {
                Box::new(labels.iter().map(|(k, v)| (Val::str(k), Val::str(v))))
            }
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
            Self::Bytes(bytes) => all.0 += bytes.len(),
            Self::Map(map) => map.iter().for_each(|(key, item)| add(key.measured(most, 1).0, item)),
            Self::Json(Value::Array(items)) => {
                items.iter().for_each(|item| add(0, &Val::json(item)))
            }
            Self::Json(Value::Object(map)) => {
                map.iter().for_each(|(key, item)| add(key.len(), &Val::json(item)))
            }
            Self::Labels(labels) => {
                labels.iter().for_each(|(key, text)| add(key.len(), &Val::str(text)))
            }
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
            Self::Double(d) => serde_json::Number::from_f64(*d)
                .map_or_else(|| d.to_string(), |n| trim_zero(&n.to_string())),
            Self::Type(name) => (*name).to_owned(),
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
            Self::Int(i) | Self::Data(i) => Value::from(*i),
            Self::UInt(u) => Value::from(*u),
            // In JSON there is one kind of numbers, and devices that want a whole one take no 44.0.
            Self::Double(d) if d.fract() == 0.0 && d.abs() < EXACT => Value::from(*d as i64),
            Self::Double(d) => Value::from(*d),
            Self::Bytes(bytes) => {
                Value::from(base64::engine::general_purpose::STANDARD.encode(bytes))
            }
            Self::Type(name) => Value::from(*name),
            Self::Str(s) => Value::from(s.as_ref()),
            Self::Severity(s) => Value::from(s.as_str()),
            Self::Time(t) => Value::from(t.to_rfc3339_opts(SecondsFormat::AutoSi, true)),
            Self::Span(d) => Value::from(
                Period::from_millis(u64::try_from(d.num_milliseconds()).unwrap_or(0)).to_string(),
            ),
            Self::Json(v) => (*v).clone(),
            Self::List(items) => Value::Array(items.iter().map(Val::to_json).collect()),
            Self::Map(map) => {
                Value::Object(map.iter().map(|(k, v)| (k.text(), v.to_json())).collect())
            }
            Self::Labels(labels) => Value::Object(
                labels.iter().map(|(k, v)| (k.clone(), Value::from(v.as_str()))).collect(),
            ),
            Self::Alert(alert) => serde_json::to_value(alert).unwrap_or(Value::Null),
        }
    }

    /// As a number, where it is one.
    pub fn number(&self) -> Option<f64> {
        match self {
            Self::Int(i) | Self::Data(i) => Some(*i as f64),
            Self::UInt(u) => Some(*u as f64),
            Self::Double(d) => Some(*d),
            _ => None,
        }
    }

    /// A whole number, whichever way it is written; also of a fraction that is none.
    pub(super) fn whole(&self) -> Option<i128> {
        match self {
            Self::Int(i) | Self::Data(i) => Some(i128::from(*i)),
            Self::UInt(u) => Some(i128::from(*u)),
            Self::Double(d) if d.fract() == 0.0 && d.abs() < 1e19 => Some(*d as i128),
            _ => None,
        }
    }

    /// How two numbers compare, exactly, however they are written.
    fn compared(&self, other: &Val<'_>) -> Option<Ordering> {
        match (self, other) {
            (Self::Double(a), Val::Double(b)) => a.partial_cmp(b),
            (Self::Double(a), b) => Some(beside(b.whole()?, *a)?.reverse()),
            (a, Val::Double(b)) => beside(a.whole()?, *b),
            (a, b) => Some(a.whole()?.cmp(&b.whole()?)),
        }
    }

    /// As a whole number; none where there is no way.
    pub(super) fn as_int(&self) -> Result<Option<Self>, ExprError> {
        let int = |n: Option<i64>| {
            n.map(|n| Some(Self::Int(n))).ok_or_else(|| self.not("a whole number of 64 bits"))
        };
        match self {
            Self::Int(i) | Self::Data(i) => int(Some(*i)),
            Self::UInt(u) => int(i64::try_from(*u).ok()),
            Self::Double(d) => int((d.abs() < 9_223_372_036_854_775_807.0).then_some(*d as i64)),
            Self::Str(s) => int(s.parse().ok()),
            Self::Time(t) => int(Some(t.timestamp())),
            _ => Ok(None),
        }
    }

    /// As a whole number that is not negative; none where there is no way.
    pub(super) fn as_uint(&self) -> Result<Option<Self>, ExprError> {
        let wrong = || self.not("a whole number of 64 bits that is not negative");
        let uint = |n: Option<u64>| n.map(|n| Some(Self::UInt(n))).ok_or_else(wrong);
        match self {
            Self::Int(i) | Self::Data(i) => uint(u64::try_from(*i).ok()),
            Self::UInt(u) => uint(Some(*u)),
            Self::Double(d) => {
                uint((*d > -1.0 && *d < 18_446_744_073_709_551_615.0).then_some(*d as u64))
            }
            Self::Str(s) => uint(s.parse().ok()),
            _ => Ok(None),
        }
    }

    /// As a number with a fraction; none where there is no way.
    pub(super) fn as_double(&self) -> Result<Option<Self>, ExprError> {
        match self {
            Self::Str(s) => {
                s.parse().map(|d| Some(Self::Double(d))).map_err(|_| self.not("a number"))
            }
            other => Ok(other.number().map(Self::Double)),
        }
    }

    /// As true or false, where it says so.
    pub(super) fn as_bool(&self) -> Option<bool> {
        match self {
            Self::Bool(b) => Some(*b),
            Self::Str(s) if ["true", "True", "TRUE", "t", "1"].contains(&s.as_ref()) => Some(true),
            Self::Str(s) if ["false", "False", "FALSE", "f", "0"].contains(&s.as_ref()) => {
                Some(false)
            }
            _ => None,
        }
    }

    fn not(&self, wanted: &str) -> ExprError {
        ExprError::new(format!("`{}` is not {wanted}", crate::text::cut(&self.text(), 40)))
    }

    /// Equality of what has no parts, across kinds: numbers by value, a severity with its name, all
    /// else must be alike.
    pub(super) fn same_scalar(&self, other: &Val<'_>) -> bool {
        match (self, other) {
            (Self::Null, Val::Null) => true,
            (Self::Bool(a), Val::Bool(b)) => a == b,
            (Self::Int(a) | Self::Data(a), Val::Int(b) | Val::Data(b)) => a == b,
            (Self::Str(a), Val::Str(b)) => a == b,
            (Self::Severity(a), Val::Severity(b)) => a == b,
            (Self::Severity(a), Val::Str(b)) | (Self::Str(b), Val::Severity(a)) => a.as_str() == b,
            (Self::Time(a), Val::Time(b)) => a == b,
            (Self::Span(a), Val::Span(b)) => a == b,
            (Self::Bytes(a), Val::Bytes(b)) => a == b,
            (Self::Type(a), Val::Type(b)) => a == b,
            _ => self.compared(other) == Some(Ordering::Equal),
        }
    }

    /// Steps that comparing it with another takes, as far as its own text is concerned.
    pub(super) fn text_steps(&self, other: &Val<'_>) -> usize {
        match (self, other) {
            (Self::Str(a), Val::Str(b)) => a.len().min(b.len()) / 64,
            (Self::Bytes(a), Val::Bytes(b)) => a.len().min(b.len()) / 64,
            _ => 0,
        }
    }

    /// Order where there is one.
    pub(super) fn order(&self, other: &Val<'_>) -> Option<Ordering> {
        match (self, other) {
            (Self::Int(a) | Self::Data(a), Val::Int(b) | Val::Data(b)) => Some(a.cmp(b)),
            (Self::Str(a), Val::Str(b)) => Some(a.cmp(b)),
            (Self::Bool(a), Val::Bool(b)) => Some(a.cmp(b)),
            (Self::Severity(a), Val::Severity(b)) => Some(a.cmp(b)),
            (Self::Severity(a), Val::Str(b)) => Severity::parse(b).map(|b| a.cmp(&b)),
            (Self::Time(a), Val::Time(b)) => Some(a.cmp(b)),
            (Self::Span(a), Val::Span(b)) => Some(a.cmp(b)),
            (Self::Bytes(a), Val::Bytes(b)) => Some(a.cmp(b)),
            _ => self.compared(other),
        }
    }

    /// Whether both are of one total order, so that a list of such values can be sorted.
    pub(super) fn ranks_with(&self, other: &Val<'_>) -> bool {
        let numbers = self.number().is_some() && other.number().is_some();
        self.order(other).is_some()
            && (numbers || std::mem::discriminant(self) == std::mem::discriminant(other))
    }

    /// Bytes it takes to make, for the budget.
    pub(super) fn weight(&self) -> usize {
        match self {
            Self::Str(Cow::Owned(s)) => s.len(),
            Self::Bytes(bytes) => bytes.len(),
            Self::List(items) => items.len() * 16,
            Self::Map(items) => items.len() * 32,
            _ => 0,
        }
    }
}

/// How a whole number stands beside any other; none beside what is no number.
fn beside(whole: i128, other: f64) -> Option<Ordering> {
    if other.is_nan() {
        return None;
    }
    // No whole number here comes near; and below, cutting off loses nothing but the fraction.
    if other.abs() > 1e20 {
        return Some(if other > 0.0 { Ordering::Less } else { Ordering::Greater });
    }
    let cut = other.trunc() as i128;
    Some(whole.cmp(&cut).then_with(|| 0.0.partial_cmp(&other.fract()).unwrap_or(Ordering::Equal)))
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
        "trial" => Val::Bool(alert.trial.is_some()),
        _ => return None,
    })
}
