//! Values as people write YAML: on one line, without quotes where that is safe. Whatever is written
//! is read back as the same value.

use crate::Period;
use serde_json::Value;

/// A value on one line, as people write YAML: names without quotes where that is safe.
pub fn flow(value: &Value) -> String {
    match value {
        Value::Object(map) if map.is_empty() => "{}".into(),
        Value::Object(map) => {
            let fields: Vec<String> =
                map.iter().map(|(k, v)| format!("{}: {}", word(k), flow(v))).collect();
            format!("{{ {} }}", fields.join(", "))
        }
        Value::Array(items) => {
            format!("[{}]", items.iter().map(flow).collect::<Vec<_>>().join(", "))
        }
        Value::String(text) => word(text),
        other => other.to_string(),
    }
}

/// A string, quoted unless it can be taken for nothing else.
pub fn word(text: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '/');
    let first = text.chars().next().is_some_and(|c| c.is_ascii_alphabetic());
    let taken =
        ["true", "false", "null", "yes", "no", "on", "off"].contains(&text.to_lowercase().as_str());
    // Lengths of time are read as strings however they are written.
    let period = text.chars().all(|c| c.is_ascii_alphanumeric()) && Period::parse(text).is_ok();
    if (first && !taken && text.chars().all(plain)) || period {
        text.to_owned()
    } else {
        Value::from(text).to_string()
    }
}
