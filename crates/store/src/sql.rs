//! Statements and rows: set-based SQL through SeaORM's statement interface, and rows read as
//! JSON into the types of the API.

use sea_orm::{ConnectionTrait, DbBackend, DbErr, Statement, Value};
use serde::de::DeserializeOwned;

/// What can go wrong with the store.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The database refused or is not there.
    #[error("the database: {0}")]
    Database(#[from] DbErr),
    /// A row does not have the expected form.
    #[error("a stored record cannot be read: {0}")]
    Record(#[from] serde_json::Error),
    /// Another node has taken over.
    #[error("the job is not held by this node any more")]
    LeaseLost,
    /// A name is taken.
    #[error("the name `{0}` is taken")]
    Taken(String),
    /// A private cluster cannot be run.
    #[error("{0}")]
    Cluster(String),
}

impl StoreError {
    /// Whether the same transaction may well succeed when it is tried again: a deadlock, a
    /// serialization failure or a unique key taken at the same moment.
    pub fn is_passing(&self) -> bool {
        let Self::Database(e) = self else { return false };
        let text = e.to_string();
        ["deadlock detected", "could not serialize", "duplicate key value"].iter().any(|t| text.contains(t))
    }
}

pub(crate) fn statement(sql: &str, values: Vec<Value>) -> Statement {
    Statement::from_sql_and_values(DbBackend::Postgres, sql, values)
}

/// Runs a statement; the number of rows it touched.
pub(crate) async fn run(db: &impl ConnectionTrait, sql: &str, values: Vec<Value>) -> Result<u64, StoreError> {
    Ok(db.execute_raw(statement(sql, values)).await?.rows_affected())
}

/// Reads each row as JSON into a type.
pub(crate) async fn rows<T: DeserializeOwned>(
    db: &impl ConnectionTrait,
    sql: &str,
    values: Vec<Value>,
) -> Result<Vec<T>, StoreError> {
    let sql = format!("SELECT to_jsonb(q)::text AS row FROM ({sql}) q");
    read(db, &sql, values).await
}

/// Reads each row of a changing statement as JSON into a type.
pub(crate) async fn returned<T: DeserializeOwned>(
    db: &impl ConnectionTrait,
    sql: &str,
    values: Vec<Value>,
) -> Result<Vec<T>, StoreError> {
    let sql = format!("WITH q AS ({sql}) SELECT to_jsonb(q)::text AS row FROM q");
    read(db, &sql, values).await
}

async fn read<T: DeserializeOwned>(
    db: &impl ConnectionTrait,
    sql: &str,
    values: Vec<Value>,
) -> Result<Vec<T>, StoreError> {
    let found = db.query_all_raw(statement(sql, values)).await?;
    found
        .iter()
        .map(|row| {
            let text: String = row.try_get("", "row")?;
            Ok(serde_json::from_str(&text)?)
        })
        .collect()
}

/// The one row, if there is one.
pub(crate) async fn maybe<T: DeserializeOwned>(
    db: &impl ConnectionTrait,
    sql: &str,
    values: Vec<Value>,
) -> Result<Option<T>, StoreError> {
    Ok(rows(db, sql, values).await?.into_iter().next())
}
