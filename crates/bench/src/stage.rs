//! A PostgreSQL that keeps every commit, and a released node over it.

use crate::Fallible;
use arvok_postgres::{Cluster, Durability, SupervisedChild, free_port, spawn_supervised};
use reqwest::Client;
use serde_json::{Value, json};
use std::{
    fs,
    path::PathBuf,
    process::{Command, Stdio},
    time::Duration,
};

const SOURCE: &str =
    "source: bench\nintake: { webhook: { credential: { bearer: \"${secret('bench')}\" } } }\n";

pub struct Stage {
    pub cluster: Cluster,
    pub database: String,
    pub address: String,
    pub http: Client,
    token: String,
    node: Option<SupervisedChild>,
}

impl Stage {
    pub async fn start() -> Fallible<Self> {
        let folder = PathBuf::from("target/bench");
        fs::create_dir_all(&folder)?;
        let cluster = Cluster::start(&folder.join("postgres"), Durability::Full)?;
        cluster.remove("bench").await?;
        let database = cluster.create("bench").await?;
        let port = free_port()?;
        let data = folder.join("node");
        let _ = fs::remove_dir_all(&data);
        let mut command = Command::new("target/release/arvok");
        command
            .arg("serve")
            .env("ARVOK_LISTEN", format!("127.0.0.1:{port}"))
            .env("ARVOK_DATABASE", &database)
            .env("ARVOK_DRAIN", "0s")
            .env("ARVOK_DATA", &data)
            .env("ARVOK_LOG", "warn");
        let node = spawn_supervised(&command, "TERM", Stdio::null(), Stdio::inherit())?;
        let http = arvok_connect::http_client().build()?;
        let mut stage = Self {
            cluster,
            database,
            address: format!("http://127.0.0.1:{port}"),
            http,
            token: String::new(),
            node: Some(node),
        };
        stage.ready().await?;
        stage.token = fs::read_to_string(data.join("admin.token"))?.trim().to_owned();
        stage.secret().await?;
        stage.publish(SOURCE).await?;
        Ok(stage)
    }

