//! Declared inputs: JSON Schema properties with defaults, checked before anything starts.
//!
//! Runbooks declare their inputs this way and connectors what their operations take.

use crate::{ResourcePath, document::Checker, expr::Type, text::nearest};
use serde_json::{Map, Value, json};
use std::sync::Arc;

/// A checked set of declarations.
#[derive(Clone, Debug)]
pub struct Inputs {
    properties: Map<String, Value>,
    validator: Arc<jsonschema::Validator>,
}

impl Inputs {
    /// Checks declarations that stand at a pointer of a document.
    pub fn check(check: &mut Checker<'_>, pointer: &str, properties: Map<String, Value>) -> Option<Self> {
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
        let validator = check.take(pointer, compile(&schema))?;
        for (name, default) in properties.iter().filter_map(|(n, s)| Some((n, s.get("default")?))) {
            if default.is_null() {
                continue;
            }
            let one = compile(&properties[name]).map(|v| v.validate(default).map_err(|e| e.to_string()));
            if let Ok(Err(wrong)) = one {
                check.fail(
                    &format!("{pointer}/{name}/default"),
                    format!("the default of `{name}` does not fit its own schema: {wrong}"),
                );
                good = false;
            }
        }
        good.then(|| Self { properties, validator: Arc::new(validator) })
    }

    /// The declarations, as JSON Schema properties.
    pub fn properties(&self) -> &Map<String, Value> {
        &self.properties
    }

    /// What expressions can know of them: these names, and the types that the schemas promise.
    pub fn as_type(&self) -> Type {
        Type::Record(Arc::new(self.properties.iter().map(|(n, s)| (n.clone(), Type::of_schema(s))).collect()))
    }

    /// Whether a value must be given: it has no default.
    pub fn is_required(&self, name: &str) -> bool {
        self.properties.get(name).is_some_and(|s| s.get("default").is_none())
    }

    /// Names that must be given but are not, and given ones that are unknown, with a hint.
    pub fn misfit(&self, given: &[String]) -> Vec<String> {
        let unknown = given.iter().filter(|g| !self.properties.contains_key(*g)).map(|g| {
            let hint = match nearest(g, self.properties.keys().map(String::as_str)) {
                Some(n) => format!("; did you mean `{n}`?"),
                None => String::new(),
            };
            format!("there is no input `{g}`{hint}")
        });
        let missing = self.properties.keys().filter(|k| self.is_required(k) && !given.contains(k));
        unknown.chain(missing.map(|m| format!("the input `{m}` is missing"))).collect()
    }

    /// Fills in defaults and checks; the complaint names the input.
    pub fn complete(&self, mut given: Map<String, Value>) -> Result<Map<String, Value>, String> {
        let names: Vec<String> = given.keys().cloned().collect();
        if let Some(wrong) = self.misfit(&names).into_iter().next() {
            return Err(wrong);
        }
        for (name, schema) in &self.properties {
            match schema.get("default") {
                Some(default) if !given.contains_key(name) && !default.is_null() => {
                    given.insert(name.clone(), default.clone());
                }
                _ => {}
            }
        }
        let whole = Value::Object(given);
        if let Some(e) = self.validator.iter_errors(&whole).next() {
            let name = e.instance_path().to_string();
            return Err(format!(
                "the input `{}` is wrong: {}",
                name.trim_start_matches('/'),
                crate::text::cut(&e.to_string(), 300)
            ));
        }
        match whole {
            Value::Object(map) => Ok(map),
            _ => Ok(Map::new()),
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
    Ok(())
}

fn object_schema(properties: &Map<String, Value>) -> Value {
    let required: Vec<&String> =
        properties.iter().filter(|(_, s)| s.get("default").is_none()).map(|(n, _)| n).collect();
    json!({ "type": "object", "properties": properties, "required": required, "additionalProperties": false })
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
