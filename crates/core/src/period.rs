//! Lengths of time as people write them: `90s`, `15m`, `1h30m`, `250ms`, `2d`.
//!
//! Used by every definition that has a duration; owns the text form and nothing else.
//!
//! ```
//! use arvok_core::Period;
//!
//! let wait = Period::parse("1h30m").expect("a length of time");
//! assert_eq!(wait.delta().num_minutes(), 90);
//! assert!(Period::parse("90").is_err(), "a unit is needed");
//! ```

use chrono::TimeDelta;
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;

/// A length of time in whole milliseconds, written with the units `ms`, `s`, `m`, `h`, `d`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema)]
#[schemars(with = "String", description = "a length of time such as 90s, 15m, 1h30m or 2d")]
pub struct Period(u64);

/// No setting of Arvok is longer than ten years, in milliseconds.
const LONGEST_MS: u64 = 3660 * 86_400_000;

/// Units from the largest to the smallest, with their milliseconds.
const UNITS: [(&str, u64); 5] =
    [("d", 86_400_000), ("h", 3_600_000), ("m", 60_000), ("s", 1_000), ("ms", 1)];

impl Period {
    /// Ten years: no setting of Arvok is longer.
    pub const LONGEST: Self = Self(LONGEST_MS);

    /// A period of whole milliseconds.
    pub const fn from_millis(ms: u64) -> Self {
        Self(ms)
    }

    /// A period of whole seconds.
    pub const fn from_secs(s: u64) -> Self {
        Self(s * 1_000)
    }

    /// Milliseconds.
    pub const fn millis(self) -> u64 {
        self.0
    }

    /// As the difference of two instants.
    pub fn delta(self) -> TimeDelta {
        TimeDelta::milliseconds(i64::try_from(self.0).unwrap_or(i64::MAX))
    }

    /// Reads `1h30m` and the like.
    ///
    /// # Errors
    /// What is expected instead.
    pub fn parse(text: &str) -> Result<Self, PeriodError> {
        let wrong = || PeriodError::NotOne(text.to_owned());
        let mut rest = text.trim();
        if rest.is_empty() {
            return Err(wrong());
        }
        let mut total: u64 = 0;
        while !rest.is_empty() {
            let digits = rest.find(|c: char| !c.is_ascii_digit()).ok_or_else(wrong)?;
            let number: u64 = rest[..digits].parse().map_err(|_| wrong())?;
            rest = &rest[digits..];
            let letters = rest.find(|c: char| c.is_ascii_digit()).unwrap_or(rest.len());
            let (_, ms) = UNITS.iter().find(|(u, _)| *u == &rest[..letters]).ok_or_else(wrong)?;
            total = number
                .checked_mul(*ms)
                .and_then(|part| total.checked_add(part))
                .ok_or_else(wrong)?;
            rest = &rest[letters..];
        }
        if total > LONGEST_MS {
            return Err(PeriodError::TooLong(text.to_owned()));
        }
        Ok(Self(total))
    }
}

/// Why a text is no length of time.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PeriodError {
    /// It is not written like one.
    #[error("`{0}` is not a length of time; write it like 90s, 15m, 1h30m or 2d")]
    NotOne(String),
    /// Nothing waits for so long.
    #[error("`{0}` is longer than ten years, the longest time Arvok takes")]
    TooLong(String),
}

impl fmt::Display for Period {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.0 == 0 {
            return f.write_str("0s");
        }
        let mut left = self.0;
        for (unit, ms) in UNITS {
            if left >= ms {
                write!(f, "{}{unit}", left / ms)?;
                left %= ms;
            }
        }
        Ok(())
    }
}

impl Serialize for Period {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Period {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl serde::de::Visitor<'_> for Visitor {
            type Value = Period;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a length of time such as 90s, 15m, 1h30m or 2d")
            }
            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<Period, E> {
                Period::parse(text).map_err(E::custom)
            }
        }
        d.deserialize_str(Visitor)
    }
}

/// A difference of instants for people: the two largest units, never milliseconds past a second.
pub fn rough(delta: TimeDelta) -> String {
    let ms = delta.num_milliseconds().max(0);
    if ms < 1_000 {
        return format!("{ms} ms");
    }
    let s = ms / 1_000;
    let (d, h, m, sec) = (s / 86_400, s / 3_600 % 24, s / 60 % 60, s % 60);
    match (d, h, m) {
        (0, 0, 0) if ms < 10_000 => format!("{}.{} s", s, ms % 1_000 / 100),
        (0, 0, 0) => format!("{sec} s"),
        (0, 0, _) if m < 10 => format!("{m} min {sec} s"),
        (0, 0, _) => format!("{m} min"),
        (0, _, _) => format!("{h} h {m} min"),
        _ => format!("{d} d {h} h"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn reads_what_people_write() {
        for (text, ms) in
            [("90s", 90_000), ("1h30m", 5_400_000), ("250ms", 250), ("2d", 172_800_000), ("0s", 0)]
        {
            assert_eq!(Period::parse(text), Ok(Period(ms)), "{text}");
        }
    }

    #[test]
    fn refuses_what_is_no_time() {
        for text in ["", "5", "m", "5 m", "5y", "-5m", "9999999999999999999d", "1.5h", "4000d"] {
            assert!(Period::parse(text).is_err(), "{text}");
        }
    }

    proptest! {
        #[test]
        fn text_and_back(ms in 0..LONGEST_MS) {
            prop_assert_eq!(Period::parse(&Period(ms).to_string()), Ok(Period(ms)));
        }

        #[test]
        fn never_panics(text in ".*") {
            let _ = Period::parse(&text);
        }
    }
}
