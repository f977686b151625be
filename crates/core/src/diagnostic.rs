//! What serde says against a value, taken apart and put into words of the trade.

use crate::text::{cut, nearest};

/// What serde says, taken apart.
pub(crate) enum Diagnostic {
    /// A key that means nothing, and those that do.
    UnknownKey(String, Vec<String>),
    /// A word that means nothing, and those that do.
    UnknownWord(String, Vec<String>),
    /// A key that is missing.
    Missing(String),
    /// Anything else, in words.
    Other(String),
}

impl Diagnostic {
    /// By serde's message.
    pub fn parse(message: &str) -> Self {
        let quoted = |rest: &str| {
            let mut names = rest.split('`').skip(1).step_by(2).map(str::to_owned);
            names.next().map(|name| (name, names.collect()))
        };
        if let Some((name, known)) = message.strip_prefix("unknown field ").and_then(quoted) {
            return Self::UnknownKey(name, known);
        }
        if let Some((name, known)) = message.strip_prefix("unknown variant ").and_then(quoted) {
            return Self::UnknownWord(name, known);
        }
        if let Some((name, _)) = message
            .strip_prefix("missing field ")
            .and_then(|r| quoted(r) as Option<(String, Vec<String>)>)
        {
            return Self::Missing(name);
        }
        let typed = message
            .strip_prefix("invalid type: ")
            .or_else(|| message.strip_prefix("invalid value: "));
        match typed.and_then(|t| t.rsplit_once(", expected ")) {
            Some((found, wanted)) => {
                Self::Other(format!("is {}; {} was expected", is(found), was_expected(wanted)))
            }
            None => Self::Other(message.to_owned()),
        }
    }
}

/// What stands there, in words of the trade.
fn is(found: &str) -> String {
    let quoted = |text: &str| format!("`{}`", cut(text.trim_matches(['"', '`']), 60));
    match found.split_once(' ') {
        Some(("string", text)) => format!("the text {}", quoted(text)),
        Some(("integer" | "boolean", value)) => quoted(value),
        Some(("floating", rest)) => quoted(rest.trim_start_matches("point ")),
        _ => match found {
            "null" | "unit value" | "Option value" => "empty".to_owned(),
            "sequence" => "a list".to_owned(),
            "map" => "a map".to_owned(),
            other => other.to_owned(),
        },
    }
}

/// What belongs there, in words of the trade.
fn was_expected(wanted: &str) -> String {
    match wanted {
        "f64" | "f32" => "a number".to_owned(),
        "u8" | "u16" | "u32" | "u64" | "usize" => "a whole number that is not negative".to_owned(),
        "i8" | "i16" | "i32" | "i64" => "a whole number".to_owned(),
        "a boolean" => "true or false".to_owned(),
        "a string" | "a borrowed string" => "a text".to_owned(),
        "a sequence" => "a list".to_owned(),
        "a map" => "a map of keys and values".to_owned(),
        "string or map" | "unit variant" | "variant identifier" => "one word".to_owned(),
        other if other.starts_with("struct ") => "a map of keys and values".to_owned(),
        other => other.to_owned(),
    }
}

/// What may have been meant.
pub(crate) fn hint(word: &str, known: &[String]) -> String {
    match nearest(word, known.iter().map(String::as_str)) {
        Some(n) => format!("did you mean `{n}`?"),
        None => format!("known here: {}", known.join(", ")),
    }
}
