//! Schemas of a description brought into ours: references written out, words of OpenAPI 3.0 said as
//! JSON Schema says them, the rest left out. Where a schema leads back to itself, or too deep,
//! anything goes.

use super::description::Description;
use serde_json::{Map, Value, json};

/// Levels that are written out of what is given, and of what comes back.
const DEEP: usize = 6;
const SHALLOW: usize = 4;
/// Values that one schema may become.
const MOST: usize = 400;
/// Longest description that is kept.
const LONGEST: usize = 160;

/// Whose schema it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Side {
    /// What is sent: all that the description demands of it.
    Given,
    /// What comes back: what expressions need to know of it.
    Got,
}

/// Words that are taken over as they are.
const PLAIN: [&str; 16] = [
    "enum",
    "const",
    "default",
    "minimum",
    "maximum",
    "multipleOf",
    "minLength",
    "maxLength",
    "minItems",
    "maxItems",
    "uniqueItems",
    "minProperties",
    "maxProperties",
    "exclusiveMinimum",
    "exclusiveMaximum",
    "required",
];

struct Writer<'d> {
    description: &'d Description,
    side: Side,
    /// References that are being written out.
    within: Vec<String>,
    made: usize,
    /// What of it was left out.
    notes: Vec<String>,
}

/// A schema as ours, and what of it was left out.
pub(super) fn written_out(
    description: &Description,
    schema: &Value,
    side: Side,
) -> (Value, Vec<String>) {
    let mut writer = Writer { description, side, within: Vec::new(), made: 0, notes: Vec::new() };
    let made = writer.schema(schema, if side == Side::Given { DEEP } else { SHALLOW });
    (made, writer.notes)
}

/// A text on one line, cut.
pub(super) fn one_line(text: &str) -> String {
    crate::text::cut(&text.split_whitespace().collect::<Vec<_>>().join(" "), LONGEST).to_owned()
}

