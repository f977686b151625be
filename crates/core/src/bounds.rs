//! How deep and how large a value of JSON may be, wherever one enters: payloads, answers of
//! outside systems, what expressions make.
//!
//! The depth is held well below the 128 levels at which readers of JSON give up, since what is
//! stored is wrapped in a few levels more. Nothing here recurses deeper than [`MAX_DEPTH`].

use serde_json::Value;

/// Deepest nesting of lists and maps.
pub const MAX_DEPTH: usize = 64;

/// Whether lists and maps are nested deeper than [`MAX_DEPTH`].
pub fn too_deep(value: &Value) -> bool {
    deeper(value, MAX_DEPTH)
}

/// What is said of a value that is [`too_deep`].
pub fn depth_diagnostic() -> String {
    format!("is nested deeper than {MAX_DEPTH} levels")
}

fn deeper(value: &Value, left: usize) -> bool {
    match value {
        Value::Array(items) => left == 0 || items.iter().any(|item| deeper(item, left - 1)),
        Value::Object(map) => left == 0 || map.values().any(|item| deeper(item, left - 1)),
        _ => false,
    }
}

/// About how many bytes a value takes in memory; counting stops a little above `most`.
pub fn weight(value: &Value, most: usize) -> usize {
    let mut all = size_of::<Value>();
    let mut add = |key: usize, item: &Value| {
        if all <= most {
            all += key + weight(item, most - all);
        }
    };
    match value {
        Value::Array(items) => items.iter().for_each(|item| add(0, item)),
        Value::Object(map) => map.iter().for_each(|(key, item)| add(key.len(), item)),
        Value::String(text) => all += text.len(),
        _ => {}
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    fn nested(levels: usize) -> Value {
        (0..levels).fold(Value::Null, |inner, i| {
            if i % 2 == 0 { Value::Array(vec![inner]) } else { serde_json::json!({ "a": inner }) }
        })
    }

    #[test]
    fn sixty_four_levels_are_allowed_and_no_more() {
        assert!(!too_deep(&Value::Null));
        assert!(!too_deep(&nested(64)));
        assert!(too_deep(&nested(65)));
    }
}
