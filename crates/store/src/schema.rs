//! The migrations, in order: each is a file of SQL that never changes once released. Functions and
//! triggers are not among them; they are made anew when they change (`routines`).

use sea_orm::{
    ConnectionTrait, DatabaseConnection, DatabaseTransaction, DbErr, FromQueryResult,
    TransactionTrait,
};
use sea_orm_migration::{MigrationName, MigrationTrait, MigratorTrait, SchemaManager, async_trait};

use crate::{StoreError, routines, sql};
use std::{
    collections::BTreeSet,
    time::{Duration, Instant},
};

struct Migrator;

impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![
            Box::new(Step {
                name: "0001_baseline",
                sql: include_str!("../migrations/0001_baseline.sql"),
            }),
            Box::new(Step {
                name: "0002_listeners",
                sql: include_str!("../migrations/0002_listeners.sql"),
            }),
            Box::new(Step {
                name: "0003_words",
                sql: include_str!("../migrations/0003_words.sql"),
            }),
            Box::new(Step {
                name: "0004_timers",
                sql: include_str!("../migrations/0004_timers.sql"),
            }),
            Box::new(Step {
                name: "0005_host_keys",
                sql: include_str!("../migrations/0005_host_keys.sql"),
            }),
            Box::new(Step {
                name: "0006_live_output",
                sql: include_str!("../migrations/0006_live_output.sql"),
            }),
            Box::new(Step {
                name: "0007_trace",
                sql: include_str!("../migrations/0007_trace.sql"),
            }),
            Box::new(Step {
                name: "0008_job_changes",
                sql: include_str!("../migrations/0008_job_changes.sql"),
            }),
            Box::new(Step {
                name: "0009_alerts_received",
                sql: include_str!("../migrations/0009_alerts_received.sql"),
            }),
            Box::new(Step {
                name: "0010_principals",
                sql: include_str!("../migrations/0010_principals.sql"),
            }),
            Box::new(Step {
                name: "0011_queue_order",
                sql: include_str!("../migrations/0011_queue_order.sql"),
            }),
            Box::new(Step {
                name: "0012_runners",
                sql: include_str!("../migrations/0012_runners.sql"),
            }),
            Box::new(Step {
                name: "0013_answers_by_mail",
                sql: include_str!("../migrations/0013_answers_by_mail.sql"),
            }),
            Box::new(Step {
                name: "0014_leases",
                sql: include_str!("../migrations/0014_leases.sql"),
            }),
            Box::new(Step {
                name: "0015_mutes",
                sql: include_str!("../migrations/0015_mutes.sql"),
            }),
            Box::new(Step {
                name: "0016_halt_running",
                sql: include_str!("../migrations/0016_halt_running.sql"),
            }),
            Box::new(Step {
                name: "0017_alarm_acts",
                sql: include_str!("../migrations/0017_alarm_acts.sql"),
            }),
            Box::new(Step {
                name: "0018_trials",
                sql: include_str!("../migrations/0018_trials.sql"),
            }),
            Box::new(Step {
                name: "0019_guards",
                sql: include_str!("../migrations/0019_guards.sql"),
            }),
            Box::new(Step {
                name: "0020_touches",
                sql: include_str!("../migrations/0020_touches.sql"),
            }),
            Box::new(Step {
                name: "0021_memory",
                sql: include_str!("../migrations/0021_memory.sql"),
            }),
            Box::new(Step {
                name: "0022_plans",
                sql: include_str!("../migrations/0022_plans.sql"),
            }),
            Box::new(Step {
                name: "0023_automate",
                sql: include_str!("../migrations/0023_automate.sql"),
            }),
            Box::new(Step {
                name: "0024_halts",
                sql: include_str!("../migrations/0024_halts.sql"),
            }),
            Box::new(Step {
                name: "0025_proposal_events",
                sql: include_str!("../migrations/0025_proposal_events.sql"),
            }),
            Box::new(Step {
                name: "0026_calendars",
                sql: include_str!("../migrations/0026_calendars.sql"),
            }),
            Box::new(Step {
                name: "0027_guard_use_old",
                sql: include_str!("../migrations/0027_guard_use_old.sql"),
            }),
            Box::new(Step {
                name: "0028_definition_parts",
                sql: include_str!("../migrations/0028_definition_parts.sql"),
            }),
            Box::new(Step {
                name: "0029_poll_cursor",
                sql: include_str!("../migrations/0029_poll_cursor.sql"),
            }),
            Box::new(Step {
                name: "0030_job_guards",
                sql: include_str!("../migrations/0030_job_guards.sql"),
            }),
            Box::new(Step {
                name: "0031_source_limits",
                sql: include_str!("../migrations/0031_source_limits.sql"),
            }),
            Box::new(Step {
                name: "0032_heartbeat",
                sql: include_str!("../migrations/0032_heartbeat.sql"),
            }),
            Box::new(Step {
                name: "0033_node_certificate",
                sql: include_str!("../migrations/0033_node_certificate.sql"),
            }),
            Box::new(Step {
                name: "0034_shapes",
                sql: include_str!("../migrations/0034_shapes.sql"),
            }),
            Box::new(Step {
                name: "0035_write_back",
                sql: include_str!("../migrations/0035_write_back.sql"),
            }),
            Box::new(Step {
                name: "0036_pulse",
                sql: include_str!("../migrations/0036_pulse.sql"),
            }),
        ]
    }
}

