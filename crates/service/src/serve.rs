//! Starting and stopping a node.

use crate::{
    api, clock,
    config::Config,
    intake,
    node::{Node, missing_settings},
    random::secret_text,
    runner,
};
use actix_web::{App, HttpServer, dev::ServerHandle, middleware::from_fn, web};
use arvok_api::{Change, Role};
use arvok_connect::{Http, Vault, VaultError};
use arvok_store::{
    DatabaseConnection, StoreError, access,
    changes::Listener,
    cluster::{Cluster, Durability},
};
use std::{fs, net::SocketAddr, path::PathBuf, sync::Arc, time::Duration};
use tokio::{
    sync::{mpsc, watch},
    task::{JoinHandle, JoinSet},
};

/// Why a node cannot start.
#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The key of the secrets.
    #[error(transparent)]
    Vault(#[from] VaultError),
    /// The client for outward calls.
    #[error(transparent)]
    Http(#[from] arvok_connect::CallError),
    /// The data folder.
    #[error("the data folder {folder}: {wrong}")]
    Data {
        /// Its path.
        folder: String,
        /// What is wrong.
        wrong: std::io::Error,
    },
    /// The address.
    #[error("cannot listen on {address}: {wrong}")]
    Listen {
        /// The address.
        address: SocketAddr,
        /// What is wrong.
        wrong: std::io::Error,
    },
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
    server: ServerHandle,
    stop: watch::Sender<bool>,
    tasks: JoinSet<()>,
    runner: JoinHandle<()>,
    cluster: Option<Cluster>,
}

impl Running {
    /// Stops: streams end, what is being answered is answered, jobs have a moment to end.
    pub async fn stop(mut self) {
        let _ = self.stop.send(true);
        self.server.stop(true).await;
        let _ = self.runner.await;
        self.tasks.shutdown().await;
        if let Some(cluster) = self.cluster.take() {
            cluster.stop();
        }
    }
}

/// Starts a node.
pub async fn start(config: Config) -> Result<Running, ServeError> {
    let data = |wrong| ServeError::Data { folder: config.data.display().to_string(), wrong };
    fs::create_dir_all(&config.data).map_err(data)?;
    let (url, cluster) = database(&config).await?;
    let db = arvok_store::open(&url, config.database_connections).await?;
    let first_token = first_token(&db, &config).await?;
    let vault = Vault::open(&config.data.join("secrets.key"))?;
    let (pipeline, queue) = mpsc::channel(intake::QUEUE);
    let (stop, stopping) = watch::channel(false);
    let node = Arc::new(Node::new(&config, db, vault, Http::new()?, pipeline, stopping));
    let listener = Listener::start(&node.db).await?;
    node.reload().await?;
    for missing in missing_settings(&node.published().catalog, &config) {
        tracing::warn!("{missing}");
    }

    let mut tasks = JoinSet::new();
    tasks.spawn(hear(Arc::clone(&node), listener));
    let queue = Arc::new(tokio::sync::Mutex::new(queue));
    for _ in 0..intake::LANES {
        tasks.spawn(intake::pipeline(Arc::clone(&node), Arc::clone(&queue)));
    }
    tasks.spawn(intake::watch_due(Arc::clone(&node)));
    let runner = tokio::spawn(runner::run(Arc::clone(&node), config.jobs_at_once));
    tasks.spawn(runner::renew(Arc::clone(&node)));

    let (server, address) = serve_http(&config, Arc::clone(&node))?;
    let private_database = cluster.is_some().then(|| config.data.join("postgres"));
    Ok(Running { address, first_token, private_database, server, stop, tasks, runner, cluster })
}

async fn database(config: &Config) -> Result<(String, Option<Cluster>), ServeError> {
    if let Some(url) = &config.database {
        return Ok((url.clone(), None));
    }
    let folder = config.data.join("postgres");
    let cluster = tokio::task::spawn_blocking(move || Cluster::start(&folder, Durability::Full))
        .await
        .map_err(|e| StoreError::Cluster(e.to_string()))??;
    let url = cluster.create("arvok").await?;
    Ok((url, Some(cluster)))
}

/// Without any token nobody could ever come in: the first start makes one for the operator.
async fn first_token(db: &DatabaseConnection, config: &Config) -> Result<Option<PathBuf>, ServeError> {
    if access::any_token(db).await? {
        return Ok(None);
    }
    use std::{io::Write, os::unix::fs::OpenOptionsExt};
    let file = config.data.join("admin.token");
    let token = secret_text("arvok_");
    let write = || {
        let _ = fs::remove_file(&file);
        let mut made = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&file)?;
        writeln!(made, "{token}")
    };
    write().map_err(|wrong| ServeError::Data { folder: file.display().to_string(), wrong })?;
    match access::add_token(db, "admin", Role::Admin, &token, clock::now()).await {
        // Another node was first; its file holds the token.
        Err(StoreError::Taken(_)) => Ok(None),
        Err(e) => Err(e.into()),
        Ok(()) => Ok(Some(file)),
    }
}

/// Hears what all nodes announce; after a lost connection everything is looked at anew.
async fn hear(node: Arc<Node>, mut listener: Listener) {
    let mut stopping = node.stopping.clone();
    loop {
        let heard = tokio::select! {
            _ = stopping.changed() => return,
            heard = listener.next() => heard,
        };
        let change = match heard {
            Ok(change) => change,
            Err(e) => {
                tracing::error!("the channel of changes: {e}");
                tokio::time::sleep(Duration::from_secs(1)).await;
                Change { reset: true, ..Change::default() }
            }
        };
        if (change.definitions || change.reset)
            && let Err(e) = node.reload().await
        {
            tracing::error!("what is published cannot be loaded: {e}");
        }
        if !change.jobs.is_empty() || !change.alarms.is_empty() || change.reset {
            node.work.notify_one();
        }
        node.changes.publish(change);
    }
}

fn serve_http(config: &Config, node: Arc<Node>) -> Result<(ServerHandle, SocketAddr), ServeError> {
    let refused = |wrong| ServeError::Listen { address: config.listen, wrong };
    let state = web::Data::from(node);
    let server = HttpServer::new(move || {
        App::new().app_data(state.clone()).wrap(from_fn(api::guard_headers)).configure(api::configure)
    })
    .workers(2)
    .disable_signals()
    .shutdown_timeout(5)
    .max_connections(4096)
    .client_request_timeout(Duration::from_secs(10))
    .bind(config.listen)
    .map_err(refused)?;
    let address = server.addrs().first().copied().unwrap_or(config.listen);
    let server = server.run();
    let handle = server.handle();
    tokio::spawn(server);
    Ok((handle, address))
}
