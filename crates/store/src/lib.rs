//! What Arvok remembers: PostgreSQL through SeaORM.
//!
//! [`schema`] holds the migrations and [`entity`] the small tables; [`intake`] is the one
//! transaction from alert to job, [`days`] the tables of alerts by day, [`retention`] how long
//! things are kept, [`jobs`] hands jobs to nodes and keeps their progress, [`launches`] makes those
//! that people ask for, [`outside`] keeps what they wait for outside of them, [`nodes`] what these
//! tell of themselves, [`proposals`] decides what was only proposed, [`definitions`] the versions
//! of documents, [`mutes`] what keeps rules from acting, [`alarm_acts`] what people did about
//! alarms, [`access`] tokens and sessions, [`audit`]
//! what was done with them, [`read`] answers questions, [`changes`] tells every node what changed.

pub mod access;
pub mod alarm_acts;
pub mod audit;
pub mod calendars;
pub mod calls;
pub mod changes;
pub mod days;
pub mod definitions;
pub mod entity;
mod error;
pub mod heartbeats;
pub mod host_keys;
pub mod intake;
pub mod jobs;
mod key_order;
pub mod launches;
pub mod leases;
pub mod live_output;
pub mod memory;
pub mod mutes;
pub mod nodes;
pub mod outside;
pub mod over_limit;
pub mod plans;
pub mod polls;
pub mod proposals;
pub mod read;
pub mod retention;
pub mod routines;
pub mod runners;
pub mod schema;
pub mod secrets;
pub mod shapes;
mod sql;
pub mod stored;
pub mod timers;
pub mod touches;
pub mod trials;
mod upkeep;
pub mod write_back;

pub use error::{Class, StoreError};
pub use sea_orm::{ConnectionTrait, DatabaseConnection};
pub use upkeep::{Limits, Swept, goes, sweep};

use chrono::{DateTime, Utc};
use sea_orm::{
    ConnectOptions, Database, FromQueryResult,
    sqlx::{self, Connection, PgConnection, Row, postgres::PgConnectOptions},
};
use std::time::Duration;

/// What a set of connections is for, and so how long one of its statements may take.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Purpose {
    /// Taking alerts in, due times, jobs and their leases: must never wait for people.
    Work,
    /// Answering people.
    Questions,
    /// Reading a long past, row by row.
    Replay,
}

impl Purpose {
    /// Longest time of one statement, and of doing nothing within a transaction: a node that stands
    /// still keeps nobody waiting for longer.
    fn bounds(self) -> (Duration, Option<Duration>) {
        let seconds = Duration::from_secs;
        match self {
            Self::Work => (seconds(30), Some(seconds(10))),
            Self::Questions => (seconds(10), Some(seconds(20))),
            Self::Replay => (seconds(1800), None),
        }
    }
}

/// How long a database may take to let a first connection in.
const FIRST: Duration = Duration::from_secs(20);

/// Whether a database can be reached and keeps what belongs to a session, and else why, in its own
/// words.
///
/// # Errors
/// The cause.
pub async fn reach(url: &str) -> Result<(), String> {
    let options: PgConnectOptions = url.parse().map_err(|e: sqlx::Error| e.to_string())?;
    let mut connection = first(&options).await?;
    let keeps = match tokio::time::timeout(FIRST, keeps_sessions(&mut connection, &options)).await {
        Ok(keeps) => keeps?,
        // Nobody is let in beside the transaction that is open: the pooler has no more connections.
        Err(_) => false,
    };
    // Whether it says goodbye is all one.
    drop(tokio::time::timeout(FIRST, connection.close()).await);
    if keeps { Ok(()) } else { Err(format!("{POOLED}; {SESSION_MODE}")) }
}

const POOLED: &str = "a pooler stands before it that gives each transaction another connection: \
    what a node sets, locks and listens \
    for in a session is lost between two statements";
const SESSION_MODE: &str = "connect to the database itself, or have the pooler work in session \
    mode, with \
    ignore_startup_parameters = extra_float_digits";

/// How often a pool is begun.
const MOST_TRIES: u32 = 3;

/// A connection by itself; or why there is none, in the database's words.
async fn first(options: &PgConnectOptions) -> Result<PgConnection, String> {
    match tokio::time::timeout(FIRST, PgConnection::connect_with(options)).await {
        Ok(Ok(connection)) => Ok(connection),
        Ok(Err(sqlx::Error::Database(e))) if e.message().contains("startup parameter") => {
            Err(format!("{}; {SESSION_MODE}", e.message()))
        }
        Ok(Err(sqlx::Error::Database(e))) => Err(e.message().to_owned()),
        Ok(Err(e)) => Err(e.to_string()),
        Err(_) => Err(format!("no connection within {} s", FIRST.as_secs())),
    }
}

/// Whether what is set for a session is still there when another has begun a transaction meanwhile:
/// a pooler that gives out connections by the transaction gives that one the connection on which it
/// was set.
async fn keeps_sessions(
    connection: &mut PgConnection,
    options: &PgConnectOptions,
) -> Result<bool, String> {
    let failed = |e: sqlx::Error| e.to_string();
    // No parameter that poolers know of: those they carry along.
    sqlx::raw_sql("SET arvok.session = 'kept'").execute(&mut *connection).await.map_err(failed)?;
    let mut other = first(options).await?;
    sqlx::raw_sql("BEGIN").execute(&mut other).await.map_err(failed)?;
    let asked = sqlx::raw_sql("SELECT coalesce(current_setting('arvok.session', true), '')")
        .fetch_one(&mut *connection);
    let kept: String = asked.await.map_err(failed)?.try_get(0).map_err(failed)?;
    drop(other.close().await);
    Ok(kept == "kept")
}

