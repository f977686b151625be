//! Texts of strangers: cut to what can be shown, cleaned to what can be stored, and the known word
//! that a misspelt one most likely stands for.

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::Value;
use std::borrow::Cow;

/// All but unreserved characters are encoded (RFC 3986, section 2).
const RESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// A text as it stands in an address (RFC 3986, section 2.1): all but unreserved characters
/// encoded.
pub fn percent(text: &str) -> String {
    utf8_percent_encode(text, RESERVED).to_string()
}

/// The longest prefix of at most `max` bytes that ends between characters.
pub fn cut(text: &str, max: usize) -> &str {
    if text.len() <= max {
        return text;
    }
    let mut end = max;
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    &text[..end]
}

/// Replaces U+0000, which PostgreSQL's text and jsonb cannot hold, by U+FFFD.
pub(crate) fn clean(text: &str) -> Cow<'_, str> {
    if text.contains('\0') {
        Cow::Owned(text.replace('\0', "\u{fffd}"))
    } else {
        Cow::Borrowed(text)
    }
}

/// The path of a field of a map as an expression has it: `body.host`, `body["first host"]`.
pub(crate) fn field_path(map: &str, name: &str) -> String {
    let is_name = name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
        && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
    match (is_name, map.is_empty()) {
        (true, true) => name.to_owned(),
        (true, false) => format!("{map}.{name}"),
        (false, _) => format!("{map}[{}]", Value::from(name)),
    }
}

/// Longest [`slug`], in bytes.
const MAX_SLUG: usize = 100;

/// A text as a part of a kind or of a resource path: letters, digits, `.`, `-` and `_` of ASCII
/// stay, and whatever else is between them becomes one `-`. Of a text without any, `unnamed`.
pub(crate) fn slug(text: &str) -> String {
    let mut made = String::new();
    for c in text.chars() {
        let (last, fits) =
            (made.chars().last(), c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.'));
        match last {
            _ if made.len() >= MAX_SLUG => break,
            // Neither at the beginning nor twice.
            None | Some('-' | '.') if !fits || matches!(c, '-' | '.') => {}
            _ => made.push(if fits { c } else { '-' }),
        }
    }
    made.truncate(made.trim_end_matches(['-', '.']).len());
    if made.is_empty() { "unnamed".into() } else { made }
}

/// [`clean`] for every string and key of a document. What is clean, as nearly all is, stays as it
/// is.
pub fn clean_json(value: Value) -> Value {
    if is_clean(&value) { value } else { cleaned(value) }
}

fn is_clean(value: &Value) -> bool {
    match value {
        Value::String(s) => !s.contains('\0'),
        Value::Array(items) => items.iter().all(is_clean),
        Value::Object(map) => map.iter().all(|(k, v)| !k.contains('\0') && is_clean(v)),
        _ => true,
    }
}

fn cleaned(value: Value) -> Value {
    match value {
        Value::String(s) => Value::String(clean(&s).into_owned()),
        Value::Array(items) => Value::Array(items.into_iter().map(cleaned).collect()),
        Value::Object(map) => Value::Object(
            map.into_iter().map(|(k, v)| (clean(&k).into_owned(), cleaned(v))).collect(),
        ),
        other => other,
    }
}

/// Longest word for which a nearest one is looked for, in bytes.
const LONGEST: usize = 128;

/// What is added to a diagnostic about a word that is not known: the one that was most likely
/// meant, or nothing.
pub fn hint<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> String {
    nearest(word, known).map_or_else(String::new, |near| format!("; did you mean `{near}`?"))
}

/// The known word that a misspelt one most likely stands for.
pub fn nearest<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    if word.len() > LONGEST {
        return None;
    }
    let allowed = (word.chars().count() / 3).max(1);
    known
        .into_iter()
        .map(|k| (strsim::damerau_levenshtein(&word.to_lowercase(), &k.to_lowercase()), k))
        .filter(|(d, _)| *d <= allowed)
        .min_by_key(|(d, _)| *d)
        .map(|(_, k)| k)
}
