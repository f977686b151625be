//! What the journeys stand on: one PostgreSQL for the whole run, and for each test a database,
//! a node as a process of its own, a yard and a chat. Everything ends with the test process.

mod around;
mod browser;
mod command;
mod contract;
mod dovecot;
mod mosquitto;
mod peer;
mod rabbit;
mod records;
mod runner;
mod stage;

pub use around::{Balancer, Leads};
pub use browser::Browser;
pub use command::{Said, arvok};
pub use dovecot::Dovecot;
pub use mosquitto::Mosquitto;
pub use peer::Peer;
pub use rabbit::Rabbit;
pub use records::Records;
pub use runner::Runner;
pub use stage::{DEMO, LIBRARY, Stage, answer};

use arvok_postgres::{PostgresError, Scratch};
use arvok_store::{Purpose, connect, schema};
use std::{
    future::Future,
    path::PathBuf,
    sync::{
        OnceLock,
        atomic::{AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::runtime::Runtime;

/// The binary under test.
pub const ARVOK: &str = env!("CARGO_BIN_EXE_arvok");

fn runtime() -> &'static Runtime {
    static RUNTIME: OnceLock<Runtime> = OnceLock::new();
    RUNTIME.get_or_init(|| Runtime::new().expect("a runtime"))
}

/// Runs asynchronous work from an ordinary test.
pub fn block<T>(work: impl Future<Output = T>) -> T {
    runtime().block_on(work)
}

/// Starts asynchronous work beside an ordinary test.
pub fn spawn<T: Send + 'static>(
    work: impl Future<Output = T> + Send + 'static,
) -> tokio::task::JoinHandle<T> {
    runtime().spawn(work)
}

/// How much of something `make chaos` asks for.
pub fn asked(name: &str, otherwise: usize) -> usize {
    std::env::var(format!("CHAOS_{name}")).ok().and_then(|v| v.parse().ok()).unwrap_or(otherwise)
}

/// A new folder below the target folder.
pub fn folder(name: &str) -> PathBuf {
    static COUNT: AtomicUsize = AtomicUsize::new(0);
    let n = COUNT.fetch_add(1, Ordering::Relaxed);
    let path = PathBuf::from(env!("CARGO_TARGET_TMPDIR"))
        .join(format!("{}-{n}-{name}", std::process::id()));
    std::fs::create_dir_all(&path).expect("a folder");
    path
}

fn scratch() -> &'static Scratch {
    static SCRATCH: OnceLock<Scratch> = OnceLock::new();
    SCRATCH.get_or_init(|| {
        let home = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join("postgres");
        Scratch::start(&home).expect("a PostgreSQL")
    })
}

/// An empty database.
pub fn database() -> String {
    block(scratch().database()).expect("a database")
}

/// A database whose tables are there already, as a node finds it that is not the first.
pub fn migrated() -> String {
    block(scratch().filled(migrate)).expect("a database")
}

async fn migrate(url: String) -> Result<(), PostgresError> {
    let db = connect(&url, 4, Purpose::Work).await.expect("connects");
    schema::migrate(&db).await.expect("migrates");
    Ok(db.close().await?)
}

/// No new connection to a database, and none that stands, for so long.
pub fn outage(url: &str, length: Duration) {
    let name = url.rsplit('/').next().expect("a name");
    let records = Records::open(&scratch().cluster().url("postgres"));
    records.run(&format!("ALTER DATABASE {name} ALLOW_CONNECTIONS false"));
    let cut = format!(
        "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE datname = '{name}'"
    );
    records.rows(&cut);
    std::thread::park_timeout(length);
    records.run(&format!("ALTER DATABASE {name} ALLOW_CONNECTIONS true"));
}

/// Makes a database one that only reads, as a standby is, or one that writes again.
pub fn only_reads(url: &str, only: bool) {
    let name = url.rsplit('/').next().expect("a name");
    let records = Records::open(&scratch().cluster().url("postgres"));
    let what = if only {
        "SET default_transaction_read_only = on"
    } else {
        "RESET default_transaction_read_only"
    };
    records.run(&format!("ALTER DATABASE {name} {what}"));
    records.rows(&format!(
        "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE datname = '{name}'"
    ));
}

/// Longest wait between two looks.
const LONGEST_WAIT: Duration = Duration::from_millis(80);

/// Asks again and again until there is an answer; says what was awaited if none comes.
pub fn until<T>(what: &str, ask: impl FnMut() -> Option<T>) -> T {
    until_or(what, String::new, ask)
}

/// The same, with how things stand instead.
pub fn until_or<T>(
    what: &str,
    stands: impl FnOnce() -> String,
    mut ask: impl FnMut() -> Option<T>,
) -> T {
    let end = Instant::now() + Duration::from_secs(120);
    // What is soon there is soon seen; whoever waits for long leaves the machine to the others.
    let mut wait = Duration::from_millis(10);
    while Instant::now() < end {
        if let Some(answer) = ask() {
            return answer;
        }
        std::thread::park_timeout(wait);
        wait = (wait + wait / 8).min(LONGEST_WAIT);
    }
    panic!("waited two minutes for {what}{}", stands());
}

/// The address of somebody who answers every request with this.
pub fn answers_with(status: &str, page: &str) -> String {
    use std::io::{Read, Write};
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = format!("http://{}", listener.local_addr().expect("an address"));
    let answer = format!(
        "HTTP/1.1 {status}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{page}",
        page.len()
    );
    std::thread::spawn(move || {
        for mut line in listener.incoming().take(20).flatten() {
            let _ = line.read(&mut [0; 8_192]);
            let _ = line.write_all(answer.as_bytes());
        }
    });
    address
}
