//! A node with everything around it.

use super::{
    ARVOK, Records, Said, block, command::arvok, contract, database, folder, migrated, until,
    until_or,
};
use arvok_postgres::{SupervisedChild, free_port, spawn_supervised};
use arvok_standins::{Harbour, Pace};
use nix::{
    sys::signal::{Signal, kill},
    unistd::Pid,
};
use reqwest::{Client, Method};
use serde_json::{Value, json};
use std::{
    fs,
    path::PathBuf,
    process::{Command, Stdio},
    sync::Arc,
    time::Duration,
};

/// The demo's definitions, as files of the repository.
pub const DEMO: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo");

/// The key that events to the board are signed with.
const BOARD_KEY: &str = "whsec_c2tlcnJvdyBmZXJyaWVzIGhhcmJvdXIgYm9hcmQ=";

/// The library, as files of the repository.
pub const LIBRARY: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../library");

/// A node with all that the Skerrow Ferries have.
pub struct Stage {
    pub harbour: Arc<Harbour>,
    pub token: String,
    pub address: String,
    pub database: String,
    data: PathBuf,
    node: Option<SupervisedChild>,
    http: Client,
}

impl Stage {
    /// With the demo published and the yard's monitor at work.
    pub fn with_demo() -> Self {
        let stage = Self::bare();
        let said = stage.arvok(&["publish", DEMO, LIBRARY, "--yes"]);
        assert_eq!(said.code, 0, "{}", said.all());
        stage.fill_disks();
        stage
    }

    /// The last disk of every VM is full enough to be grown, and not so full that the monitor says
    /// so.
    fn fill_disks(&self) {
        self.harbour.yard.with(|yard| {
            let disks = yard.vms.values_mut().filter_map(|vm| vm.disks.last_mut());
            disks.for_each(|disk| disk.used_gib = disk.used_gib.max(disk.size_gib * 0.8));
        });
    }

    /// With nothing published.
    pub fn bare() -> Self {
        Self::over(migrated())
    }

    /// With nothing published, over a database that holds nothing.
    pub fn over(database: String) -> Self {
        let port = free_port().expect("a free port");
        let address = format!("http://127.0.0.1:{port}");
        let pace = Pace {
            tick: Duration::from_millis(50),
            seconds_a_tick: 15.0,
            takes: Duration::from_millis(300),
        };
        let token = |what: &str| format!("{what}-token");
        let harbour =
            block(async { Harbour::start(&address, pace, token, BOARD_KEY) }).expect("a harbour");
        // A line kept open may be closed by the node at the very moment of a request.
        let http =
            arvok_connect::http_client().pool_max_idle_per_host(0).build().expect("a client");
        let data = folder("node");
        let harbour = Arc::new(harbour);
        let mut stage =
            Self { harbour, token: String::new(), address, data, database, node: None, http };
        stage.start_node();
        stage.token = fs::read_to_string(stage.data.join("admin.token"))
            .expect("a first token")
            .trim()
            .to_owned();
        for (name, value, place) in stage.harbour.secrets() {
            stage.secret(name, value, &[place]);
        }
        stage
    }

    /// Starts the node, or starts it again.
    pub fn start_node(&mut self) {
        self.start_node_with(&[]);
        until("the node to answer", || {
            let running = self.node.as_mut().is_some_and(SupervisedChild::is_running);
            assert!(running, "the node ended: {}", self.log());
            block(self.http.get(format!("{}/readyz", self.address)).send())
                .ok()
                .filter(|r| r.status().is_success())
        });
    }

    /// Starts the node again with more options, and shows the token that is in its folder then.
    pub fn restart_with(&mut self, options: &[&str]) {
        drop(self.node.take());
        self.start_node_with(options);
        self.until_ready();
        self.token =
            fs::read_to_string(self.data.join("admin.token")).expect("a token").trim().to_owned();
    }

    /// Another node over the same database with this key, or with none; it is not waited for.
    pub fn node_with_key(&self, key: &str) -> Self {
        let data = folder("other-key");
        if !key.is_empty() {
            fs::write(data.join("secrets.key"), key).expect("a key");
        }
        let mut other = self.beside(data, self.database.clone());
        other.start_node_with(&[]);
        other.until_it_answers();
        other
    }

