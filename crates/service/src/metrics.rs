//! Counters and gauges in the OpenMetrics text format.

use arvok_api::CallState;
use arvok_core::{Catalog, Kind, job::JobState, plan};
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

/// The label of a connection.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
pub(crate) struct ConnectionLabel {
    pub connection: String,
}

/// The labels of a call's end.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
pub(crate) struct CallLabel {
    pub connection: String,
    pub ended: &'static str,
}

/// The label of a runbook.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
pub(crate) struct RunbookLabel {
    pub runbook: String,
}

/// The label of a subscriber.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
pub(crate) struct SubscriberLabel {
    pub subscriber: String,
}

/// The labels of connections to the database.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
pub(crate) struct PoolLabel {
    pub pool: &'static str,
    pub state: &'static str,
}

type Timed<L> = Family<L, Histogram, fn() -> Histogram>;
type Seconds = Gauge<f64, AtomicU64>;

/// All of this node's numbers.
#[derive(Debug)]
pub(crate) struct Metrics {
    registry: Registry,
    pub intake: Intake,
    pub work: Work,
    pub own: Own,
}

/// What came, and what rules made of it.
#[derive(Debug)]
pub(crate) struct Intake {
    pub alerts: Family<SourceLabel, Counter>,
    pub repeated: Family<SourceLabel, Counter>,
    pub unreadable: Family<SourceLabel, Counter>,
    /// Payloads that are kept since their source does not say how they are read.
    pub caught: Family<SourceLabel, Counter>,
    /// Alerts whose id came before with other content.
    pub conflicts: Family<SourceLabel, Counter>,
    pub refused_senders: Family<SourceLabel, Counter>,
    pub over_limit: Family<SourceLabel, Counter>,
    pub absent: Family<LineLabel, Counter>,
    pub refused: Counter,
    pub commit_seconds: Histogram,
    pub commit_of_late: Seconds,
    pub batch_alerts: Histogram,
    pub queue_seconds: Histogram,
    pub bytes: Gauge,
    pub oldest_delivery: Seconds,
    pub rule_errors: Family<RuleLabel, Counter>,
    pub set_aside: Counter,
    pub aside: Gauge,
    pub overdue: Seconds,
}

/// Jobs, their calls, and what leaves.
#[derive(Debug)]
pub(crate) struct Work {
    pub jobs_ended: Family<EndLabel, Counter>,
    pub jobs_running: Gauge,
    pub queued: Gauge,
    pub halted: Gauge,
    pub job_seconds: Timed<RunbookLabel>,
    pub calls: Family<CallLabel, Counter>,
    pub call_seconds: Timed<ConnectionLabel>,
    pub outbox: Gauge,
    pub leaving: Family<SubscriberLabel, Gauge>,
    pub leaving_oldest: Family<SubscriberLabel, Seconds>,
}

/// The node itself.
#[derive(Debug)]
pub(crate) struct Own {
    pub streams: Gauge,
    pub generation: Gauge,
    pub faulty_definitions: Gauge,
    pub clock_offset: Seconds,
    pub lock_waits: Gauge,
    pub database_up: Gauge,
    pub connections: Family<PoolLabel, Gauge>,
    pub tasks_ended: Family<TaskLabel, Counter>,
    pub commit_age: Seconds,
    pub log_lines_lost: Gauge,
}

const SECONDS: [f64; 12] = [0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0];
const SIZES: [f64; 9] = [1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0, 200.0, 500.0];
const LONG: [f64; 11] = [0.1, 0.5, 1.0, 5.0, 15.0, 60.0, 300.0, 900.0, 3_600.0, 14_400.0, 86_400.0];
const CALLS: [f64; 10] = [0.01, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 15.0, 60.0];

/// Registers a metric under its name, with what it says.
fn registered<M: Metric + Clone>(registry: &mut Registry, name: &str, says: &str, metric: M) -> M {
    registry.register(name, says, metric.clone());
    metric
}

/// One that begins with nothing.
fn plain<M: Metric + Clone + Default>(registry: &mut Registry, name: &str, says: &str) -> M {
    registered(registry, name, says, M::default())
}

