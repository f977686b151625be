//! Counters and gauges in the OpenMetrics text format.

use prometheus_client::{
    encoding::{EncodeLabelSet, text::encode},
    metrics::{counter::Counter, family::Family, gauge::Gauge, histogram::Histogram},
    registry::Registry,
};
use std::sync::atomic::AtomicU64;

/// The label of a source.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
pub(crate) struct SourceLabel {
    pub source: String,
}

/// The label of a job's end.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
pub(crate) struct EndLabel {
    pub runbook: String,
    pub state: String,
}

/// The label of a rule.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
pub(crate) struct RuleLabel {
    pub rule: String,
}

/// All of this node's numbers.
#[derive(Debug)]
pub(crate) struct Metrics {
    registry: Registry,
    pub alerts: Family<SourceLabel, Counter>,
    pub repeated: Family<SourceLabel, Counter>,
    pub unreadable: Family<SourceLabel, Counter>,
    pub refused: Counter,
    pub commit_seconds: Histogram,
    pub batch_alerts: Histogram,
    pub rule_errors: Family<RuleLabel, Counter>,
    pub jobs_ended: Family<EndLabel, Counter>,
    pub jobs_running: Gauge,
    pub streams: Gauge,
    pub queue_seconds: Histogram,
    pub intake_bytes: Gauge,
    pub set_aside: Counter,
    pub generation: Gauge,
    pub faulty_definitions: Gauge,
    pub clock_offset: Gauge<f64, AtomicU64>,
    pub commit_of_late: Gauge<f64, AtomicU64>,
    pub oldest_delivery: Gauge<f64, AtomicU64>,
    pub aside: Gauge,
    pub overdue: Gauge<f64, AtomicU64>,
    pub lock_waits: Gauge,
    pub queued: Gauge,
}

impl Metrics {
    pub fn new() -> Self {
        let seconds = [0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0];
        let sizes = [1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0, 200.0, 500.0];
        let mut m = Self {
            registry: Registry::default(),
            alerts: Family::default(),
            repeated: Family::default(),
            unreadable: Family::default(),
            refused: Counter::default(),
            commit_seconds: Histogram::new(seconds),
            batch_alerts: Histogram::new(sizes),
            rule_errors: Family::default(),
            jobs_ended: Family::default(),
            jobs_running: Gauge::default(),
            streams: Gauge::default(),
            queue_seconds: Histogram::new(seconds),
            intake_bytes: Gauge::default(),
            set_aside: Counter::default(),
            generation: Gauge::default(),
            faulty_definitions: Gauge::default(),
            clock_offset: Gauge::default(),
            commit_of_late: Gauge::default(),
            oldest_delivery: Gauge::default(),
            aside: Gauge::default(),
            overdue: Gauge::default(),
            lock_waits: Gauge::default(),
            queued: Gauge::default(),
        };
        let r = &mut m.registry;
        r.register("arvok_alerts", "Alerts recorded", m.alerts.clone());
        r.register("arvok_alerts_repeated", "Deliveries of an id that had come before", m.repeated.clone());
        r.register("arvok_payloads_unreadable", "Payloads that could not be read", m.unreadable.clone());
        r.register("arvok_deliveries_refused", "Deliveries refused because the node is full", m.refused.clone());
        r.register("arvok_commit_seconds", "Time of one batch's transaction", m.commit_seconds.clone());
        r.register("arvok_batch_alerts", "Alerts in one batch", m.batch_alerts.clone());
        r.register("arvok_rule_errors", "Evaluations of a rule that went wrong", m.rule_errors.clone());
        r.register("arvok_jobs_ended", "Jobs ended on this node", m.jobs_ended.clone());
        r.register("arvok_jobs_running", "Jobs running on this node", m.jobs_running.clone());
        r.register("arvok_streams", "Open event streams", m.streams.clone());
        r.register(
            "arvok_intake_queue_seconds",
            "How long the oldest delivery of a batch had waited",
            m.queue_seconds.clone(),
        );
        r.register("arvok_intake_bytes", "Bytes of deliveries under way", m.intake_bytes.clone());
        r.register(
            "arvok_due_set_aside",
            "Due times that could not be handled and were set aside",
            m.set_aside.clone(),
        );
        r.register(
            "arvok_generation",
            "The generation of what is published, as far as this node knows",
            m.generation.clone(),
        );
        r.register(
            "arvok_faulty_definitions",
            "Published definitions that this node cannot compile",
            m.faulty_definitions.clone(),
        );
        r.register("arvok_commit_recent_seconds", "How long a commit takes of late", m.commit_of_late.clone());
        r.register(
            "arvok_intake_oldest_seconds",
            "How long the oldest delivery under way has been waiting",
            m.oldest_delivery.clone(),
        );
        r.register("arvok_due_aside", "Due times that are set aside at the moment, on all nodes", m.aside.clone());
        r.register(
            "arvok_due_overdue_seconds",
            "How long the earliest due time has passed without being looked at, on all nodes",
            m.overdue.clone(),
        );
        r.register("arvok_lock_waits", "Statements that wait for a lock, of all nodes", m.lock_waits.clone());
        r.register("arvok_jobs_queued", "Jobs that wait for their turn, on all nodes", m.queued.clone());
        r.register("arvok_clock_offset_seconds", "How far the database's clock is ahead", m.clock_offset.clone());
        m
    }

    /// The text of `/metrics`.
    pub fn text(&self) -> String {
        let mut text = String::new();
        let _ = encode(&mut text, &self.registry);
        text
    }
}
