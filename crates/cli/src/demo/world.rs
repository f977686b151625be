//! Everything the demo needs: a database, stand-ins, a node, published definitions.

use super::Options;
use crate::{client::Client, error::CliError};
use arvok_api::{FileText, Plan, PublishRequest, SecretValue};
use arvok_connect::Keys;
use arvok_postgres::{Cluster, Durability, Tethered, free_port, spawn_tethered};
use arvok_service::secret_text;
use arvok_standins::{
    board::{self, BoardOptions, RunningBoard},
    chat::{self, Message, RunningChat},
    releases::{self, ReleaseOptions, RunningReleases},
    yard::{self, RunningYard, YardOptions},
};
use reqwest::Method;
use rust_embed::RustEmbed;
use std::{
    fs,
    net::TcpListener,
    path::PathBuf,
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
    pub yard: RunningYard,
    pub chat: RunningChat,
    pub releases: RunningReleases,
    pub board: RunningBoard,
    node: Tethered,
    node_command: NodeCommand,
    cluster: Option<Cluster>,
}

struct NodeCommand {
    port: u16,
    data: PathBuf,
    database: String,
    yard: String,
    chat: String,
    releases: String,
    board: String,
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

/// What stands in for the outside, and what is shown to it: the name of each secret, its value, and where it may go.
struct Standins {
    yard: RunningYard,
    chat: RunningChat,
    releases: RunningReleases,
    board: RunningBoard,
    secrets: [(&'static str, String, &'static str); 6],
}

impl Standins {
    /// Starts them; what they tell goes to the node at this address.
    fn start(address: &str) -> Result<Self, CliError> {
        let (monitor, office, crew) = (secret_text("monitor-"), secret_text("office-"), secret_text("crew-"));
        let (watch, desk) = (secret_text("watch-"), secret_text("desk-"));
        let yard = yard::start(YardOptions {
            port: 0,
            token: office.clone(),
            report_to: Some((format!("{address}/in/yard-hypervisor"), monitor.clone())),
            tick: Duration::from_millis(250),
            seconds_a_tick: 15.0,
        })
        .map_err(failed)?;
        let chat = chat::start(0, crew.clone()).map_err(failed)?;
        let releases = releases::start(ReleaseOptions {
            port: 0,
            token: desk.clone(),
            report_to: Some((format!("{address}/in/releases"), watch.clone())),
            tick: Duration::from_millis(250),
            takes: Duration::from_secs(2),
        })
        .map_err(failed)?;
        let key = Keys::make().map_err(failed)?;
        let board = BoardOptions { port: 0, token: secret_text("board-"), key: key.clone() };
        let board = board::start(board).map_err(failed)?;
        let secrets = [
            ("yard-monitor", monitor, "source/yard-hypervisor"),
            ("yard-office", office, "connection/yard-hypervisor"),
            ("crew-chat", crew, "connection/crew-chat"),
            ("release-watch", watch, "source/releases"),
            ("release-desk", desk, "connection/release-desk"),
            ("board-key", key, "subscriber/harbour-board"),
        ];
        Ok(Self { yard, chat, releases, board, secrets })
    }
}

impl World {
    /// Starts all of it, with an empty database.
    pub async fn start(options: &Options) -> Result<Self, CliError> {
        fs::create_dir_all(&options.data).map_err(|e| crate::error::file(&options.data, e))?;
        eprintln!("arvok: starting a private PostgreSQL in {}", options.data.display());
        let folder = options.data.join("postgres");
        let cluster = tokio::task::spawn_blocking(move || Cluster::start(&folder, Durability::Full))
            .await
            .map_err(failed)?
            .map_err(failed)?;
        cluster.remove("demo").await.map_err(failed)?;
        let database = cluster.create("demo").await.map_err(failed)?;

        let node_port = port(options.port)?;
        let address = format!("http://127.0.0.1:{node_port}");
        let Standins { yard, chat, releases, board, secrets } = Standins::start(&address)?;
        let data = options.data.join("node");
        let _ = fs::remove_dir_all(&data);
        let node_command = NodeCommand {
            port: node_port,
            data: data.clone(),
            database,
            yard: yard.url(),
            chat: chat.url(),
            releases: releases.url(),
            board: board.url(),
        };
        let node = node_command.spawn()?;
        let mut world = Self {
            client: Client::new(address.clone(), None)?,
            token: String::new(),
            yard,
            chat,
            releases,
            board,
            node,
            node_command,
            cluster: Some(cluster),
        };
        world.ready().await?;
        world.token =
            fs::read_to_string(data.join("admin.token")).map_err(|e| crate::error::file(&data, e))?.trim().to_owned();
        world.client = Client::new(address, Some(world.token.clone()))?;
        for (name, value, place) in secrets {
            let body = SecretValue { value, allowed: Some(vec![place.to_owned()]) };
            world.client.change(Method::PUT, &format!("/api/v1/secrets/{name}"), Some(&body)).await?;
        }
        world.publish().await?;
        Ok(world)
    }

    /// Waits until the node answers.
    async fn ready(&mut self) -> Result<(), CliError> {
        for _ in 0..600 {
            if !self.node.is_running() {
                return Err(CliError::Here("the node ended right away; what it said stands above".into()));
            }
            let asked: Result<serde_json::Value, CliError> = self.client.get("/api/v1/openapi.json", &[]).await;
            if asked.is_ok() {
                return Ok(());
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        Err(CliError::Unreachable("the node does not answer after 30 s".into()))
    }

    async fn publish(&self) -> Result<(), CliError> {
        let files = Definitions::iter()
            .filter_map(|name| {
                let text = String::from_utf8(Definitions::get(&name)?.data.into_owned()).ok()?;
                Some(FileText { file: format!("demo/{name}"), text })
            })
            .collect();
        let plan: Plan = self
            .client
            .post("/api/v1/publish", &PublishRequest { files, withdraw: Vec::new(), dry_run: false })
            .await?;
        eprintln!("arvok: published {} definitions", plan.changes.len());
        Ok(())
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
        self.chat.messages().into_iter().filter(|m| channels.contains(&m.channel.as_str())).collect()
    }

    /// Stops all of it.
    pub async fn stop(mut self) {
        self.yard.stop().await;
        self.chat.stop().await;
        self.releases.stop().await;
        self.board.stop().await;
        self.node.end();
        if let Some(cluster) = self.cluster.take() {
            cluster.stop();
        }
    }
}

impl NodeCommand {
    fn spawn(&self) -> Result<Tethered, CliError> {
        let mut command = Command::new(std::env::current_exe().map_err(failed)?);
        command
            .arg("serve")
            .env("ARVOK_LISTEN", format!("127.0.0.1:{}", self.port))
            .env("ARVOK_DATABASE", &self.database)
            .env("ARVOK_DATA", &self.data)
            .env("ARVOK_LOG", std::env::var("ARVOK_LOG").unwrap_or_else(|_| "warn".into()))
            .env("ARVOK_SETTING_YARD", &self.yard)
            .env("ARVOK_SETTING_CREW_CHAT", &self.chat)
            .env("ARVOK_SETTING_RELEASE_DESK", &self.releases)
            .env("ARVOK_SETTING_HARBOUR_BOARD", &self.board);
        spawn_tethered(&command, "TERM", Stdio::null(), Stdio::inherit()).map_err(failed)
    }
}