    /// A node over what a backup of this one's database holds, made and read back by PostgreSQL's
    /// own programs; without the key if there is none.
    pub fn restored(&self, has_key: bool, options: &[&str]) -> Self {
        let (to, dump) = (database(), self.data.join("arvok.dump"));
        let file = dump.to_str().expect("a path");
        let run = |program: &str, args: &[&str]| {
            let program = arvok_postgres::binaries().expect("PostgreSQL").join(program);
            let said = Command::new(program).args(args).output().expect("it runs");
            assert!(said.status.success(), "{}", String::from_utf8_lossy(&said.stderr));
        };
        run("pg_dump", &["--format=custom", "--file", file, &self.database]);
        run("pg_restore", &["--no-owner", "--dbname", &to, file]);
        let data = folder("restored");
        if has_key {
            fs::copy(self.data.join("secrets.key"), data.join("secrets.key"))
                .expect("the same key");
        }
        let mut other = self.beside(data, to);
        other.start_node_with(options);
        other.until_it_answers();
        other
    }

    /// Waits until the node answers at all.
    fn until_it_answers(&self) {
        until("the node to answer", || {
            block(self.http.get(format!("{}/healthz", self.address)).send()).ok()
        });
    }

    /// Another node that is not started yet, with the same stand-ins around it.
    fn beside(&self, data: PathBuf, database: String) -> Self {
        Self {
            harbour: Arc::clone(&self.harbour),
            token: self.token.clone(),
            address: format!("http://127.0.0.1:{}", free_port().expect("a free port")),
            data,
            database,
            node: None,
            http: self.http.clone(),
        }
    }

    /// Waits until the node answers that it is ready.
    pub fn until_ready(&self) {
        until("the node to be ready", || {
            block(self.http.get(format!("{}/readyz", self.address)).send())
                .ok()
                .filter(|r| r.status().is_success())
        });
    }

    /// The variables by which a command on the node's machine finds its settings.
    pub fn settings(&self) -> Vec<(&str, &str)> {
        vec![
            ("ARVOK_DATABASE", &self.database),
            ("ARVOK_DATA", self.data.to_str().expect("a path")),
        ]
    }

    /// Whether the node's data folder has a file.
    pub fn has_file(&self, name: &str) -> bool {
        self.data.join(name).exists()
    }

    /// Starts the node again, with a log that nobody reads and that tells of everything.
    pub fn restart_unread(&mut self) {
        drop(self.node.take());
        let (reader, writer) = std::io::pipe().expect("a pipe");
        drop(reader);
        let mut command = self.command(&[]);
        command.env("ARVOK_LOG", "info");
        self.node = Some(
            spawn_supervised(&command, "KILL", Stdio::null(), writer.into())
                .expect("the node starts"),
        );
        self.until_ready();
    }

    /// Starts the node again, to take its time when it is asked to end.
    pub fn restart_with_drain(&mut self, long: &str) {
        self.restart_with_env(&[("ARVOK_DRAIN", long)]);
    }

    /// Starts the node again with more variables.
    pub fn restart_with_env(&mut self, variables: &[(&str, &str)]) {
        drop(self.node.take());
        let mut command = self.command(&[]);
        command.envs(variables.iter().copied());
        self.spawn(&command);
        self.until_ready();
    }

    /// Starts the node again to speak TLS, which is trusted by this authority.
    pub fn restart_with_tls(&mut self, authority: &str, variables: &[(&str, &str)]) {
        drop(self.node.take());
        let mut command = self.command(&[]);
        command.envs(variables.iter().copied());
        let pem = fs::read(authority).expect("an authority");
        let authority = reqwest::Certificate::from_pem(&pem).expect("a certificate");
        let client = arvok_connect::http_client().pool_max_idle_per_host(0);
        self.http = client.tls_certs_only([authority]).build().expect("a client");
        self.address = self.address.replace("http://", "https://");
        self.spawn(&command);
        self.until_ready();
    }

    /// Starts the node again with a key of its own making.
    pub fn restart_new_key(&mut self) {
        drop(self.node.take());
        self.start_node_with(&["--new-key"]);
    }

