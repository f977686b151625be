//! What the parts of a node share.

mod announcer;
mod answers_fault;
mod call_log;
mod capacity;
mod changes;
mod executions;
mod followers;
mod listeners;
mod published;
mod questions;
mod records;
mod runner_calls;
mod runner_pace;

pub(crate) use announcer::Announcer;
pub(crate) use answers_fault::AnswersFault;
pub(crate) use call_log::CallLog;
pub(crate) use capacity::Capacity;
pub(crate) use changes::{Changes, StreamMessage};
pub(crate) use executions::{Alive, Executions};
pub(crate) use followers::{Followers, Place};
pub(crate) use listeners::{ListenerStatus, Listeners, OpenConnection};
pub(crate) use published::{Published, SecretScope, missing_settings};
pub(crate) use runner_calls::RunnerCalls;
pub(crate) use runner_pace::RunnerPace;

use crate::{
    admission::AdmissionControl, answer_settings::AnswerSettings, clock, config::Config,
    metrics::Metrics, readiness::Vitals, script_settings::ScriptSettings, settings::Settings,
    source_limits::SourceLimits, source_shapes::SourceShapes, tls::ServerTls,
};
use arc_swap::ArcSwap;
use arvok_api::Change;
use arvok_connect::{Drivers, Vault};
use arvok_core::{
    definition::Defined,
    plan::{self, Plan},
    runbook::Runbook,
};
use arvok_store::{DatabaseConnection, StoreError, changes::Reached, definitions, jobs::Share};
use records::Records;
use std::{
    sync::{Arc, Mutex as StdMutex, PoisonError},
    time::{Duration, Instant},
};
use tokio::sync::{Mutex, Notify, watch};

/// The node's connections, by what they are for: nobody's questions take a connection from what
/// takes alerts in or renews a lease.
#[derive(Clone, Debug)]
pub(crate) struct Pools {
    /// Taking alerts in, due times, jobs and leases.
    pub work: DatabaseConnection,
    /// Whoever sends alerts: neither people's questions nor strangers' guesses may hold it up.
    pub door: DatabaseConnection,
    /// Answering people.
    pub questions: DatabaseConnection,
    /// Rehearsals.
    pub replay: DatabaseConnection,
}

/// How long a sender that is refused may be kept for a look at what is published.
const CATCH_UP: Duration = Duration::from_secs(1);

/// What calls go out with.
#[derive(Debug)]
pub(crate) struct CallContext {
    pub vault: Vault,
    /// Why its key is not that of this installation's secrets; none: it is.
    pub key_fault: Option<String>,
    /// What performs them.
    pub drivers: Drivers,
    /// What scripts may do here.
    pub scripts: ArcSwap<ScriptSettings>,
    /// The last of them, until they are written.
    pub log: CallLog,
}

/// What the loops of a node are woken by before their time.
#[derive(Debug, Default)]
pub(crate) struct Wakeups {
    /// There may be a job to claim.
    pub jobs: Notify,
    /// There may be something due earlier than was thought.
    pub due: Notify,
    /// There may be an event to be sent to a subscriber.
    pub events: Notify,
    /// There may be an act to be done at the sender of an alarm.
    pub write_back: Notify,
}

/// One node.
#[derive(Debug)]
pub(crate) struct Node {
    /// Unique for each start.
    pub name: String,
    /// What tells this installation's jobs from those of any other.
    pub installation: String,
    pub pools: Pools,
    pub calls: CallContext,
    /// Values for `setting(name)`, as they were read last; what is published has those that it was
    /// loaded with.
    settings: ArcSwap<Settings>,
    pub published: ArcSwap<Published>,
    /// The generation of what is published, for whoever waits for the next.
    generation: watch::Sender<i64>,
    reloading: Mutex<()>,
    /// When it was last asked whether something else is published.
    asked: Mutex<Instant>,
    pub changes: Changes,
    /// Tells all nodes what changed.
    pub announcer: Announcer,
    pub admission: AdmissionControl,
    /// What sources have sent of what they may.
    pub source_limits: SourceLimits,
    /// What sources sent, as far as it is not written yet.
    pub shapes: SourceShapes,
    /// How what listens for senders stands.
    pub listeners: Arc<Listeners>,
    /// Whether it does its work.
    pub vitals: Vitals,
    /// How far the tables have come, as far as was heard here.
    heard: StdMutex<Reached>,
    /// Where people reach the console, for links.
    public_url: ArcSwap<String>,
    /// How it speaks TLS, where it does.
    pub tls: Option<Arc<ServerTls>>,
    /// How answers come by mail.
    pub answers: AnswerSettings,
    /// Why none come.
    pub answers_fault: AnswersFault,
    pub executions: Executions,
    /// Who waits for runners.
    pub runner_calls: RunnerCalls,
    /// How much each runner says here.
    pub runner_pace: RunnerPace,
    /// Which jobs of the queue this node looks at first.
    pub share: ArcSwap<Share>,
    pub wakeups: Wakeups,
    pub capacity: Capacity,
    /// Whether each request is logged.
    pub access_log: bool,
    pub metrics: Metrics,
    /// Becomes true when the node stops.
    pub stopping: watch::Receiver<bool>,
}

