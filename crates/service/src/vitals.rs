//! Whether the node does its work: when it committed last, and whether its background tasks are alive. A task that ends is begun again;
//! one that ends again and again ends the node.
//!
//! What of this makes a node not ready says `api/health`; who stops the process is whoever started the node.

use crate::node::Node;
use std::{
    collections::BTreeMap,
    future::Future,
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::{sync::watch, task::JoinHandle};

/// How old the last commit of a node that is ready may be: five heartbeats.
const FRESH: Duration = Duration::from_secs(10);
/// The wait before a task is begun again, and the longest.
const WAIT: (Duration, Duration) = match cfg!(test) {
    true => (Duration::from_millis(2), Duration::from_millis(8)),
    false => (Duration::from_millis(100), Duration::from_secs(10)),
};
/// A task that was alive for so long is as good as new.
const STEADY: Duration = Duration::from_secs(60);
/// How often in a row a task may end before the node gives up.
const ENDS: u32 = 10;

/// What a node knows of itself.
#[derive(Debug)]
pub(crate) struct Vitals {
    begun: Instant,
    known: Mutex<Known>,
    /// Why the node cannot go on; none while it can.
    given_up: watch::Sender<Option<String>>,
    /// Whether it is about to stop: balancers are to send nothing more.
    leaving: AtomicBool,
}

#[derive(Debug, Default)]
struct Known {
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
    fn known(&self) -> MutexGuard<'_, Known> {
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
            None => Some("it has not committed anything yet: the database does not answer, or only reads".to_owned()),
            Some(at) if at.elapsed() > FRESH => {
                let age = at.elapsed().as_secs_f64();
                Some(format!("its last commit is {age:.0} s old: the database does not answer, or only reads"))
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

    /// Ends when the node cannot go on, with the reason.
    pub async fn gives_up(&self) -> String {
        let mut given_up = self.given_up.subscribe();
        let why = given_up.wait_for(Option::is_some).await.ok().and_then(|why| why.clone());
        why.unwrap_or_default()
    }
}

/// Keeps a task alive until the node stops. What it does is begun anew each time by `make`.
pub(crate) async fn supervise<F: Future<Output = ()> + Send + 'static>(
    node: Arc<Node>,
    name: &'static str,
    mut make: impl FnMut() -> F,
) {
    let mut stopping = node.stopping.clone();
    let (mut wait, mut ends) = (WAIT.0, 0);
    loop {
        let begun = Instant::now();
        let ended = Held(tokio::spawn(make())).ended().await;
        if *stopping.borrow() {
            return;
        }
        if begun.elapsed() >= STEADY {
            (wait, ends) = (WAIT.0, 0);
        }
        ends += 1;
        node.metrics.task_ended(name);
        if ends >= ENDS {
            let why = format!("its task `{name}` has ended {ends} times in a row ({ended})");
            tracing::error!("this node gives up: {why}");
            node.vitals.given_up.send_replace(Some(why));
            return;
        }
        tracing::error!(task = name, "a background task has ended ({ended}) and is begun again");
        node.vitals.known().down.insert(name, ended);
        tokio::select! {
            _ = stopping.changed() => return,
            () = tokio::time::sleep(wait) => {}
        }
        wait = (wait * 2).min(WAIT.1);
        node.vitals.known().down.remove(name);
    }
}

/// A task that ends with whoever holds it.
struct Held(JoinHandle<()>);

impl Held {
    /// Why it ended.
    async fn ended(mut self) -> String {
        match (&mut self.0).await {
            Ok(()) => "it returned".to_owned(),
            Err(e) => match e.try_into_panic() {
                Ok(panic) => {
                    let text = panic.downcast_ref::<String>().map(String::as_str);
                    let text = text.or_else(|| panic.downcast_ref::<&str>().copied()).unwrap_or("it panicked");
                    arvok_core::text::cut(text, 200).to_owned()
                }
                Err(_) => "it was cut off".to_owned(),
            },
        }
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        self.0.abort();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::Desk;
    use std::sync::atomic::AtomicU32;

    #[actix_web::test]
    async fn a_task_that_ends_is_begun_again_and_told_of_meanwhile() {
        let desk = Desk::new().await;
        let node = desk.node.clone().into_inner();
        let begun = Arc::new(AtomicU32::new(0));
        let (count, told) = (Arc::clone(&begun), Arc::new(tokio::sync::Notify::new()));
        let tell = Arc::clone(&told);
        let task = tokio::spawn(supervise(Arc::clone(&node), "drill", move || {
            let (nth, tell) = (count.fetch_add(1, Ordering::SeqCst), Arc::clone(&tell));
            async move {
                match nth {
                    0 => panic!("the first falls"),
                    1 => {}
                    _ => {
                        tell.notify_one();
                        std::future::pending::<()>().await;
                    }
                }
            }
        }));
        while node.vitals.fault().is_none() {
            tokio::task::yield_now().await;
        }
        let fault = "its task `drill` has ended (the first falls) and is begun again";
        assert_eq!(node.vitals.fault().as_deref(), Some(fault));
        told.notified().await;
        assert_eq!((begun.load(Ordering::SeqCst), node.vitals.fault()), (3, None));
        assert!(node.metrics.text().contains("arvok_tasks_ended_total{task=\"drill\"} 2"));
        task.abort();
    }

    #[actix_web::test]
    async fn a_node_whose_task_ends_again_and_again_gives_up() {
        let desk = Desk::new().await;
        let node = desk.node.clone().into_inner();
        supervise(Arc::clone(&node), "drill", || async {}).await;
        let why = "its task `drill` has ended 10 times in a row (it returned)";
        assert_eq!(node.vitals.gives_up().await, why);
        assert_eq!(node.vitals.fault().as_deref(), Some(why));
    }

    #[test]
    fn a_node_that_has_not_committed_of_late_is_not_ready() {
        let vitals = Vitals::default();
        assert!(vitals.fault().is_some_and(|fault| fault.starts_with("it has not committed anything yet")));
        vitals.committed();
        assert_eq!(vitals.fault(), None);
        vitals.known().committed = Instant::now().checked_sub(FRESH + Duration::from_secs(1));
        assert_eq!(
            vitals.fault().as_deref(),
            Some("its last commit is 11 s old: the database does not answer, or only reads")
        );
    }
}