    async fn ready(&self) -> Fallible<()> {
        for _ in 0..600 {
            if self
                .http
                .get(format!("{}/readyz", self.address))
                .send()
                .await
                .is_ok_and(|r| r.status().is_success())
            {
                return Ok(());
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        Err("the node does not answer".into())
    }

    async fn secret(&self) -> Fallible<()> {
        let body = json!({ "value": "bench", "allowed": ["source/bench"] });
        self.put("/api/v1/secrets/bench", &body).await
    }

    pub async fn publish(&self, text: &str) -> Fallible<()> {
        let body = json!({ "files": [{ "file": "bench.yaml", "text": text }] });
        let answer = self
            .http
            .post(format!("{}/api/v1/publish", self.address))
            .bearer_auth(&self.token)
            .json(&body)
            .send()
            .await?;
        if answer.status().is_success() { Ok(()) } else { Err(answer.text().await?.into()) }
    }

    /// Posts alerts in the normal form; waits while the node is full.
    pub async fn post(&self, alerts: &Value) -> Fallible<()> {
        let text = alerts.to_string();
        loop {
            let request = self.http.post(format!("{}/in/bench", self.address)).bearer_auth("bench");
            let answer = request
                .header("content-type", "application/json")
                .body(text.clone())
                .send()
                .await?;
            match answer.status().as_u16() {
                202 => return Ok(()),
                429 => tokio::time::sleep(Duration::from_millis(20)).await,
                other => return Err(format!("answered {other}: {}", answer.text().await?).into()),
            }
        }
    }

    /// PUT; must succeed.
    pub async fn put(&self, path: &str, body: &Value) -> Fallible<()> {
        let put = self.http.put(format!("{}{path}", self.address));
        put.bearer_auth(&self.token).json(body).send().await?.error_for_status()?;
        Ok(())
    }

    /// POST; must succeed.
    pub async fn post_to(&self, path: &str, body: &Value) -> Fallible<Value> {
        let post = self.http.post(format!("{}{path}", self.address));
        let sent = post.bearer_auth(&self.token).json(body).send().await?;
        Ok(sent.error_for_status()?.json().await?)
    }

    /// A runner with these labels, once it is there.
    pub async fn runner(&self, labels: &str) -> Fallible<SupervisedChild> {
        let pairs = labels.split(',').filter_map(|pair| pair.split_once('='));
        let labels: Value = pairs.map(|(name, value)| (name.to_owned(), json!(value))).collect();
        let new = json!({ "name": "bench", "labels": labels });
        let made = self.post_to("/api/v1/runners", &new).await?;
        let file = PathBuf::from("target/bench/runner.token");
        fs::write(&file, made["token"].as_str().ok_or("no token")?)?;
        let mut command = Command::new("target/release/arvok");
        command.args(["runner", "--server", &self.address, "--token-file"]).arg(&file);
        command.env("ARVOK_LOG", "warn");
        let runner = spawn_supervised(&command, "TERM", Stdio::null(), Stdio::inherit())?;
        for _ in 0..600 {
            if self.get("/api/v1/runners").await?[0]["lag"].is_number() {
                return Ok(runner);
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        Err("the runner does not come".into())
    }

    /// GET; must succeed.
    pub async fn get(&self, path: &str) -> Fallible<Value> {
        let asked = self
            .http
            .get(format!("{}{path}", self.address))
            .bearer_auth(&self.token)
            .send()
            .await?;
        Ok(asked.error_for_status()?.json().await?)
    }

    /// Launches a job; its number.
    pub async fn launch(&self, body: &Value) -> Fallible<i64> {
        let post = self.http.post(format!("{}/api/v1/jobs", self.address));
        let made = post.bearer_auth(&self.token).json(body).send().await?.error_for_status()?;
        Ok(made.json::<Value>().await?["job"].as_i64().ok_or("no number")?)
    }

    /// How long the node's processors have worked for it, in seconds.
    pub fn processor_seconds(&self) -> Fallible<f64> {
        let pid = self.node.as_ref().ok_or("no node")?.pid();
        let stat = fs::read_to_string(format!("/proc/{pid}/stat"))?;
        let fields: Vec<&str> =
            stat.rsplit(") ").next().unwrap_or_default().split_whitespace().collect();
        // The 14th and the 15th of all, in hundredths of a second (proc(5)).
        let ticks: f64 = fields
            .get(11..13)
            .ok_or("no times")?
            .iter()
            .filter_map(|t| t.parse::<f64>().ok())
            .sum();
        Ok(ticks / 100.0)
    }

    /// The most memory that the node has had, in megabytes.
    pub fn most_memory(&self) -> Fallible<f64> {
        let pid = self.node.as_ref().ok_or("no node")?.pid();
        let status = fs::read_to_string(format!("/proc/{pid}/status"))?;
        let mark = status.lines().find_map(|l| l.strip_prefix("VmHWM:")).ok_or("no mark")?;
        Ok(mark.trim().trim_end_matches(" kB").parse::<f64>()? / 1e3)
    }

    pub fn stop(&mut self) {
        drop(self.node.take());
    }
}

/// Machines stand in so many racks.
pub const RACKS: usize = 20;

/// A realistic alert of some hundred bytes.
pub fn alert(run: &str, n: usize) -> Value {
    json!({
        "id": format!("{run}-{n}"), "kind": "disk.usage",
            "resource": format!("vm/quill-booking-db-{}", n % 500),
        "severity": "minor", "value": 88.5, "summary": format!("disk data of quill-booking-db-{} \
        is 88.5 % full", n % 500),
        "labels": { "disk": "data", "tier": "gold", "rack": (n % RACKS).to_string() },
            "body": { "reading": { "number": n, "percent": 88.5, "check": "disk" } }
    })
}