impl Node {
    /// Puts a node together around an open database.
    pub fn new(
        config: &Config,
        pools: Pools,
        installation: String,
        tls: Option<Arc<ServerTls>>,
        (vault, drivers): (Vault, Drivers),
        admission: AdmissionControl,
        stopping: watch::Receiver<bool>,
    ) -> Self {
        let drivers = drivers.with_records(Arc::new(Records(pools.work.clone())));
        Self {
            name: format!("node-{}", crate::random::id()),
            installation,
            pools,
            calls: CallContext {
                vault,
                key_fault: None,
                drivers,
                scripts: ArcSwap::from_pointee(config.scripts.clone()),
                log: CallLog::default(),
            },
            settings: ArcSwap::from_pointee(config.settings.clone()),
            published: ArcSwap::default(),
            generation: watch::Sender::new(0),
            reloading: Mutex::new(()),
            asked: Mutex::new(Instant::now()),
            changes: Changes::new(),
            announcer: Announcer::default(),
            admission,
            source_limits: SourceLimits::default(),
            shapes: SourceShapes::default(),
            listeners: Arc::new(Listeners::new()),
            vitals: Vitals::default(),
            heard: StdMutex::default(),
            share: ArcSwap::default(),
            public_url: ArcSwap::from_pointee(config.public_url()),
            tls,
            answers: config.answers.clone(),
            answers_fault: AnswersFault::default(),
            executions: Executions::default(),
            runner_calls: RunnerCalls::default(),
            runner_pace: RunnerPace::default(),
            wakeups: Wakeups::default(),
            capacity: Capacity::default(),
            access_log: config.access_log,
            metrics: Metrics::new(),
            stopping,
        }
    }

    /// Where people reach the console, for links.
    pub fn public_url(&self) -> Arc<String> {
        self.public_url.load_full()
    }

    /// Takes over what may change while it runs.
    pub async fn reconfigure(&self, config: &Config) -> Result<(), StoreError> {
        self.settings.store(Arc::new(config.settings.clone()));
        self.calls.scripts.store(Arc::new(config.scripts.clone()));
        self.public_url.store(Arc::new(config.public_url()));
        self.reload().await
    }

    /// Tells when something else is published.
    pub fn generation(&self) -> watch::Receiver<i64> {
        self.generation.subscribe()
    }

    /// What is published now.
    pub fn published(&self) -> Arc<Published> {
        self.published.load_full()
    }

    /// A runbook in the version that a job was dispatched with, or what the runs of a plan are jobs
    /// of, whatever has been published since.
    pub async fn runbook(
        &self,
        name: &str,
        version: i32,
    ) -> Result<Option<Arc<Runbook>>, StoreError> {
        let Some(plan) = plan::of_job_name(name) else {
            return self.definition(name, version).await;
        };
        let plan = self.definition::<Plan>(plan, version).await?;
        Ok(plan.map(|plan| Arc::clone(&plan.runbook)))
    }

    /// A definition in one of its versions.
    pub async fn definition<T: Defined + Clone + Send + Sync>(
        &self,
        name: &str,
        version: i32,
    ) -> Result<Option<Arc<T>>, StoreError> {
        let published = self.published();
        if let Some((definition, current)) = published.catalog.shared::<T>(name)
            && current == version
        {
            return Ok(Some(definition));
        }
        let row = definitions::version(&self.pools.work, T::KIND.as_str(), name, version).await?;
        Ok(row.and_then(|r| Some(Arc::new(published::recompile(&r)?.as_kind::<T>()?.clone()))))
    }

    /// Passes on what was announced to everybody who follows this node.
    pub fn hear(&self, change: Change) {
        self.heard.lock().unwrap_or_else(PoisonError::into_inner).hear(&change);
        self.changes.publish(change);
    }

    /// Whether the tables held more, a while ago, than was heard of by now; it counts as heard from
    /// then on.
    pub fn missed(&self, reached: Reached) -> bool {
        let mut heard = self.heard.lock().unwrap_or_else(PoisonError::into_inner);
        let missed = reached.alerts > heard.alerts || reached.jobs > heard.jobs;
        heard.alerts = heard.alerts.max(reached.alerts);
        heard.jobs = heard.jobs.max(reached.jobs);
        missed
    }

    /// Makes sure that what is published is known as it stands in this generation.
    pub async fn know(&self, generation: i64) -> Result<(), StoreError> {
        if self.published().generation == generation { Ok(()) } else { self.reload().await }
    }

    /// Whether something else is published than what somebody who came at a moment was judged by;
    /// if this node has not heard of it yet, it is loaded. Of those who ask together one looks.
    pub async fn catch_up(&self, judged_by: &Published, came: Instant) -> bool {
        let mut asked = self.asked.lock().await;
        if *asked < came {
            *asked = Instant::now();
            let known = async { self.know(definitions::generation(&self.pools.door).await?).await };
            // Without the database nobody is told later than before that he is not known.
            match tokio::time::timeout(CATCH_UP, known).await {
                Ok(Ok(())) => {}
                Ok(Err(e)) => tracing::warn!("what is published cannot be compared: {e}"),
                Err(_) => tracing::warn!("what is published cannot be compared in time"),
            }
        }
        self.published().generation != judged_by.generation
    }

    /// Loads and compiles what is published, and swaps it in whole.
    pub async fn reload(&self) -> Result<(), StoreError> {
        // One at a time: a slow reload must not put an older set over a newer one.
        let _turn = self.reloading.lock().await;
        let published = Published::load(
            &self.pools.work,
            &self.calls.vault,
            self.settings.load_full(),
            self.published(),
            clock::now(),
        )
        .await?;
        self.metrics.know(&published.catalog);
        self.metrics.own.generation.set(published.generation);
        self.metrics
            .own
            .faulty_definitions
            .set(i64::try_from(published.faulty.len()).unwrap_or(i64::MAX));
        crate::log::knows(&published.redactor);
        let generation = published.generation;
        self.published.store(Arc::new(published));
        self.generation.send_replace(generation);
        Ok(())
    }
}
