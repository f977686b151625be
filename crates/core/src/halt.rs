//! Which jobs a halt of some concerns: every line that is written must hold, and of one line any
//! name or glob.
//!
//! ```
//! use arvok_core::halt::HaltLines;
//!
//! let lines = HaltLines { targets: vec!["host/quill-*".to_owned()], ..HaltLines::default() };
//! let halted = lines.check().expect("says something");
//! assert!(halted.concerns("move-guest", None, "host/quill-hv-2"));
//! assert!(!halted.concerns("move-guest", None, "vm/quill-app-1"));
//! assert_eq!(lines.to_string(), "targets host/quill-*");
//! ```

use crate::glob::{Glob, GlobListError};
use serde::{Deserialize, Serialize};
use std::fmt;

/// Most names and globs of one line.
const MAX_LINES: usize = 100;

/// Which jobs, as written.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct HaltLines {
    /// Names of runbooks; the runs of a plan are jobs of `plan/NAME`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub runbooks: Vec<String>,
    /// Names of the rules that dispatched them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub rules: Vec<String>,
    /// What they act on: `*` within a part, `**` across parts.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub targets: Vec<String>,
}

/// Why lines do not say which jobs.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum HaltError {
    /// There is none.
    #[error("says nothing; name runbooks, rules or targets, or halt all jobs")]
    Nothing,
    /// One is no name and no glob, or there are too many.
    #[error(transparent)]
    Globs(#[from] GlobListError),
}

/// Which jobs, checked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HaltedJobs {
    runbooks: Vec<Glob>,
    rules: Vec<Glob>,
    targets: Vec<Glob>,
}

impl HaltLines {
    /// Checks them.
    ///
    /// # Errors
    /// If they say nothing, too much, or one is neither a name nor a glob.
    pub fn check(&self) -> Result<HaltedJobs, HaltError> {
        let globs = |of, lines| Glob::parse_all(of, lines, MAX_LINES);
        if *self == Self::default() {
            return Err(HaltError::Nothing);
        }
        Ok(HaltedJobs {
            runbooks: globs("runbooks", &self.runbooks)?,
            rules: globs("rules", &self.rules)?,
            targets: globs("targets", &self.targets)?,
        })
    }
}

impl fmt::Display for HaltLines {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let lines =
            [("runbooks", &self.runbooks), ("rules", &self.rules), ("targets", &self.targets)];
        let written = lines.iter().filter(|(_, names)| !names.is_empty());
        let written = written.map(|(of, names)| format!("{of} {}", names.join(", ")));
        f.write_str(&written.collect::<Vec<_>>().join("; "))
    }
}

impl HaltedJobs {
    /// Whether they concern a job.
    pub fn concerns(&self, runbook: &str, rule: Option<&str>, target: &str) -> bool {
        let holds = |globs: &[Glob], text: Option<&str>| {
            globs.is_empty() || text.is_some_and(|text| globs.iter().any(|glob| glob.matches(text)))
        };
        holds(&self.runbooks, Some(runbook))
            && holds(&self.rules, rule)
            && holds(&self.targets, Some(target))
    }

    /// The lines of runbooks, rules and targets as regular expressions of PostgreSQL; none where
    /// there is no line.
    pub fn patterns(&self) -> [Option<Vec<String>>; 3] {
        [&self.runbooks, &self.rules, &self.targets]
            .map(|globs| (!globs.is_empty()).then(|| globs.iter().map(Glob::pattern).collect()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(of: &[&str]) -> Vec<String> {
        of.iter().map(|line| (*line).to_owned()).collect()
    }

    #[test]
    fn every_line_must_hold_and_of_one_line_any() {
        let both = HaltLines {
            rules: lines(&["disk-*", "vm-off"]),
            targets: lines(&["vm/**"]),
            runbooks: Vec::new(),
        };
        let halted = both.check().expect("says something");
        let concerns = |rule, target| halted.concerns("grow-disk", rule, target);
        assert!(concerns(Some("disk-fills"), "vm/a") && concerns(Some("vm-off"), "vm/a/disk"));
        assert!(!concerns(Some("disk-fills"), "host/a") && !concerns(Some("cpu"), "vm/a"));
        assert!(!concerns(None, "vm/a"), "what no rule dispatched is none of a rule's");
    }

    #[test]
    fn what_says_nothing_or_too_much_is_refused() {
        let said = |lines: HaltLines| lines.check().expect_err("is refused").to_string();
        assert!(said(HaltLines::default()).contains("halt all jobs"));
        let many = HaltLines { rules: lines(&["a"; 101]), ..HaltLines::default() };
        assert_eq!(said(many), "rules: 101 names and globs; 100 are allowed");
        let empty = HaltLines { targets: lines(&["vm/a", ""]), ..HaltLines::default() };
        assert!(said(empty).starts_with("targets: ``: "));
    }
}
