//! How many calls of a connection there may be at once, and within a time: over all nodes, so here.

use crate::{StoreError, sql};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait};
use std::time::Duration;

/// The turn of a call among those that are out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Slot(i64);

/// Reserves the next moment at which a call may begin, where so many may within a time; how long to wait for it. None if
/// that is longer than somebody has patience for: then nothing is reserved, so that nobody stands behind who has left.
pub async fn reserve(
    db: &impl ConnectionTrait,
    connection: &str,
    calls: u32,
    per: Duration,
    patience: Duration,
) -> Result<Option<Duration>, StoreError> {
    #[derive(FromQueryResult)]
    struct Wait {
        seconds: f64,
    }
    let share = per.as_secs_f64() / f64::from(calls.max(1));
    let sql =
        "INSERT INTO call_rate AS r (connection, next_at) VALUES ($1, clock_timestamp() + make_interval(secs => $2))
        ON CONFLICT (connection) DO UPDATE
            SET next_at = greatest(r.next_at, clock_timestamp()) + make_interval(secs => $2)
            WHERE r.next_at <= clock_timestamp() + make_interval(secs => $3)
        RETURNING extract(epoch FROM next_at - clock_timestamp())::float8 - $2 AS seconds";
    let values = vec![connection.into(), share.into(), patience.as_secs_f64().into()];
    let wait: Vec<Wait> = sql::typed(db, sql, values).await?;
    Ok(wait.first().map(|w| Duration::from_secs_f64(w.seconds.max(0.0))))
}

/// Takes a turn among so many calls at once; none if all are taken. It ends by itself after a while, should its node die.
pub async fn take_turn(
    db: &DatabaseConnection,
    connection: &str,
    most: u32,
    longest: Duration,
) -> Result<Option<Slot>, StoreError> {
    #[derive(FromQueryResult)]
    struct Taken {
        id: i64,
    }
    let tx = db.begin().await?;
    let lock = "SELECT pg_advisory_xact_lock(hashtextextended('connection ' || $1, 0))";
    sql::run(&tx, lock, vec![connection.into()]).await?;
    sql::run(&tx, "DELETE FROM call_slot WHERE connection = $1 AND until < now()", vec![connection.into()]).await?;
    let sql = "INSERT INTO call_slot (connection, until) SELECT $1, now() + make_interval(secs => $3)
        WHERE (SELECT count(*) FROM call_slot WHERE connection = $1) < $2 RETURNING id";
    let values = vec![connection.into(), i64::from(most).into(), longest.as_secs_f64().into()];
    let taken: Vec<Taken> = sql::typed(&tx, sql, values).await?;
    tx.commit().await?;
    Ok(taken.first().map(|t| Slot(t.id)))
}

/// Gives a turn back.
pub async fn give_back(db: &impl ConnectionTrait, slot: Slot) -> Result<(), StoreError> {
    sql::run(db, "DELETE FROM call_slot WHERE id = $1", vec![slot.0.into()]).await?;
    Ok(())
}
