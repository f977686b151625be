//! Starting and stopping a node.

use crate::{
    address::{self, is_open},
    admission::{AdmissionControl, Queue},
    answers,
    api::{self, approvals_of},
    calls, clock,
    config::Config,
    data_folder::{DataFolder, Unusable},
    executor, intake, key, listeners,
    node::{Node, Pools, missing_settings},
    outbox, profiling,
    random::secret_text,
    restore, self_monitoring, subscribers,
    supervise::supervise,
    timers,
    tls::{ClientNames, ServerTls, TlsError},
    write_back,
};
use actix_tls::accept::rustls_0_23::TlsStream;
use actix_web::{
    App, HttpServer,
    dev::{Extensions, ServerHandle},
    middleware::from_fn,
    web,
};
use arvok_api::Change;
use arvok_connect::Drivers;
use arvok_core::{
    Principal,
    connector::{Connection, Connector},
};
use arvok_postgres::{Cluster, Durability, PostgresError};
use arvok_store::{
    DatabaseConnection, Limits, Purpose, StoreError, access, audit,
    changes::{self, Announced, Listener, Reached},
    days,
    retention::{self, Retention},
    schema, secrets,
};
use std::{
    any::Any,
    future::Future,
    net::SocketAddr,
    path::PathBuf,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};
use tokio::{
    net::{TcpListener, TcpSocket},
    sync::watch,
    task::{JoinHandle, JoinSet},
};

/// Time between two looks at the tables.
const TABLES: Duration = Duration::from_secs(1);
/// Time between two passes of upkeep: the first, while there is more, and otherwise.
const UPKEEP_FIRST: Duration = Duration::from_secs(5);
const UPKEEP_MORE: Duration = Duration::from_secs(1);
const UPKEEP: Duration = Duration::from_secs(20);

