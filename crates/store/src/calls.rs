//! Calls of connections: how many there may be at once, and within a time, over all nodes; and which were the last.

use crate::{StoreError, entity::call, sql};
use arvok_core::{JobId, job::Place};
use chrono::{DateTime, Utc};
use sea_orm::{
    ColumnTrait, ConnectionTrait, DatabaseConnection, EntityTrait, FromQueryResult, QueryFilter, QueryOrder,
    QuerySelect, Set, TransactionTrait,
};
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

/// For whom a call is made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Caller {
    /// A try of a step.
    Step {
        /// The job.
        job: JobId,
        /// The step.
        place: Place,
        /// Which try, from one.
        attempt: u32,
    },
    /// A person, by hand.
    Person(String),
}

/// A call that is over.
#[derive(Clone, Debug)]
pub struct NewCall {
    /// Through which connection.
    pub connection: String,
    /// What was called.
    pub operation: String,
    /// For whom.
    pub caller: Caller,
    /// When it began.
    pub at: DateTime<Utc>,
    /// How long it took, in milliseconds, its turn included.
    pub millis: i32,
    /// `done`, `later`, or what became of it.
    pub ended: &'static str,
    /// What went wrong.
    pub message: Option<String>,
}

/// Keeps calls that are over.
pub async fn keep(db: &impl ConnectionTrait, calls: &[NewCall]) -> Result<(), StoreError> {
    let rows = calls.iter().map(|c| {
        let (job, place, attempt, by) = match &c.caller {
            Caller::Step { job, place, attempt } => {
                (Some(job.0), Some(place.to_string()), i32::try_from(*attempt).ok(), None)
            }
            Caller::Person(name) => (None, None, None, Some(name.clone())),
        };
        call::ActiveModel {
            connection: Set(c.connection.clone()),
            operation: Set(c.operation.clone()),
            job_id: Set(job),
            place: Set(place),
            attempt: Set(attempt),
            by: Set(by),
            at: Set(c.at),
            millis: Set(c.millis),
            ended: Set(c.ended.to_owned()),
            message: Set(c
                .message
                .as_ref()
                .map(|m| arvok_core::text::cut(&m.replace('\0', "\u{fffd}"), 1_000).to_owned())),
            ..Default::default()
        }
    });
    for some in rows.collect::<Vec<_>>().chunks(1_000) {
        call::Entity::insert_many(some.to_vec()).exec_without_returning(db).await?;
    }
    Ok(())
}

/// The last calls of a connection, the latest first; those before a number.
pub async fn last(
    db: &impl ConnectionTrait,
    connection: &str,
    before: Option<i64>,
    most: u64,
) -> Result<Vec<call::Model>, StoreError> {
    let of = call::Entity::find().filter(call::Column::Connection.eq(connection));
    let of = before.into_iter().fold(of, |of, before| of.filter(call::Column::Id.lt(before)));
    Ok(of.order_by_desc(call::Column::Id).limit(most).all(db).await?)
}

/// How the calls of a connection went.
#[derive(Clone, Debug, Default, FromQueryResult)]
pub struct Went {
    /// The connection.
    pub connection: String,
    /// Calls of the last hour.
    pub calls: i64,
    /// Those that were not well.
    pub failed: i64,
    /// In the middle of how long they took, in milliseconds.
    pub median: Option<f64>,
    /// When the last began.
    pub last_at: Option<DateTime<Utc>>,
    /// How it ended.
    pub last_ended: Option<String>,
    /// What went wrong with it.
    pub last_message: Option<String>,
}

/// How the calls of some connections went in the last hour, and how the last one did.
pub async fn went(
    db: &impl ConnectionTrait,
    connections: Vec<String>,
    now: DateTime<Utc>,
) -> Result<Vec<Went>, StoreError> {
    let sql = "SELECT n.connection, coalesce(h.calls, 0) AS calls, coalesce(h.failed, 0) AS failed, h.median,
            l.at AS last_at, l.ended AS last_ended, l.message AS last_message
        FROM unnest($1::text[]) AS n (connection)
        LEFT JOIN LATERAL (SELECT count(*) AS calls, count(*) FILTER (WHERE ended NOT IN ('done', 'later')) AS failed,
                percentile_cont(0.5) WITHIN GROUP (ORDER BY millis) AS median
            FROM (SELECT ended, millis FROM call c WHERE c.connection = n.connection AND c.at > $2
                ORDER BY c.id DESC LIMIT 1000) c) h ON true
        LEFT JOIN LATERAL (SELECT at, ended, message FROM call c WHERE c.connection = n.connection
            ORDER BY c.id DESC LIMIT 1) l ON true";
    sql::typed(db, sql, vec![connections.into(), (now - chrono::TimeDelta::hours(1)).into()]).await
}