/// How many migrations this release knows.
pub fn migrations() -> usize {
    Migrator::migrations().len()
}

struct Step {
    name: &'static str,
    sql: &'static str,
}

impl MigrationName for Step {
    fn name(&self) -> &str {
        self.name
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Step {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let db = manager.get_connection();
        // As long as it takes: an index over all that is stored is not made in half a minute.
        db.execute_unprepared("SET LOCAL statement_timeout = 0").await?;
        // But nobody else waits for it for longer: who waits for a lock of a table keeps all from
        // that table who come after.
        db.execute_unprepared(&format!("SET LOCAL lock_timeout = '{LOCK_SECONDS}s'")).await?;
        db.execute_unprepared(self.sql).await.map(|_| ())
    }
}

/// Any number; all nodes use the same.
const LOCK: i64 = 0x6172_766f_6b01;

/// Waits until no other node changes the schema; until the end of the transaction none will.
pub(crate) async fn take_turn(tx: &DatabaseTransaction) -> Result<(), StoreError> {
    tx.execute_unprepared(&format!("SELECT pg_advisory_xact_lock({LOCK})")).await?;
    Ok(())
}

/// How long a migration waits for a lock, while whoever takes alerts in waits behind it.
const LOCK_SECONDS: u32 = 2;
/// How long migrations are tried, while somebody is in the way again and again; and the longest
/// time between two tries.
const PATIENCE: Duration = Duration::from_secs(3_600);
const LONGEST_PAUSE: Duration = Duration::from_secs(5);

/// Brings the schema up to date; nodes that start together wait for each other. Whoever reads for
/// long, as a dump does, is waited for a little at a time, so that nodes of before go on with their
/// work in between. How many migrations the database is ahead of this program: a newer release has
/// begun to work with it, and this one may go on.
///
/// # Errors
/// [`StoreError::Ahead`] if nodes of this release cannot work with what a newer one has made of the
/// database.
pub async fn migrate(db: &DatabaseConnection) -> Result<usize, StoreError> {
    let (begun, mut pause) = (Instant::now(), Duration::from_millis(100));
    loop {
        match attempt(db).await {
            Err(e) if e.is_passing() && begun.elapsed() < PATIENCE => {
                tokio::time::sleep(pause).await
            }
            done => return done,
        }
        pause = (pause * 2).min(LONGEST_PAUSE);
    }
}

async fn attempt(db: &DatabaseConnection) -> Result<usize, StoreError> {
    let turn = db.begin().await?;
    // It does nothing but keep its turn while the migrations run on another connection.
    turn.execute_unprepared("SET LOCAL idle_in_transaction_session_timeout = 0").await?;
    take_turn(&turn).await?;
    let ahead = ahead(&turn).await?;
    if ahead == 0 {
        Migrator::up(db, None).await?;
        routines::make(db, LOCK_SECONDS).await?;
    }
    turn.commit().await?;
    Ok(ahead)
}

#[derive(FromQueryResult)]
struct Name {
    name: Option<String>,
}

/// How many migrations of a newer release the database has seen.
async fn ahead(db: &impl ConnectionTrait) -> Result<usize, StoreError> {
    let MigrationStatus { newer, may_go_on, .. } = standing(db).await?;
    match newer.last() {
        Some(newest) if !may_go_on => Err(StoreError::Ahead(newest.clone())),
        _ => Ok(newer.len()),
    }
}

/// How far a database is migrated.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MigrationStatus {
    /// Whether nobody has worked with it yet.
    pub is_new: bool,
    /// How many migrations of this release are to be made.
    pub pending: usize,
    /// Those that a newer release has made, in order.
    pub newer: Vec<String>,
    /// Whether this release can work with it all the same.
    pub may_go_on: bool,
}

/// How far a database is migrated; nothing of it is changed.
pub async fn standing(db: &impl ConnectionTrait) -> Result<MigrationStatus, StoreError> {
    let names = async |sql: &str| {
        let rows: Vec<Name> = sql::typed(db, sql, vec![]).await?;
        Ok::<BTreeSet<String>, StoreError>(rows.into_iter().filter_map(|row| row.name).collect())
    };
    let known: BTreeSet<String> =
        Migrator::migrations().iter().map(|m| m.name().to_owned()).collect();
    if names("SELECT to_regclass('seaql_migrations')::text AS name").await?.is_empty() {
        return Ok(MigrationStatus {
            is_new: true,
            pending: known.len(),
            may_go_on: true,
            ..MigrationStatus::default()
        });
    }
    let made = names("SELECT version AS name FROM seaql_migrations").await?;
    let newer: Vec<String> = made.difference(&known).cloned().collect();
    let floor = match names("SELECT to_regclass('migration_floor')::text AS name").await?.is_empty()
    {
        true => BTreeSet::new(),
        false => names("SELECT migration AS name FROM migration_floor").await?,
    };
    let may_go_on =
        newer.is_empty() || !floor.is_empty() && floor.is_subset(&known) && known.is_subset(&made);
    Ok(MigrationStatus {
        is_new: false,
        pending: known.difference(&made).count(),
        newer,
        may_go_on,
    })
}
