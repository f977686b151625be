//! Text that is taken apart: into pairs of names and values, or by a pattern with named parts.

use crate::{document::Checker, text::clean};
use regex::Regex;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// Longest pattern, in bytes, and the largest that it may become.
const LONGEST_PATTERN: usize = 2_000;
const LARGEST: usize = 256 << 10;
/// Longest text that a pattern is matched with, in bytes: how long that takes grows with both.
const LONGEST_TEXT: usize = 16 << 10;
/// Most pairs of one text.
const MOST_PAIRS: usize = 1_000;

/// What a text is taken apart by: one of the two.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum TextPartsDoc {
    /// A regular expression (RE2's syntax) whose named parts, as in `(?<host>\S+)`, are the body. A
    /// part that took no part in the match is empty.
    Pattern(String),
    /// `name=value` pairs between white space, commas or semicolons; a value may be quoted by `"`
    /// or `'`. What stands between them is left out; `true` is all that can be said.
    Pairs(bool),
}

/// What a text is taken apart by, checked.
#[derive(Clone, Debug)]
pub(in crate::source) enum TextParts {
    /// Nothing.
    Whole,
    /// Named parts of a match.
    Pattern(Box<Regex>),
    /// Names and values.
    Pairs,
}

impl TextPartsDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<TextParts> {
        let pattern = match self {
            Self::Pairs(true) => return Some(TextParts::Pairs),
            Self::Pairs(false) => {
                check.fail(&format!("{at}/pairs"), "is `true`, or left out");
                return None;
            }
            Self::Pattern(pattern) => pattern,
        };
        let at = format!("{at}/pattern");
        if pattern.len() > LONGEST_PATTERN {
            let wrong = format!("has {} bytes; {LONGEST_PATTERN} are allowed", pattern.len());
            check.fail(&at, wrong);
            return None;
        }
        let made = regex::RegexBuilder::new(&pattern)
            .size_limit(LARGEST)
            .dfa_size_limit(1 << 20)
            .nest_limit(32)
            .build();
        match made {
            Ok(made) if made.capture_names().flatten().next().is_some() => {
                Some(TextParts::Pattern(Box::new(made)))
            }
            Ok(_) => {
                let wrong = r"names no part; write (?<host>\S+) where the name of a host stands";
                check.fail(&at, wrong);
                None
            }
            Err(e) => {
                let last = e.to_string();
                let last = last.lines().last().unwrap_or_default().trim();
                let why = last.strip_prefix("error: ").unwrap_or(last);
                check.fail(&at, format!("is no regular expression: {why}"));
                None
            }
        }
    }
}

impl TextParts {
    /// What a text is as a body.
    ///
    /// # Errors
    /// Why it cannot be taken apart.
    pub fn value(&self, text: &str) -> Result<Value, String> {
        match self {
            Self::Whole => Ok(own(text)),
            Self::Pattern(_) if text.len() > LONGEST_TEXT => {
                Err(format!("has {} bytes, and {LONGEST_TEXT} are matched", text.len()))
            }
            Self::Pattern(pattern) => {
                let parts = pattern.captures(text).ok_or("does not match the pattern")?;
                let named = pattern.capture_names().flatten().map(|name| {
                    (name.to_owned(), own(parts.name(name).map_or("", |part| part.as_str())))
                });
                Ok(Value::Object(named.collect()))
            }
            Self::Pairs => pairs(text),
        }
    }
}

fn own(text: &str) -> Value {
    Value::String(clean(text).into_owned())
}

/// The pairs of a text; of a name that stands several times the last.
fn pairs(text: &str) -> Result<Value, String> {
    let mut found = Map::new();
    let mut rest = text;
    while let Some(at) = rest.find('=') {
        let between = |c: char| c.is_whitespace() || matches!(c, ',' | ';');
        let name = rest[..at].rsplit(between).next().unwrap_or_default();
        let (value, after) = value(&rest[at + 1..], between);
        if !name.is_empty() {
            if found.len() >= MOST_PAIRS {
                return Err(format!("holds more than {MOST_PAIRS} pairs of names and values"));
            }
            found.insert(clean(name).into_owned(), Value::String(clean(&value).into_owned()));
        }
        rest = after;
    }
    match found.is_empty() {
        true => Err("holds no pair such as name=value".into()),
        false => Ok(Value::Object(found)),
    }
}

/// The value at the beginning of a text, and what follows it.
fn value(text: &str, between: impl Fn(char) -> bool) -> (String, &str) {
    let Some(quote) = text.chars().next().filter(|c| matches!(c, '"' | '\'')) else {
        let end = text.find(between).unwrap_or(text.len());
        return (text[..end].to_owned(), &text[end..]);
    };
    let (mut value, mut is_escaped) = (String::new(), false);
    for (at, c) in text.char_indices().skip(1) {
        match c {
            _ if is_escaped => {
                value.push(if c == 'n' { '\n' } else { c });
                is_escaped = false;
            }
            '\\' => is_escaped = true,
            c if c == quote => return (value, &text[at + c.len_utf8()..]),
            c => value.push(c),
        }
    }
    // It is not closed: then the mark is a part of it.
    let end = text.find(between).unwrap_or(text.len());
    (text[..end].to_owned(), &text[end..])
}
