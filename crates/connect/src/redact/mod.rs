//! Hiding secrets where something is shown, logged, exported or recorded as text for people.
//!
//! Data is never touched by it: what steps and rules work with stays as it came. A [`Redactor`]
//! knows the secrets and finds them in all their [`spellings`], also below the escapes of the text
//! around them ([`views`]): percent-encoding, HTML and JSON escapes, base64 alone or within
//! `Basic`, hexadecimal. What is cut is hidden first; where somebody else has cut, most of a secret
//! is found as well. Sealed links of ours are hidden by their form, whoever made them.

mod spellings;
mod views;

use aho_corasick::{AhoCorasick, AhoCorasickKind, MatchKind};
use serde_json::Value;
use spellings::{Finds, Pattern};
use std::{borrow::Cow, ops::Range, sync::Arc};
use views::View;

pub(crate) use spellings::LINK_PREFIX as SEALED_LINK;
pub use spellings::{SHORTEST_SECRET, Weak, weakness};

/// What stands in the place of a secret.
pub const SECRET_MARK: &str = "[secret]";
/// What stands in the place of a sealed link.
const LINK_MARK: &str = "[link]";

/// Knows secrets, and hides them.
#[derive(Clone)]
pub struct Redactor(Arc<SecretIndex>);

struct SecretIndex {
    secrets: Vec<String>,
    patterns: Vec<Pattern>,
    automaton: Option<AhoCorasick>,
}

impl std::fmt::Debug for Redactor {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Redactor({} secrets)", self.0.secrets.len())
    }
}

impl Default for Redactor {
    fn default() -> Self {
        Self::new([])
    }
}

/// A stretch of a text that is hidden, and by which mark.
struct Hit {
    range: Range<usize>,
    mark: &'static str,
}

impl Redactor {
    /// Knows these secrets. Those that are too short or common words are not looked for: they would
    /// hide half of every text ([`weakness`] tells which).
    pub fn new(secrets: impl IntoIterator<Item = String>) -> Self {
        let mut secrets: Vec<String> =
            secrets.into_iter().filter(|s| weakness(s).is_none()).collect();
        secrets.sort();
        secrets.dedup();
        let patterns: Vec<Pattern> = secrets.iter().flat_map(|s| spellings::of_secret(s)).collect();
        let heads = secrets.iter().enumerate().map(|(n, s)| spellings::head(n, s));
        let patterns: Vec<Pattern> =
            patterns.into_iter().chain(spellings::of_links()).chain(heads).collect();
        // All are looked for at every place, those as well that are parts of each other.
        let built = AhoCorasick::builder()
            .match_kind(MatchKind::Standard)
            .kind(Some(AhoCorasickKind::ContiguousNFA))
            .build(patterns.iter().map(|p| p.bytes.as_slice()));
        Self(Arc::new(SecretIndex { secrets, patterns, automaton: built.ok() }))
    }

    /// A text without them.
    pub fn text(&self, text: &str) -> String {
        self.hidden(text).into_owned()
    }

