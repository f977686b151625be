//! Taking opened secrets out of whatever is recorded or shown.

use serde_json::Value;

/// Replaces secrets by a mark. Shorter ones than four characters are left: they would hide
/// half of every text and are no secrets.
#[derive(Clone, Default)]
pub struct Redactor {
    secrets: Vec<String>,
}

impl std::fmt::Debug for Redactor {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Redactor({} secrets)", self.secrets.len())
    }
}

const MARK: &str = "[secret]";

impl Redactor {
    /// Knows these secrets; the longest are looked for first.
    pub fn new(secrets: impl IntoIterator<Item = String>) -> Self {
        let mut secrets: Vec<String> = secrets.into_iter().filter(|s| s.chars().count() >= 4).collect();
        secrets.sort_by_key(|s| std::cmp::Reverse(s.len()));
        Self { secrets }
    }

    /// A text without them.
    pub fn text(&self, text: &str) -> String {
        self.secrets
            .iter()
            .fold(text.to_owned(), |t, s| if t.contains(s.as_str()) { t.replace(s.as_str(), MARK) } else { t })
    }

    /// A value without them, in keys and strings.
    pub fn value(&self, value: Value) -> Value {
        match value {
            Value::String(s) => Value::String(self.text(&s)),
            Value::Array(items) => Value::Array(items.into_iter().map(|i| self.value(i)).collect()),
            Value::Object(map) => Value::Object(map.into_iter().map(|(k, v)| (self.text(&k), self.value(v))).collect()),
            other => other,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn secrets_are_taken_out_everywhere() {
        let redactor = Redactor::new(["hunter22".into(), "hunter22-long".into(), "abc".into()]);
        let value = redactor.value(json!({"k-hunter22": ["Bearer hunter22-long", 5, "abc"]}));
        assert_eq!(value, json!({"k-[secret]": ["Bearer [secret]", 5, "abc"]}));
    }
}
