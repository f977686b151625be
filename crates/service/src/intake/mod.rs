//! Taking alerts in: the way from a delivery to the commit.
//!
//! Deliveries wait in a bounded queue; the pipeline takes what has gathered, decides and commits
//! it in one transaction, and only then is each sender answered. While one batch is being
//! committed the next gathers, so the busier it gets the larger the batches are.

mod due;

pub(crate) use due::watch_due;

use crate::{metrics::SourceLabel, node::Node};
use arvok_api::TakenAlert;
use arvok_core::Alert;
use arvok_store::intake;
use std::{sync::Arc, time::Instant};
use tokio::sync::{mpsc, oneshot};

/// Deliveries that may wait.
pub(crate) const QUEUE: usize = 1024;
/// Most alerts of one transaction; a single delivery may hold more.
const BATCH: usize = 512;
/// Batches that are committed side by side.
pub(crate) const LANES: usize = 2;

/// Alerts of one payload, and where the answer goes.
#[derive(Debug)]
pub(crate) struct Delivery {
    pub alerts: Vec<Alert>,
    pub answer: oneshot::Sender<Result<Vec<TakenAlert>, NotTaken>>,
}

/// Why alerts were not taken; nothing of them was kept.
#[derive(Clone, Debug, thiserror::Error)]
pub(crate) enum NotTaken {
    #[error("too many deliveries are waiting")]
    Full,
    #[error("the records cannot be written at the moment")]
    Store,
}

/// Hands alerts to the pipeline and waits for the commit.
pub(crate) async fn deliver(node: &Node, alerts: Vec<Alert>) -> Result<Vec<TakenAlert>, NotTaken> {
    if alerts.is_empty() {
        return Ok(Vec::new());
    }
    let (answer, taken) = oneshot::channel();
    node.pipeline.try_send(Delivery { alerts, answer }).map_err(|_| {
        node.metrics.refused.inc();
        NotTaken::Full
    })?;
    taken.await.unwrap_or(Err(NotTaken::Store))
}

type Queue = Arc<tokio::sync::Mutex<mpsc::Receiver<Delivery>>>;

/// Commits what gathers until all senders are gone.
pub(crate) async fn pipeline(node: Arc<Node>, queue: Queue) {
    while let Some(batch) = gather(&queue).await {
        commit(&node, batch).await;
    }
}

async fn gather(queue: &Queue) -> Option<Vec<Delivery>> {
    let mut queue = queue.lock().await;
    let first = queue.recv().await?;
    let mut size = first.alerts.len();
    let mut batch = vec![first];
    while size < BATCH {
        let Ok(next) = queue.try_recv() else { break };
        size += next.alerts.len();
        batch.push(next);
    }
    Some(batch)
}

async fn commit(node: &Node, batch: Vec<Delivery>) {
    let begun = Instant::now();
    let (mut alerts, mut answers) = (Vec::new(), Vec::new());
    for delivery in batch {
        answers.push((delivery.alerts.len(), delivery.answer));
        alerts.extend(delivery.alerts);
    }
    let published = node.published();
    match intake::take(&node.db, published.rules(), &alerts).await {
        Ok(done) => {
            if !done.jobs.is_empty() {
                node.work.notify_one();
            }
            if done.due.is_some() {
                node.due.notify_one();
            }
            observe(node, &alerts, &done, begun);
            let mut taken = done.taken.into_iter();
            for (count, answer) in answers {
                let _ = answer.send(Ok(taken.by_ref().take(count).collect()));
            }
        }
        Err(e) => {
            tracing::error!(alerts = alerts.len(), "a batch was not taken: {e}");
            for (_, answer) in answers {
                let _ = answer.send(Err(NotTaken::Store));
            }
        }
    }
}

fn observe(node: &Node, alerts: &[Alert], done: &intake::Batch, begun: Instant) {
    let metrics = &node.metrics;
    metrics.commit_seconds.observe(begun.elapsed().as_secs_f64());
    metrics.batch_alerts.observe(alerts.len() as f64);
    for (alert, taken) in alerts.iter().zip(&done.taken) {
        let label = SourceLabel { source: alert.source.clone() };
        let family = if taken.duplicate { &metrics.repeated } else { &metrics.alerts };
        family.get_or_create(&label).inc();
    }
    for (rule, why) in &done.broken {
        metrics.rule_errors.get_or_create(&crate::metrics::RuleLabel { rule: rule.clone() }).inc();
        tracing::warn!(rule, "the rule cannot decide: {why}");
    }
}
