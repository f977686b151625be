//! Resource paths: `class/name[/part]`, what an alert is about and what a job acts on.
//!
//! ```
//! use arvok_core::ResourcePath;
//!
//! let disk = ResourcePath::parse("vm/quill-booking-db-1/disk/vdb").expect("a path");
//! assert_eq!(disk.as_str(), "vm/quill-booking-db-1/disk/vdb");
//! assert!(ResourcePath::parse("quill-booking-db-1").is_err(), "the class is missing");
//! ```

use serde::{Deserialize, Serialize};
use std::fmt;

/// Longest path, in bytes.
const MAX_PATH: usize = 512;

/// A checked path such as `vm/quill-booking-db-1` or `switch/brack-sw-2/ge-0-0-7`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct ResourcePath(String);

/// Why a text is no resource path.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "`{shown}` is not a resource path; write class/name or class/name/part, for example \
    vm/quill-booking-db-1"
)]
pub struct ResourceError {
    shown: String,
}

impl ResourcePath {
    /// Checks a text: two or more parts, none empty, no spaces, control characters or wildcards.
    pub fn parse(text: &str) -> Result<Self, ResourceError> {
        // `*` and `?` belong to globs: what is called so could never be named by one.
        let odd = |c: char| c.is_whitespace() || c.is_control() || c == '*' || c == '?';
        let part_ok = |p: &str| !p.is_empty() && p != "." && p != ".." && !p.chars().any(odd);
        if text.len() > MAX_PATH || text.split('/').count() < 2 || !text.split('/').all(part_ok) {
            return Err(ResourceError { shown: super::cut(text, 80).to_owned() });
        }
        Ok(Self(text.to_owned()))
    }

    /// The whole path.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl TryFrom<String> for ResourcePath {
    type Error = ResourceError;

    fn try_from(text: String) -> Result<Self, ResourceError> {
        Self::parse(&text)
    }
}

impl From<ResourcePath> for String {
    fn from(path: ResourcePath) -> Self {
        path.0
    }
}

impl fmt::Display for ResourcePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}
