//! Labels of a place: `site=nessfold`. A runner has some, and what is to be done near a place says
//! which ones whoever does it must have.
//!
//! ```
//! use arvok_core::Labels;
//!
//! let runner: Labels = "site=nessfold,kind=pier".parse().expect("are labels");
//! let wanted: Labels = "site=nessfold".parse().expect("are labels");
//! assert!(runner.cover(&wanted) && !wanted.cover(&runner));
//! assert_eq!(runner.to_string(), "kind=pier,site=nessfold");
//! assert!("site".parse::<Labels>().is_err());
//! ```

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::{collections::BTreeMap, fmt, str::FromStr};

/// Most labels of one place.
pub const MAX_LABELS: usize = 8;
/// Longest name and value of a label, in bytes.
const LONGEST: usize = 63;

/// Labels by name.
#[derive(
    Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema,
)]
#[serde(transparent)]
pub struct Labels(pub BTreeMap<String, String>);

/// What is wrong with labels.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct LabelError(String);

impl Labels {
    /// Whether all that is wanted is here.
    pub fn cover(&self, wanted: &Self) -> bool {
        wanted.0.iter().all(|(name, value)| self.0.get(name) == Some(value))
    }

    /// Whether they are labels.
    ///
    /// # Errors
    /// What is wrong with them.
    pub fn check(&self) -> Result<(), LabelError> {
        let is_plain = |text: &str| {
            text.len() <= LONGEST
                && text.starts_with(|c: char| c.is_ascii_alphanumeric())
                && text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.'))
        };
        if self.0.is_empty() || self.0.len() > MAX_LABELS {
            return Err(LabelError(format!(
                "takes 1 to {MAX_LABELS} labels, such as site=nessfold"
            )));
        }
        match self.0.iter().find(|(name, value)| !is_plain(name) || !is_plain(value)) {
            None => Ok(()),
            Some((name, value)) => Err(LabelError(format!(
                "`{}` is no label: name and value have letters, digits, - _ . and begin with one \
                of the first two, {LONGEST} characters at most",
                crate::text::cut(&format!("{name}={value}"), 80)
            ))),
        }
    }
}

impl fmt::Display for Labels {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (n, (name, value)) in self.0.iter().enumerate() {
            write!(f, "{}{name}={value}", if n == 0 { "" } else { "," })?;
        }
        Ok(())
    }
}

impl FromStr for Labels {
    type Err = LabelError;

    fn from_str(text: &str) -> Result<Self, LabelError> {
        let mut labels = Self::default();
        for pair in text.split(',') {
            let Some((name, value)) = pair.trim().split_once('=') else {
                let shown = crate::text::cut(pair, 80);
                return Err(LabelError(format!("`{shown}` is no label, such as site=nessfold")));
            };
            if labels.0.insert(name.to_owned(), value.to_owned()).is_some() {
                return Err(LabelError(format!("`{name}` is named twice")));
            }
        }
        labels.check()?;
        Ok(labels)
    }
}
