//! A private PostgreSQL: for trying Arvok out, for the demo and for the tests.
//!
//! Lives in a folder of its own, listens on a free loopback port with a generated password, and
//! ends with the process that started it, however that ends. As root it runs as the user
//! `postgres`, which PostgreSQL insists on.

mod home;
mod port;
mod scratch;
mod supervised;

pub use port::free_port;
pub use scratch::Scratch;
pub use supervised::{SupervisedChild, spawn_supervised};

use home::Home;
use nix::sys::signal::Signal;
use sea_orm::{ConnectionTrait, Database, DbErr};
use std::{
    fs,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::{Duration, Instant},
};

/// How durable the cluster is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Durability {
    /// Every commit is on disk.
    Full,
    /// Commits may be lost with the machine; for tests only.
    None,
}

/// Why a private PostgreSQL cannot be run or used.
#[derive(Debug, thiserror::Error)]
pub enum PostgresError {
    /// The machine lacks something, or the folder is not ours.
    #[error("{0}")]
    Unusable(String),
    /// It runs and refuses what is asked of it.
    #[error("the private PostgreSQL: {0}")]
    Database(#[from] DbErr),
}

/// A running private PostgreSQL; ends when dropped.
#[derive(Debug)]
pub struct Cluster {
    server: SupervisedChild,
    port: u16,
    password: String,
    bin: PathBuf,
    durability: Durability,
    /// Let go after the server has ended.
    home: Home,
}

/// How a cluster is stopped before it starts again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Restart {
    /// Connections are ended, what is open is undone.
    Fast,
    /// As by a power cut: it recovers when it starts.
    Immediate,
}

fn failed(what: impl Into<String>) -> PostgresError {
    PostgresError::Unusable(what.into())
}

/// The newest installed PostgreSQL's programs.
pub fn binaries() -> Result<PathBuf, PostgresError> {
    let mut found: Vec<(u32, PathBuf)> = fs::read_dir("/usr/lib/postgresql")
        .into_iter()
        .flatten()
        .filter_map(|e| {
            let path = e.ok()?.path();
            let version = path.file_name()?.to_str()?.parse().ok()?;
            path.join("bin/initdb").exists().then(|| (version, path.join("bin")))
        })
        .collect();
    found.sort();
    found.pop().map(|(_, bin)| bin).ok_or_else(|| {
        failed(
            "PostgreSQL is not installed here (apt-get install postgresql), and no database was \
            named (ARVOK_DATABASE)",
        )
    })
}

impl Cluster {
    /// Starts the cluster in a folder, making it first where there is none. Goes on with what a
    /// killed process left behind.
    pub fn start(folder: &Path, durability: Durability) -> Result<Self, PostgresError> {
        let bin = binaries()?;
        let home = Home::prepare(folder)?;
        wait_for_former(&home)?;
        if !home
            .files(|| home.data.try_exists())
            .map_err(|e| failed(format!("{}: {e}", home.data.display())))?
        {
            init(&bin, &home, durability)?;
        }
        let password = home
            .files(|| fs::read_to_string(&home.password))
            .map_err(|e| failed(format!("{}: {e}", home.password.display())))?;
        for _ in 0..5 {
            let port = free_port().map_err(|e| failed(format!("no free port: {e}")))?;
            let mut server = serve(&bin, &home, port, durability)?;
            if ready(&bin, &home, &mut server, port) {
                return Ok(Self { server, port, password, bin, durability, home });
            }
        }
        let log = home.files(|| fs::read_to_string(&home.log)).unwrap_or_default();
        let last: Vec<&str> = log.lines().rev().take(5).collect();
        Err(failed(format!(
            "the private PostgreSQL in {} does not start: {}",
            home.data.display(),
            last.join(" / ")
        )))
    }