/// How long something took, by its label.
fn timed<L>(registry: &mut Registry, name: &str, says: &str, new: fn() -> Histogram) -> Timed<L>
where
    L: Clone + std::hash::Hash + Eq + EncodeLabelSet + std::fmt::Debug + Send + Sync + 'static,
{
    registered(registry, name, says, Family::new_with_constructor(new))
}

impl Intake {
    fn new(r: &mut Registry) -> Self {
        Self {
            alerts: plain(r, "arvok_alerts", "Alerts recorded"),
            repeated: plain(r, "arvok_alerts_repeated", "Deliveries of an id that had come before"),
            conflicts: plain(
                r,
                "arvok_alert_id_conflicts",
                "Alerts not taken: their id came before with other content",
            ),
            unreadable: plain(r, "arvok_payloads_unreadable", "Payloads that could not be read"),
            caught: plain(
                r,
                "arvok_payloads_caught",
                "Payloads that are kept until their source says how they are read",
            ),
            refused_senders: plain(
                r,
                "arvok_senders_refused",
                "Deliveries whose sender showed no or a wrong credential",
            ),
            over_limit: plain(
                r,
                "arvok_deliveries_over_limit",
                "Deliveries that came faster than the limit of their source",
            ),
            absent: plain(r, "arvok_read_absent", "Optional lines of read that gave nothing"),
            refused: plain(
                r,
                "arvok_deliveries_refused",
                "Deliveries refused because the node is full",
            ),
            commit_seconds: registered(
                r,
                "arvok_commit_seconds",
                "Time of one batch's transaction",
                Histogram::new(SECONDS),
            ),
            commit_of_late: plain(
                r,
                "arvok_commit_recent_seconds",
                "How long a commit takes of late",
            ),
            batch_alerts: registered(
                r,
                "arvok_batch_alerts",
                "Alerts in one batch",
                Histogram::new(SIZES),
            ),
            queue_seconds: registered(
                r,
                "arvok_intake_queue_seconds",
                "How long the oldest delivery of a batch had waited",
                Histogram::new(SECONDS),
            ),
            bytes: plain(r, "arvok_intake_bytes", "Bytes of deliveries under way"),
            oldest_delivery: plain(
                r,
                "arvok_intake_oldest_seconds",
                "How long the oldest delivery under way has waited",
            ),
            rule_errors: plain(r, "arvok_rule_errors", "Evaluations of a rule that went wrong"),
            set_aside: plain(
                r,
                "arvok_due_set_aside",
                "Due times that could not be handled and were set aside",
            ),
            aside: plain(
                r,
                "arvok_due_aside",
                "Due times that are set aside at the moment, on all nodes",
            ),
            overdue: plain(
                r,
                "arvok_due_overdue_seconds",
                "How long ago the earliest due time passed unseen, on all nodes",
            ),
        }
    }
}

impl Work {
    fn new(r: &mut Registry) -> Self {
        Self {
            jobs_ended: plain(r, "arvok_jobs_ended", "Jobs ended on this node"),
            jobs_running: plain(r, "arvok_jobs_running", "Jobs running on this node"),
            queued: plain(r, "arvok_jobs_queued", "Jobs that wait for their turn, on all nodes"),
            halted: plain(
                r,
                "arvok_jobs_halted",
                "1 while all jobs are halted, else 0, on all nodes",
            ),
            job_seconds: timed(r, "arvok_job_seconds", "From a job's dispatch to its end", || {
                Histogram::new(LONG)
            }),
            calls: plain(r, "arvok_calls", "Calls of connections, by how they ended"),
            call_seconds: timed(r, "arvok_call_seconds", "How long a call took", || {
                Histogram::new(CALLS)
            }),
            outbox: plain(
                r,
                "arvok_outbox_waiting",
                "Events of jobs that are not told yet, on all nodes",
            ),
            leaving: plain(
                r,
                "arvok_subscriber_waiting",
                "Events that wait to leave for a subscriber, on all nodes",
            ),
            leaving_oldest: plain(
                r,
                "arvok_subscriber_oldest_seconds",
                "How long the oldest of them has waited",
            ),
        }
    }
}

