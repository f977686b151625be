//! Trying again.

use crate::Period;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Trying again.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Retry {
    /// How many times after the first, at most 20.
    pub times: u32,
    /// How long to wait before the first repetition. Left out: 1s.
    #[serde(default = "one_second")]
    pub wait: Period,
    /// By how much each wait is longer than the one before. Left out: 2.
    #[serde(default = "two")]
    pub factor: f64,
    /// No wait is longer. Left out: 1h.
    #[serde(default = "an_hour")]
    pub ceiling: Period,
    /// Up to which share each wait is shortened at random, from 0 to 1, so that many do not come
    /// back at the same moment. Left out: 0.
    #[serde(default)]
    pub jitter: f64,
}

fn one_second() -> Period {
    Period::from_secs(1)
}

fn two() -> f64 {
    2.0
}

fn an_hour() -> Period {
    Period::from_secs(3600)
}

impl Retry {
    /// What is wrong with it: the key, and why.
    pub(super) fn diagnostics(self) -> Vec<(&'static str, &'static str)> {
        let wrong = [
            ("times", self.times > 20, "at most 20 times"),
            ("factor", !(1.0..=10.0).contains(&self.factor), "must be from 1 to 10"),
            ("jitter", !(0.0..=1.0).contains(&self.jitter), "must be from 0 to 1"),
            (
                "ceiling",
                self.ceiling.millis() < self.wait.millis(),
                "must not be shorter than `wait`",
            ),
        ];
        wrong.into_iter().filter(|w| w.1).map(|w| (w.0, w.2)).collect()
    }

    /// The wait after a failed try; none when there is no further one. Tries count from one;
    /// `chance` is from 0 to 1.
    pub fn wait_after(&self, attempt: u32, chance: f64) -> Option<Period> {
        if attempt > self.times {
            return None;
        }
        let exponent = i32::try_from(attempt.saturating_sub(1)).unwrap_or(0);
        let ms = (self.wait.millis() as f64 * self.factor.powi(exponent))
            .min(self.ceiling.millis() as f64);
        Some(Period::from_millis((ms * (1.0 - self.jitter * chance.clamp(0.0, 1.0))) as u64))
    }
}
