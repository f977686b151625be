//! How much each runner says at this node, so that none floods it.

use std::{
    collections::BTreeMap,
    sync::{Mutex, PoisonError},
    time::{Duration, Instant},
};

/// Most messages of one runner in a second.
const A_SECOND: u32 = 1_000;
/// Most claims of one runner that wait.
const CLAIMS: u32 = 4;

/// How much each runner says at this node.
#[derive(Debug, Default)]
pub(crate) struct RunnerPace(Mutex<BTreeMap<String, Pace>>);

#[derive(Clone, Copy, Debug)]
struct Pace {
    since: Instant,
    said: u32,
    claims: u32,
}

impl RunnerPace {
    fn of<T>(&self, runner: &str, look: impl FnOnce(&mut Pace) -> T) -> T {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let new = Pace { since: Instant::now(), said: 0, claims: 0 };
        look(all.entry(runner.to_owned()).or_insert(new))
    }

    /// Whether a runner may say something more in this second.
    pub fn may_speak(&self, runner: &str) -> bool {
        self.of(runner, |pace| {
            if pace.since.elapsed() > Duration::from_secs(1) {
                (pace.since, pace.said) = (Instant::now(), 0);
            }
            pace.said += 1;
            pace.said <= A_SECOND
        })
    }

    /// Takes part in the claims of a runner that wait, if there is room.
    pub fn wait(&self, runner: &str) -> Option<WaitingClaim<'_>> {
        let has_room = self.of(runner, |pace| {
            let has_room = pace.claims < CLAIMS;
            pace.claims += u32::from(has_room);
            has_room
        });
        has_room.then(|| WaitingClaim { pace: self, runner: runner.to_owned() })
    }
}

/// The claim of a runner that waits.
pub(crate) struct WaitingClaim<'p> {
    pace: &'p RunnerPace,
    runner: String,
}

impl Drop for WaitingClaim<'_> {
    fn drop(&mut self) {
        self.pace.of(&self.runner, |pace| pace.claims = pace.claims.saturating_sub(1));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_says_too_much_is_not_listened_to_and_others_are() {
        let pace = RunnerPace::default();
        let taken = (0..A_SECOND * 3).filter(|_| pace.may_speak("loud")).count();
        assert!((1_000..3_000).contains(&taken), "{taken}");
        assert!(pace.may_speak("quiet"));
        let waiting: Vec<_> = (0..CLAIMS + 3).map(|_| pace.wait("loud")).collect();
        assert_eq!(waiting.iter().flatten().count(), CLAIMS as usize);
        assert!(pace.wait("quiet").is_some());
        drop(waiting);
        assert!(pace.wait("loud").is_some(), "those that are over give their room back");
    }
}
