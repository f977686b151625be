//! Jobs that wait for each other's targets for ever.

use crate::JobId;
use std::collections::{BTreeMap, BTreeSet};

/// The job of a step, and who it waits for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BlockedChild {
    /// The job.
    pub job: JobId,
    /// The job whose step it is, which waits for its end.
    pub parent: JobId,
    /// The first of the jobs above it.
    pub root: JobId,
    /// The job that holds its target, if it waits for that.
    pub behind: Option<JobId>,
}

/// Of each ring of jobs that wait for each other the one that has to give way, and one that it
/// waits for: of those that wait for a target the one that stands below the youngest job.
pub fn deadlocks(waiting: &[BlockedChild]) -> Vec<(BlockedChild, JobId)> {
    let mut edges: BTreeMap<JobId, Vec<JobId>> = BTreeMap::new();
    for one in waiting {
        edges.entry(one.parent).or_default().push(one.job);
        edges.entry(one.job).or_default().extend(one.behind);
    }
    let leads = |from: JobId, to: JobId| {
        let (mut seen, mut next) = (BTreeSet::new(), vec![from]);
        while let Some(job) = next.pop() {
            if job == to {
                return true;
            }
            if seen.insert(job) {
                next.extend(edges.get(&job).into_iter().flatten());
            }
        }
        false
    };
    let stuck = waiting
        .iter()
        .filter_map(|one| Some((*one, one.behind?)))
        .filter(|(one, behind)| leads(*behind, one.job));
    let mut stuck: Vec<(BlockedChild, JobId)> = stuck.collect();
    stuck.sort_by_key(|(one, _)| std::cmp::Reverse((one.root, one.job)));
    // One that gives way opens its ring; of others it says nothing.
    let mut giving: Vec<(BlockedChild, JobId)> = Vec::new();
    for (one, behind) in stuck {
        let same_ring =
            giving.iter().any(|(other, b)| leads(*b, one.job) && leads(behind, other.job));
        if !same_ring {
            giving.push((one, behind));
        }
    }
    giving
}

#[cfg(test)]
mod tests {
    use super::*;

    fn child(job: i64, parent: i64, root: i64, behind: i64) -> BlockedChild {
        let behind = (behind > 0).then_some(JobId(behind));
        BlockedChild { job: JobId(job), parent: JobId(parent), root: JobId(root), behind }
    }

    fn give_way(waiting: &[BlockedChild]) -> Vec<i64> {
        deadlocks(waiting).into_iter().map(|(one, _)| one.job.0).collect()
    }

    #[test]
    fn the_younger_of_two_that_wait_for_each_other_gives_way() {
        assert_eq!(give_way(&[child(11, 1, 1, 2), child(12, 2, 2, 1)]), [12]);
        assert_eq!(give_way(&[child(12, 1, 1, 2), child(11, 2, 2, 1)]), [11]);
    }

    #[test]
    fn who_waits_for_somebody_who_goes_on_waits_on() {
        assert_eq!(give_way(&[child(11, 1, 1, 2), child(12, 2, 2, 0)]), [] as [i64; 0]);
        assert_eq!(give_way(&[child(11, 1, 1, 2), child(12, 3, 3, 1)]), [] as [i64; 0]);
    }

    #[test]
    fn rings_of_three_and_rings_within_one_family_are_found() {
        assert_eq!(give_way(&[child(11, 1, 1, 2), child(12, 2, 2, 3), child(13, 3, 3, 1)]), [13]);
        // 2 and 3 are jobs of steps of 1, side by side; 4 wants what 3 holds, 5 what 2 holds.
        let family = [child(2, 1, 1, 0), child(3, 1, 1, 0), child(4, 2, 1, 3), child(5, 3, 1, 2)];
        assert_eq!(give_way(&family), [5]);
    }

    #[test]
    fn two_rings_are_opened_at_once_and_each_by_one() {
        let two = [child(11, 1, 1, 2), child(12, 2, 2, 1), child(13, 3, 3, 4), child(14, 4, 4, 3)];
        assert_eq!(give_way(&two), [14, 12]);
    }
}