/// Why a node cannot start.
#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The private PostgreSQL.
    #[error(transparent)]
    Postgres(#[from] PostgresError),
    /// The key of the secrets.
    #[error(transparent)]
    Key(#[from] key::KeyError),
    /// The client for outward calls.
    #[error(transparent)]
    Http(#[from] arvok_connect::CallError),
    /// TLS.
    #[error(transparent)]
    Tls(#[from] TlsError),
    /// The data folder.
    #[error("the data folder: {0}")]
    Data(#[from] Unusable),
    /// The address.
    #[error("cannot listen on {address}: {error}")]
    Listen {
        /// The address.
        address: SocketAddr,
        /// What is wrong.
        error: std::io::Error,
    },
    /// The database cannot be reached.
    #[error("the database {address}: {why}")]
    Away {
        /// Its address, without a password.
        address: String,
        /// What is wrong.
        why: String,
    },
    /// What was asked for cannot be done, in words.
    #[error("{0}")]
    Refused(String),
    /// Nothing can be served at the socket.
    #[error("cannot serve: {0}")]
    Socket(std::io::Error),
    /// The database keeps not every text.
    #[error(
        "the database has the encoding {0}, in which not every text can be kept; make one with \
        ENCODING 'UTF8'"
    )]
    Encoding(String),
}

/// A running node.
#[derive(Debug)]
pub struct Running {
    /// Where it listens.
    pub address: SocketAddr,
    /// The file with the first token, if this start made it.
    pub first_token: Option<PathBuf>,
    /// The data folder of a private PostgreSQL, if none was named.
    pub private_database: Option<PathBuf>,
    node: Arc<Node>,
    server: ServerHandle,
    stop: watch::Sender<bool>,
    config: Mutex<Config>,
    tasks: JoinSet<()>,
    /// Tasks that end by themselves when the node stops, with what they have begun.
    finishing: Vec<JoinHandle<()>>,
    cluster: Option<Cluster>,
}

impl Running {
    /// Ends when the node cannot go on, with the reason.
    pub async fn gives_up(&self) -> String {
        self.node.vitals.gives_up().await
    }

    /// Says that it is about to stop, and goes on with its work for as long as balancers need to
    /// see it. Lines that are kept open are closed with their next answer.
    pub async fn drain(&self) {
        self.node.vitals.leaves();
        let drain = self.config.lock().unwrap_or_else(PoisonError::into_inner).drain;
        tokio::time::sleep(Duration::from_millis(drain.millis())).await;
    }

    /// Takes over what settings may change while it runs; what only a start changes stays as it is,
    /// and is told.
    ///
    /// # Errors
    /// If what is published cannot be loaded with them; it is tried again.
    pub async fn reload(&self, config: Config) -> Result<Vec<&'static str>, ServeError> {
        let before = self.config.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let only_at_start = before.needs_a_start(&config);
        let kept = Config {
            settings: config.settings,
            public_url: config.public_url,
            drain: config.drain,
            ..before
        };
        self.node.reconfigure(&kept).await?;
        *self.config.lock().unwrap_or_else(PoisonError::into_inner) = kept;
        Ok(only_at_start)
    }

    /// Whether the node does what keeps it alive: its tasks are there, or are begun again.
    pub fn is_alive(&self) -> bool {
        !self.node.vitals.has_given_up()
    }

    /// Stops: streams end, what is being answered is answered, jobs have a moment to end.
    pub async fn stop(mut self) {
        let _ = self.stop.send(true);
        self.server.stop(true).await;
        for task in self.finishing {
            let _ = task.await;
        }
        self.node.calls.drivers.close().await;
        self.tasks.shutdown().await;
        if let Some(cluster) = self.cluster.take() {
            cluster.stop();
        }
    }
}

/// Starts a node.
pub async fn start(config: Config) -> Result<Running, ServeError> {
    // Whoever has the port already is found out before anything is begun or migrated.
    let socket = bound(config.listen)
        .map_err(|error| ServeError::Listen { address: config.listen, error })?;
    let tls = ServerTls::open(&config.tls)?;
    let folder = DataFolder::open(&config.data)?;
    let (pools, cluster) = opened(&config).await?;
    let first_token = match config.recover {
        true => Some(recovery_token(&pools.work, &folder).await?),
        false => first_token(&pools.work, &folder).await?,
    };
    let key = key::open(&pools.work, &folder, config.new_key).await?;
    restore::tell_lost(&pools.work, &config, &key.vault).await?;
    let installation = arvok_store::installation(&pools.work).await?;
    let (door, queue) = AdmissionControl::new();
    let (stop, stopping) = watch::channel(false);
    let mut node =
        Node::new(&config, pools, installation, tls, (key.vault, Drivers::new()?), door, stopping);
    node.calls.key_fault = key.fault;
    let node = Arc::new(node);
    let listener = Listener::start(&node.pools.work).await?;
    node.reload().await?;
    first_approvals(&node).await?;
    begin_retention(&node, &config).await?;
    warn_of_bare_lines(&config, &node);
    if let Some(Err(why)) = config.scripts.look().await {
        tracing::warn!("no script runs here: {why}");
    }
    for missing in missing_settings(&node.published().catalog, &config) {
        tracing::warn!("{missing}");
    }

    let (server, address) = serve_http(socket, Arc::clone(&node))?;
    let mut tasks = JoinSet::new();
    if node.tls.is_some() {
        supervised(&mut tasks, &node, "certificates", watch_certificates);
    }
    background(&mut tasks, &node, listener, &queue);
    let mut finishing = Vec::new();
    match &node.calls.key_fault {
        None => {
            supervised(&mut tasks, &node, "subscribers", subscribers::run);
            supervised(&mut tasks, &node, "leases", executor::renew);
            supervised(&mut tasks, &node, "timers", timers::run);
            supervised(&mut tasks, &node, "calendars", timers::read_calendars);
            supervised(&mut tasks, &node, "polls", timers::poll);
            supervised(&mut tasks, &node, "pulses", timers::send_pulses);
            supervised(&mut tasks, &node, "overdue jobs", executor::end_overdue);
            let at_once = config.jobs_at_once;
            finishing.push(awaited(&node, "jobs", move |node| executor::run(node, at_once)));
            finishing.push(awaited(&node, "listeners", listeners::run));
            finishing.push(awaited(&node, "answers by mail", answers::run));
            finishing.push(awaited(&node, "write-back", write_back::run));
        }
        // What needs secrets is left to nodes that can open them.
        Some(fault) => {
            tracing::error!("this node takes no alerts and does no jobs: {fault}");
        }
    }
    finishing.push(awaited(&node, "shapes", profiling::run));
    let beat = move |node| self_monitoring::run(node, address);
    finishing.push(awaited(&node, "heartbeat", beat));
    let private_database = cluster.is_some().then(|| config.data.join("postgres"));
    let config = Mutex::new(config);
    Ok(Running {
        address,
        first_token,
        private_database,
        node,
        server,
        stop,
        config,
        tasks,
        finishing,
        cluster,
    })
}

/// The connections to a database as this release has it, and the private PostgreSQL if it is that.
async fn opened(config: &Config) -> Result<(Pools, Option<Cluster>), ServeError> {
    let (url, cluster) = reached(config).await?;
    let pools = pools(&url, config.database_connections).await?;
    must_hold_all_texts(&pools.work).await?;
    let ahead = schema::migrate(&pools.work).await?;
    if ahead > 0 {
        tracing::warn!(
            ahead,
            "a newer release has migrated the database; this node goes on with it, and is to be \
            upgraded soon"
        );
    }
    measure_clock(&pools.work).await?;
    restore::hold(&pools.work, config).await?;
    Ok((pools, cluster))
}

/// Begins what ends what it has begun when the node stops, and is waited for then.
fn awaited<F: Future<Output = ()> + Send + 'static>(
    node: &Arc<Node>,
    name: &'static str,
    task: impl Fn(Arc<Node>) -> F + Send + 'static,
) -> JoinHandle<()> {
    let with = Arc::clone(node);
    tokio::spawn(supervise(Arc::clone(node), name, move || task(Arc::clone(&with))))
}