    /// A streaming standby in a folder of its own: a copy that follows all that is written, and can
    /// be read.
    ///
    /// # Errors
    /// If it cannot be copied, or does not start.
    pub fn standby(&self, folder: &Path) -> Result<Self, PostgresError> {
        let home = Home::prepare(folder)?;
        wait_for_former(&home)?;
        let _ = home.files(|| fs::remove_dir_all(&home.data));
        home.write_password(&self.password)?;
        let from =
            ["-h", "127.0.0.1", "-p", &self.port.to_string(), "-U", "arvok"].map(str::to_owned);
        let copied = home
            .command(&self.bin.join("pg_basebackup"))
            .env("PGPASSWORD", &self.password)
            .args(from)
            .args([
                "--write-recovery-conf",
                "--wal-method=stream",
                "--checkpoint=fast",
                "--no-sync",
                "-D",
            ])
            .arg(&home.data)
            .output()
            .map_err(|e| failed(format!("pg_basebackup: {e}")))?;
        if !copied.status.success() {
            return Err(failed(format!(
                "pg_basebackup: {}",
                String::from_utf8_lossy(&copied.stderr).trim()
            )));
        }
        let port = free_port().map_err(|e| failed(format!("no free port: {e}")))?;
        let (bin, password, durability) =
            (self.bin.clone(), self.password.clone(), self.durability);
        let mut server = serve(&bin, &home, port, durability)?;
        if !ready(&bin, &home, &mut server, port) {
            return Err(failed(format!("the standby in {} does not start", home.data.display())));
        }
        Ok(Self { server, port, password, bin, durability, home })
    }

    /// Makes a standby the one that is written to.
    ///
    /// # Errors
    /// If it is none.
    pub async fn promote(&self) -> Result<(), PostgresError> {
        let db = Database::connect(self.url("postgres")).await?;
        let promoted = db.execute_unprepared("SELECT pg_promote(true, 60)").await;
        db.close().await?;
        promoted?;
        Ok(())
    }

    /// Ends it as a power cut does.
    pub fn die(mut self) {
        self.server.end_with(Signal::SIGQUIT);
    }

    /// The address of one of its databases.
    pub fn url(&self, database: &str) -> String {
        format!("postgres://arvok:{}@127.0.0.1:{}/{database}", self.password, self.port)
    }

    /// The port on loopback.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// The password of its user `arvok`.
    pub fn password(&self) -> &str {
        &self.password
    }

    /// Makes a database if there is none of that name.
    pub async fn create(&self, database: &str) -> Result<String, PostgresError> {
        let db = Database::connect(self.url("postgres")).await?;
        let made = db.execute_unprepared(&format!("CREATE DATABASE \"{database}\"")).await;
        db.close().await?;
        match made {
            Err(e) if !e.to_string().contains("already exists") => Err(e.into()),
            _ => Ok(self.url(database)),
        }
    }

    /// Makes a database, as a copy of another one if that is named, in place of one of that name.
    pub(crate) async fn create_anew(
        &self,
        database: &str,
        template: Option<&str>,
    ) -> Result<String, PostgresError> {
        let db = Database::connect(self.url("postgres")).await?;
        let from = template.map(|name| format!(" TEMPLATE \"{name}\"")).unwrap_or_default();
        let mut made = Ok(());
        for statement in [
            format!("DROP DATABASE IF EXISTS \"{database}\" WITH (FORCE)"),
            format!("CREATE DATABASE \"{database}\"{from}"),
        ] {
            made = made.and(db.execute_unprepared(&statement).await.map(|_| ()));
        }
        db.close().await?;
        made?;
        Ok(self.url(database))
    }

    /// Removes a database, whoever is connected to it.
    pub async fn remove(&self, database: &str) -> Result<(), PostgresError> {
        let db = Database::connect(self.url("postgres")).await?;
        let gone = db
            .execute_unprepared(&format!("DROP DATABASE IF EXISTS \"{database}\" WITH (FORCE)"))
            .await;
        db.close().await?;
        gone?;
        Ok(())
    }

