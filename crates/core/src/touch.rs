//! What jobs have touched: the resources that an operation names, so that others keep away from
//! them for a time.

use crate::{JobId, Period};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Longest time for which others keep away.
pub const LONGEST: Period = Period::from_secs(31 * 24 * 3600);

/// A resource that a job touched.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Touch {
    /// The resource.
    pub resource: String,
    /// The job.
    pub job: JobId,
    /// When the job ended; none while it has not.
    pub ended: Option<DateTime<Utc>>,
}

impl Touch {
    /// Until when others keep away, if they do for so long after the job; none where they may come
    /// closer again.
    pub fn until(&self, within: Period, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
        let until = self.ended.unwrap_or(now) + within.delta();
        (until > now).then_some(until)
    }

    /// What was touched, and by whom, in words.
    pub fn in_words(&self) -> String {
        match self.ended {
            None => format!("job {} touches {}", self.job, self.resource),
            Some(ended) => {
                let ended = ended.format("%H:%M:%S UTC");
                format!("job {} touched {} and ended at {ended}", self.job, self.resource)
            }
        }
    }
}

/// What a job has touched, for a rule that keeps away from it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TouchedLately {
    /// What was touched.
    pub touch: Touch,
    /// How long the rule keeps away.
    pub untouched: Period,
    /// Until when.
    pub until: DateTime<Utc>,
}

/// What was touched last, by resource.
#[derive(Clone, Debug, Default)]
pub struct Touches(BTreeMap<String, Vec<Touch>>);

impl Touches {
    /// Puts touches together.
    pub fn new(touches: impl IntoIterator<Item = Touch>) -> Self {
        let mut by_resource: BTreeMap<String, Vec<Touch>> = BTreeMap::new();
        for touch in touches {
            by_resource.entry(touch.resource.clone()).or_default().push(touch);
        }
        Self(by_resource)
    }

    /// All of them.
    pub fn of_all(&self) -> impl Iterator<Item = &Touch> {
        self.0.values().flatten()
    }

    /// The touch of a resource, or of what it is a part of, from which others keep away longest;
    /// but for those of some jobs.
    pub fn of(&self, resource: &str, but: impl Fn(JobId) -> bool) -> Option<&Touch> {
        let all = covering(resource).filter_map(|whole| self.0.get(whole)).flatten();
        let others = all.filter(|touch| !but(touch.job));
        // What has not ended is kept away from longest.
        others.max_by_key(|touch| touch.ended.unwrap_or(DateTime::<Utc>::MAX_UTC))
    }
}

/// A resource and all that it is a part of, the largest first: `switch/brack-sw-2` and
/// `switch/brack-sw-2/ge-0-0-7`.
pub fn covering(resource: &str) -> impl Iterator<Item = &str> {
    let ends = resource.match_indices('/').skip(1).map(|(at, _)| at);
    ends.chain([resource.len()]).map(|end| &resource[..end])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_latest_touch_of_a_resource_or_of_its_whole_counts() {
        let at = |minute: i64| DateTime::<Utc>::UNIX_EPOCH + chrono::TimeDelta::minutes(minute);
        let touch = |resource: &str, job: i64, ended: Option<i64>| Touch {
            resource: resource.to_owned(),
            job: JobId(job),
            ended: ended.map(at),
        };
        let touches = Touches::new([
            touch("host/quill-hv-1", 1, Some(3)),
            touch("host/quill-hv-1", 2, Some(5)),
            touch("host/quill-hv-1/disk", 3, None),
        ]);
        let last = |resource, but: i64| {
            touches.of(resource, |job| job == JobId(but)).map(|touch| touch.job.0)
        };
        assert_eq!(last("host/quill-hv-1", 0), Some(2));
        assert_eq!(last("host/quill-hv-1", 2), Some(1), "but for one job");
        assert_eq!(last("host/quill-hv-1/disk/1", 0), Some(3), "what goes on counts most");
        assert_eq!(last("host/quill-hv-10", 0), None, "names are not cut");
        let whole = touches.of("host/quill-hv-1", |_| false).expect("a touch");
        assert_eq!(whole.until(Period::from_secs(60), at(5)), Some(at(6)));
        assert_eq!(whole.until(Period::from_secs(60), at(6)), None, "the minute is over");
        assert!(covering("vm/x").eq(["vm/x"]));
        assert!(covering("a/b/c/d").eq(["a/b", "a/b/c", "a/b/c/d"]));
    }
}