/// Begins a background task that is kept alive until the node stops.
fn supervised<F: Future<Output = ()> + Send + 'static>(
    tasks: &mut JoinSet<()>,
    node: &Arc<Node>,
    name: &'static str,
    task: impl Fn(Arc<Node>) -> F + Send + 'static,
) {
    let with = Arc::clone(node);
    tasks.spawn(supervise(Arc::clone(node), name, move || task(Arc::clone(&with))));
}

/// Begins what every node does, whatever its key.
fn background(tasks: &mut JoinSet<()>, node: &Arc<Node>, listener: Listener, queue: &Queue) {
    let mut first = Some(listener);
    let hearing = Arc::clone(node);
    tasks.spawn(supervise(Arc::clone(node), "changes", move || {
        hear(Arc::clone(&hearing), first.take())
    }));
    supervised(tasks, node, "tables", watch_tables);
    supervised(tasks, node, "upkeep", upkeep);
    supervised(tasks, node, "announcements", |node| async move {
        node.announcer.run(&node.pools.work, node.stopping.clone()).await;
    });
    for lane in 0..intake::LANES {
        let (queue, shard) = (queue.clone(), shard(&node.name, lane));
        supervised(tasks, node, "intake", move |node| intake::pipeline(node, queue.clone(), shard));
    }
    supervised(tasks, node, "due times", intake::watch_due);
    supervised(tasks, node, "outbox", outbox::run);
    supervised(tasks, node, "calls", calls::run_log);
}

/// The address of a database that lets one in, and the private PostgreSQL if it is that.
pub(crate) async fn reached(config: &Config) -> Result<(String, Option<Cluster>), ServeError> {
    let (url, cluster) = database(config).await?;
    arvok_store::reach(&url)
        .await
        .map_err(|why| ServeError::Away { address: address::shown(&url), why })?;
    Ok((url, cluster))
}

async fn database(config: &Config) -> Result<(String, Option<Cluster>), ServeError> {
    if let Some(url) = &config.database {
        return Ok((url.clone(), None));
    }
    let folder = config.data.join("postgres");
    let cluster = tokio::task::spawn_blocking(move || Cluster::start(&folder, Durability::Full))
        .await
        .map_err(|_| StoreError::BrokenOff("the start of PostgreSQL"))??;
    let url = cluster.create("arvok").await?;
    Ok((url, Some(cluster)))
}