    /// A text without them; borrowed if there is nothing to hide.
    pub fn hidden<'t>(&self, text: &'t str) -> Cow<'t, str> {
        let hits = self.hits(text);
        if hits.is_empty() {
            return Cow::Borrowed(text);
        }
        let mut shown = String::with_capacity(text.len());
        let mut at = 0;
        for Hit { range, mark } in hits {
            shown.push_str(&text[at..range.start]);
            shown.push_str(mark);
            at = range.end;
        }
        shown.push_str(&text[at..]);
        Cow::Owned(shown)
    }

    /// A value without them, in keys, strings and numbers.
    pub fn value(&self, value: Value) -> Value {
        match value {
            Value::String(text) => match self.hidden(&text) {
                Cow::Borrowed(_) => Value::String(text),
                Cow::Owned(shown) => Value::String(shown),
            },
            Value::Array(items) => Value::Array(items.into_iter().map(|i| self.value(i)).collect()),
            Value::Object(map) => Value::Object(
                map.into_iter()
                    .map(|(k, v)| (self.hidden(&k).into_owned(), self.value(v)))
                    .collect(),
            ),
            Value::Number(number) if self.is_secret_number(&number.to_string()) => {
                Value::String(SECRET_MARK.into())
            }
            other => other,
        }
    }

    /// A JSON text without them; none if there is surely nothing to hide, which is found without
    /// taking it apart.
    pub fn json(&self, bytes: &[u8]) -> Option<Vec<u8>> {
        if !self.may_hold(bytes) {
            return None;
        }
        let value: Value = serde_json::from_slice(bytes).ok()?;
        Some(self.value(value).to_string().into_bytes())
    }

    /// Whether there may be anything to hide: wrong only in what is not there.
    fn may_hold(&self, bytes: &[u8]) -> bool {
        let escaped = bytes.iter().any(|b| matches!(b, b'%' | b'&' | b'\\'));
        let found = self.0.automaton.as_ref().is_some_and(|a| a.is_match(bytes));
        found || (escaped && !self.0.secrets.is_empty())
    }

    fn is_secret_number(&self, number: &str) -> bool {
        let whole = number.strip_suffix(".0").unwrap_or(number);
        self.0.secrets.iter().any(|s| s == whole)
    }

    /// What is to be hidden of a text: in its order, none within another.
    fn hits(&self, text: &str) -> Vec<Hit> {
        let mut hits = Vec::new();
        for view in views::views_of(text) {
            self.hits_in(&view, &mut hits);
        }
        for hit in &mut hits {
            hit.range = whole_characters(text, hit.range.clone());
        }
        hits.sort_by_key(|hit| (hit.range.start, std::cmp::Reverse(hit.range.end)));
        let mut apart: Vec<Hit> = Vec::with_capacity(hits.len());
        for hit in hits {
            match apart.last_mut() {
                Some(last) if hit.range.start < last.range.end => {
                    last.range.end = last.range.end.max(hit.range.end)
                }
                _ => apart.push(hit),
            }
        }
        apart
    }

    fn hits_in(&self, view: &View<'_>, hits: &mut Vec<Hit>) {
        let Some(automaton) = &self.0.automaton else { return };
        for found in automaton.find_overlapping_iter(view.bytes.as_ref()) {
            let Some(pattern) = self.0.patterns.get(found.pattern().as_usize()) else { continue };
            let bytes = view.bytes.as_ref();
            let (range, mark) = match pattern.finds {
                Finds::Secret => {
                    (Some(pattern.form.with_neighbours(bytes, found.range())), SECRET_MARK)
                }
                Finds::Link => (pattern.form.link(bytes, found.range()), LINK_MARK),
                Finds::Head(of) => (self.cut_short(bytes, found.start(), of), SECRET_MARK),
            };
            hits.extend(range.map(|range| Hit { range: view.original(range), mark }));
        }
    }

    /// The beginning of a secret that somebody has cut: most of it.
    fn cut_short(&self, bytes: &[u8], start: usize, of: usize) -> Option<Range<usize>> {
        let secret = self.0.secrets.get(of)?.as_bytes();
        let shown = bytes[start..].iter().zip(secret).take_while(|(a, b)| a == b).count();
        (shown * 10 >= secret.len() * 7).then_some(start..start + shown)
    }
}

/// A range that begins and ends between characters.
fn whole_characters(text: &str, range: Range<usize>) -> Range<usize> {
    let start = (0..=range.start).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    let end = (range.end..=text.len()).find(|at| text.is_char_boundary(*at)).unwrap_or(text.len());
    start..end
}

#[cfg(test)]
mod tests {
    use super::*;
    use base64::{Engine, prelude::*};
    use serde_json::json;

    use super::spellings::LINK_PREFIX;

    const SECRET: &str = "hunter22 & \"söns\"/+x";

    fn redactor() -> Redactor {
        Redactor::new([SECRET, "hunter22-long", "12345678", "abc", "production"].map(str::to_owned))
    }

    #[test]
    fn secrets_are_taken_out_of_keys_texts_and_numbers() {
        let value = redactor()
            .value(json!({"k-hunter22-long": ["Bearer hunter22-long", 12345678, 12345678.0,
                812345678, "abc"]}));
        assert_eq!(
            value,
            json!({"k-[secret]": ["Bearer [secret]", "[secret]", "[secret]", 812345678, "abc"]})
        );
    }

    #[test]
    fn short_ones_and_common_words_hide_nothing() {
        let text = "abc: the production database runs";
        assert_eq!(redactor().text(text), text);
        assert_eq!(weakness("abc"), Some(Weak::Short));
        assert_eq!(weakness("Production"), Some(Weak::Common));
        assert_eq!(weakness("hunter22-long"), None);
    }

