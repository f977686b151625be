//! Calls that runners make. A node asks for one and renews that while it waits; a runner claims it,
//! begins it on the record before anything is sent, beats while it makes it, and ends it. Whoever
//! is not heard of loses it: what was not begun is given to another, what was begun is unknown.

use crate::{StoreError, sql};
use arvok_api::{CallBeat, ClaimedCall};
use arvok_core::{JobId, Labels};
use sea_orm::{ConnectionTrait, FromQueryResult};
use serde_json::json;

/// How long a call is wanted that its node has not asked for again.
const WANTED: &str = "interval '6 seconds'";
/// How long a claim stands that was not begun.
const TO_BEGIN: &str = "interval '5 seconds'";
/// How long a call is taken to go on of which its runner says nothing.
const TO_BEAT: &str = "interval '10 seconds'";
/// How long a node may not have asked for a call that goes on: the database may be away for a
/// while.
const AWAY: &str = "interval '20 seconds'";
/// What wakes whoever waits for calls, or for the end of one.
pub(crate) const CHANNEL: &str = "arvok_runners";

arvok_core::words! {
    /// How far a call is that a runner makes.
    pub enum RunnerCallState("state of a runner's call") {
        /// Nobody has it.
        Waiting = "waiting",
        /// A runner has it and has not begun.
        Claimed = "claimed",
        /// It may have been made.
        Begun = "begun",
        /// Its result is here.
        Ended = "ended",
    }
}

/// A call that is to be made.
#[derive(Debug)]
pub struct NewRunnerCall<'a> {
    /// The labels that its runner must have.
    pub through: &'a Labels,
    /// What is to be done, sealed.
    pub sealed: Vec<u8>,
    /// For which step.
    pub step: Option<(JobId, String, u32)>,
}

/// The number of a call that is about to be asked for.
pub async fn next_number(db: &impl ConnectionTrait) -> Result<i64, StoreError> {
    let sql = "SELECT nextval('runner_call_number') AS id";
    let found: Vec<Number> = sql::typed(db, sql, vec![]).await?;
    found.first().map(|row| row.id).ok_or(StoreError::BrokenOff("asking for a runner"))
}

/// Asks for a call under a number. After an error nobody knows whether that was done:
/// [`ask_no_more`] then ends it for good.
pub async fn ask(
    db: &impl ConnectionTrait,
    number: i64,
    call: NewRunnerCall<'_>,
) -> Result<(), StoreError> {
    let sql = format!(
        "WITH asked AS (INSERT INTO runner_call
            (id, through, sealed, job_id, place, attempt, wanted_until)
            VALUES ($1, $2, $3, $4, $5, $6, now() + {WANTED}) RETURNING id)
        SELECT id FROM asked, pg_notify('{CHANNEL}', '')"
    );
    let (job, place, attempt) = match call.step {
        None => (None, None, None),
        Some((job, place, attempt)) => {
            (Some(job.0), Some(place), Some(i32::try_from(attempt).unwrap_or(i32::MAX)))
        }
    };
    let values = vec![
        number.into(),
        json!(call.through).into(),
        call.sealed.into(),
        job.into(),
        place.into(),
        attempt.into(),
    ];
    sql::run(db, &sql, values).await?;
    Ok(())
}

/// Ends a call of which nobody knows whether it was asked for: how it stood, or none if it never
/// did. From then on its number is taken, so that it is not asked for later either.
pub async fn ask_no_more(
    db: &impl ConnectionTrait,
    number: i64,
) -> Result<Option<AskedCall>, StoreError> {
    let sql = "INSERT INTO runner_call (id, through, sealed, state, wanted_until)
        VALUES ($1, '{}', '', 'ended', now()) ON CONFLICT (id) DO NOTHING";
    if sql::run(db, sql, vec![number.into()]).await? > 0 {
        return Ok(None);
    }
    withdraw(db, number).await
}

/// How a call stands.
#[derive(Clone, Debug, FromQueryResult)]
pub struct AskedCall {
    /// How far it is.
    pub state: String,
    /// Whether whoever has it was not heard of in time.
    pub is_lost: bool,
    /// Who has it.
    pub runner: Option<String>,
    /// Its sealed result.
    pub result: Option<Vec<u8>>,
}

/// Says that a call is still wanted; how it stands. None: it is gone.
pub async fn want(db: &impl ConnectionTrait, id: i64) -> Result<Option<AskedCall>, StoreError> {
    let sql = format!(
        "UPDATE runner_call SET wanted_until = now() + {WANTED} WHERE id = $1
        RETURNING state, coalesce(lease_until < now(), false) AS is_lost, runner, result"
    );
    Ok(sql::typed(db, &sql, vec![id.into()]).await?.into_iter().next())
}

/// Wants a call no more; how it stood. None: it was gone.
pub async fn withdraw(db: &impl ConnectionTrait, id: i64) -> Result<Option<AskedCall>, StoreError> {
    let sql = "DELETE FROM runner_call WHERE id = $1
        RETURNING state, coalesce(lease_until < now(), false) AS is_lost, runner, result";
    Ok(sql::typed(db, sql, vec![id.into()]).await?.into_iter().next())
}

/// Wants a call no more that nobody has begun; whether that was so.
pub async fn withdraw_unbegun(db: &impl ConnectionTrait, id: i64) -> Result<bool, StoreError> {
    let sql = "DELETE FROM runner_call WHERE id = $1 AND state IN ('waiting', 'claimed')";
    Ok(sql::run(db, sql, vec![id.into()]).await? > 0)
}

