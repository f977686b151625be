//! When somebody who was not heard of may be missed.

use crate::Period;
use chrono::{DateTime, TimeDelta, Utc};

/// The longest time for which nobody is missed after nothing could be taken: whoever says something
/// seldom may not say it again while a node starts.
const SETTLING: TimeDelta = TimeDelta::minutes(10);

/// Whether what came was taken for long enough that who was not heard of for so long can be missed.
pub fn is_steady(since: DateTime<Utc>, after: Period, now: DateTime<Utc>) -> bool {
    now - since >= after.delta().min(SETTLING)
}