/// Without any token nobody could ever come in: the first start makes one for the operator.
async fn first_token(
    db: &DatabaseConnection,
    folder: &DataFolder,
) -> Result<Option<PathBuf>, ServeError> {
    let token = secret_text("arvok_");
    access::add_first_token(db, &token, clock::now(), || Ok(folder.write_first_token(&token)?))
        .await
}

/// A new token of role admin for whoever holds the machine, since nobody else may be left who can
/// make one.
async fn recovery_token(
    db: &DatabaseConnection,
    folder: &DataFolder,
) -> Result<PathBuf, ServeError> {
    let token = secret_text("arvok_");
    let written = access::add_recovery(db, &token, clock::now(), || {
        Ok::<_, ServeError>(folder.write_first_token(&token)?)
    });
    let (file, name) = written.await?;
    tracing::warn!(
        token = name,
        "a token of role admin was made by --recover; revoke what is not needed any more"
    );
    Ok(file)
}

/// Of an installation that is older than the approvals: what connections show now was approved when
/// they were published.
async fn first_approvals(node: &Node) -> Result<(), ServeError> {
    if audit::latest(&node.pools.work, "secret.approved").await?.is_some()
        || node.published().secrets.is_empty()
    {
        return Ok(());
    }
    let published = node.published();
    let of = |(connection, _): (&Connection, i32)| {
        let connector = published.catalog.get::<Connector>(&connection.connector);
        approvals_of(connection, connector.map(|(connector, _)| connector))
    };
    let approved: Vec<_> = published.catalog.all::<Connection>().flat_map(of).collect();
    if !approved.is_empty() {
        secrets::approve(&node.pools.work, &approved, &Principal::node(&node.name)).await?;
        let what = format!("what {} connections show", approved.len());
        audit::record(&node.pools.work, &Principal::node(&node.name), "secret.approved", &what, "")
            .await?;
    }
    Ok(())
}

/// What this node was told of how long things are kept counts for a new installation; else it says
/// where the database says otherwise.
async fn begin_retention(node: &Node, config: &Config) -> Result<(), ServeError> {
    let told = config.retention.change();
    let kept = retention::begin(&node.pools.work, &told, &Principal::node(&node.name)).await?;
    for other in told.differs_from(&kept) {
        tracing::warn!(
            "retention.{other} is set for this node, but counts only for a new installation; \
            `arvok storage show` tells how \
            long things are kept, and `arvok storage keep` changes it for all nodes"
        );
    }
    Ok(())
}

/// Looks at the files of TLS until the node stops.
async fn watch_certificates(node: Arc<Node>) {
    if let Some(tls) = &node.tls {
        Arc::clone(tls).watch(node.stopping.clone()).await;
    }
}

/// Warns of what goes over lines that anybody on the way can read.
fn warn_of_bare_lines(config: &Config, node: &Node) {
    let is_bare = node.tls.is_none() && !config.listen.ip().is_loopback();
    if is_bare && !node.public_url().starts_with("https://") {
        tracing::warn!(
            "it listens on {} without TLS: tokens and sessions can be read on the way, and \
            browsers keep no session; name a certificate and its key (tls.certificate, tls.key), \
            or put a proxy with TLS before it and set public_url to its https:// address",
            config.listen
        );
    }
    let published = node.published();
    for (connection, _) in
        published.catalog.all::<Connection>().filter(|(c, _)| !c.secrets().is_empty())
    {
        if let Ok(base) = calls::address(&published, connection)
            && is_open(&base)
        {
            tracing::warn!(
                "connection {} shows its credential at {base}, without TLS",
                connection.name
            );
        }
    }
}

/// Connections for each purpose: a third for questions and at least two, two for rehearsals, one
/// for whoever sends alerts.
pub(crate) async fn pools(url: &str, connections: u32) -> Result<Pools, StoreError> {
    let questions = (connections / 3).max(2);
    let work = connections.saturating_sub(questions + 3).max(4);
    Ok(Pools {
        work: arvok_store::connect(url, work, Purpose::Work).await?,
        door: arvok_store::connect(url, 1, Purpose::Questions).await?,
        questions: arvok_store::connect(url, questions, Purpose::Questions).await?,
        replay: arvok_store::connect(url, 2, Purpose::Replay).await?,
    })
}