impl Writer<'_> {
    fn schema(&mut self, schema: &Value, levels: usize) -> Value {
        self.made += 1;
        if let Some(reference) = schema.get("$ref").and_then(Value::as_str) {
            return self.referred(reference, levels);
        }
        let Some(of) = schema.as_object() else { return json!({}) };
        if levels == 0 || self.made > MOST || !self.description.spend() {
            return json!({});
        }
        let mut made = Map::new();
        self.types(of, &mut made);
        self.words(of, &mut made);
        self.within(of, levels - 1, &mut made);
        if let Some(all) = of.get("allOf").and_then(Value::as_array) {
            for one in all {
                let one = self.schema(one, levels);
                merge(&mut made, one);
            }
        }
        if self.side == Side::Given {
            for word in ["anyOf", "oneOf"] {
                let Some(all) = of.get(word).and_then(Value::as_array) else { continue };
                // Of several the first fits may not be the only one: any is enough, the other side
                // is the judge.
                let all: Vec<Value> = all.iter().map(|one| self.schema(one, levels - 1)).collect();
                made.insert("anyOf".into(), all.into());
            }
        }
        Value::Object(made)
    }

    fn referred(&mut self, reference: &str, levels: usize) -> Value {
        if self.within.iter().any(|one| one == reference) {
            return json!({});
        }
        let description = self.description;
        let Some(found) = description.at(reference) else { return json!({}) };
        self.within.push(reference.to_owned());
        let made = self.schema(found, levels);
        self.within.pop();
        made
    }

    /// The type; `nullable` is OpenAPI 3.0's way to say that null is one.
    fn types(&self, of: &Map<String, Value>, made: &mut Map<String, Value>) {
        let known = |t: &Value| {
            ["string", "number", "integer", "boolean", "array", "object", "null"]
                .contains(&t.as_str().unwrap_or_default())
        };
        let nullable = of.get("nullable") == Some(&Value::Bool(true));
        match of.get("type") {
            Some(one @ Value::String(_)) if known(one) && nullable => {
                made.insert("type".into(), json!([one, "null"]));
            }
            Some(one @ Value::String(_)) if known(one) => {
                drop(made.insert("type".into(), one.clone()))
            }
            Some(Value::Array(all)) if all.iter().all(known) => {
                // What is one type or null is for expressions that type.
                let real: Vec<&Value> = all.iter().filter(|t| *t != "null").collect();
                match (self.side, real.as_slice()) {
                    (Side::Got, [one]) => drop(made.insert("type".into(), (*one).clone())),
                    _ => drop(made.insert("type".into(), all.clone().into())),
                }
            }
            _ if of.contains_key("properties") => drop(made.insert("type".into(), "object".into())),
            _ => {}
        }
    }

    fn words(&mut self, of: &Map<String, Value>, made: &mut Map<String, Value>) {
        if self.side == Side::Got {
            return;
        }
        if let Some(said) =
            of.get("description").and_then(Value::as_str).filter(|said| !said.trim().is_empty())
        {
            made.insert("description".into(), one_line(said).into());
        }
        for word in PLAIN {
            made.extend(of.get(word).map(|value| (word.to_owned(), value.clone())));
        }
        // In OpenAPI 3.0 these two say whether the limit itself is out.
        for (exclusive, limit) in [("exclusiveMinimum", "minimum"), ("exclusiveMaximum", "maximum")]
        {
            if let Some(Value::Bool(is)) = made.get(exclusive).cloned() {
                made.remove(exclusive);
                if let Some(limit) = made.remove(limit).filter(|_| is) {
                    made.insert(exclusive.into(), limit);
                } else {
                    made.extend(of.get(limit).map(|value| (limit.to_owned(), value.clone())));
                }
            }
        }
        match of.get("pattern").and_then(Value::as_str) {
            Some(pattern) if regex::Regex::new(pattern).is_ok() => {
                drop(made.insert("pattern".into(), pattern.into()))
            }
            Some(pattern) => {
                self.notes.push(format!(
                    "the pattern `{}`, which cannot be matched in linear time",
                    one_line(pattern)
                ));
            }
            None => {}
        }
        if let Some(format @ ("date" | "date-time" | "uuid" | "uri" | "email" | "ipv4" | "ipv6")) =
            of.get("format").and_then(Value::as_str)
        {
            made.insert("format".into(), format.into());
        }
    }

    /// What stands within it: properties of this side, items.
    fn within(&mut self, of: &Map<String, Value>, levels: usize, made: &mut Map<String, Value>) {
        let other = if self.side == Side::Given { "readOnly" } else { "writeOnly" };
        let description = self.description;
        if let Some(properties) = of.get("properties").and_then(Value::as_object) {
            let mine = |schema: &&Value| description.resolved(schema)[other] != Value::Bool(true);
            let kept: Map<String, Value> = properties
                .iter()
                .filter(|(_, schema)| mine(schema))
                .map(|(name, schema)| (name.clone(), self.schema(schema, levels)))
                .collect();
            if let Some(Value::Array(required)) = made.get_mut("required") {
                required.retain(|name| name.as_str().is_some_and(|name| kept.contains_key(name)));
            }
            made.insert("properties".into(), kept.into());
        }
        if let Some(items) = of.get("items").filter(|items| items.is_object()) {
            let items = self.schema(items, levels);
            made.insert("items".into(), items);
        }
        if let (Side::Given, Some(more)) = (self.side, of.get("additionalProperties")) {
            let more = if more.is_object() { self.schema(more, levels) } else { more.clone() };
            if more != json!(true) && more != json!({}) {
                made.insert("additionalProperties".into(), more);
            }
        }
    }
}

/// What both demand: the properties and the required names of both, of other words the later.
fn merge(made: &mut Map<String, Value>, other: Value) {
    let Value::Object(other) = other else { return };
    for (word, value) in other {
        match (made.get_mut(&word), value) {
            (Some(Value::Object(mine)), Value::Object(more)) if word == "properties" => {
                mine.extend(more)
            }
            (Some(Value::Array(mine)), Value::Array(more)) if word == "required" => {
                for one in more {
                    if !mine.contains(&one) {
                        mine.push(one);
                    }
                }
            }
            (_, value) => drop(made.insert(word, value)),
        }
    }
}
