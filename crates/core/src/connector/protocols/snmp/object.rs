//! Numbers of objects (OBJECT IDENTIFIER).

use serde::{Serialize, Serializer};
use std::fmt;

/// Most parts of a number (RFC 3416, section 4.1).
const MAX_PARTS: usize = 128;

/// The number of an object.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ObjectId(Vec<u32>);

impl ObjectId {
    /// Reads one: `1.3.6.1.2.1.1.5.0`, with a dot before it or without.
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.strip_prefix('.').unwrap_or(text);
        let parts = text.split('.').map(|part| {
            let is_plain = part.chars().all(|c| c.is_ascii_digit());
            is_plain.then(|| part.parse().ok()).flatten()
        });
        Self::new(parts.collect::<Option<_>>()?)
    }

    /// One of parts; none if these are those of none.
    pub fn new(parts: Vec<u32>) -> Option<Self> {
        let good = match parts.as_slice() {
            [first, second, ..] => *first <= 2 && (*first == 2 || *second < 40),
            _ => false,
        };
        (good && parts.len() <= MAX_PARTS).then_some(Self(parts))
    }

    /// Its parts.
    pub fn parts(&self) -> &[u32] {
        &self.0
    }

    /// What follows another in it, with dots; none if that is not where it begins.
    pub fn below(&self, other: &Self) -> Option<String> {
        let rest = self.0.strip_prefix(other.0.as_slice())?;
        Some(rest.iter().map(u32::to_string).collect::<Vec<_>>().join("."))
    }
}

impl fmt::Display for ObjectId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let parts: Vec<String> = self.0.iter().map(u32::to_string).collect();
        f.write_str(&parts.join("."))
    }
}

impl Serialize for ObjectId {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