/// The counters that a lane of a node uses; different ones for different lanes, as far as possible.
fn shard(node: &str, lane: usize) -> i16 {
    let sum: u32 = node.bytes().map(u32::from).sum();
    i16::try_from(sum as usize % 64 * intake::LANES + lane).unwrap_or(0)
}

/// Refuses a database in which not every text can be kept.
async fn must_hold_all_texts(db: &DatabaseConnection) -> Result<(), ServeError> {
    let encoding = arvok_store::encoding(db).await?;
    if encoding == "UTF8" { Ok(()) } else { Err(ServeError::Encoding(encoding)) }
}

/// Measures how far this node's clock is from the database's.
async fn measure_clock(db: &DatabaseConnection) -> Result<(), StoreError> {
    let asked = clock::own();
    let theirs = arvok_store::now(db).await?;
    clock::measured(asked, theirs, clock::own());
    Ok(())
}

/// Hears what all nodes announce; after a lost connection everything is looked at anew.
async fn hear(node: Arc<Node>, listener: Option<Listener>) {
    let mut stopping = node.stopping.clone();
    let mut listener = match listener {
        Some(listener) => listener,
        None => match Listener::start(&node.pools.work).await {
            Ok(listener) => listener,
            Err(e) => {
                tracing::error!("the channel of changes: {e}");
                return;
            }
        },
    };
    loop {
        let heard = tokio::select! {
            _ = stopping.changed() => return,
            heard = listener.next() => heard,
        };
        let change = match heard {
            Ok(Announced::Change(change)) => change,
            Ok(Announced::RunnerCall(number)) => {
                node.runner_calls.hear(number);
                continue;
            }
            Err(e) => {
                tracing::error!("the channel of changes: {e}");
                tokio::time::sleep(Duration::from_secs(1)).await;
                Change { reset: true, ..Change::default() }
            }
        };
        if change.definitions || change.reset {
            reload(&node).await;
        }
        if !change.jobs.is_empty() || !change.alarms.is_empty() || change.reset {
            node.wakeups.jobs.notify_one();
        }
        if change.reset {
            // All jobs may have been halted.
            executor::hear(&node).await;
        }
        node.hear(change);
    }
}

async fn reload(node: &Node) {
    if let Err(e) = node.reload().await {
        tracing::error!("what is published cannot be loaded, and is tried again: {e}");
    }
}

/// Looks at the tables now and then: what an announcement did not tell is found there, and a reload
/// that failed is made up for.
async fn watch_tables(node: Arc<Node>) {
    let mut stopping = node.stopping.clone();
    let mut tick = tokio::time::interval(TABLES);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut before: Option<Reached> = None;
    loop {
        tokio::select! {
            _ = stopping.changed() => return,
            _ = tick.tick() => {}
        }
        if let Err(e) = measure_clock(&node.pools.work).await {
            tracing::warn!("the database's clock cannot be read: {e}");
        }
        node.metrics.own.clock_offset.set(-clock::offset().as_seconds_f64());
        node.metrics.intake.bytes.set(node.admission.bytes());
        let Ok(reached) = changes::reached(&node.pools.work).await else { continue };
        if reached.generation != node.published().generation {
            reload(&node).await;
        }
        // What was there at the last look has been announced by now, unless that was lost.
        match before.replace(reached) {
            Some(before) if node.missed(before) => {
                node.hear(Change { reset: true, ..Change::default() });
                node.wakeups.jobs.notify_one();
            }
            Some(_) => {}
            // Nobody follows yet.
            None => drop(node.missed(reached)),
        }
    }
}

/// Removes what is kept no longer, a little at a time.
async fn upkeep(node: Arc<Node>) {
    let mut stopping = node.stopping.clone();
    let mut pause = UPKEEP_FIRST;
    loop {
        tokio::select! {
            _ = stopping.changed() => return,
            () = tokio::time::sleep(pause) => {}
        }
        pause = match remove(&node).await {
            Ok(true) => UPKEEP_MORE,
            Ok(false) => UPKEEP,
            Err(e) => {
                tracing::warn!("upkeep: {e}");
                UPKEEP
            }
        };
    }
}

