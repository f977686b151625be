//! What a source sends of one kind: which fields its alerts have, how often, of which types, and
//! with which values; in bounded memory, and so that what several nodes saw can be joined.
//!
//! Rules are checked against it ([`crate::catalog`]), a mapping is suggested from it
//! ([`crate::source`]), and people look at it before they write either.

mod distinct;
mod field;

pub use field::{FieldShape, FieldType};

use crate::{
    Alert, Severity,
    text::{cut, field_path},
};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// Most fields of a kind.
pub const MAX_FIELDS: usize = 200;
/// Most fields of one map; further ones are counted together as `*`.
const MAX_SIBLINGS: usize = 60;
/// Deepest field.
const MAX_DEPTH: usize = 8;
/// Most elements of a list that are looked at.
const MAX_ELEMENTS: usize = 20;
/// Most values of one alert that are looked at.
const MAX_VALUES: usize = 1_000;
/// Longest name of a field, in bytes.
const MAX_NAME: usize = 100;
/// The name of the fields of a map that has too many.
const ANY: &str = "*";
/// Alerts that are looked at in any case, and every how many of those that follow.
const ALL_OF_FIRST: u64 = 200;
const THEN_EVERY: u64 = 16;

/// Parts of paths whose values are never kept.
const SECRET: [&str; 9] = [
    "passwd",
    "password",
    "secret",
    "token",
    "credential",
    "authorization",
    "api_key",
    "apikey",
    "private_key",
];

/// What came of one kind of a source.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Shape {
    /// How many came.
    pub count: u64,
    /// How many of them were looked at; `present` of its fields is out of these.
    pub profiled: u64,
    /// When the first came.
    pub first: DateTime<Utc>,
    /// When the last came.
    pub last: DateTime<Utc>,
    /// How many came of each severity.
    pub severities: BTreeMap<Severity, u64>,
    /// The fields, by their paths as an expression over an alert has them, such as
    /// `body.disk.name`; `[]` stands for any element of a list.
    pub fields: BTreeMap<String, FieldShape>,
    /// Whether it has more fields than are kept.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub has_more: bool,
}

/// Fields whose values are not kept, by their paths: each with all below it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Masks(Vec<String>);

impl Masks {
    /// Those with these paths.
    pub fn new(paths: Vec<String>) -> Self {
        Self(paths)
    }

    fn hides(&self, path: &str) -> bool {
        let own = |mask: &String| {
            let below = path.strip_prefix(mask.as_str());
            below.is_some_and(|rest| rest.is_empty() || rest.starts_with(['.', '[']))
        };
        let plain = path.to_ascii_lowercase().replace('-', "_");
        SECRET.iter().any(|part| plain.contains(part)) || self.0.iter().any(own)
    }
}

impl Shape {
    /// Nothing came yet.
    pub const fn new(at: DateTime<Utc>) -> Self {
        Self {
            count: 0,
            profiled: 0,
            first: at,
            last: at,
            severities: BTreeMap::new(),
            fields: BTreeMap::new(),
            has_more: false,
        }
    }

    /// Notes an alert. Of many only some are looked at.
    pub fn note_alert(&mut self, alert: &Alert, masks: &Masks) {
        *self.severities.entry(alert.severity).or_default() += 1;
        let Some(mut look) = self.begin(alert.received, masks) else { return };
        if !alert.summary.is_empty() {
            look.scalar("summary", &Value::String(alert.summary.clone()));
        }
        if let Some(value) = alert.value {
            look.scalar("value", &value.into());
        }
        look.scalar("resource", &Value::String(alert.resource.as_str().to_owned()));
        for (name, value) in &alert.labels {
            look.named("labels", name, &Value::String(value.clone()), 1);
        }
        look.value("body", &alert.body, 1);
    }

    /// Counts a payload that is not looked at.
    pub fn count_payload(&mut self, at: DateTime<Utc>) {
        self.count += 1;
        self.first = self.first.min(at);
        self.last = self.last.max(at);
    }

    /// Notes a payload of which no alert could be made.
    pub fn note_payload(&mut self, payload: &Value, at: DateTime<Utc>, masks: &Masks) {
        if let Some(mut look) = self.begin(at, masks) {
            look.value("body", payload, 1);
        }
    }

