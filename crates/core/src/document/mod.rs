//! Definitions as files: YAML 1.2 (and so JSON) with an exact place for every diagnostic.
//!
//! [`parse_file`] makes [`Document`]s, each a plain JSON value with the place of every key and
//! value; [`Document::decode`] makes a typed definition of it; [`Checker`] collects what the
//! types cannot know. What the kinds of definitions mean is the business of their own folders.

mod check;
mod decode;
mod problem;
mod text_or_list;
mod write;
mod yaml;

pub use check::{Checker, NameError, check_name};
pub use problem::Problem;
pub use text_or_list::Texts;
pub use write::{block, flow, scalar};
pub use yaml::{NOT_UTF8, parse_file, parse_value};

use serde_json::Value;
use std::{collections::BTreeMap, sync::Arc};

/// Largest file of definitions, in bytes.
pub const MAX_FILE: usize = 1 << 20;
/// Most bytes of a file that is none of ours, such as the description of an API.
pub const MAX_FOREIGN: usize = 8 << 20;
/// Deepest nesting of a document.
pub const MAX_NESTING: usize = 48;
/// Most nodes of one file, aliases counted each time they are used.
pub const MAX_NODES: usize = 100_000;
/// Most bytes that a file may hold once its aliases are written out: what anchors keep and aliases
/// repeat. Counted before anything is copied.
pub const MAX_EXPANDED: usize = 4 << 20;

/// Documents of which another may be made, by name.
pub type Parts = Arc<BTreeMap<String, DocumentPart>>;

/// One of these.
#[derive(Clone, Debug)]
pub struct DocumentPart {
    /// Its version.
    pub version: i32,
    /// Its text.
    pub document: Arc<Document>,
}

/// One document of a file.
#[derive(Clone, Debug)]
pub struct Document {
    /// The file's name as given.
    pub file: String,
    /// The document's own text, comments included.
    pub text: String,
    /// The first key and what stands behind it.
    pub kind: String,
    /// The name it defines.
    pub name: String,
    /// Bytes that aliases and long keys made of the file up to here.
    pub bytes: usize,
    /// Everything.
    pub value: Value,
    /// The shared steps that it may name: those that stand, or those that it was published with.
    pub parts: Parts,
    places: BTreeMap<String, Place>,
    lines: Arc<Vec<String>>,
}

/// Where a key and its value stand. Lines and columns count from one.
#[derive(Clone, Copy, Debug, Default)]
struct Place {
    key: Option<(usize, usize, usize)>,
    line: usize,
    column: usize,
    /// Characters on that line.
    length: usize,
    /// Where a single-line string's own text begins, so that a place inside it can be shown.
    inner: Option<usize>,
}

impl Document {
    /// The text of a file that holds this document alone, with other plain words in the place of
    /// some values. Values that are not written on one line stay as they are.
    pub fn with_words(&self, words: &[(String, String)]) -> String {
        let mut lines: Vec<Vec<char>> =
            self.lines.iter().map(|line| line.chars().collect()).collect();
        let mut places: Vec<(Place, &String)> =
            words.iter().map(|(pointer, word)| (self.place(pointer), word)).collect();
        // From the end of each line to its beginning, so that no place moves before its turn.
        places.sort_by_key(|(place, _)| std::cmp::Reverse((place.line, place.column)));
        for (place, word) in places {
            let from = place.column.saturating_sub(1);
            let Some(line) = lines.get_mut(place.line.saturating_sub(1)) else { continue };
            if let Some(end) = from.checked_add(place.length).filter(|end| *end <= line.len()) {
                line.splice(from..end, word.chars());
            }
        }
        lines.into_iter().map(|line| String::from_iter(line) + "\n").collect()
    }

    /// A diagnostic about the value at a JSON pointer (RFC 6901), or about the nearest thing
    /// above it.
    pub fn problem(&self, pointer: &str, message: impl Into<String>) -> Problem {
        let place = self.place(pointer);
        self.at(place.line, place.column, place.length, message)
    }

    /// The line at which something begins, from one.
    pub fn line(&self, pointer: &str) -> usize {
        self.place(pointer).line
    }

    /// A diagnostic about a key itself.
    pub fn key_problem(&self, pointer: &str, message: impl Into<String>) -> Problem {
        let place = self.place(pointer);
        let (line, column, length) = place.key.unwrap_or((place.line, place.column, place.length));
        self.at(line, column, length, message)
    }

    /// A diagnostic about some characters of a string.
    pub fn inner_problem(
        &self,
        pointer: &str,
        span: Option<(u32, u32)>,
        message: impl Into<String>,
    ) -> Problem {
        let place = self.place(pointer);
        match (place.inner, span) {
            (Some(start), Some((from, to))) => self.at(
                place.line,
                start + from as usize,
                (to.max(from + 1) - from) as usize,
                message,
            ),
            _ => self.problem(pointer, message),
        }
    }

    fn place(&self, pointer: &str) -> Place {
        let mut at = pointer;
        loop {
            match (self.places.get(at), at.rfind('/')) {
                (Some(place), _) => return *place,
                (None, Some(cut)) => at = &at[..cut],
                (None, None) => return Place { line: 1, column: 1, length: 1, ..Place::default() },
            }
        }
    }

    fn at(&self, line: usize, column: usize, length: usize, message: impl Into<String>) -> Problem {
        Problem {
            file: self.file.clone(),
            line,
            column,
            length: length.max(1),
            message: message.into(),
            text: self
                .lines
                .get(line.saturating_sub(1))
                .map(|l| yaml::shown(l))
                .unwrap_or_default(),
            warning: None,
        }
    }
}

#[cfg(test)]
mod tests;
