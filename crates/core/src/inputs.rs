//! Declared inputs: JSON Schema properties with defaults, checked before anything starts.
//!
//! Runbooks declare their inputs this way and connectors what their operations take.

use crate::{
    ResourcePath,
    definition::{Fault, Mismatch},
    document::Checker,
    expr::{Template, Type},
    text::{hint, nearest},
};
use serde_json::{Map, Value, json};
use std::{collections::BTreeMap, sync::Arc};

/// A checked set of declarations.
#[derive(Clone, Debug)]
pub struct Inputs {
    properties: Map<String, Value>,
    validator: Arc<jsonschema::Validator>,
    /// One for each input by itself.
    each: Arc<BTreeMap<String, jsonschema::Validator>>,
}

impl Inputs {
    /// Checks declarations that stand at a pointer of a document.
    pub fn check(
        check: &mut Checker<'_>,
        pointer: &str,
        properties: Map<String, Value>,
    ) -> Option<Self> {
        let mut good = true;
        for (name, schema) in &properties {
            let at = format!("{pointer}/{name}");
            if let Err(wrong) = declared(name, schema) {
                check.fail(&at, wrong);
                good = false;
            }
        }
        if !good {
            return None;
        }
        let schema = object_schema(&properties);
        let validator = check.accept(pointer, compile(&schema))?;
        let each: BTreeMap<String, jsonschema::Validator> = properties
            .iter()
            .filter_map(|(name, schema)| Some((name.clone(), compile(schema).ok()?)))
            .collect();
        for (name, default) in properties.iter().filter_map(|(n, s)| Some((n, s.get("default")?))) {
            let wrong = each
                .get(name)
                .filter(|_| !default.is_null())
                .and_then(|v| v.validate(default).err());
            if let Some(wrong) = wrong {
                check.fail(
                    &format!("{pointer}/{name}/default"),
                    format!("the default of `{name}` does not fit its own schema: {wrong}"),
                );
                good = false;
            }
        }
        good.then(|| Self { properties, validator: Arc::new(validator), each: Arc::new(each) })
    }

    /// The declarations, as JSON Schema properties.
    pub fn properties(&self) -> &Map<String, Value> {
        &self.properties
    }

    /// What expressions can know of them: these names, and the types that the schemas promise.
    pub fn as_type(&self) -> Type {
        Type::Record(Arc::new(
            self.properties.iter().map(|(n, s)| (n.clone(), Type::of_schema(s))).collect(),
        ))
    }

    /// Values that stand for real ones where there are none: what the schemas name as examples,
    /// else the plainest that is of their types.
    pub fn sample(&self) -> Value {
        let one = |(name, schema): (&String, &Value)| (name.clone(), sample(schema, 0));
        Value::Object(self.properties.iter().map(one).collect())
    }

    /// Whether a value must be given: it has no default.
    pub fn is_required(&self, name: &str) -> bool {
        self.properties.get(name).is_some_and(|s| s.get("default").is_none())
    }

    /// Names that must be given but are not, and given ones that are unknown.
    pub fn misfit(&self, given: &[String]) -> Vec<InputsError> {
        let unknown = given.iter().filter(|g| !self.properties.contains_key(*g)).map(|g| {
            InputsError::Unknown {
                name: g.clone(),
                near: nearest(g, self.properties.keys().map(String::as_str)).map(str::to_owned),
            }
        });
        let missing = self.properties.keys().filter(|k| self.is_required(k) && !given.contains(k));
        unknown.chain(missing.map(|m| InputsError::Missing(m.clone()))).collect()
    }

    /// What does not fit of what is given at a place: names, and values that are written out.
    pub fn misfits(
        &self,
        place: &str,
        whose: &str,
        names: &[String],
        given: &Template,
    ) -> Vec<Mismatch> {
        let unfit = |at: String, error: InputsError| {
            Mismatch::at(at, Fault::Unfit(format!("{whose}: {error}")))
        };
        let named = self.misfit(names).into_iter().map(|error| unfit(place.to_owned(), error));
        let valued = given.written_out().into_iter().filter_map(|(name, value)| {
            let error = self.each.get(name)?.validate(&value).err()?;
            Some(unfit(format!("{place}/{name}"), InputsError::wrong(name, &error)))
        });
        named.chain(valued).collect()
    }

    /// Fills in defaults.
    pub fn with_defaults(&self, mut given: Map<String, Value>) -> Map<String, Value> {
        for (name, schema) in &self.properties {
            match schema.get("default") {
                Some(default) if !given.contains_key(name) && !default.is_null() => {
                    given.insert(name.clone(), default.clone());
                }
                _ => {}
            }
        }
        given
    }

    /// Fills in defaults and checks.
    ///
    /// # Errors
    /// The first input that does not fit.
    pub fn complete(&self, given: Map<String, Value>) -> Result<Map<String, Value>, InputsError> {
        let names: Vec<String> = given.keys().cloned().collect();
        if let Some(error) = self.misfit(&names).into_iter().next() {
            return Err(error);
        }
        let whole = Value::Object(self.with_defaults(given));
        if let Some(e) = self.validator.iter_errors(&whole).next() {
            let name = e.instance_path().to_string();
            return Err(InputsError::wrong(name.trim_start_matches('/'), &e));
        }
        match whole {
            Value::Object(map) => Ok(map),
            _ => Ok(Map::new()),
        }
    }
}