    fn begin<'s>(&'s mut self, at: DateTime<Utc>, masks: &'s Masks) -> Option<Look<'s>> {
        self.count_payload(at);
        if !self.looks_at(self.count) {
            return None;
        }
        self.profiled += 1;
        Some(Look { shape: self, at, masks, left: MAX_VALUES, seen: BTreeSet::new() })
    }

    /// Whether the one that comes next is looked at, and not only counted.
    pub const fn looks_at_next(&self) -> bool {
        self.looks_at(self.count + 1)
    }

    const fn looks_at(&self, number: u64) -> bool {
        self.profiled < ALL_OF_FIRST || number.is_multiple_of(THEN_EVERY)
    }

    /// Adds what came later, or at another node.
    pub fn merge(&mut self, later: Self) {
        self.count += later.count;
        self.profiled += later.profiled;
        self.first = self.first.min(later.first);
        self.last = self.last.max(later.last);
        self.has_more |= later.has_more;
        for (severity, count) in later.severities {
            *self.severities.entry(severity).or_default() += count;
        }
        for (path, field) in later.fields {
            if let Some(known) = self.fields.get_mut(&path) {
                known.merge(field);
            } else if self.fields.len() < MAX_FIELDS {
                self.fields.insert(path, field);
            } else {
                self.has_more = true;
            }
        }
    }

    /// In what share of its alerts a field is there, from 0 to 1.
    pub fn share(&self, field: &FieldShape) -> f64 {
        field.present as f64 / self.profiled.max(1) as f64
    }

    /// The mean time between two, in seconds.
    pub fn every_seconds(&self) -> Option<f64> {
        let gaps = self.count.checked_sub(1).filter(|gaps| *gaps > 0)?;
        Some((self.last - self.first).as_seconds_f64() / gaps as f64)
    }
}

/// A look at one alert.
struct Look<'s> {
    shape: &'s mut Shape,
    at: DateTime<Utc>,
    masks: &'s Masks,
    /// How many more values are looked at.
    left: usize,
    /// Fields of this alert that were counted already, of lists.
    seen: BTreeSet<String>,
}

impl Look<'_> {
    fn scalar(&mut self, path: &str, value: &Value) {
        self.note(path, value);
    }

    /// A value with everything below it; `path` is its own.
    fn value(&mut self, path: &str, value: &Value, depth: usize) {
        self.left = self.left.saturating_sub(1);
        if depth > 1 {
            self.note(path, value);
        }
        if depth >= MAX_DEPTH {
            return;
        }
        match value {
            Value::Object(map) => {
                for (name, value) in map {
                    if self.left == 0 {
                        self.shape.has_more = true;
                        return;
                    }
                    self.named(path, name, value, depth);
                }
            }
            Value::Array(items) => {
                let element = format!("{path}[]");
                for item in items.iter().take(MAX_ELEMENTS) {
                    if self.left == 0 {
                        return;
                    }
                    self.value(&element, item, depth + 1);
                }
            }
            _ if depth == 1 => self.note(path, value),
            _ => {}
        }
    }

    /// A field of a map.
    fn named(&mut self, map: &str, name: &str, value: &Value, depth: usize) {
        let path = field_path(map, cut(name, MAX_NAME));
        let path = match self.shape.fields.contains_key(&path) || self.siblings(map) < MAX_SIBLINGS
        {
            true => path,
            false => format!("{map}.{ANY}"),
        };
        self.value(&path, value, depth + 1);
    }

    fn siblings(&self, map: &str) -> usize {
        let is_direct = |rest: &str| match rest.strip_prefix('.') {
            Some(name) => !name.contains(['.', '[']),
            None => rest.starts_with("[\"") && rest.ends_with("\"]"),
        };
        let below = self.shape.fields.range(map.to_owned()..);
        let below = below.map_while(|(path, _)| path.strip_prefix(map));
        below.filter(|rest| is_direct(rest)).count()
    }

    fn note(&mut self, path: &str, value: &Value) {
        if !self.shape.fields.contains_key(path) {
            if self.shape.fields.len() >= MAX_FIELDS {
                self.shape.has_more = true;
                return;
            }
            self.shape.fields.insert(path.to_owned(), FieldShape::new(self.at));
        }
        let Some(field) = self.shape.fields.get_mut(path) else { return };
        let repeats = path.contains("[]") || path.contains(".*");
        let is_first = !repeats || self.seen.insert(path.to_owned());
        field.present += u64::from(is_first);
        field.last = field.last.max(self.at);
        field.note(value, self.masks.hides(path));
    }
}

#[cfg(test)]
mod tests;
