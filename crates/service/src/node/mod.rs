//! What the parts of a node share.

mod announcer;
mod call_log;
mod changes;
mod followers;
mod listeners;
mod published;
mod questions;

pub(crate) use announcer::Announcer;
pub(crate) use call_log::CallLog;
pub(crate) use changes::{Changes, StreamMessage};
pub(crate) use followers::{Followers, Place};
pub(crate) use listeners::{ListenerStatus, Listeners, OpenConnection};
pub(crate) use published::{Published, SecretScope, missing_settings};
use questions::Questions;

use crate::{
    admission::AdmissionControl, clock, config::Config, metrics::Metrics, problem::ApiError,
    readiness::Vitals, script_settings::ScriptSettings, settings::Settings,
};
use arc_swap::ArcSwap;
use arvok_api::{Change, Who};
use arvok_connect::{Drivers, Vault};
use arvok_core::{Kind, runbook::Runbook};
use arvok_store::{
    ConnectionTrait, DatabaseConnection, StoreError,
    changes::Reached,
    definitions,
    jobs::{Claim, Renewed, Share},
};
use futures_util::FutureExt;
use std::{
    collections::BTreeMap,
    future::Future,
    sync::{Arc, Mutex as StdMutex, PoisonError},
    time::{Duration, Instant},
};
use tokio::sync::{
    Mutex, Notify, Semaphore,
    mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel},
    watch,
};

/// Rehearsals that may run at once on a node.
const REHEARSALS: usize = 2;
/// Refusals that may be recorded at once on a node.
const REFUSALS: usize = 1;
/// Publications that may be checked at once on a node.
const PUBLICATIONS: usize = 2;

/// Events of jobs that may be decided about at once on a node.
const DECIDING: usize = 8;

/// How long a question waits for its turn.
const PATIENCE: Duration = Duration::from_secs(5);

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

