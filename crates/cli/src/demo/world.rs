//! Everything the demo needs: a database, stand-ins, a node, published definitions.

use super::{
    Options,
    real::{Real, RealConnection},
};
use crate::{client::Client, error::CliError};
use arvok_api::{
    DefinitionName, FileText, NewRunner, PublishRequest, PublishResult, RunnerMade, SecretValue,
};
use arvok_connect::Keys;
use arvok_postgres::{Cluster, Durability, SupervisedChild, free_port, spawn_supervised};
use arvok_service::secret_text;
use arvok_standins::{Harbour, Pace, chat::Message};
use reqwest::Method;
use rust_embed::RustEmbed;
use std::{
    fs,
    net::TcpListener,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::Duration,
};

/// The demo's definitions, inside the binary.
#[derive(RustEmbed)]
#[folder = "../../demo"]
struct Definitions;

pub struct World {
    pub client: Client,
    pub token: String,
    pub harbour: Harbour,
    node: SupervisedChild,
    /// Servers of this machine, where they are wished.
    pub real: Option<Real>,
    /// The runner at the pier of Brack.
    runner: Option<SupervisedChild>,
    node_command: NodeCommand,
    cluster: Option<Cluster>,
}

struct NodeCommand {
    port: u16,
    data: PathBuf,
    database: String,
    /// Names of settings, and the addresses that they hold.
    settings: Vec<(String, String)>,
}

fn failed(e: impl std::fmt::Display) -> CliError {
    CliError::Here(e.to_string())
}

/// The wanted port if it is free, else any.
fn port(wanted: u16) -> Result<u16, CliError> {
    match TcpListener::bind(("127.0.0.1", wanted)) {
        Ok(_) if wanted != 0 => Ok(wanted),
        _ => free_port().map_err(failed),
    }
}

impl World {
    /// Starts all of it, with an empty database.
    pub async fn start(options: &Options) -> Result<Self, CliError> {
        fs::create_dir_all(&options.data).map_err(|e| crate::error::file(&options.data, e))?;
        eprintln!("arvok: starting a private PostgreSQL in {}", options.data.display());
        let folder = options.data.join("postgres");
        let cluster =
            tokio::task::spawn_blocking(move || Cluster::start(&folder, Durability::Full))
                .await
                .map_err(failed)?
                .map_err(failed)?;
        cluster.remove("demo").await.map_err(failed)?;
        let database = cluster.create("demo").await.map_err(failed)?;

        let node_port = port(options.port)?;
        let address = format!("http://127.0.0.1:{node_port}");
        let pace = Pace {
            tick: Duration::from_millis(250),
            seconds_a_tick: 15.0,
            takes: Duration::from_secs(2),
        };
        let key = Keys::make().map_err(failed)?;
        let token = |what: &str| secret_text(&format!("{what}-"));
        let harbour = Harbour::start(&address, pace, token, &key).map_err(failed)?;
        let data = options.data.join("node");
        let _ = fs::remove_dir_all(&data);
        let node_command = NodeCommand {
            port: node_port,
            data: data.clone(),
            database,
            settings: harbour
                .settings()
                .map(|(name, url)| (name.to_uppercase().replace('-', "_"), url))
                .into(),
        };
        let node = node_command.spawn()?;
        let mut world = Self {
            client: Client::new(address.clone(), None)?,
            token: String::new(),
            harbour,
            node,
            real: None,
            runner: None,
            node_command,
            cluster: Some(cluster),
        };
        world.ready().await?;
        world.token = fs::read_to_string(data.join("admin.token"))
            .map_err(|e| crate::error::file(&data, e))?
            .trim()
            .to_owned();
        world.client = Client::new(address, Some(world.token.clone()))?;
        for (name, value, place) in world.harbour.secrets() {
            let body =
                SecretValue { value: value.clone(), allowed: Some(vec![(*place).to_owned()]) };
            world
                .client
                .change(Method::PUT, &format!("/api/v1/secrets/{name}"), Some(&body))
                .await?;
        }
        world.publish().await?;
        if options.real {
            world.start_real().await?;
        }
        world.runner = Some(world.start_runner(&options.data.join("runner.token")).await?);
        Ok(world)
    }

    /// Starts servers of this machine, and has the library's connections lead to them.
    async fn start_real(&mut self) -> Result<(), CliError> {
        eprintln!("arvok: starting this machine's sshd and libvirtd on loopback");
        let real = tokio::task::spawn_blocking(Real::start).await.map_err(failed)?;
        let real = real.map_err(failed)?;
        for RealConnection { name, text, key } in real.connections().map_err(failed)? {
            let allowed = Some(vec![format!("connection/{name}")]);
            let path = format!("/api/v1/secrets/{name}");
            let secret = SecretValue { value: key, allowed };
            self.client.change(Method::PUT, &path, Some(&secret)).await?;
            let files = vec![FileText { file: format!("library/connections/{name}.yaml"), text }];
            self.send(files).await?;
        }
        self.real = Some(real);
        Ok(())
    }

