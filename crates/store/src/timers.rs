//! What waits for a time and has no row of its own: timers, of several kinds, handled by any node.
//!
//! A timer is held for a while by whoever handles it, so that no other does; it goes on to its next
//! time only from the one that was handled, so that a handler which is overtaken changes nothing.
//! What dies while it is handled is handled again: handlers do what may be done twice.

use crate::{StoreError, sql, stored::Stored};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, FromQueryResult};

arvok_core::words! {
    /// What a timer is for.
    pub enum TimerKind("kind of timer") {
        /// The next time of a source with a schedule; the key is its name.
        Schedule = "schedule",
        /// The next time of a plan; the key is its name.
        Plan = "plan",
        /// When a calendar is read from where it is kept; the key is its name.
        Calendar = "calendar",
        /// The next look of a source whose messages are fetched; the key is its name.
        Poll = "poll",
        /// When the pulse of a connection is due; the key is the connection's name.
        Pulse = "pulse",
    }
}

/// A time that has come.
#[derive(Clone, Debug, PartialEq, Eq, FromQueryResult)]
pub struct Timer {
    /// What it is for.
    pub kind: Stored<TimerKind>,
    /// Unique among those of its kind.
    pub key: String,
    /// What its time was worked out from.
    pub spec: String,
    /// The time that was waited for.
    pub due: DateTime<Utc>,
}

/// A timer that must be there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WantedTimer {
    /// Unique among those of its kind.
    pub key: String,
    /// With another, it begins anew.
    pub spec: String,
    /// Its first time, if it is new.
    pub due: DateTime<Utc>,
}

/// A timer that could not be handled.
#[derive(Clone, Debug, PartialEq, Eq, FromQueryResult)]
pub struct FailingTimer {
    /// What it is for.
    pub kind: Stored<TimerKind>,
    /// Its key.
    pub key: String,
    /// How often in a row.
    pub failures: i32,
    /// Why, at last.
    pub failure: String,
}

/// Makes the timers of a kind those that are wanted in a generation: new ones begin, changed ones
/// begin anew, others go. What a later generation wanted stays.
pub async fn set(
    db: &impl ConnectionTrait,
    kind: TimerKind,
    generation: i64,
    wanted: &[WantedTimer],
) -> Result<(), StoreError> {
    let keys: Vec<String> = wanted.iter().map(|w| w.key.clone()).collect();
    let specs: Vec<String> = wanted.iter().map(|w| w.spec.clone()).collect();
    let dues: Vec<DateTime<Utc>> = wanted.iter().map(|w| w.due).collect();
    // In the order of their keys, so that nodes that do it together wait for each other.
    let sql = "WITH gone AS (
            DELETE FROM timer WHERE kind = $1 AND key <> ALL($3) AND generation <= $2)
        INSERT INTO timer AS t (kind, key, spec, generation, due)
        SELECT $1, key, spec, $2, due FROM unnest($3::text[], $4::text[], $5::timestamptz[])
            AS w (key, spec, due) ORDER BY key
        ON CONFLICT (kind, key) DO UPDATE SET generation = excluded.generation,
            spec = excluded.spec,
            due = CASE WHEN t.spec = excluded.spec THEN t.due ELSE excluded.due END,
            held_until = CASE WHEN t.spec = excluded.spec THEN t.held_until END,
            failures = CASE WHEN t.spec = excluded.spec THEN t.failures ELSE 0 END,
            failure = CASE WHEN t.spec = excluded.spec THEN t.failure END
        WHERE t.generation < excluded.generation";
    let values =
        vec![Stored(kind).into(), generation.into(), keys.into(), specs.into(), dues.into()];
    sql::run(db, sql, values).await.map(drop)
}

/// Holds what is due of some kinds for so many seconds, so many at most, the earliest first. What a
/// later generation wants is left to nodes that know of it.
pub async fn hold_due(
    db: &impl ConnectionTrait,
    kinds: &[TimerKind],
    generation: i64,
    seconds: f64,
    most: usize,
) -> Result<Vec<Timer>, StoreError> {
    let sql = "UPDATE timer SET held_until = clock_timestamp() + make_interval(secs => $1)
        WHERE (kind, key) IN (SELECT kind, key FROM timer
            WHERE due <= clock_timestamp() AND generation <= $2 AND kind = ANY($4)
                AND (held_until IS NULL OR held_until <= clock_timestamp())
            ORDER BY due LIMIT $3 FOR UPDATE SKIP LOCKED)
        RETURNING kind, key, spec, due";
    let most = i64::try_from(most).unwrap_or(i64::MAX);
    let values = vec![seconds.into(), generation.into(), most.into(), words(kinds).into()];
    sql::typed(db, sql, values).await
}

