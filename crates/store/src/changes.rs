//! Telling every node what changed, through PostgreSQL's own channel.

use crate::{StoreError, runners::calls::CHANNEL as RUNNERS, sql};
use arvok_api::Change;
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, sqlx::postgres::PgListener};

const CHANNEL: &str = "arvok";
/// PostgreSQL takes messages below 8000 bytes; these many handles fit.
const MOST: usize = 100;

/// Announces a change that is committed. Never within the transaction: PostgreSQL would make the
/// commits of all nodes wait for each other.
pub async fn announce(db: &impl ConnectionTrait, mut change: Change) -> Result<(), StoreError> {
    let excess = change.alerts.len().saturating_sub(20);
    change.alerts.drain(..excess);
    change.alarms.truncate(MOST);
    change.jobs.truncate(MOST);
    change.proposals.truncate(MOST);
    let text = serde_json::to_string(&change)?;
    sql::run(db, "SELECT pg_notify($1, $2)", vec![CHANNEL.into(), text.into()]).await?;
    Ok(())
}

/// How far the tables have come: whoever has heard of less has missed an announcement.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, FromQueryResult)]
pub struct Reached {
    /// The last number of an alert.
    pub alerts: i64,
    /// The last number of a job or proposal.
    pub jobs: i64,
    /// The generation of what is published.
    pub generation: i64,
}

impl Reached {
    /// Takes note of a change that was heard.
    pub fn hear(&mut self, change: &Change) {
        self.alerts = change.alerts.iter().copied().max().unwrap_or(0).max(self.alerts);
        let jobs = change.jobs.iter().chain(&change.proposals);
        self.jobs = jobs.copied().max().unwrap_or(0).max(self.jobs);
    }
}

/// How far the tables have come.
pub async fn reached(db: &impl ConnectionTrait) -> Result<Reached, StoreError> {
    let sql = "SELECT coalesce((SELECT max(seq) FROM alerts), 0) AS alerts,
        greatest((SELECT max(id) FROM job), (SELECT max(id) FROM proposal), 0) AS jobs,
        (SELECT generation FROM catalog) AS generation";
    Ok(sql::typed(db, sql, vec![]).await?.into_iter().next().unwrap_or_default())
}

/// What is heard of other nodes.
#[derive(Debug)]
pub enum Announced {
    /// Something was committed.
    Change(Change),
    /// There is a call for runners, or one of them has ended: its number.
    RunnerCall(Option<i64>),
}

/// Hears what is announced.
#[derive(Debug)]
pub struct Listener(PgListener);

impl Listener {
    /// Starts to listen, on a connection of its own.
    pub async fn start(db: &DatabaseConnection) -> Result<Self, StoreError> {
        let failed =
            |e: sea_orm::sqlx::Error| StoreError::Database(sea_orm::DbErr::Custom(e.to_string()));
        let mut listener =
            PgListener::connect_with(db.get_postgres_connection_pool()).await.map_err(failed)?;
        listener.listen_all([CHANNEL, RUNNERS]).await.map_err(failed)?;
        Ok(Self(listener))
    }

    /// The next change. After a lost connection it is one that says so.
    pub async fn next(&mut self) -> Result<Announced, StoreError> {
        match self.0.try_recv().await {
            Ok(Some(note)) if note.channel() == RUNNERS => {
                Ok(Announced::RunnerCall(note.payload().parse().ok()))
            }
            Ok(Some(note)) => Ok(Announced::Change(serde_json::from_str(note.payload())?)),
            Ok(None) => Ok(Announced::Change(Change { reset: true, ..Change::default() })),
            Err(e) => Err(StoreError::Database(sea_orm::DbErr::Custom(e.to_string()))),
        }
    }
}
