//! Taking alerts in: the way from a delivery to the commit.
//!
//! Deliveries wait in a queue that is bounded by what they weigh; the pipeline takes what has
//! gathered, decides and commits it in one transaction, and only then is each sender answered.
//! While one batch is being committed the next gathers, and is committed beside it only once it is
//! worth that; so the busier it gets the larger the batches are. A batch that cannot be taken is
//! halved until the culprit is alone; it is kept as unreadable and its neighbours are taken.

mod accept;
mod clear;
mod due;

pub(crate) use accept::{Again, ReceivedMessage, accept, accept_again, bytes_of};
pub(crate) use clear::{NotCleared, clear_alarm, end_trials};
pub(crate) use due::watch_due;

use crate::{
    admission::{Admission, Delivery, NotTaken, Queue},
    metrics::{Metrics, RuleLabel, SourceLabel},
    node::Node,
};
use arvok_store::{
    Class, StoreError,
    intake::{self, Payload, TakenBatch, TakenPayload, Writer, not_taken},
};
use futures_util::FutureExt;
use std::{panic::AssertUnwindSafe, sync::Arc, time::Instant};
use tokio::sync::oneshot;

/// Most alerts of one transaction; a single delivery may hold more.
const BATCH: usize = 1024;
/// Most bytes of deliveries in one transaction, as they were received.
const BATCH_BYTES: usize = 2 << 20;
/// Batches that are committed side by side.
pub(crate) const LANES: usize = 3;
/// Most reloads for one batch: on a busy machine each may find that somebody was quicker again.
const RELOADS: u32 = 16;

/// Hands a payload to the pipeline and waits for the commit.
pub(crate) async fn deliver(
    node: &Node,
    payload: Payload,
    admission: Admission,
) -> Result<TakenPayload, NotTaken> {
    if payload.alerts.is_empty() && payload.malformed.is_empty() {
        return Ok(TakenPayload::default());
    }
    let (answer, taken) = oneshot::channel();
    if !node.admission.send(Delivery { payload, answer, admission }) {
        return Err(NotTaken::Store);
    }
    taken.await.unwrap_or(Err(NotTaken::Store))
}

/// Commits what gathers until all senders are gone.
pub(crate) async fn pipeline(node: Arc<Node>, queue: Queue, shard: i16) {
    let mut writer = Writer { shard, ..Writer::default() };
    while let Some((batch, committing)) = queue.gather(BATCH, BATCH_BYTES).await {
        if let Some(first) = batch.first() {
            node.metrics.intake.queue_seconds.observe(first.admission.waited().as_secs_f64());
        }
        commit(&node, batch, &mut writer).await;
        drop(committing);
    }
}

/// Commits a batch; one that cannot be taken is halved until what is at fault is alone.
async fn commit(node: &Node, batch: Vec<Delivery>, writer: &mut Writer) {
    let mut waiting = vec![batch];
    while let Some(mut batch) = waiting.pop() {
        let begun = Instant::now();
        let payloads: Vec<&Payload> = batch.iter().map(|d| &d.payload).collect();
        match taken(node, &payloads, writer).await {
            Ok(done) => settled(node, batch, done, begun),
            Err(BatchError { reason, lasting: false }) => {
                tracing::error!(deliveries = batch.len(), "a batch was not taken: {reason}");
                batch.into_iter().for_each(|d| drop(d.answer.send(Err(NotTaken::Store))));
            }
            Err(_) if batch.len() > 1 => {
                let second = batch.split_off(batch.len() / 2);
                waiting.extend([second, batch]);
            }
            Err(BatchError { reason, .. }) => {
                for delivery in batch {
                    keep(node, delivery, &reason, writer).await;
                }
            }
        }
    }
}

/// Why a batch was not taken.
struct BatchError {
    reason: String,
    /// Whether the same batch will never be taken.
    lasting: bool,
}

impl From<StoreError> for BatchError {
    fn from(e: StoreError) -> Self {
        Self { lasting: e.class() == Class::Lasting, reason: e.to_string() }
    }
}

