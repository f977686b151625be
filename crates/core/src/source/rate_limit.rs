//! How much a source may send: so many alerts at once, and as many again within a time.

use crate::{Period, document::Checker};
use chrono::{DateTime, TimeDelta, Utc};
use core::fmt;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Most alerts of a limit.
const MOST: u32 = 10_000_000;
/// Shortest and longest time of a limit.
const TIMES: [Period; 2] = [Period::from_secs(1), Period::from_secs(24 * 3_600)];

/// So many alerts within a time.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RateLimitDoc {
    /// So many alerts, which may come at once.
    pub alerts: u32,
    /// The time within which there is room for as many again, from 1s to 1d.
    pub per: Period,
}

/// So many alerts within a time, checked.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct RateLimit {
    alerts: u32,
    per: Period,
}

/// How much of a limit is used up.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct LimitUse {
    /// Alerts, of which so many are forgotten with time as the limit says.
    alerts: f64,
    /// When that was so.
    at: DateTime<Utc>,
}

impl LimitUse {
    /// None of it.
    pub const fn none(at: DateTime<Utc>) -> Self {
        Self { alerts: 0.0, at }
    }

    /// Whether nothing is left of what was used.
    pub fn is_none(&self) -> bool {
        self.alerts <= 0.0
    }
}

impl RateLimitDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<RateLimit> {
        let [shortest, longest] = TIMES;
        let has_number = (1..=MOST).contains(&self.alerts);
        if !has_number {
            check.fail(&format!("{at}/alerts"), format!("is a number from 1 to {MOST}"));
        }
        let has_time = (shortest..=longest).contains(&self.per);
        if !has_time {
            check.fail(&format!("{at}/per"), format!("is a time from {shortest} to {longest}"));
        }
        (has_number && has_time).then_some(RateLimit { alerts: self.alerts, per: self.per })
    }
}

impl RateLimit {
    /// What is used up by now.
    pub fn used(&self, used: LimitUse, now: DateTime<Utc>) -> LimitUse {
        let passed = (now - used.at).as_seconds_f64().max(0.0);
        let alerts = (used.alerts - passed * self.each_second()).max(0.0);
        LimitUse { alerts, at: used.at.max(now) }
    }

    /// How long it takes until there is room; none if there is.
    pub fn wait(&self, used: LimitUse, now: DateTime<Utc>) -> Option<TimeDelta> {
        let over = self.used(used, now).alerts - f64::from(self.alerts);
        // There is room for one before anything is taken of it, so that a limit of one is no limit
        // of none.
        let seconds = (over + 1.0) / self.each_second();
        (over > -1.0).then(|| {
            #[expect(clippy::cast_possible_truncation, reason = "bounded by what was counted")]
            let millis = (seconds * 1_000.0).ceil() as i64;
            TimeDelta::milliseconds(millis.max(1))
        })
    }

    /// The same with alerts that come. They are not refused any more, however many they are: what
    /// is too much for the limit is waited for afterwards.
    pub fn count(&self, used: LimitUse, alerts: usize, now: DateTime<Utc>) -> LimitUse {
        let used = self.used(used, now);
        #[expect(clippy::cast_precision_loss, reason = "a delivery holds a thousand at most")]
        let alerts = alerts as f64;
        LimitUse { alerts: used.alerts + alerts, ..used }
    }

    fn each_second(&self) -> f64 {
        #[expect(clippy::cast_precision_loss, reason = "a day at most")]
        let seconds = self.per.millis() as f64 / 1_000.0;
        f64::from(self.alerts) / seconds
    }
}

impl fmt::Display for RateLimit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let alerts = if self.alerts == 1 { "alert" } else { "alerts" };
        write!(f, "{} {alerts} in {}", self.alerts, self.per)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(millis: i64) -> DateTime<Utc> {
        DateTime::UNIX_EPOCH + TimeDelta::milliseconds(millis)
    }

    #[test]
    fn so_many_come_at_once_and_then_as_fast_as_room_comes_back() {
        let limit = RateLimit { alerts: 60, per: Period::from_secs(60) };
        let mut used = LimitUse::none(at(0));
        assert_eq!(limit.wait(used, at(0)), None);
        used = limit.count(used, 60, at(0));
        assert_eq!(limit.wait(used, at(0)), Some(TimeDelta::seconds(1)));
        assert_eq!(limit.wait(used, at(600)), Some(TimeDelta::milliseconds(400)));
        assert_eq!(limit.wait(used, at(1_000)), None);
        // A delivery of many is waited for afterwards.
        used = limit.count(used, 31, at(1_000));
        assert_eq!(limit.wait(used, at(1_000)), Some(TimeDelta::seconds(31)));
        assert!(limit.used(used, at(91_000)).is_none());
        // A clock that goes back makes nothing come back.
        assert_eq!(limit.wait(used, at(0)), Some(TimeDelta::seconds(31)));
        let one = RateLimit { alerts: 1, per: Period::from_secs(10) };
        let used = one.count(LimitUse::none(at(0)), 1, at(0));
        assert_eq!(one.wait(used, at(0)), Some(TimeDelta::seconds(10)));
        assert_eq!(one.to_string(), "1 alert in 10s");
    }

    proptest! {
        #[test]
        fn never_more_than_twice_as_many_are_let_in_within_the_time(
            alerts in 1..50u32, seconds in 1..30u64,
            gaps in prop::collection::vec(0..4_000i64, 1..200),
        ) {
            let limit = RateLimit { alerts, per: Period::from_secs(seconds) };
            let (mut used, mut now, mut let_in) = (LimitUse::none(at(0)), 0, Vec::new());
            for gap in gaps {
                now += gap;
                if limit.wait(used, at(now)).is_none() {
                    used = limit.count(used, 1, at(now));
                    let_in.push(now);
                }
            }
            for from in &let_in {
                let within = let_in.iter().filter(|t| (*from..from + seconds.cast_signed() * 1_000).contains(*t));
                prop_assert!(within.count() <= 2 * alerts as usize);
            }
        }
    }
}