    /// Whether the node's process is there.
    pub fn is_running(&mut self) -> bool {
        self.node.as_mut().is_some_and(SupervisedChild::is_running)
    }

    fn start_node_with(&mut self, options: &[&str]) {
        self.spawn(&self.command(options));
    }

    /// Starts the node's process, which writes its log into the folder.
    fn spawn(&mut self, command: &Command) {
        let log = fs::OpenOptions::new()
            .create(true)
            .append(true)
            .open(self.data.join("log"))
            .expect("a log");
        self.node = Some(
            spawn_supervised(command, "KILL", Stdio::null(), log.into()).expect("the node starts"),
        );
    }

    fn command(&self, options: &[&str]) -> Command {
        let mut command = Command::new(ARVOK);
        command
            .arg("serve")
            .args(options)
            .env("ARVOK_LISTEN", self.address.split_once("//").expect("a scheme").1)
            .env("ARVOK_DATABASE", &self.database)
            .env("ARVOK_DATA", &self.data)
            .env("ARVOK_DATABASE_CONNECTIONS", "8")
            .env("ARVOK_DRAIN", "0s")
            .env("ARVOK_SCRIPTS", "sh, python3")
            .env("ARVOK_LOG", "warn")
            .envs(
                self.harbour
                    .settings()
                    .map(|(name, url)| (format!("ARVOK_SETTING_{}", upper(name)), url)),
            );
        command
    }

    /// Another node over the same database, with the same stand-ins around it.
    pub fn second_node(&self) -> Self {
        self.second_node_over(self.database.clone())
    }

    /// A node with the same key over another database.
    pub fn second_node_over(&self, database: String) -> Self {
        let data = folder("second");
        fs::copy(self.data.join("secrets.key"), data.join("secrets.key")).expect("the same key");
        let mut other = self.beside(data, database);
        other.start_node();
        other
    }

    /// Kills the node without warning.
    pub fn kill_node(&mut self) {
        drop(self.node.take());
    }

    /// Sends the node a signal.
    pub fn signal(&self, signal: Signal) {
        let pid = self.node.as_ref().expect("a node").pid();
        kill(Pid::from_raw(i32::try_from(pid).expect("a pid")), signal).expect("is signalled");
    }

    /// The most memory the node has had, in MiB.
    pub fn most_memory(&self) -> u64 {
        let pid = self.node.as_ref().expect("a node").pid();
        let status = fs::read_to_string(format!("/proc/{pid}/status")).expect("a status");
        let line = status.lines().find_map(|l| l.strip_prefix("VmHWM:")).expect("a mark");
        line.trim().trim_end_matches(" kB").parse::<u64>().expect("a number") / 1024
    }

    /// The records behind the node.
    pub fn records(&self) -> Records {
        Records::open(&self.database)
    }

    /// What the node has logged.
    pub fn log(&self) -> String {
        fs::read_to_string(self.data.join("log")).unwrap_or_default()
    }

    /// The command, pointed at this node with the first token.
    pub fn arvok(&self, args: &[&str]) -> Said {
        self.arvok_with(args, &[], "")
    }

    /// The command with more of an environment and an input.
    pub fn arvok_with(&self, args: &[&str], environment: &[(&str, &str)], input: &str) -> Said {
        let mut all =
            vec![("ARVOK_SERVER", self.address.as_str()), ("ARVOK_TOKEN", self.token.as_str())];
        all.extend(environment);
        arvok(args, &all, input)
    }

    /// The API with the first token.
    pub fn call(&self, method: Method, path: &str, body: Option<&Value>) -> (u16, Value) {
        self.call_as(&self.token, method, path, body)
    }

    /// The API with any token.
    pub fn call_as(
        &self,
        token: &str,
        method: Method,
        path: &str,
        body: Option<&Value>,
    ) -> (u16, Value) {
        let request =
            self.http.request(method, format!("{}{path}", self.address)).bearer_auth(token);
        let request = match body {
            Some(body) => request.json(body),
            None => request,
        };
        answer(request)
    }

