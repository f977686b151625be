//! Whether the node does its work: when it committed last, whether its background tasks are alive,
//! and whether it is about to stop.
//!
//! Who begins tasks again is `supervise`; what of this makes a node not ready is told by
//! `api/health`.

use std::{
    collections::BTreeMap,
    sync::{
        Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::watch;

/// How old the last commit of a node that is ready may be: five heartbeats.
const FRESH: Duration = Duration::from_secs(10);
/// What a node knows of itself.
#[derive(Debug)]
pub(crate) struct Vitals {
    begun: Instant,
    known: Mutex<Observed>,
    /// Why the node cannot go on; none while it can.
    given_up: watch::Sender<Option<String>>,
    /// Whether it is about to stop: balancers are to send nothing more.
    leaving: AtomicBool,
}

#[derive(Debug, Default)]
struct Observed {
    /// When the last commit of its own was made.
    committed: Option<Instant>,
    /// The tasks that have ended and are not begun again yet, and why.
    down: BTreeMap<&'static str, String>,
}

impl Default for Vitals {
    fn default() -> Self {
        Self {
            begun: Instant::now(),
            known: Mutex::default(),
            given_up: watch::channel(None).0,
            leaving: AtomicBool::new(false),
        }
    }
}

impl Vitals {
    fn known(&self) -> MutexGuard<'_, Observed> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Notes a commit of its own.
    pub fn committed(&self) {
        self.known().committed = Some(Instant::now());
    }

    /// How old its last commit is; before the first, how long it has been trying.
    pub fn age_of_commit(&self) -> Duration {
        self.known().committed.unwrap_or(self.begun).elapsed()
    }

    /// Whether it has committed of late.
    pub fn is_fresh(&self) -> bool {
        self.known().committed.is_some_and(|at| at.elapsed() <= FRESH)
    }

    /// Why the node does not work, if that is so. Asks nobody, and answers at once.
    pub fn fault(&self) -> Option<String> {
        if let Some(why) = self.given_up.borrow().clone() {
            return Some(why);
        }
        if self.is_leaving() {
            return Some("it is about to stop".to_owned());
        }
        if let Some((task, why)) = self.known().down.first_key_value() {
            return Some(format!("its task `{task}` has ended ({why}) and is begun again"));
        }
        match self.known().committed {
            None => Some(
                "it has not committed anything yet: the database does not answer, or only reads"
                    .to_owned(),
            ),
            Some(at) if at.elapsed() > FRESH => {
                let age = at.elapsed().as_secs_f64();
                Some(format!(
                    "its last commit is {age:.0} s old: the database does not answer, or only reads"
                ))
            }
            Some(_) => None,
        }
    }

    /// Notes that it is about to stop.
    pub fn leaves(&self) {
        self.leaving.store(true, Ordering::Relaxed);
    }

    /// Whether it is about to stop.
    pub fn is_leaving(&self) -> bool {
        self.leaving.load(Ordering::Relaxed)
    }

    /// Notes that a task has ended, and is begun again after a wait.
    pub fn down(&self, task: &'static str, why: String) {
        self.known().down.insert(task, why);
    }

    /// Notes that a task is begun again.
    pub fn up(&self, task: &'static str) {
        self.known().down.remove(task);
    }

    /// Notes that the node cannot go on.
    pub fn give_up(&self, why: String) {
        self.given_up.send_replace(Some(why));
    }

    /// Whether the node cannot go on.
    pub fn has_given_up(&self) -> bool {
        self.given_up.borrow().is_some()
    }

    /// Ends when the node cannot go on, with the reason.
    pub async fn gives_up(&self) -> String {
        let mut given_up = self.given_up.subscribe();
        let why = given_up.wait_for(Option::is_some).await.ok().and_then(|why| why.clone());
        why.unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_node_that_has_not_committed_of_late_is_not_ready() {
        let vitals = Vitals::default();
        assert!(
            vitals
                .fault()
                .is_some_and(|fault| fault.starts_with("it has not committed anything yet"))
        );
        vitals.committed();
        assert_eq!(vitals.fault(), None);
        vitals.known().committed = Instant::now().checked_sub(FRESH + Duration::from_secs(1));
        assert_eq!(
            vitals.fault().as_deref(),
            Some("its last commit is 11 s old: the database does not answer, or only reads")
        );
    }
}
