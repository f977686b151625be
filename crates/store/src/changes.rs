//! Telling every node what changed, through PostgreSQL's own channel.

use crate::{StoreError, sql};
use arvok_api::Change;
use sea_orm::{ConnectionTrait, DatabaseConnection, sqlx::postgres::PgListener};

const CHANNEL: &str = "arvok";
/// PostgreSQL takes messages below 8000 bytes; these many handles fit.
const MOST: usize = 100;

/// Announces a change; within a transaction it is heard after the commit.
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

/// Hears what is announced.
#[derive(Debug)]
pub struct Listener(PgListener);

impl Listener {
    /// Starts to listen, on a connection of its own.
    pub async fn start(db: &DatabaseConnection) -> Result<Self, StoreError> {
        let failed = |e: sea_orm::sqlx::Error| StoreError::Database(sea_orm::DbErr::Custom(e.to_string()));
        let mut listener = PgListener::connect_with(db.get_postgres_connection_pool()).await.map_err(failed)?;
        listener.listen(CHANNEL).await.map_err(failed)?;
        Ok(Self(listener))
    }

    /// The next change. After a lost connection it is one that says so.
    pub async fn next(&mut self) -> Result<Change, StoreError> {
        match self.0.try_recv().await {
            Ok(Some(note)) => Ok(serde_json::from_str(note.payload())?),
            Ok(None) => Ok(Change { reset: true, ..Change::default() }),
            Err(e) => Err(StoreError::Database(sea_orm::DbErr::Custom(e.to_string()))),
        }
    }
}