    /// GET with the first token; must succeed.
    pub fn get(&self, path: &str) -> Value {
        let (status, body) = self.call(Method::GET, path, None);
        assert_eq!(status, 200, "{path}: {body}");
        body
    }

    /// A request built by hand.
    pub fn request(&self, method: Method, path: &str) -> reqwest::RequestBuilder {
        self.http.request(method, format!("{}{path}", self.address))
    }

    /// Sets a secret that may go to these places.
    pub fn secret(&self, name: &str, value: &str, places: &[&str]) {
        let body = json!({ "value": value, "allowed": places });
        let (status, said) =
            self.call(Method::PUT, &format!("/api/v1/secrets/{name}"), Some(&body));
        assert_eq!(status, 204, "{said}");
    }

    /// Publishes one document that must be good.
    pub fn publish(&self, text: &str) {
        let body = json!({ "files": [{ "file": "test.yaml", "text": text }] });
        let (status, answer) = self.call(Method::POST, "/api/v1/publish", Some(&body));
        assert_eq!(status, 200, "{answer:#}");
    }

    /// Sends one alert in the normal form; its handle.
    pub fn send(&self, source: &str, alert: &Value) -> i64 {
        let request = self
            .request(Method::POST, &format!("/in/{source}?trial=no"))
            .bearer_auth(&self.token)
            .header("content-type", "application/vnd.arvok.alert+json")
            .body(alert.to_string());
        let (status, body) = answer(request);
        assert_eq!(status, 202, "{body}");
        body["alerts"][0]["seq"].as_i64().expect("a handle")
    }

    /// Rehearses, and gives the result at the end of the stream.
    pub fn rehearse(&self, body: &Value) -> Value {
        let text = block(async {
            let request = self
                .request(Method::POST, "/api/v1/rehearsals")
                .bearer_auth(&self.token)
                .json(body);
            request.send().await.expect("an answer").text().await.expect("a text")
        });
        let last = text.trim_end().lines().last().expect("a line");
        let line: Value = serde_json::from_str(last).expect("a line of JSON");
        assert!(line["result"].is_object(), "{text}");
        line["result"].clone()
    }

    /// The verdict of a rule about an alert.
    pub fn verdict(&self, alert: i64, rule: &str) -> Option<Value> {
        let verdicts = self.get(&format!("/api/v1/alerts/{alert}"))["verdicts"].clone();
        verdicts.as_array()?.iter().find(|v| v["rule"] == rule).cloned()
    }

    /// Waits until the verdict of a rule about an alert is this one.
    pub fn verdict_is(&self, alert: i64, rule: &str, verdict: &str) -> Value {
        until(&format!("alert {alert} to be {verdict} by {rule}"), || {
            self.verdict(alert, rule).filter(|v| v["verdict"] == verdict)
        })
    }

    /// Waits for the job of this number to be in a state; the job.
    pub fn job_in(&self, id: i64, states: &[&str]) -> Value {
        let path = format!("/api/v1/jobs/{id}");
        let stands = || format!("; it is {:#}", self.call(Method::GET, &path, None).1);
        until_or(&format!("job {id} to be {states:?}"), stands, || {
            let (status, job) = self.call(Method::GET, &path, None);
            (status == 200 && states.contains(&job["job"]["state"].as_str()?)).then_some(job)
        })
    }
}

fn upper(name: &str) -> String {
    name.to_uppercase().replace('-', "_")
}

/// Status and body of a request.
pub fn answer(request: reqwest::RequestBuilder) -> (u16, Value) {
    block(async {
        let (client, request) = request.build_split();
        let request = request.expect("a request");
        let (method, path) = (request.method().clone(), request.url().path().to_owned());
        let response = client.execute(request).await.expect("an answer");
        let (status, headers) = (response.status().as_u16(), response.headers().clone());
        let text = response.text().await.unwrap_or_default();
        let body = serde_json::from_str(&text).unwrap_or(Value::String(text));
        contract::holds(&method, &path, status, &headers, &body);
        (status, body)
    })
}

impl Drop for Stage {
    fn drop(&mut self) {
        drop(self.node.take());
        if let Some(harbour) = Arc::get_mut(&mut self.harbour) {
            block(harbour.stop());
        }
    }
}
