//! What Arvok remembers: PostgreSQL through SeaORM.
//!
//! [`cluster`] runs a private PostgreSQL where the operator names none, [`schema`] holds the
//! migrations and [`entity`] the small tables; [`intake`] is the one transaction from alert to
//! job, [`jobs`] hands jobs to nodes and keeps their progress, [`proposals`] decides what was only
//! proposed, [`definitions`] the versions of
//! documents, [`access`] tokens and sessions, [`read`] answers questions, [`changes`] tells
//! every node what changed.

pub mod access;
pub mod changes;
pub mod cluster;
pub mod definitions;
pub mod entity;
pub mod intake;
pub mod jobs;
pub mod proposals;
pub mod read;
pub mod schema;
pub mod secrets;
mod sql;

pub use sea_orm::DatabaseConnection;
pub use sql::StoreError;

use sea_orm::{ConnectOptions, Database};
use std::time::Duration;

/// Connects and brings the schema up to date.
pub async fn open(url: &str, connections: u32) -> Result<DatabaseConnection, StoreError> {
    let mut options = ConnectOptions::new(url.to_owned());
    options
        .max_connections(connections)
        .connect_timeout(Duration::from_secs(10))
        .acquire_timeout(Duration::from_secs(10))
        .sqlx_logging(false);
    let db = Database::connect(options).await?;
    schema::migrate(&db).await?;
    Ok(db)
}