impl Own {
    fn new(r: &mut Registry) -> Self {
        Self {
            streams: plain(r, "arvok_streams", "Open event streams"),
            generation: plain(
                r,
                "arvok_generation",
                "The generation of what is published, as this node knows it",
            ),
            faulty_definitions: plain(
                r,
                "arvok_faulty_definitions",
                "Published definitions that this node cannot compile",
            ),
            lock_waits: plain(
                r,
                "arvok_lock_waits",
                "Statements that wait for a lock, of all nodes",
            ),
            database_up: plain(
                r,
                "arvok_database_up",
                "1 while the last commit of this node is fresh, else 0",
            ),
            connections: plain(
                r,
                "arvok_database_connections",
                "Connections of this node to the database",
            ),
            tasks_ended: plain(
                r,
                "arvok_tasks_ended",
                "Background tasks that ended and were begun again",
            ),
            commit_age: plain(
                r,
                "arvok_commit_age_seconds",
                "How old the last commit of this node is",
            ),
            log_lines_lost: plain(
                r,
                "arvok_log_lines_lost",
                "Lines of the log that could not be written",
            ),
            clock_offset: plain(
                r,
                "arvok_clock_offset_seconds",
                "How far this node's clock is ahead of the database's",
            ),
        }
    }
}

/// How jobs end that are counted from the start.
const ENDS: [JobState; 6] = [
    JobState::Succeeded,
    JobState::Failed,
    JobState::Unsure,
    JobState::Cancelled,
    JobState::Refused,
    JobState::Expired,
];

impl Metrics {
    pub fn new() -> Self {
        let mut registry = Registry::default();
        let build = Info::new([("version", env!("CARGO_PKG_VERSION"))]);
        registry.register("arvok_build", "The program of this node", build);
        let r = &mut registry;
        let (intake, work, own) = (Intake::new(r), Work::new(r), Own::new(r));
        Self { registry, intake, work, own }
    }

    /// Begins the counters of what is published at nothing, so that the first that is counted is
    /// seen as a change.
    pub fn know(&self, catalog: &Catalog) {
        for (kind, name) in Kind::ALL
            .into_iter()
            .flat_map(|kind| catalog.entries(kind).map(move |e| (kind, e.name.clone())))
        {
            match kind {
                Kind::Source => {
                    let label = SourceLabel { source: name };
                    let Intake { alerts, repeated, unreadable, caught, conflicts, .. } =
                        &self.intake;
                    let Intake { refused_senders, over_limit, .. } = &self.intake;
                    for counter in [
                        alerts,
                        repeated,
                        unreadable,
                        caught,
                        conflicts,
                        refused_senders,
                        over_limit,
                    ] {
                        drop(counter.get_or_create(&label));
                    }
                }
                Kind::Rule => {
                    drop(self.intake.rule_errors.get_or_create(&RuleLabel { rule: name }))
                }
                Kind::Runbook | Kind::Plan => {
                    let runbook = if kind == Kind::Plan { plan::job_name(&name) } else { name };
                    for state in ENDS {
                        let (runbook, state) = (runbook.clone(), state.as_str().to_owned());
                        let label = EndLabel { runbook, state };
                        drop(self.work.jobs_ended.get_or_create(&label));
                    }
                }
                Kind::Connection => {
                    for ended in CallState::ALL.map(CallState::as_str) {
                        drop(
                            self.work
                                .calls
                                .get_or_create(&CallLabel { connection: name.clone(), ended }),
                        );
                    }
                }
                Kind::Subscriber => {
                    let label = SubscriberLabel { subscriber: name };
                    drop(self.work.leaving.get_or_create(&label));
                    drop(self.work.leaving_oldest.get_or_create(&label));
                }
                Kind::Step
                | Kind::Connector
                | Kind::Contact
                | Kind::Calendar
                | Kind::Group
                | Kind::Guard => {}
            }
        }
    }

    /// A background task has begun for the first time.
    pub fn task_begins(&self, task: &'static str) {
        drop(self.own.tasks_ended.get_or_create(&TaskLabel { task }));
    }

    /// A background task has ended.
    pub fn task_ended(&self, task: &'static str) {
        self.own.tasks_ended.get_or_create(&TaskLabel { task }).inc();
    }

    /// The text of `/metrics`.
    pub fn text(&self) -> String {
        let mut text = String::new();
        let _ = encode(&mut text, &self.registry);
        text
    }
}
