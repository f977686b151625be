//! Keeps background tasks alive: one that ends is begun again after a growing wait, and one that
//! ends again and again ends the node.
//!
//! Who stops the process is whoever started the node.

use crate::node::Node;
use std::{
    future::Future,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::task::JoinHandle;

/// The wait before a task is begun again, and the longest.
const WAIT: (Duration, Duration) = match cfg!(test) {
    true => (Duration::from_millis(2), Duration::from_millis(8)),
    false => (Duration::from_millis(100), Duration::from_secs(10)),
};
/// A task that was alive for so long is as good as new.
const STEADY: Duration = Duration::from_secs(60);
/// How often in a row a task may end before the node gives up.
const ENDS: u32 = 10;

/// Keeps a task alive until the node stops. What it does is begun anew each time by `make`.
pub(crate) async fn supervise<F: Future<Output = ()> + Send + 'static>(
    node: Arc<Node>,
    name: &'static str,
    mut make: impl FnMut() -> F,
) {
    let mut stopping = node.stopping.clone();
    node.metrics.task_begins(name);
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
            node.vitals.give_up(why);
            return;
        }
        tracing::error!(task = name, "a background task has ended ({ended}) and is begun again");
        node.vitals.down(name, ended);
        tokio::select! {
            _ = stopping.changed() => return,
            () = tokio::time::sleep(wait) => {}
        }
        wait = (wait * 2).min(WAIT.1);
        node.vitals.up(name);
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
                    let text = text
                        .or_else(|| panic.downcast_ref::<&str>().copied())
                        .unwrap_or("it panicked");
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
    use std::sync::atomic::{AtomicU32, Ordering};

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
}
