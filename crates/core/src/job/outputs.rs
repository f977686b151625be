//! What the steps of a job gave so far. It is kept with their tries, not with the progress, and
//! read from them when a node takes the job up.

use super::Place;
use serde_json::Value;
use std::collections::BTreeMap;

/// Most bytes of JSON that the outputs of a job's steps may have together.
pub const MAX_OUTPUTS: usize = 16 << 20;

/// Outputs of steps, and the lists that steps go through.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct StepOutputs {
    /// By the item that the step stands in, and its id.
    outputs: BTreeMap<String, BTreeMap<String, Value>>,
    lists: BTreeMap<Place, Vec<Value>>,
    bytes: usize,
    /// What runs before have remembered, and this one by now; null where that was not read.
    pub memory: Value,
}

impl StepOutputs {
    /// The same, where this was remembered.
    #[must_use]
    pub fn remembering(self, memory: Value) -> Self {
        Self { memory, ..self }
    }

    /// The output of a step.
    pub fn output(&mut self, place: &Place, output: Value) {
        self.bytes += size(&output);
        self.outputs
            .entry(place.lane().to_owned())
            .or_default()
            .insert(place.id().to_owned(), output);
    }

    /// The list that a step goes through.
    pub fn list(&mut self, place: &Place, items: Vec<Value>) {
        self.bytes += items.iter().map(size).sum::<usize>();
        self.lists.insert(place.clone(), items);
    }

    /// One item of the list that a step goes through.
    pub fn item(&self, place: &Place, number: usize) -> Option<&Value> {
        self.lists.get(place)?.get(number)
    }

    /// How many items a step goes through.
    pub fn items(&self, place: &Place) -> usize {
        self.lists.get(place).map_or(0, Vec::len)
    }

    /// What the steps of one item gave, or those outside of all lists.
    pub fn in_lane(&self, lane: &str) -> impl Iterator<Item = (&str, &Value)> {
        self.outputs.get(lane).into_iter().flatten().map(|(id, output)| (id.as_str(), output))
    }

    /// Whether it is more than a job may keep.
    pub fn is_too_much(&self) -> bool {
        self.bytes > MAX_OUTPUTS
    }
}

fn size(value: &Value) -> usize {
    match value {
        Value::String(text) => text.len() + 2,
        Value::Array(items) => items.iter().map(|i| size(i) + 1).sum::<usize>() + 2,
        Value::Object(map) => map.iter().map(|(k, v)| k.len() + size(v) + 4).sum::<usize>() + 2,
        Value::Null | Value::Bool(_) | Value::Number(_) => 8,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn what_is_kept_weighs_about_what_its_json_does() {
        let weights = [
            (json!(null), 8),
            (json!("four"), 6),
            (json!(["ab", 7]), 2 + 5 + 9),
            (json!({ "key": "ab", "n": [] }), 2 + (3 + 4 + 4) + (1 + 2 + 4)),
        ];
        for (value, bytes) in weights {
            assert_eq!(size(&value), bytes, "{value}");
        }
    }

    #[test]
    fn outputs_and_lists_count_together() {
        let half = || json!("x".repeat(MAX_OUTPUTS / 2 - 2));
        let mut kept = StepOutputs::default();
        kept.output(&Place::new("a"), half());
        kept.list(&Place::new("b"), vec![half()]);
        assert!(!kept.is_too_much());
        kept.output(&Place::new("c"), json!(1));
        assert!(kept.is_too_much());
    }
}