    #[test]
    fn a_secret_is_found_in_every_spelling() {
        let percent: String = SECRET.bytes().map(|b| format!("%{b:02x}")).collect();
        let some: String = SECRET
            .bytes()
            .map(|b| {
                if b.is_ascii_alphanumeric() {
                    char::from(b).to_string()
                } else {
                    format!("%{b:02X}")
                }
            })
            .collect();
        let form = some.replace("%20", "+");
        let html = SECRET
            .replace('&', "&amp;")
            .replace('"', "&quot;")
            .replace('ö', "&#xF6;")
            .replace('/', "&#47;");
        let json = SECRET.replace('"', "\\\"").replace('/', "\\/").replace('ö', "\\u00F6");
        let twice = some.replace('%', "%25");
        let hexadecimal = hex::encode(SECRET);
        let mut all =
            vec![percent, some, form, html, json, twice, hexadecimal.to_uppercase(), hexadecimal];
        all.push(
            serde_json::to_string(&serde_json::to_string(SECRET).expect("a text")).expect("a text"),
        );
        for spelling in &all {
            let shown = redactor().text(&format!("before {spelling} after"));
            assert!(
                shown.starts_with("before ") && shown.ends_with(" after"),
                "{spelling}: {shown}"
            );
            assert!(
                shown.contains(SECRET_MARK) && !shown.contains("hunter"),
                "{spelling}: {shown}"
            );
            assert!(shown.len() < 40, "{spelling}: {shown}");
        }
        for user in ["", "a:", "op:", "operator:", "x:y:"] {
            let plain = format!("{user}{SECRET}");
            for encoded in [
                BASE64_STANDARD.encode(&plain),
                BASE64_URL_SAFE_NO_PAD.encode(&plain),
                BASE64_STANDARD.encode(format!("{plain}@host")),
            ] {
                let shown = redactor().text(&format!("Basic {encoded}, refused"));
                assert!(shown.contains(SECRET_MARK), "{user}: {encoded}: {shown}");
                let left: String = shown.split(SECRET_MARK).collect();
                assert!(
                    left.len() < encoded.len() - SECRET.len() + 18,
                    "{user}: {encoded}: {shown}"
                );
            }
        }
    }

    #[test]
    fn what_somebody_else_has_cut_is_hidden_as_well() {
        assert_eq!(redactor().text("wrong token: hunter22-lon"), "wrong token: [secret]");
        assert_eq!(redactor().text("wrong token: hunter22-l…"), "wrong token: [secret]…");
        assert_eq!(redactor().text("`hunter22-l` is wrong"), "`[secret]` is wrong");
        assert_eq!(
            redactor().text("wrong token: hunter22"),
            "wrong token: hunter22",
            "that may be any word"
        );
    }

    #[test]
    fn a_sealed_link_is_hidden_by_its_form() {
        let link = format!("{LINK_PREFIX}{}", "aB3_-x".repeat(10));
        let hide = |text: &str| Redactor::default().text(text);
        assert_eq!(
            hide(&format!("see http://here/decide#{link}!")),
            "see http://here/decide#[link]!"
        );
        assert_eq!(hide(&format!("/callback/{link}?x=1")), "/callback/[link]?x=1");
        let encoded = BASE64_STANDARD.encode(format!("http://here/decide#{link} "));
        assert!(
            hide(&encoded).contains("[link]") && hide(&encoded).len() < 40,
            "{}",
            hide(&encoded)
        );
        assert!(hide(&hex::encode(&link)).ends_with("[link]"));
        assert_eq!(hide(&link.replace('-', "%2d").replace('_', "%5F")), "[link]");
        assert_eq!(hide("sealed-envelope"), "sealed-envelope", "a word is no link");
    }

    #[test]
    fn a_json_text_is_only_read_if_there_is_something_to_hide() {
        let redactor = redactor();
        assert_eq!(redactor.json(br#"{"a":["b",1]}"#), None);
        assert_eq!(
            redactor.json(br#"{"a":["90 %",1]}"#).as_deref(),
            Some(&br#"{"a":["90 %",1]}"#[..])
        );
        let shown = redactor.json(br#"{"a":"hunter22-long","n":12345678}"#).expect("hidden");
        assert_eq!(String::from_utf8(shown).expect("text"), r#"{"a":"[secret]","n":"[secret]"}"#);
        let escaped = json!({ "a": SECRET }).to_string();
        assert!(redactor.json(escaped.as_bytes()).is_some(), "{escaped}");
    }

    #[test]
    fn characters_stay_whole_beside_what_is_hidden() {
        assert_eq!(redactor().text("öhunter22-longö"), "ö[secret]ö");
        assert_eq!(redactor().text("%C3%B6hunter22-long%"), "%C3%B6[secret]%");
    }
}
