//! A number of things, or a share of them in percent: of a group, of a list.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

/// A number, or a share in percent.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum ShareDoc {
    /// So many.
    Number(u32),
    /// Such as `10%`.
    Percent(String),
}

/// A number, or a share in percent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Share {
    /// So many.
    Number(u32),
    /// So many of a hundred, rounded down and at least one.
    Percent(u32),
}

impl ShareDoc {
    /// What is written; none if it is no share from 1 to 100 %.
    pub(crate) fn read(&self) -> Option<Share> {
        match self {
            Self::Number(number) => Some(Share::Number(*number)),
            Self::Percent(text) => {
                let percent = text.trim().strip_suffix('%')?.trim().parse::<u32>().ok()?;
                (1..=100).contains(&percent).then_some(Share::Percent(percent))
            }
        }
    }
}

impl Share {
    /// The number that it stands for among so many.
    pub fn of(self, size: Option<u32>) -> u32 {
        match self {
            Self::Number(number) => number,
            Self::Percent(percent) => {
                let share = u64::from(size.unwrap_or(1)) * u64::from(percent) / 100;
                u32::try_from(share).unwrap_or(u32::MAX).max(1)
            }
        }
    }
}

impl fmt::Display for Share {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Number(number) => write!(f, "{number}"),
            Self::Percent(percent) => write!(f, "{percent} %"),
        }
    }
}
