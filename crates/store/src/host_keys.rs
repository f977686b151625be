//! The keys of machines that an admin has trusted. There is one for each machine of a connection;
//! whoever trusts another one replaces it.

use crate::{StoreError, audit, sql};
use arvok_api::TrustedMachine;
use arvok_core::Principal;
use sea_orm::{ConnectionTrait, DatabaseConnection, TransactionTrait};
use serde::Deserialize;
use std::collections::BTreeMap;

/// A key that is to be trusted.
#[derive(Clone, Copy, Debug)]
pub struct NewTrust<'a> {
    /// The connection.
    pub connection: &'a str,
    /// The machine with its port.
    pub machine: &'a str,
    /// The kind of key.
    pub algorithm: &'a str,
    /// Its fingerprint.
    pub fingerprint: &'a str,
}

/// Trusts a key, in place of the one that the machine had.
pub async fn trust(
    db: &DatabaseConnection,
    key: NewTrust<'_>,
    by: &Principal,
) -> Result<(), StoreError> {
    let sql = "INSERT INTO host_key (connection, machine, algorithm, fingerprint, trusted_by)
        VALUES ($1, $2, $3, $4, $5)
        ON CONFLICT (connection, machine) DO UPDATE SET algorithm = excluded.algorithm,
            fingerprint = excluded.fingerprint, trusted_by = excluded.trusted_by,
            trusted_at = now()";
    let tx = db.begin().await?;
    let by_text = by.to_string();
    let values = [key.connection, key.machine, key.algorithm, key.fingerprint, &by_text];
    sql::run(&tx, sql, values.map(Into::into).to_vec()).await?;
    let what = format!("{} of connection {}", key.machine, key.connection);
    let detail = format!("{} {}", key.algorithm, key.fingerprint);
    audit::record(&tx, by, "host-key.trusted", &what, &detail).await?;
    Ok(tx.commit().await?)
}

/// Trusts a machine's key no more; whether it was trusted.
pub async fn forget(
    db: &DatabaseConnection,
    (connection, machine): (&str, &str),
    by: &Principal,
) -> Result<bool, StoreError> {
    let sql = "DELETE FROM host_key WHERE connection = $1 AND machine = $2";
    let tx = db.begin().await?;
    let was = sql::run(&tx, sql, vec![connection.into(), machine.into()]).await? > 0;
    if was {
        let what = format!("{machine} of connection {connection}");
        audit::record(&tx, by, "host-key.forgotten", &what, "").await?;
    }
    tx.commit().await?;
    Ok(was)
}

/// Those of one connection, by machine; at most so many.
pub async fn of_connection(
    db: &impl ConnectionTrait,
    connection: &str,
    most: u64,
) -> Result<Vec<TrustedMachine>, StoreError> {
    let sql = "SELECT machine, algorithm, fingerprint, trusted_by AS by, trusted_at AS at
        FROM host_key
        WHERE connection = $1 ORDER BY machine LIMIT $2";
    let most = i64::try_from(most).unwrap_or(i64::MAX);
    sql::rows(db, sql, vec![connection.into(), most.into()]).await
}

/// The fingerprints of all of them, by connection and machine.
pub async fn all(
    db: &impl ConnectionTrait,
) -> Result<BTreeMap<String, BTreeMap<String, String>>, StoreError> {
    #[derive(Deserialize)]
    struct Row {
        connection: String,
        machine: String,
        fingerprint: String,
    }
    let sql = "SELECT connection, machine, fingerprint FROM host_key";
    let rows: Vec<Row> = sql::rows(db, sql, Vec::new()).await?;
    let mut all: BTreeMap<String, BTreeMap<String, String>> = BTreeMap::new();
    for Row { connection, machine, fingerprint } in rows {
        all.entry(connection).or_default().insert(machine, fingerprint);
    }
    Ok(all)
}