/// A timer was handled and waits for its next time. False if it has changed meanwhile.
pub async fn go_on(
    db: &impl ConnectionTrait,
    timer: &Timer,
    next: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let sql = "UPDATE timer SET due = $5, held_until = NULL, failures = 0, failure = NULL
        WHERE kind = $1 AND key = $2 AND spec = $3 AND due = $4";
    let values = vec![
        timer.kind.into(),
        timer.key.clone().into(),
        timer.spec.clone().into(),
        timer.due.into(),
        next.into(),
    ];
    Ok(sql::run(db, sql, values).await? == 1)
}

/// Ends a timer that nothing wants, as far as is known in a generation.
pub async fn forget(
    db: &impl ConnectionTrait,
    timer: &Timer,
    generation: i64,
) -> Result<(), StoreError> {
    let sql = "DELETE FROM timer WHERE kind = $1 AND key = $2 AND spec = $3 AND generation <= $4";
    let values = vec![
        timer.kind.into(),
        timer.key.clone().into(),
        timer.spec.clone().into(),
        generation.into(),
    ];
    sql::run(db, sql, values).await.map(drop)
}

/// A timer could not be handled, and is tried again after a time that grows with each failure, from
/// a second to a minute.
pub async fn fail(
    db: &impl ConnectionTrait,
    timer: &Timer,
    reason: &str,
) -> Result<(), StoreError> {
    let sql = "UPDATE timer SET failures = failures + 1, failure = $5, held_until =
            clock_timestamp() + make_interval(secs => least(60, power(2, least(failures, 6))))
        WHERE kind = $1 AND key = $2 AND spec = $3 AND due = $4";
    let values = vec![
        timer.kind.into(),
        timer.key.clone().into(),
        timer.spec.clone().into(),
        timer.due.into(),
        reason.into(),
    ];
    sql::run(db, sql, values).await.map(drop)
}

/// When the next timer of some kinds is due, and may be handled by a node that knows this
/// generation.
pub async fn next(
    db: &impl ConnectionTrait,
    kinds: &[TimerKind],
    generation: i64,
) -> Result<Option<DateTime<Utc>>, StoreError> {
    #[derive(FromQueryResult)]
    struct Next {
        at: Option<DateTime<Utc>>,
    }
    let sql = "SELECT min(greatest(due, held_until)) AS at FROM timer
        WHERE generation <= $1 AND kind = ANY($2)";
    let found: Vec<Next> =
        sql::typed(db, sql, vec![generation.into(), words(kinds).into()]).await?;
    Ok(found.into_iter().find_map(|next| next.at))
}

fn words(kinds: &[TimerKind]) -> Vec<String> {
    kinds.iter().map(|kind| kind.as_str().to_owned()).collect()
}

/// The time that a timer waits for.
pub async fn due(
    db: &impl ConnectionTrait,
    kind: TimerKind,
    key: &str,
) -> Result<Option<DateTime<Utc>>, StoreError> {
    #[derive(FromQueryResult)]
    struct Due {
        due: DateTime<Utc>,
    }
    let sql = "SELECT due FROM timer WHERE kind = $1 AND key = $2";
    let found: Vec<Due> = sql::typed(db, sql, vec![Stored(kind).into(), key.into()]).await?;
    Ok(found.into_iter().next().map(|found| found.due))
}

/// Why a timer could not be handled at last, if it could not.
pub async fn failure(
    db: &impl ConnectionTrait,
    kind: TimerKind,
    key: &str,
) -> Result<Option<String>, StoreError> {
    let sql = "SELECT kind, key, failures, coalesce(failure, '') AS failure FROM timer
        WHERE kind = $1 AND key = $2 AND failures > 0";
    let found: Vec<FailingTimer> =
        sql::typed(db, sql, vec![Stored(kind).into(), key.into()]).await?;
    Ok(found.into_iter().next().map(|timer| timer.failure))
}

/// Timers that could not be handled so many times in a row, 20 at most.
pub async fn failing(
    db: &impl ConnectionTrait,
    times: i32,
) -> Result<Vec<FailingTimer>, StoreError> {
    let sql = "SELECT kind, key, failures, coalesce(failure, '') AS failure FROM timer
        WHERE failures >= $1 ORDER BY kind, key LIMIT 20";
    sql::typed(db, sql, vec![times.into()]).await
}
