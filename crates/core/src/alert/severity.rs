//! Severities of ITU-T X.733, in order, and the ranges that rules write.

use schemars::JsonSchema;
use std::fmt;

crate::words! {
    /// How bad it is. Cleared is a state of an alert and not a severity.
    #[derive(Default, JsonSchema)]
    pub enum Severity("severity") {
        /// Not known.
        #[default]
        Indeterminate = "indeterminate",
        /// A possible fault, before any effect is felt.
        Warning = "warning",
        /// A fault without effect on the service so far.
        Minor = "minor",
        /// The service is affected; act soon.
        Major = "major",
        /// The service is gone; act now.
        Critical = "critical",
    }
}

impl Severity {
    /// 1 for indeterminate to 5 for critical: the ticks of the gauge, and the stored number.
    pub const fn rank(self) -> i16 {
        self as i16 + 1
    }

    /// Its place in a set of severities: bit 0 for indeterminate to bit 4 for critical.
    pub const fn bit(self) -> u8 {
        1 << self as u8
    }

    /// The severity of a stored number; numbers outside 1..=5 fall to the nearer end.
    pub fn from_rank(rank: i16) -> Self {
        Self::ALL[usize::try_from(rank.clamp(1, 5) - 1).unwrap_or(0)]
    }
}

/// A set of severities, as written in a rule: `major`, `minor..critical`, `major..`, `..minor`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SeverityRange {
    /// The least severe that belongs.
    pub from: Severity,
    /// The most severe that belongs.
    pub to: Severity,
}

impl SeverityRange {
    /// Reads one name or a range.
    ///
    /// # Errors
    /// What is expected instead.
    pub fn parse(text: &str) -> Result<Self, SeverityError> {
        let name = |part: &str| {
            Severity::parse(part.trim())
                .ok_or_else(|| SeverityError::Unknown(part.trim().to_owned()))
        };
        let (from, to) = match text.split_once("..") {
            None => (name(text)?, name(text)?),
            Some((a, b)) => (
                if a.trim().is_empty() { Severity::Indeterminate } else { name(a)? },
                if b.trim().is_empty() { Severity::Critical } else { name(b)? },
            ),
        };
        if from > to {
            return Err(SeverityError::UpsideDown { text: text.to_owned(), from, to });
        }
        Ok(Self { from, to })
    }

    /// Whether a severity belongs.
    pub fn contains(self, severity: Severity) -> bool {
        (self.from..=self.to).contains(&severity)
    }
}

/// Why a text is no range of severities.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SeverityError {
    /// A word that is no severity.
    #[error("`{0}` is not a severity; the severities are \
        {all}", all = Severity::ALL.map(Severity::as_str).join(", "))]
    Unknown(String),
    /// The more severe one stands first.
    #[error("the range {text} is upside down; write {to}..{from}")]
    UpsideDown {
        /// As written.
        text: String,
        /// The first.
        from: Severity,
        /// The second.
        to: Severity,
    },
}

impl fmt::Display for SeverityRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.from == self.to {
            write!(f, "{}", self.from)
        } else {
            write!(f, "{}..{}", self.from, self.to)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges() {
        let text =
            |t: &str| SeverityRange::parse(t).map(|r| r.to_string()).map_err(|e| e.to_string());
        assert_eq!(text("major"), Ok("major".into()));
        assert_eq!(text("major.."), Ok("major..critical".into()));
        assert_eq!(text("..minor"), Ok("indeterminate..minor".into()));
        assert_eq!(
            text("critical..major"),
            Err("the range critical..major is upside down; write major..critical".into())
        );
        assert!(text("severe").is_err());
    }

    #[test]
    fn ranks_go_both_ways() {
        for s in Severity::ALL {
            assert_eq!(Severity::from_rank(s.rank()), s);
        }
    }
}