    /// Stops it and starts it again on the same port.
    pub fn restart(&mut self, how: Restart) -> Result<(), PostgresError> {
        self.server.end_with(match how {
            Restart::Fast => Signal::SIGINT,
            Restart::Immediate => Signal::SIGQUIT,
        });
        let mut server = serve(&self.bin, &self.home, self.port, self.durability)?;
        if !ready(&self.bin, &self.home, &mut server, self.port) {
            return Err(failed("the private PostgreSQL does not start again"));
        }
        self.server = server;
        Ok(())
    }

    /// Stops it: open connections are ended, nothing is lost.
    pub fn stop(mut self) {
        self.server.end();
    }
}

fn init(bin: &Path, home: &Home, durability: Durability) -> Result<(), PostgresError> {
    let mut bytes = [0u8; 24];
    getrandom::fill(&mut bytes).map_err(|e| failed(format!("no random numbers: {e}")))?;
    let password = hex::encode(bytes);
    home.write_password(&password)?;
    // A test connects hundreds of times, and SCRAM hashes 4,096 times for each.
    let auth = if durability == Durability::Full { "scram-sha-256" } else { "md5" };
    // What a death in the middle has left is made anew; the data has its name only when it is
    // whole.
    let _ = home.files(|| fs::remove_dir_all(&home.unfinished));
    let output = home
        .command(&bin.join("initdb"))
        .args(["--username=arvok", "--encoding=UTF8", "--locale=C.UTF-8", "--no-sync"])
        .arg(format!("--auth={auth}"))
        // Keys are compared byte by byte, which is what they need and much quicker than by a
        // language's rules.
        .arg("--lc-collate=C")
        .arg(format!("--pwfile={}", home.password.display()))
        .arg("-D")
        .arg(&home.unfinished)
        .output()
        .map_err(|e| failed(format!("initdb: {e}")))?;
    if !output.status.success() {
        return Err(failed(format!("initdb: {}", String::from_utf8_lossy(&output.stderr).trim())));
    }
    home.files(|| fs::rename(&home.unfinished, &home.data))
        .map_err(|e| failed(format!("{}: {e}", home.data.display())))
}

fn serve(
    bin: &Path,
    home: &Home,
    port: u16,
    durability: Durability,
) -> Result<SupervisedChild, PostgresError> {
    let log = home
        .files(|| fs::File::create(&home.log))
        .map_err(|e| failed(format!("{}: {e}", home.log.display())))?;
    let mut command = home.command(&bin.join("postgres"));
    command.arg("-D").arg(&home.data).args(["-p", &port.to_string()]);
    for setting in [
        "listen_addresses=127.0.0.1",
        "unix_socket_directories=",
        "max_connections=200",
        "shared_buffers=128MB",
    ] {
        command.args(["-c", setting]);
    }
    if durability == Durability::None {
        for setting in [
            "fsync=off",
            "synchronous_commit=off",
            "full_page_writes=off",
            // It would look into each of hundreds of databases every minute.
            "autovacuum=off",
        ] {
            command.args(["-c", setting]);
        }
    }
    spawn_supervised(&command, "INT", Stdio::null(), log.into())
        .map_err(|e| failed(format!("postgres: {e}")))
}

fn ready(bin: &Path, home: &Home, server: &mut SupervisedChild, port: u16) -> bool {
    let until = Instant::now() + Duration::from_secs(30);
    while Instant::now() < until && server.is_running() {
        let asked = Command::new(bin.join("pg_isready"))
            .args(["-q", "-h", "127.0.0.1", "-p", &port.to_string()])
            .status()
            .is_ok_and(|s| s.success());
        if asked && home.holder().is_some() {
            return true;
        }
        std::thread::sleep(Duration::from_millis(30));
    }
    false
}

/// A killed process's PostgreSQL may still be shutting down in the same folder.
fn wait_for_former(home: &Home) -> Result<(), PostgresError> {
    let until = Instant::now() + Duration::from_secs(60);
    while let Some(pid) = home.holder() {
        if Instant::now() > until {
            return Err(failed(format!(
                "another PostgreSQL (process {pid}) holds {}; is another Arvok using this folder?",
                home.data.display()
            )));
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    let _ = home.files(|| fs::remove_file(home.data.join("postmaster.pid")));
    Ok(())
}