/// A call as its runner gets it.
#[derive(Clone, Debug, FromQueryResult)]
pub struct ClaimedWork {
    /// Its number.
    pub id: i64,
    /// What is to be done, sealed.
    pub sealed: Vec<u8>,
}

/// Claims calls for a runner, the oldest first, but none of jobs while what is under way is halted:
/// of those that nobody has, and of those that were claimed and not begun in time.
pub async fn claim(
    db: &impl ConnectionTrait,
    (runner, serves): (&str, &Labels),
    claim: &str,
    most: u32,
) -> Result<Vec<ClaimedWork>, StoreError> {
    let sql = format!(
        "UPDATE runner_call c SET state = 'claimed', runner = $1, claim = $2,
            lease_until = now() + {TO_BEGIN}
        FROM (SELECT id FROM runner_call
            WHERE state IN ('waiting', 'claimed') AND (state = 'waiting' OR lease_until < now())
                AND wanted_until > now() AND through <@ $3
                AND (job_id IS NULL OR NOT job_paused_by_halt(job_id))
            ORDER BY id LIMIT $4 FOR UPDATE SKIP LOCKED) one
        WHERE c.id = one.id RETURNING c.id, c.sealed"
    );
    let values = vec![runner.into(), claim.into(), json!(serves).into(), i64::from(most).into()];
    sql::typed(db, &sql, values).await
}

fn named(calls: &[ClaimedCall]) -> [sea_orm::Value; 2] {
    let ids: Vec<i64> = calls.iter().map(|call| call.id).collect();
    let claims: Vec<String> = calls.iter().map(|call| call.claim.clone()).collect();
    [ids.into(), claims.into()]
}

#[derive(FromQueryResult)]
struct Number {
    id: i64,
}

/// Begins calls that a runner has claimed, as far as they are wanted and still its own; which.
pub async fn begin(
    db: &impl ConnectionTrait,
    runner: &str,
    calls: &[ClaimedCall],
) -> Result<Vec<i64>, StoreError> {
    let sql = format!(
        "UPDATE runner_call c SET state = 'begun', lease_until = now() + {TO_BEAT}
        FROM unnest($1::bigint[], $2::text[]) AS n (id, claim)
        WHERE c.id = n.id AND c.claim = n.claim AND c.runner = $3 AND c.state = 'claimed'
            AND c.lease_until > now() AND c.wanted_until > now()
            AND (c.job_id IS NULL OR NOT job_paused_by_halt(c.job_id))
        RETURNING c.id"
    );
    let [ids, claims] = named(calls);
    let found: Vec<Number> = sql::typed(db, &sql, vec![ids, claims, runner.into()]).await?;
    Ok(found.into_iter().map(|row| row.id).collect())
}

/// A call that goes on, with the step that it is made for.
#[derive(Clone, Debug, FromQueryResult)]
pub struct GoingOn {
    /// Its number.
    pub id: i64,
    /// The job.
    pub job_id: Option<i64>,
    /// The step.
    pub place: Option<String>,
    /// Which try.
    pub attempt: Option<i32>,
}

/// Calls that a runner makes go on, as far as they are wanted and its own; which. One whose lease
/// has ended goes on as well while its node has not given it up: nobody else can have it, and
/// perhaps only the database was away.
pub async fn beat(
    db: &impl ConnectionTrait,
    runner: &str,
    beats: &[CallBeat],
) -> Result<Vec<GoingOn>, StoreError> {
    let sql = format!(
        "UPDATE runner_call c SET lease_until = now() + {TO_BEAT}
        FROM unnest($1::bigint[], $2::text[]) AS n (id, claim)
        WHERE c.id = n.id AND c.claim = n.claim AND c.runner = $3 AND c.state = 'begun'
            AND c.wanted_until > now() - {AWAY}
        RETURNING c.id, c.job_id, c.place, c.attempt"
    );
    let calls: Vec<ClaimedCall> = beats.iter().map(|beat| beat.call.clone()).collect();
    let [ids, claims] = named(&calls);
    sql::typed(db, &sql, vec![ids, claims, runner.into()]).await
}

/// Ends a call with its sealed result; whether it was still this runner's, and wanted. What was
/// claimed may end as well: it could not be begun.
pub async fn end(
    db: &impl ConnectionTrait,
    runner: &str,
    call: &ClaimedCall,
    result: Vec<u8>,
) -> Result<bool, StoreError> {
    let sql = format!(
        "WITH ended AS (UPDATE runner_call SET state = 'ended', result = $4
            WHERE id = $1 AND claim = $2 AND runner = $3 AND state IN ('claimed', 'begun')
            RETURNING id)
        SELECT id FROM ended, pg_notify('{CHANNEL}', id::text)"
    );
    let values = vec![call.id.into(), call.claim.clone().into(), runner.into(), result.into()];
    let found: Vec<Number> = sql::typed(db, &sql, values).await?;
    Ok(!found.is_empty())
}

/// Removes what nobody has wanted for a minute, some at a time.
pub async fn sweep(db: &impl ConnectionTrait) -> Result<u64, StoreError> {
    let sql = "DELETE FROM runner_call WHERE id IN (SELECT id FROM runner_call
        WHERE wanted_until < now() - interval '1 minute' ORDER BY id LIMIT 1000
        FOR UPDATE SKIP LOCKED)";
    sql::run(db, sql, vec![]).await
}
