//! The outbox: events that are written with what they tell of, and enter as alerts of the source `arvok` afterwards.
//!
//! A row goes when its alert is recorded. Whoever dies between the two leaves it, and it enters again under the same
//! id, by which it is known.

use crate::{StoreError, sql};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, FromQueryResult};
use serde_json::Value;

/// For how long nobody else lets an event enter that somebody has taken, in seconds.
const TAKEN_SECONDS: i32 = 10;

/// An event that is still to enter.
#[derive(Clone, Debug, FromQueryResult)]
pub struct Told {
    /// Its number in the outbox.
    pub number: i64,
    /// No other has the same.
    pub id: String,
    /// When it happened.
    pub at: DateTime<Utc>,
    /// The job that it is about.
    pub job_id: i64,
    /// The alert as it is written.
    pub alert: Value,
}

/// Takes the next events, in their order.
pub async fn take(db: &impl ConnectionTrait, most: i64) -> Result<Vec<Told>, StoreError> {
    let sql = "UPDATE outbox SET taken = now() WHERE number IN (SELECT number FROM outbox
            WHERE taken IS NULL OR taken < now() - make_interval(secs => $2) ORDER BY number LIMIT $1 FOR UPDATE SKIP LOCKED)
        RETURNING number, id, at, job_id, alert";
    let mut taken: Vec<Told> = sql::typed(db, sql, vec![most.into(), TAKEN_SECONDS.into()]).await?;
    taken.sort_by_key(|told| told.number);
    Ok(taken)
}

/// They could not enter, and may be taken again at once.
pub async fn put_back(db: &impl ConnectionTrait, events: &[Told]) -> Result<(), StoreError> {
    let numbers: Vec<i64> = events.iter().map(|e| e.number).collect();
    sql::run(db, "UPDATE outbox SET taken = NULL WHERE number = ANY($1)", vec![numbers.into()]).await?;
    Ok(())
}