/// Takes a batch by what is published now; if that is not known here yet, it is loaded first.
async fn taken(
    node: &Node,
    payloads: &[&Payload],
    writer: &mut Writer,
) -> Result<TakenBatch, BatchError> {
    for _ in 0..RELOADS {
        let published = node.published();
        let taking =
            AssertUnwindSafe(intake::record(&node.pools.work, published.rules(), payloads, writer))
                .catch_unwind();
        match taking.await {
            Err(_) => {
                let reason = "deciding about it ended unexpectedly; the log says where".to_owned();
                return Err(BatchError { reason, lasting: true });
            }
            Ok(Err(StoreError::Stale(generation))) => {
                node.know(generation).await.map_err(|e| BatchError {
                    reason: format!("what is published cannot be loaded: {e}"),
                    lasting: false,
                })?
            }
            Ok(Err(e)) => return Err(e.into()),
            Ok(Ok(batch)) => return Ok(batch),
        }
    }
    Err(BatchError { reason: "more is published all the time".into(), lasting: false })
}

fn settled(node: &Node, batch: Vec<Delivery>, done: TakenBatch, begun: Instant) {
    if !done.change.jobs.is_empty() {
        node.wakeups.jobs.notify_one();
    }
    if done.due.is_some() {
        node.wakeups.due.notify_one();
    }
    node.vitals.committed();
    observe(&node.metrics, &batch, &done, begun);
    for (delivery, taken) in batch.into_iter().zip(done.taken) {
        let _ = delivery.answer.send(Ok(taken));
    }
    node.announcer.tell(done.change);
}

/// Keeps alerts that can never be recorded, each as it came, so that it can be read again; and
/// tells their sender.
async fn keep(node: &Node, delivery: Delivery, reason: &str, writer: &mut Writer) {
    let Payload { source, received, alerts, mut malformed, is_past } = delivery.payload;
    let source_of = source.clone();
    let first = malformed.len();
    malformed.extend(
        alerts.iter().map(|alert| not_taken(alert, format!("cannot be recorded: {reason}"))),
    );
    let payload = Payload { source, received, alerts: Vec::new(), malformed, is_past };
    let answer = match taken(node, &[&payload], writer).await {
        Ok(done) => {
            node.announcer.tell(done.change);
            node.metrics.intake.unreadable.get_or_create(&SourceLabel { source: source_of }).inc();
            let id =
                done.taken.first().and_then(|t| t.kept.get(first)).copied().unwrap_or_default();
            Err(NotTaken::Malformed { id, reason: reason.to_owned() })
        }
        Err(BatchError { reason, .. }) => {
            tracing::error!("a payload could not even be kept: {reason}");
            Err(NotTaken::Store)
        }
    };
    let _ = delivery.answer.send(answer);
}

fn observe(metrics: &Metrics, batch: &[Delivery], done: &TakenBatch, begun: Instant) {
    let took = begun.elapsed().as_secs_f64();
    metrics.intake.commit_seconds.observe(took);
    // The newest counts for a tenth.
    metrics.intake.commit_of_late.set(metrics.intake.commit_of_late.get() * 0.9 + took * 0.1);
    metrics
        .intake
        .batch_alerts
        .observe(batch.iter().map(|d| d.payload.alerts.len()).sum::<usize>() as f64);
    for (delivery, taken) in batch.iter().zip(&done.taken) {
        let label = SourceLabel { source: delivery.payload.source.clone() };
        let repeated = taken.alerts.iter().filter(|a| a.duplicate).count() as u64;
        metrics.intake.alerts.get_or_create(&label).inc_by(taken.alerts.len() as u64 - repeated);
        if repeated > 0 {
            metrics.intake.repeated.get_or_create(&label).inc_by(repeated);
        }
        let conflicts = taken.alerts.iter().filter(|a| a.conflict.is_some()).count() as u64;
        if conflicts > 0 {
            metrics.intake.conflicts.get_or_create(&label).inc_by(conflicts);
        }
        let malformed = &delivery.payload.malformed;
        let caught = malformed.iter().filter(|m| m.caught).count();
        for (family, count) in [
            (&metrics.intake.caught, caught),
            (&metrics.intake.unreadable, malformed.len() - caught),
        ] {
            if count > 0 {
                family.get_or_create(&label).inc_by(count as u64);
            }
        }
    }
    for (rule, why) in &done.broken {
        metrics.intake.rule_errors.get_or_create(&RuleLabel { rule: rule.clone() }).inc();
        tracing::debug!(rule, "the rule cannot decide: {why}");
    }
}