/// Removes some of what is kept no longer; whether there is more.
async fn remove(node: &Node) -> Result<bool, StoreError> {
    let retention = retention::now(&node.pools.work).await?;
    intake::end_trials(node).await?;
    let more = turn_days(node, &retention).await;
    let swept =
        arvok_store::sweep(&node.pools.work, Limits::under(&retention), clock::now()).await?;
    Ok(more || swept.is_full())
}

/// Begins a day when it is time, and lets go of days that are kept no longer; whether there is more
/// to do at once. What somebody stands in the way of is done at the next pass.
async fn turn_days(node: &Node, retention: &Retention) -> bool {
    let now = clock::now();
    let begun = days::begin(&node.pools.work, now).await;
    let gone = days::expire(&node.pools.work, retention, now).await;
    match begun {
        Ok(true) => {
            tracing::info!("a day of alerts begins");
            if let Err(e) = days::survey(&node.pools.work).await {
                put_off("the days are looked at", &e);
            }
        }
        Ok(false) => {}
        Err(e) => put_off("a day of alerts begins", &e),
    }
    match gone {
        Ok((days, alerts)) => {
            if days > 0 {
                tracing::info!("alerts of {days} days are kept no longer");
            }
            alerts > 0
        }
        Err(e) => {
            put_off("what is kept no longer goes", &e);
            false
        }
    }
}

/// Says that something is left to the next pass: by the way if somebody was only in its way.
fn put_off(what: &str, e: &StoreError) {
    if e.is_passing() {
        tracing::info!("{what} later: {e}");
    } else {
        tracing::warn!("{what} later: {e}");
    }
}

/// A socket that has the port, and at which nobody is let in yet: until the node can serve, whoever
/// connects is refused at once.
fn bound(address: SocketAddr) -> std::io::Result<TcpSocket> {
    let socket = if address.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
    socket.set_reuseaddr(true)?;
    socket.bind(address)?;
    Ok(socket)
}

/// Whether nobody listens at an address.
pub(crate) fn is_free(address: SocketAddr) -> std::io::Result<()> {
    std::net::TcpListener::bind(address).map(drop)
}

/// Connections that wait to be let in.
const BACKLOG: u32 = 1024;

fn serve_http(
    socket: TcpSocket,
    node: Arc<Node>,
) -> Result<(ServerHandle, SocketAddr), ServeError> {
    let address = socket.local_addr().map_err(ServeError::Socket)?;
    // Another that started at the same moment may have been quicker.
    let taken = |error| ServeError::Listen { address, error };
    let socket = socket.listen(BACKLOG).and_then(TcpListener::into_std).map_err(taken)?;
    let tls = node.tls.as_ref().map(ServerTls::config).transpose()?;
    let state = web::Data::from(node);
    let server = HttpServer::new(move || {
        App::new()
            .app_data(state.clone())
            .wrap(from_fn(api::hide_secrets))
            .wrap(from_fn(api::guard_headers))
            .wrap(from_fn(api::access_log))
            .configure(api::configure)
    })
    .workers(2)
    .disable_signals()
    .shutdown_timeout(5)
    .max_connections(4096)
    .client_request_timeout(Duration::from_secs(10))
    .on_connect(keep_certificate);
    let server = match tls {
        None => server.listen(socket),
        Some(tls) => server.listen_rustls_0_23(socket, tls),
    };
    let server = server.map_err(ServeError::Socket)?.run();
    let handle = server.handle();
    tokio::spawn(server);
    Ok((handle, address))
}

/// Keeps who a connection has shown to be with what comes over it.
fn keep_certificate(connection: &dyn Any, kept: &mut Extensions) {
    if let Some(stream) = connection.downcast_ref::<TlsStream<actix_web::rt::net::TcpStream>>() {
        kept.insert(ClientNames::of(stream.get_ref().1.peer_certificates()));
    }
}
