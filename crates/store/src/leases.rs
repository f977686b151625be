//! What one node does at a time: a lease, held for a while by a node and renewed while it goes on.
//! Whoever has lost one may not know it yet; what is done under it must stand though it be done
//! twice.

use crate::{StoreError, sql};
use sea_orm::ConnectionTrait;

/// Takes or renews a lease for so many seconds; false while another holds it.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn hold(
    db: &impl ConnectionTrait,
    name: &str,
    holder: &str,
    seconds: f64,
) -> Result<bool, StoreError> {
    let sql = "INSERT INTO lease AS l (name, holder, until)
        VALUES ($1, $2, clock_timestamp() + make_interval(secs => $3))
        ON CONFLICT (name) DO UPDATE SET holder = excluded.holder, until = excluded.until
        WHERE l.holder = excluded.holder OR l.until < clock_timestamp()";
    Ok(sql::run(db, sql, vec![name.into(), holder.into(), seconds.into()]).await? == 1)
}

/// Gives a lease up, if it is still held by this one.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn release(
    db: &impl ConnectionTrait,
    name: &str,
    holder: &str,
) -> Result<(), StoreError> {
    let sql = "DELETE FROM lease WHERE name = $1 AND holder = $2";
    sql::run(db, sql, vec![name.into(), holder.into()]).await.map(drop)
}