/// Connects.
pub async fn connect(
    url: &str,
    connections: u32,
    purpose: Purpose,
) -> Result<DatabaseConnection, StoreError> {
    let (statement, idle) = purpose.bounds();
    let mut options = ConnectOptions::new(url.to_owned());
    options
        .max_connections(connections.max(1))
        .connect_timeout(Duration::from_secs(10))
        .acquire_timeout(Duration::from_secs(if purpose == Purpose::Work { 10 } else { 5 }))
        // A connection that was used a moment ago is not asked whether it lives.
        .test_before_acquire(false)
        .test_before_acquire_if_idle_for(Duration::from_secs(5))
        .sqlx_logging(false);
    // Compiling a plan that reaches over many days takes longer than to run it.
    let mut settings =
        vec![("jit", "off".to_owned()), ("statement_timeout", statement.as_millis().to_string())];
    if let Some(idle) = idle {
        settings.push(("idle_in_transaction_session_timeout", idle.as_millis().to_string()));
    }
    if purpose == Purpose::Work {
        // The same few statements over and over: to plan each anew took as long as to run it.
        settings.push(("plan_cache_mode", "force_generic_plan".to_owned()));
    }
    if purpose == Purpose::Questions {
        // Alerts and their verdicts are joined day by day.
        settings.push(("enable_partitionwise_join", "on".to_owned()));
    }
    // Not among the parameters of the start, which poolers do not pass on.
    let set: String =
        settings.iter().map(|(name, value)| format!("SET {name} = '{value}';")).collect();
    options.map_sqlx_postgres_pool_opts(move |pool| {
        let set = set.clone();
        pool.after_connect(move |connection, _| {
            let set = sqlx::AssertSqlSafe(set.clone());
            Box::pin(async move { sqlx::raw_sql(set).execute(connection).await.map(|_| ()) })
        })
    });
    // Its first connection is awaited as any other is. A database that is slow while everything
    // starts may need longer.
    let mut tries = 1;
    loop {
        match Database::connect(options.clone()).await {
            Err(_) if tries < MOST_TRIES => tries += 1,
            connected => return Ok(connected?),
        }
    }
}

/// The connections of a pool.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Connections {
    /// Those that nobody uses.
    pub idle: i64,
    /// Those in use.
    pub used: i64,
    /// As many as there may be.
    pub most: i64,
}

/// How many connections of a pool are open now.
pub fn connections(db: &DatabaseConnection) -> Connections {
    let pool = db.get_postgres_connection_pool();
    let number = |n: usize| i64::try_from(n).unwrap_or(i64::MAX);
    let idle = number(pool.num_idle());
    let most = i64::from(pool.options().get_max_connections());
    Connections { idle, used: (i64::from(pool.size()) - idle).max(0), most }
}

/// The encoding of the database, as `UTF8`.
pub async fn encoding(db: &DatabaseConnection) -> Result<String, StoreError> {
    #[derive(FromQueryResult)]
    struct Encoding {
        name: String,
    }
    let sql = "SELECT pg_encoding_to_char(encoding)::text AS name FROM pg_database
        WHERE datname = current_database()";
    let rows: Vec<Encoding> = sql::typed(db, sql, vec![]).await?;
    Ok(rows.into_iter().next().map(|r| r.name).unwrap_or_default())
}

/// What a database says of itself.
#[derive(Clone, Debug, FromQueryResult)]
pub struct About {
    /// Its version, as 150004.
    pub version: i32,
    /// Whether it is a standby, which only reads.
    pub is_standby: bool,
    /// Most connections, without those that it keeps for itself.
    pub most_connections: i32,
    /// Connections that are open now.
    pub connections: i64,
    /// Its size in bytes.
    pub bytes: i64,
}

/// What the database says of itself.
pub async fn about(db: &DatabaseConnection) -> Result<About, StoreError> {
    let sql = "SELECT current_setting('server_version_num')::int AS version,
        pg_is_in_recovery() AS is_standby,
        current_setting('max_connections')::int - current_setting('superuser_reserved_connections')::int AS most_connections,
        (SELECT count(*) FROM pg_stat_activity WHERE backend_type = 'client backend') AS
        connections,
        pg_database_size(current_database()) AS bytes";
    let rows: Vec<About> = sql::typed(db, sql, vec![]).await?;
    rows.into_iter().next().ok_or(StoreError::BrokenOff("what the database says of itself"))
}

/// The database's clock.
pub async fn now(db: &DatabaseConnection) -> Result<DateTime<Utc>, StoreError> {
    #[derive(FromQueryResult)]
    struct Now {
        now: DateTime<Utc>,
    }
    let rows: Vec<Now> = sql::typed(db, "SELECT clock_timestamp() AS now", vec![]).await?;
    Ok(rows.first().map_or_else(DateTime::default, |r| r.now))
}

/// What tells this installation's jobs from those of any other.
pub async fn installation(db: &DatabaseConnection) -> Result<String, StoreError> {
    #[derive(FromQueryResult)]
    struct Installation {
        id: String,
    }
    let rows: Vec<Installation> =
        sql::typed(db, "SELECT id::text AS id FROM installation", vec![]).await?;
    Ok(rows.into_iter().next().map(|r| r.id).unwrap_or_default())
}
