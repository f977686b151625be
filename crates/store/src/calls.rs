//! Calls of connections: their turns, where so many may be out at once or within a time, over all
//! nodes; and which were the last.

use crate::{
    StoreError,
    entity::call,
    sql,
    stored::{Stored, StoredPrincipal},
};
use arvok_api::CallState;
use arvok_core::{JobId, Principal, TraceContext, job::Place};
use chrono::{DateTime, Utc};
use sea_orm::{
    ColumnTrait, ConnectionTrait, EntityTrait, FromQueryResult, QueryFilter, QueryOrder,
    QuerySelect, Set,
};
use std::time::Duration;

/// The turn of a call among those that are out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Slot {
    id: i64,
    connection: String,
    most: u32,
}

/// Reserves the next moment at which something may be sent, where so much may within a time; how
/// long to wait for it. None if that is longer than somebody has patience for: then nothing is
/// reserved, so that nobody stands behind who has left.
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
    let sql = "INSERT INTO call_rate AS r (connection, next_at)
            VALUES ($1, clock_timestamp() + make_interval(secs => $2))
        ON CONFLICT (connection) DO UPDATE
            SET next_at = greatest(r.next_at, clock_timestamp()) + make_interval(secs => $2)
            WHERE r.next_at <= clock_timestamp() + make_interval(secs => $3)
        RETURNING extract(epoch FROM next_at - clock_timestamp())::float8 - $2 AS seconds";
    let values = vec![connection.into(), share.into(), patience.as_secs_f64().into()];
    let wait: Vec<Wait> = sql::typed(db, sql, values).await?;
    Ok(wait.first().map(|w| Duration::from_secs_f64(w.seconds.max(0.0))))
}

/// What a connection allows.
#[derive(Clone, Copy, Debug)]
pub struct Allowed {
    /// Calls at once.
    pub at_once: Option<u32>,
    /// Calls within a time, evenly spread.
    pub rate: Option<(u32, Duration)>,
}

/// Whether the turn of a call has come.
#[derive(Debug, PartialEq)]
pub enum Permit {
    /// It has, and is to be given back if it is one of so many at once; the call may begin after a
    /// moment.
    Granted(Option<Slot>, Duration),
    /// Others come first; it is asked for again then, unless its job is told before.
    Queued(Duration),
}

/// Takes the turn of a call through a connection, or a place in the queue of those who wait for
/// theirs. A turn ends by itself after a while, should its node die. Each call of a person's has a
/// mark.
pub async fn permit(
    db: &impl ConnectionTrait,
    connection: &str,
    allowed: Allowed,
    (caller, mark): (&Caller, &str),
    longest: Duration,
) -> Result<Permit, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        slot: Option<i64>,
        wait: Option<f64>,
        again: Option<f64>,
    }
    let (who, job, place) = match caller {
        Caller::Step { job, place, .. } => {
            (format!("{job} {place}"), Some(job.0), Some(place.to_string()))
        }
        Caller::Person(person) => (format!("{person} {mark}"), None, None),
    };
    let sql = "SELECT slot, wait, again FROM call_turn($1, $2, $3, $4, $5, $6, $7, $8)";
    let number = |n: u32| i32::try_from(n).unwrap_or(i32::MAX);
    let values = vec![
        connection.into(),
        who.into(),
        job.into(),
        place.into(),
        allowed.at_once.map(number).into(),
        allowed.rate.map(|(calls, _)| number(calls.max(1))).into(),
        allowed.rate.map(|(_, per)| per.as_secs_f64()).into(),
        longest.as_secs_f64().into(),
    ];
    let rows: Vec<Row> = sql::typed(db, sql, values).await?;
    let row = rows.into_iter().next().ok_or(StoreError::BrokenOff("the turn of a call"))?;
    let seconds = |s: f64| Duration::from_secs_f64(s.max(0.0));
    Ok(match row.again {
        Some(again) => Permit::Queued(seconds(again)),
        None => {
            let most = allowed.at_once.unwrap_or_default();
            let slot = row.slot.map(|id| Slot { id, connection: connection.to_owned(), most });
            Permit::Granted(slot, seconds(row.wait.unwrap_or_default()))
        }
    })
}

#[derive(FromQueryResult)]
struct NotifiedJob {
    job_id: Option<i64>,
}