/// What does not fit of what is given.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum InputsError {
    /// There is no such input.
    #[error("there is no input `{name}`{}", .near.as_ref().map_or_else(String::new, |n| format!("; \
        did you mean `{n}`?")))]
    Unknown {
        /// The name that was given.
        name: String,
        /// What may have been meant.
        near: Option<String>,
    },
    /// It must be given.
    #[error("the input `{0}` is missing")]
    Missing(String),
    /// Its schema does not take the value.
    #[error("the input `{name}` is wrong: {reason}")]
    Wrong {
        /// Its name.
        name: String,
        /// What the schema says.
        reason: String,
    },
}

impl InputsError {
    fn wrong(name: &str, error: &jsonschema::ValidationError<'_>) -> Self {
        Self::Wrong {
            name: name.to_owned(),
            reason: crate::text::cut(&error.to_string(), 300).to_owned(),
        }
    }
}

fn declared(name: &str, schema: &Value) -> Result<(), String> {
    let plain = |c: char| c.is_ascii_alphanumeric() || c == '_';
    if name.is_empty() || !name.chars().all(plain) {
        return Err(format!("`{name}` cannot be the name of an input; use letters, digits and _"));
    }
    let Some(schema) = schema.as_object() else {
        return Err(format!("`{name}` must be a JSON Schema such as {{ type: string }}"));
    };
    if schema.contains_key("$ref") || schema.contains_key("$dynamicRef") {
        return Err(format!("`{name}` refers to another schema; write it out here"));
    }
    words(schema)
}

/// How deep within each other values are made up.
const DEEPEST_SAMPLE: usize = 8;

fn sample(schema: &Value, depth: usize) -> Value {
    let first = |of: &str| schema.get(of)?.as_array()?.first().cloned();
    let named = first("examples")
        .or_else(|| schema.get("const").cloned())
        .or_else(|| schema.get("default").filter(|default| !default.is_null()).cloned())
        .or_else(|| first("enum"));
    if let Some(named) = named.filter(|_| depth <= DEEPEST_SAMPLE) {
        return named;
    }
    let of_type = match schema.get("type") {
        Some(Value::Array(types)) => types.first().and_then(Value::as_str),
        one => one.and_then(Value::as_str),
    };
    match of_type {
        Some("integer" | "number") => schema.get("minimum").cloned().unwrap_or_else(|| 0.into()),
        Some("boolean") => true.into(),
        Some("string") => "(made up)".into(),
        Some("array") => Value::Array(Vec::new()),
        Some("object") if depth < DEEPEST_SAMPLE => {
            let properties = schema.get("properties").and_then(Value::as_object);
            let one = |(name, schema): (&String, &Value)| (name.clone(), sample(schema, depth + 1));
            Value::Object(properties.into_iter().flatten().map(one).collect())
        }
        Some("object") => Value::Object(Map::new()),
        _ => Value::Null,
    }
}

/// The words of JSON Schema (draft 2020-12) that have a meaning here.
const WORDS: [&str; 43] = [
    "type",
    "enum",
    "const",
    "title",
    "description",
    "default",
    "examples",
    "format",
    "deprecated",
    "readOnly",
    "writeOnly",
    "minimum",
    "maximum",
    "exclusiveMinimum",
    "exclusiveMaximum",
    "multipleOf",
    "minLength",
    "maxLength",
    "pattern",
    "items",
    "prefixItems",
    "minItems",
    "maxItems",
    "uniqueItems",
    "contains",
    "minContains",
    "maxContains",
    "properties",
    "patternProperties",
    "additionalProperties",
    "propertyNames",
    "required",
    "dependentRequired",
    "minProperties",
    "maxProperties",
    "allOf",
    "anyOf",
    "oneOf",
    "not",
    "if",
    "then",
    "else",
    "$comment",
];

/// A word that is none would be passed over, and what it should have kept out would come in.
fn words(schema: &Map<String, Value>) -> Result<(), String> {
    for (word, value) in schema {
        if !WORDS.contains(&word.as_str()) {
            return Err(format!("`{word}` is no word of JSON Schema{}", hint(word, WORDS)));
        }
        match (word.as_str(), value) {
            (
                "items" | "not" | "contains" | "additionalProperties" | "if" | "then" | "else",
                Value::Object(inner),
            ) => {
                words(inner)?;
            }
            ("properties" | "patternProperties", Value::Object(named)) => {
                named.values().filter_map(Value::as_object).try_for_each(words)?;
            }
            ("allOf" | "anyOf" | "oneOf" | "prefixItems", Value::Array(all)) => {
                all.iter().filter_map(Value::as_object).try_for_each(words)?;
            }
            _ => {}
        }
    }
    Ok(())
}

fn object_schema(properties: &Map<String, Value>) -> Value {
    let required: Vec<&String> =
        properties.iter().filter(|(_, s)| s.get("default").is_none()).map(|(n, _)| n).collect();
    json!({ "type": "object", "properties": properties, "required": required,
        "additionalProperties": false })
}

/// Patterns run on an engine of linear time; `format: resource` is ours.
fn compile(schema: &Value) -> Result<jsonschema::Validator, String> {
    jsonschema::draft202012::options()
        .with_pattern_options(jsonschema::PatternOptions::regex())
        .should_validate_formats(true)
        .with_format("resource", |text: &str| ResourcePath::parse(text).is_ok())
        .build(schema)
        .map_err(|e| format!("is not a JSON Schema (draft 2020-12): {e}"))
}