/// One node.
#[derive(Debug)]
pub(crate) struct Node {
    /// Unique for each start.
    pub name: String,
    /// What tells this installation's jobs from those of any other.
    pub installation: String,
    /// For taking alerts in, due times, jobs and leases.
    pub work_db: DatabaseConnection,
    /// For looking up whoever sends alerts.
    pub door_db: DatabaseConnection,
    /// For answering people.
    pub db: DatabaseConnection,
    /// For rehearsals.
    pub replay_db: DatabaseConnection,
    pub vault: Vault,
    /// Why its key is not that of this installation's secrets; none: it is.
    pub key_fault: Option<String>,
    /// Values for `setting(name)`, as they were read last; what is published has those that it was
    /// loaded with.
    settings: ArcSwap<Settings>,
    /// What scripts may do here.
    pub scripts: ArcSwap<ScriptSettings>,
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
    /// How what listens for senders stands.
    pub listeners: Arc<Listeners>,
    /// Whether it does its work.
    pub vitals: Vitals,
    /// How far the tables have come, as far as was heard here.
    heard: StdMutex<Reached>,
    /// Where people reach the console, for links.
    public_url: ArcSwap<String>,
    /// The claims of the executions that are alive in this process, and how each is told what
    /// people say and what came.
    alive: StdMutex<BTreeMap<Claim, UnboundedSender<Renewed>>>,
    /// Which jobs of the queue this node looks at first.
    pub share: ArcSwap<Share>,
    /// There may be a job to claim.
    pub work: Notify,
    /// There may be something due earlier than was thought.
    pub due: Notify,
    /// There may be an event to be sent to a subscriber.
    pub leaving: Notify,
    /// Room for rehearsals.
    pub rehearsals: Arc<Semaphore>,
    /// Room for those who follow changes.
    pub followers: Followers,
    /// Room for refusals that are being recorded.
    pub refusals: Arc<Semaphore>,
    /// Room for questions that evaluate expressions.
    questions: Questions,
    /// Room for what is to be published.
    publications: Arc<Semaphore>,
    /// Room for events of jobs that are decided about.
    deciding: Arc<Semaphore>,
    /// What calls through connections are performed by.
    pub drivers: Drivers,
    /// Whether each request is logged.
    pub access_log: bool,
    /// The last calls, until they are written.
    pub call_log: CallLog,
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
        (vault, drivers): (Vault, Drivers),
        admission: AdmissionControl,
        stopping: watch::Receiver<bool>,
    ) -> Self {
        Self {
            name: format!("node-{}", crate::random::id()),
            installation,
            work_db: pools.work,
            door_db: pools.door,
            db: pools.questions,
            replay_db: pools.replay,
            vault,
            key_fault: None,
            settings: ArcSwap::from_pointee(config.settings.clone()),
            scripts: ArcSwap::from_pointee(config.scripts.clone()),
            published: ArcSwap::default(),
            generation: watch::Sender::new(0),
            reloading: Mutex::new(()),
            asked: Mutex::new(Instant::now()),
            changes: Changes::new(),
            announcer: Announcer::default(),
            admission,
            listeners: Arc::new(Listeners::new()),
            vitals: Vitals::default(),
            heard: StdMutex::default(),
            share: ArcSwap::default(),
            public_url: ArcSwap::from_pointee(config.public_url()),
            alive: StdMutex::default(),
            work: Notify::new(),
            due: Notify::new(),
            leaving: Notify::new(),
            rehearsals: Arc::new(Semaphore::new(REHEARSALS)),
            followers: Followers::default(),
            refusals: Arc::new(Semaphore::new(REFUSALS)),
            questions: Questions::default(),
            publications: Arc::new(Semaphore::new(PUBLICATIONS)),
            deciding: Arc::new(Semaphore::new(DECIDING)),
            drivers,
            access_log: config.access_log,
            call_log: CallLog::default(),
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
        self.scripts.store(Arc::new(config.scripts.clone()));
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

    /// A runbook in the version that a job was dispatched with, whatever has been published since.
    pub async fn runbook(
        &self,
        name: &str,
        version: i32,
    ) -> Result<Option<Arc<Runbook>>, StoreError> {
        self.runbook_by(&self.work_db, name, version).await
    }

    /// The same, by this connection.
    pub async fn runbook_by(
        &self,
        db: &impl ConnectionTrait,
        name: &str,
        version: i32,
    ) -> Result<Option<Arc<Runbook>>, StoreError> {
        let published = self.published();
        if let Some((runbook, current)) = published.catalog.shared::<Runbook>(name)
            && current == version
        {
            return Ok(Some(runbook));
        }
        let row = definitions::version(db, Kind::Runbook.as_str(), name, version).await?;
        Ok(row
            .and_then(|r| Some(Arc::new(published::recompile(&r)?.as_kind::<Runbook>()?.clone()))))
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

    /// The claims of the executions that are alive here.
    pub fn alive(&self) -> Vec<Claim> {
        self.alive.lock().unwrap_or_else(PoisonError::into_inner).keys().copied().collect()
    }

    /// Counts a claim among those alive until the guard is dropped, however the execution ends.
    /// What people say to the job, and how much came for it, comes out beside it at each renewal.
    pub fn keep_alive(self: &Arc<Self>, claim: Claim) -> (Alive, UnboundedReceiver<Renewed>) {
        let (tell, hear) = unbounded_channel();
        self.alive.lock().unwrap_or_else(PoisonError::into_inner).insert(claim, tell);
        (Alive { node: Arc::clone(self), claim }, hear)
    }

    /// Tells an execution that is alive here that its claim was renewed, and what is new for its
    /// job.
    pub fn tell_execution(&self, renewed: Renewed) {
        if let Some(execution) =
            self.alive.lock().unwrap_or_else(PoisonError::into_inner).get(&renewed.claim)
        {
            let _ = execution.send(renewed);
        }
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
            let known = async { self.know(definitions::generation(&self.door_db).await?).await };
            // Without the database nobody is told later than before that he is not known.
            match tokio::time::timeout(CATCH_UP, known).await {
                Ok(Ok(())) => {}
                Ok(Err(e)) => tracing::warn!("what is published cannot be compared: {e}"),
                Err(_) => tracing::warn!("what is published cannot be compared in time"),
            }
        }
        self.published().generation != judged_by.generation
    }

    /// Decides about the event of a job, off the workers and with few others at once: what authors
    /// write is evaluated for it.
    pub async fn decide<T: Send + 'static>(
        &self,
        decide: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, StoreError> {
        let broken = |_| StoreError::BrokenOff("deciding about an event of a job");
        let place = Arc::clone(&self.deciding).acquire_owned().await.map_err(|_| broken(()))?;
        let decided = tokio::task::spawn_blocking(move || {
            let decided = decide();
            drop(place);
            decided
        });
        decided.await.map_err(|_| broken(()))
    }

    /// Evaluates something that a person asked for, off the workers that answer requests and with
    /// few others at once, so that no question can hold up the rest, nor those of one person those
    /// of others.
    pub async fn evaluate<T: Send + 'static>(
        &self,
        who: &Who,
        ask: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, ApiError> {
        evaluate(self.questions.place(who), ask).await
    }

    /// The same for what is to be published: nobody's questions hold it up.
    pub async fn evaluate_publication<T: Send + 'static>(
        &self,
        ask: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, ApiError> {
        evaluate(Arc::clone(&self.publications).acquire_owned().map(Result::ok), ask).await
    }

    /// Loads and compiles what is published, and swaps it in whole.
    pub async fn reload(&self) -> Result<(), StoreError> {
        // One at a time: a slow reload must not put an older set over a newer one.
        let _turn = self.reloading.lock().await;
        let published = Published::load(
            &self.work_db,
            &self.vault,
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

/// Evaluates off the workers, once there is a place.
async fn evaluate<T: Send + 'static, P: Send + 'static>(
    place: impl Future<Output = Option<P>>,
    ask: impl FnOnce() -> T + Send + 'static,
) -> Result<T, ApiError> {
    let place = tokio::time::timeout(PATIENCE, place)
        .await
        .map_err(|_| ApiError::Asked)?
        .ok_or(ApiError::Internal)?;
    let asked = tokio::task::spawn_blocking(move || {
        let answer = ask();
        drop(place);
        answer
    });
    asked.await.map_err(|_| ApiError::Internal)
}

/// An execution that is alive.
#[derive(Debug)]
pub(crate) struct Alive {
    node: Arc<Node>,
    claim: Claim,
}

impl Drop for Alive {
    fn drop(&mut self) {
        self.node.alive.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.claim);
    }
}
