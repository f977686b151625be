//! Counters and gauges in the OpenMetrics text format.

use prometheus_client::{
    encoding::{EncodeLabelSet, text::encode},
    metrics::{counter::Counter, family::Family, gauge::Gauge, histogram::Histogram, info::Info},
    registry::{Metric, Registry},
};
use std::sync::atomic::AtomicU64;

/// The label of a source.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
pub(crate) struct SourceLabel {
    pub source: String,
}

/// The labels of an optional line of a source.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
pub(crate) struct LineLabel {
    pub source: String,
    pub line: &'static str,
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

/// The label of a background task.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
pub(crate) struct TaskLabel {
    pub task: &'static str,
}

/// All of this node's numbers.
#[derive(Debug)]
pub(crate) struct Metrics {
    registry: Registry,
    pub alerts: Family<SourceLabel, Counter>,
    pub repeated: Family<SourceLabel, Counter>,
    pub unreadable: Family<SourceLabel, Counter>,
    /// Alerts whose id came before with other content.
    pub conflicts: Family<SourceLabel, Counter>,
    pub refused_senders: Family<SourceLabel, Counter>,
    pub absent: Family<LineLabel, Counter>,
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
    pub database_up: Gauge,
    tasks_ended: Family<TaskLabel, Counter>,
    pub commit_age: Gauge<f64, AtomicU64>,
    pub log_lines_lost: Gauge,
}

const SECONDS: [f64; 12] = [0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0];
const SIZES: [f64; 9] = [1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0, 200.0, 500.0];

/// Registers a metric under its name, with what it says.
fn kept<M: Metric + Clone>(registry: &mut Registry, name: &str, says: &str, metric: M) -> M {
    registry.register(name, says, metric.clone());
    metric
}

/// One that begins with nothing.
fn plain<M: Metric + Clone + Default>(registry: &mut Registry, name: &str, says: &str) -> M {
    kept(registry, name, says, M::default())
}

impl Metrics {
    pub fn new() -> Self {
        let mut r = Registry::default();
        let build = Info::new([("version", env!("CARGO_PKG_VERSION"))]);
        r.register("arvok_build", "The program of this node", build);
        Self {
            alerts: plain(&mut r, "arvok_alerts", "Alerts recorded"),
            repeated: plain(&mut r, "arvok_alerts_repeated", "Deliveries of an id that had come before"),
            conflicts: plain(
                &mut r,
                "arvok_alert_id_conflicts",
                "Alerts that were not taken since their id came before with other content",
            ),
            unreadable: plain(&mut r, "arvok_payloads_unreadable", "Payloads that could not be read"),
            refused_senders: plain(
                &mut r,
                "arvok_senders_refused",
                "Deliveries whose sender showed no or a wrong credential",
            ),
            absent: plain(&mut r, "arvok_read_absent", "Optional lines of read that gave nothing"),
            refused: plain(&mut r, "arvok_deliveries_refused", "Deliveries refused because the node is full"),
            commit_seconds: kept(
                &mut r,
                "arvok_commit_seconds",
                "Time of one batch's transaction",
                Histogram::new(SECONDS),
            ),
            batch_alerts: kept(&mut r, "arvok_batch_alerts", "Alerts in one batch", Histogram::new(SIZES)),
            rule_errors: plain(&mut r, "arvok_rule_errors", "Evaluations of a rule that went wrong"),
            jobs_ended: plain(&mut r, "arvok_jobs_ended", "Jobs ended on this node"),
            jobs_running: plain(&mut r, "arvok_jobs_running", "Jobs running on this node"),
            streams: plain(&mut r, "arvok_streams", "Open event streams"),
            queue_seconds: kept(
                &mut r,
                "arvok_intake_queue_seconds",
                "How long the oldest delivery of a batch had waited",
                Histogram::new(SECONDS),
            ),
            intake_bytes: plain(&mut r, "arvok_intake_bytes", "Bytes of deliveries under way"),
            set_aside: plain(&mut r, "arvok_due_set_aside", "Due times that could not be handled and were set aside"),
            generation: plain(
                &mut r,
                "arvok_generation",
                "The generation of what is published, as far as this node knows",
            ),
            faulty_definitions: plain(
                &mut r,
                "arvok_faulty_definitions",
                "Published definitions that this node cannot compile",
            ),
            commit_of_late: plain(&mut r, "arvok_commit_recent_seconds", "How long a commit takes of late"),
            oldest_delivery: plain(
                &mut r,
                "arvok_intake_oldest_seconds",
                "How long the oldest delivery under way has been waiting",
            ),
            aside: plain(&mut r, "arvok_due_aside", "Due times that are set aside at the moment, on all nodes"),
            overdue: plain(
                &mut r,
                "arvok_due_overdue_seconds",
                "How long the earliest due time has passed without being looked at, on all nodes",
            ),
            lock_waits: plain(&mut r, "arvok_lock_waits", "Statements that wait for a lock, of all nodes"),
            queued: plain(&mut r, "arvok_jobs_queued", "Jobs that wait for their turn, on all nodes"),
            database_up: plain(&mut r, "arvok_database_up", "1 while the last commit of this node is fresh, else 0"),
            tasks_ended: plain(&mut r, "arvok_tasks_ended", "Background tasks that ended and were begun again"),
            commit_age: plain(&mut r, "arvok_commit_age_seconds", "How old the last commit of this node is"),
            log_lines_lost: plain(&mut r, "arvok_log_lines_lost", "Lines of the log that could not be written"),
            clock_offset: plain(
                &mut r,
                "arvok_clock_offset_seconds",
                "How far this node's clock is ahead of the database's",
            ),
            registry: r,
        }
    }

    /// The text of `/metrics`.
    /// A background task has ended.
    pub fn task_ended(&self, task: &'static str) {
        self.tasks_ended.get_or_create(&TaskLabel { task }).inc();
    }

    pub fn text(&self) -> String {
        let mut text = String::new();
        let _ = encode(&mut text, &self.registry);
        text
    }
}