/// Gives a turn back, and tells the jobs whose turn it is then; which.
pub async fn give_back(db: &impl ConnectionTrait, slot: &Slot) -> Result<Vec<JobId>, StoreError> {
    let most = i32::try_from(slot.most).unwrap_or(i32::MAX);
    let values = vec![slot.id.into(), slot.connection.as_str().into(), most.into()];
    let told: Vec<NotifiedJob> =
        sql::typed(db, "SELECT job_id FROM call_over($1, $2, $3)", values).await?;
    let jobs: Vec<i64> = told.into_iter().filter_map(|told| told.job_id).collect();
    if !jobs.is_empty() {
        // Not with the queue's lock held: the row of a job may be held for a while.
        let tell = "UPDATE job SET posts = posts + 1, wake_at = CASE WHEN state = 'waiting'
            THEN now() ELSE wake_at END
            WHERE id IN (SELECT id FROM job WHERE id = ANY($1) AND state IN ('running', 'waiting')
            ORDER BY id FOR UPDATE)";
        sql::run(db, tell, vec![jobs.clone().into()]).await?;
    }
    Ok(jobs.into_iter().map(JobId).collect())
}

/// Leaves the queues in which steps of a job stand.
pub async fn leave(
    db: &impl ConnectionTrait,
    job: JobId,
    places: Vec<String>,
) -> Result<(), StoreError> {
    let sql = "DELETE FROM call_queue WHERE job_id = $1 AND place = ANY($2)";
    sql::run(db, sql, vec![job.0.into(), places.into()]).await?;
    Ok(())
}

/// Those among some steps of a job whose calls were told that their turn has come.
pub(super) async fn permits_given(
    db: &impl ConnectionTrait,
    job: JobId,
    places: Vec<String>,
) -> Result<Vec<String>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        place: String,
    }
    let sql = "SELECT place FROM call_queue WHERE job_id = $1 AND place = ANY($2)
        AND told_at IS NOT NULL";
    let rows: Vec<Row> = sql::typed(db, sql, vec![job.0.into(), places.into()]).await?;
    Ok(rows.into_iter().map(|row| row.place).collect())
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
    Person(Principal),
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
    pub ended: CallState,
    /// What went wrong.
    pub message: Option<String>,
    /// Its span.
    pub trace: Option<TraceContext>,
}

/// Keeps calls that are over.
pub async fn keep(db: &impl ConnectionTrait, calls: &[NewCall]) -> Result<(), StoreError> {
    let rows = calls.iter().map(|c| {
        let (job, place, attempt, by) = match &c.caller {
            Caller::Step { job, place, attempt } => {
                (Some(job.0), Some(place.to_string()), i32::try_from(*attempt).ok(), None)
            }
            Caller::Person(person) => (None, None, None, Some(StoredPrincipal(person.clone()))),
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
            ended: Set(Stored(c.ended)),
            message: Set(c
                .message
                .as_ref()
                .map(|m| arvok_core::text::cut(&m.replace('\0', "\u{fffd}"), 1_000).to_owned())),
            trace: Set(c.trace.map(|trace| trace.to_string())),
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
pub struct CallStatistics {
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
    pub last_ended: Option<Stored<CallState>>,
    /// What went wrong with it.
    pub last_message: Option<String>,
}

/// How the calls of some connections went in the last hour, and how the last one did.
pub async fn recent_outcomes(
    db: &impl ConnectionTrait,
    connections: Vec<String>,
    now: DateTime<Utc>,
) -> Result<Vec<CallStatistics>, StoreError> {
    let sql = "SELECT n.connection, coalesce(h.calls, 0) AS calls, coalesce(h.failed, 0) AS failed,
        h.median,
            l.at AS last_at, l.ended AS last_ended, l.message AS last_message
        FROM unnest($1::text[]) AS n (connection)
        LEFT JOIN LATERAL (SELECT count(*) AS calls, count(*) FILTER (WHERE ended NOT IN ('done',
        'later')) AS failed,
                percentile_cont(0.5) WITHIN GROUP (ORDER BY millis) AS median
            FROM (SELECT ended, millis FROM call c WHERE c.connection = n.connection AND c.at > $2
                ORDER BY c.id DESC LIMIT 1000) c) h ON true
        LEFT JOIN LATERAL (SELECT at, ended, message FROM call c WHERE c.connection = n.connection
            ORDER BY c.id DESC LIMIT 1) l ON true";
    sql::typed(db, sql, vec![connections.into(), (now - chrono::TimeDelta::hours(1)).into()]).await
}
