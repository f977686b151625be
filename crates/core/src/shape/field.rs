//! What is known of one field.

use super::distinct::DistinctSketch;
use crate::text::cut;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// Most examples of a field.
const EXAMPLES: usize = 5;
/// Longest example, in bytes.
const EXAMPLE: usize = 60;
/// Longest text of which different values are counted by all of it, in bytes.
const COUNTED: usize = 256;

crate::words! {
    /// Of which type a value is.
    pub enum FieldType("type of a field") {
        /// `true` or `false`.
        Bool = "bool",
        /// A number.
        Number = "number",
        /// Text.
        Text = "text",
        /// A list.
        List = "list",
        /// Names and values.
        Map = "map",
        /// `null`.
        Null = "null",
    }
}

impl FieldType {
    /// That of a value.
    pub const fn of(value: &Value) -> Self {
        match value {
            Value::Null => Self::Null,
            Value::Bool(_) => Self::Bool,
            Value::Number(_) => Self::Number,
            Value::String(_) => Self::Text,
            Value::Array(_) => Self::List,
            Value::Object(_) => Self::Map,
        }
    }

    /// Whether it has a value of its own that can be shown.
    const fn is_scalar(self) -> bool {
        matches!(self, Self::Bool | Self::Number | Self::Text)
    }
}

/// What is known of one field of the alerts of a kind.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct FieldShape {
    /// How many of the alerts that were looked at have it.
    pub present: u64,
    /// Of which types its values are, and how many of each.
    pub types: BTreeMap<FieldType, u64>,
    /// Different values that it had, estimated.
    distinct: DistinctSketch,
    /// Values that it had of late, the latest first; longer ones are cut.
    pub examples: Vec<String>,
    /// The smallest number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub least: Option<f64>,
    /// The largest number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most: Option<f64>,
    /// When it was first seen.
    pub first: DateTime<Utc>,
    /// When it was last seen.
    pub last: DateTime<Utc>,
    /// Whether its values are not kept.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub masked: bool,
}

impl FieldShape {
    pub(super) fn new(at: DateTime<Utc>) -> Self {
        Self {
            present: 0,
            types: BTreeMap::new(),
            distinct: DistinctSketch::default(),
            examples: Vec::new(),
            least: None,
            most: None,
            first: at,
            last: at,
            masked: false,
        }
    }

    /// Different values that it had, estimated.
    pub fn distinct(&self) -> u64 {
        self.distinct.estimate()
    }

    /// Notes a value; of one that is masked its type alone.
    pub(super) fn note(&mut self, value: &Value, masked: bool) {
        let of = FieldType::of(value);
        *self.types.entry(of).or_default() += 1;
        if masked {
            self.mask();
            return;
        }
        if !of.is_scalar() || self.masked {
            return;
        }
        let written;
        let text = match value {
            Value::String(text) => text.as_str(),
            other => {
                written = other.to_string();
                &written
            }
        };
        self.distinct.add(cut(text, COUNTED).as_bytes());
        if let Some(number) = value.as_f64() {
            self.least = Some(self.least.map_or(number, |least| least.min(number)));
            self.most = Some(self.most.map_or(number, |most| most.max(number)));
        }
        self.keep_example(cut(text, EXAMPLE));
    }

    fn mask(&mut self) {
        self.masked = true;
        self.examples.clear();
        self.distinct = DistinctSketch::default();
        (self.least, self.most) = (None, None);
    }

    fn keep_example(&mut self, text: &str) {
        match self.examples.iter().position(|known| known == text) {
            Some(at) => self.examples[..=at].rotate_right(1),
            None => {
                self.examples.truncate(EXAMPLES - 1);
                self.examples.insert(0, text.to_owned());
            }
        }
    }

    /// Adds what another knows of the same field, the later of both.
    pub(super) fn merge(&mut self, later: Self) {
        self.present += later.present;
        for (of, count) in later.types {
            *self.types.entry(of).or_default() += count;
        }
        self.first = self.first.min(later.first);
        self.last = self.last.max(later.last);
        // As the source says by now: what is masked is forgotten, what is no more is kept again.
        if later.masked {
            self.mask();
            return;
        }
        self.masked = false;
        self.distinct.merge(&later.distinct);
        self.least = joined(self.least, later.least, f64::min);
        self.most = joined(self.most, later.most, f64::max);
        for example in later.examples.iter().rev() {
            self.keep_example(example);
        }
    }
}

fn joined(a: Option<f64>, b: Option<f64>, choose: fn(f64, f64) -> f64) -> Option<f64> {
    match (a, b) {
        (Some(a), Some(b)) => Some(choose(a, b)),
        (one, None) | (None, one) => one,
    }
}