    /// Starts the runner of the pier: what stands there is reached by it alone.
    async fn start_runner(&self, token: &Path) -> Result<SupervisedChild, CliError> {
        let labels = [("site".to_owned(), "brack".to_owned())].into();
        let new = NewRunner { name: "brack-pier-3".to_owned(), labels };
        let made: RunnerMade = self.client.post("/api/v1/runners", &new).await?;
        fs::write(token, made.token).map_err(|e| crate::error::file(token, e))?;
        let mut command = Command::new(std::env::current_exe().map_err(failed)?);
        command
            .args(["runner", "--server", self.client.address(), "--token-file"])
            .arg(token)
            .env("ARVOK_LOG", std::env::var("ARVOK_LOG").unwrap_or_else(|_| "error".into()));
        spawn_supervised(&command, "TERM", Stdio::null(), Stdio::inherit()).map_err(failed)
    }

    /// Waits until the node answers.
    async fn ready(&mut self) -> Result<(), CliError> {
        for _ in 0..600 {
            if !self.node.is_running() {
                return Err(CliError::Here(
                    "the node ended right away; what it said stands above".into(),
                ));
            }
            let asked: Result<serde_json::Value, CliError> =
                self.client.get("/api/v1/openapi.json", &[]).await;
            if asked.is_ok() {
                return Ok(());
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        Err(CliError::Unreachable("the node does not answer after 30 s".into()))
    }

    async fn publish(&self) -> Result<(), CliError> {
        let own = Definitions::iter().filter_map(|name| {
            let text = String::from_utf8(Definitions::get(&name)?.data.into_owned()).ok()?;
            Some(FileText { file: format!("demo/{name}"), text })
        });
        let library = |(name, text): (String, String)| FileText {
            file: format!("library/{name}.yaml"),
            text,
        };
        let files = own.chain(arvok_library::files().into_iter().map(library)).collect();
        let plan = self.send(files).await?;
        eprintln!("arvok: published {} definitions", plan.changes.len());
        Ok(())
    }

    /// Publishes documents and withdraws another, by its kind and name.
    pub async fn change(
        &self,
        files: Vec<FileText>,
        withdraw: Option<(&str, &str)>,
    ) -> Result<(), CliError> {
        let named = |(kind, name): (&str, &str)| DefinitionName {
            kind: kind.to_owned(),
            name: name.to_owned(),
        };
        let withdraw = withdraw.map(named).into_iter().collect();
        let request = PublishRequest { files, withdraw, dry_run: false, expects: Vec::new() };
        let _: PublishResult = self.client.post("/api/v1/publish", &request).await?;
        Ok(())
    }

    async fn send(&self, files: Vec<FileText>) -> Result<PublishResult, CliError> {
        let (withdraw, expects) = (Vec::new(), Vec::new());
        let request = PublishRequest { files, withdraw, dry_run: false, expects };
        self.client.post("/api/v1/publish", &request).await
    }

    /// Kills the node without warning and starts it again.
    pub async fn kill_node(&mut self) -> Result<(), CliError> {
        let pid = nix::unistd::Pid::from_raw(i32::try_from(self.node.pid()).map_err(failed)?);
        nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGKILL).map_err(failed)?;
        while self.node.is_running() {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        eprintln!("arvok: the node was killed; starting it again");
        self.node = self.node_command.spawn()?;
        self.ready().await
    }

    /// What was said in some channels of the chat, the oldest first.
    pub fn said_in(&self, channels: &[&str]) -> Vec<Message> {
        self.harbour
            .chat
            .messages()
            .into_iter()
            .filter(|m| channels.contains(&m.channel.as_str()))
            .collect()
    }

    /// Stops all of it.
    pub async fn stop(mut self) {
        self.harbour.stop().await;
        drop(self.runner.take());
        self.node.end();
        if let Some(cluster) = self.cluster.take() {
            cluster.stop();
        }
    }
}

impl NodeCommand {
    fn spawn(&self) -> Result<SupervisedChild, CliError> {
        let mut command = Command::new(std::env::current_exe().map_err(failed)?);
        command
            .arg("serve")
            .env("ARVOK_LISTEN", format!("127.0.0.1:{}", self.port))
            .env("ARVOK_DATABASE", &self.database)
            .env("ARVOK_DRAIN", "0s")
            .env("ARVOK_DATA", &self.data)
            .env("ARVOK_LOG", std::env::var("ARVOK_LOG").unwrap_or_else(|_| "warn".into()))
            .envs(self.settings.iter().map(|(name, url)| (format!("ARVOK_SETTING_{name}"), url)));
        spawn_supervised(&command, "TERM", Stdio::null(), Stdio::inherit()).map_err(failed)
    }
}
