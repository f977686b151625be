//! Events on their way out: to whom, how far, and what became of them.
//!
//! An event is kept for each subscriber in the statement that takes it out of the outbox, so that
//! it is kept once whoever dies. Sending it is told of afterwards, so a subscriber may hear of it
//! twice, under the same id.

use super::outbox::OutboxEvent;
use crate::{StoreError, sql, stored::Stored};
use arvok_api::OutgoingState;
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait};
use serde_json::Value;
use std::time::Duration;

/// Most events that wait for one subscriber.
pub const MOST_WAITING: i64 = 10_000;
/// For how long nobody else sends an event, or asks an address, that somebody has taken, in
/// seconds.
const TAKEN_SECONDS: i32 = 60;
/// How long an address may take to agree after it was asked, in hours.
const CONSENT_HOURS: i32 = 24;
/// How long an event is tried before it is given up, in hours.
const PATIENCE_HOURS: i32 = 24;

/// An event for a subscriber.
#[derive(Clone, Debug)]
pub struct Leaving {
    /// The name of the subscriber.
    pub subscriber: String,
    /// The id of the event.
    pub event_id: String,
    /// The event as it is sent.
    pub event: Value,
}

/// What is known of a subscriber.
#[derive(Clone, Debug, Default, FromQueryResult)]
pub struct SubscriberRecord {
    /// The name.
    pub name: String,
    /// The address.
    pub address: String,
    /// When it was asked whether it wants events.
    pub asked_at: Option<DateTime<Utc>>,
    /// When it agreed.
    pub confirmed_at: Option<DateTime<Utc>>,
    /// It has said that it wants no more.
    pub gone: bool,
    /// Most requests a minute that it wants.
    pub rate: Option<i32>,
    /// It is left alone until then.
    pub next_at: DateTime<Utc>,
    /// Tries in a row that failed.
    pub failures: i32,
    /// The last of them.
    pub failure: Option<String>,
    /// Events that it took.
    pub delivered: i64,
    /// When it took the last.
    pub delivered_at: Option<DateTime<Utc>>,
    /// Events that were not kept for it.
    pub left_out: i64,
    /// Events that wait for it; at most [`MOST_WAITING`] are counted.
    pub waiting: i64,
    /// Events that were given up and are still kept.
    pub given_up: i64,
}

/// Notes the addresses of those who are published; one that is new, or has another address, is to
/// be asked. Nothing happens if something else is published by now.
pub async fn note(
    db: &impl ConnectionTrait,
    generation: i64,
    all: &[(String, String)],
) -> Result<(), StoreError> {
    let column =
        |f: fn(&(String, String)) -> &String| all.iter().map(|s| f(s).clone()).collect::<Vec<_>>();
    let sql = "INSERT INTO subscriber AS s (name, address) SELECT *
        FROM unnest($1::text[], $2::text[])
            WHERE (SELECT max(generation) FROM catalog) = $3
        ON CONFLICT (name) DO UPDATE SET address = excluded.address, confirmed_at = NULL,
        asked_at = NULL, rate = NULL,
            gone = false, next_at = now(), failures = 0, failure = NULL
            WHERE s.address <> excluded.address";
    sql::run(db, sql, vec![column(|s| &s.0).into(), column(|s| &s.1).into(), generation.into()])
        .await?;
    Ok(())
}

/// Lets events out of the outbox that have entered, and keeps those that leave. Of an event that
/// somebody else let out before nothing is kept again.
pub async fn keep(
    db: &DatabaseConnection,
    entered: &[OutboxEvent],
    leaving: &[Leaving],
) -> Result<(), StoreError> {
    #[derive(FromQueryResult)]
    struct Full {
        name: String,
    }
    let numbers: Vec<i64> = entered.iter().map(|e| e.number).collect();
    if leaving.is_empty() {
        let sql = "WITH gone AS (SELECT unnest($1::bigint[]) AS number),
            changed AS (DELETE FROM job_change USING gone WHERE job_change.number = gone.number)
            DELETE FROM outbox USING gone WHERE outbox.number = gone.number";
        sql::run(db, sql, vec![numbers.into()]).await?;
        return Ok(());
    }
    let tx = db.begin().await?;
    let full = "SELECT name FROM subscriber s WHERE name = ANY($1) AND (SELECT count(*)
        FROM (SELECT 1 FROM outgoing o
        WHERE o.subscriber = s.name AND o.state = 'waiting' LIMIT $2) w) >= $2";
    let names: Vec<String> = leaving.iter().map(|l| l.subscriber.clone()).collect();
    let full: Vec<Full> = sql::typed(&tx, full, vec![names.into(), MOST_WAITING.into()]).await?;
    let (out, kept): (Vec<&Leaving>, Vec<&Leaving>) =
        leaving.iter().partition(|l| full.iter().any(|f| f.name == l.subscriber));
    let column = |f: fn(&Leaving) -> String| kept.iter().map(|l| f(l)).collect::<Vec<_>>();
    let sql = "WITH told AS (DELETE FROM outbox WHERE number = ANY($1) RETURNING number),
        changed AS (DELETE FROM job_change WHERE number = ANY($1) RETURNING number),
        gone AS (SELECT id FROM unnest($1::bigint[], $5::text[]) AS e (number, id)
            WHERE number IN (SELECT number FROM told UNION ALL SELECT number FROM changed))
        INSERT INTO outgoing (subscriber, event_id, event)
            SELECT l.subscriber, l.id, l.event::jsonb
            FROM unnest($2::text[], $3::text[], $4::text[]) AS l (subscriber, id, event)
            JOIN gone USING (id) ON CONFLICT (subscriber, event_id) DO NOTHING";
    let values = vec![
        numbers.into(),
        column(|l| l.subscriber.clone()).into(),
        column(|l| l.event_id.clone()).into(),
        column(|l| l.event.to_string()).into(),
        entered.iter().map(|e| e.id.clone()).collect::<Vec<_>>().into(),
    ];
    sql::run(&tx, sql, values).await?;
    if !out.is_empty() {
        let names: Vec<String> = out.iter().map(|l| l.subscriber.clone()).collect();
        let sql = "UPDATE subscriber s SET left_out = left_out + n.many
            FROM (SELECT name, count(*) AS many FROM unnest($1::text[]) AS n (name)
            GROUP BY name) n WHERE s.name = n.name";
        sql::run(&tx, sql, vec![names.into()]).await?;
    }
    tx.commit().await?;
    Ok(())
}

/// An event to be sent.
#[derive(Clone, Debug, FromQueryResult)]
pub struct Outgoing {
    /// Its number.
    pub number: i64,
    /// To whom.
    pub subscriber: String,
    /// The address that agreed.
    pub address: String,
    /// Most requests a minute that it wants.
    pub rate: Option<i32>,
    /// The id of the event.
    pub event_id: String,
    /// The event.
    pub event: Value,
    /// Which try this is, counted from one.
    pub tries: i32,
}

/// Takes the next events for each of these subscribers, so many at most. For a subscriber that
/// failed last it is one alone, and one that was tried least: what nobody could take must not stand
/// before what it may take.
pub async fn claim(
    db: &impl ConnectionTrait,
    room: &[(String, i64)],
) -> Result<Vec<Outgoing>, StoreError> {
    let sql = "UPDATE outgoing o SET taken = now(), tries = tries + 1
        FROM (SELECT r.number, s.address, s.rate FROM unnest($1::text[], $2::bigint[]) AS w (name,
        most)
            JOIN subscriber s ON s.name = w.name AND s.confirmed_at IS NOT NULL
            AND s.next_at <= now()
            CROSS JOIN LATERAL (SELECT number FROM outgoing o WHERE o.subscriber = s.name
            AND o.state = 'waiting'
                AND o.next_at <= now() AND (o.taken IS NULL
                OR o.taken < now() - make_interval(secs => $3))
                ORDER BY CASE WHEN s.failures > 0 THEN o.tries ELSE 0 END, number LIMIT CASE
                WHEN s.failures > 0 THEN 1 ELSE w.most END FOR UPDATE SKIP LOCKED) r) t
        WHERE o.number = t.number
        RETURNING o.number, o.subscriber, t.address, t.rate, o.event_id, o.event, o.tries";
    let (names, most): (Vec<String>, Vec<i64>) = room.iter().cloned().unzip();
    let mut taken: Vec<Outgoing> =
        sql::typed(db, sql, vec![names.into(), most.into(), TAKEN_SECONDS.into()]).await?;
    taken.sort_by_key(|o| o.number);
    Ok(taken)
}

/// Lets go of an event that was not sent after all; it may be taken again after a while.
pub async fn put_back(
    db: &impl ConnectionTrait,
    number: i64,
    after: Duration,
) -> Result<(), StoreError> {
    let sql = "UPDATE outgoing SET taken = NULL, tries = tries - 1,
        next_at = now() + make_interval(secs => $2)
        WHERE number = $1 AND state = 'waiting'";
    sql::run(db, sql, vec![number.into(), after.as_secs_f64().into()]).await?;
    Ok(())
}

/// A subscriber took an event.
pub async fn delivered(
    db: &DatabaseConnection,
    sent: &Outgoing,
    status: u16,
) -> Result<(), StoreError> {
    let tx = db.begin().await?;
    let sql = "UPDATE outgoing SET state = 'delivered', taken = NULL, status = $2, failure = NULL,
        ended_at = now()
        WHERE number = $1 AND state = 'waiting'";
    if sql::run(&tx, sql, vec![sent.number.into(), i32::from(status).into()]).await? > 0 {
        let sql = "UPDATE subscriber SET delivered = delivered + 1, delivered_at = now(),
            failures = 0, failure = NULL
            WHERE name = $1";
        sql::run(&tx, sql, vec![sent.subscriber.clone().into()]).await?;
    }
    tx.commit().await?;
    Ok(())
}

/// How a try failed.
#[derive(Clone, Debug)]
pub struct Failed {
    /// What was answered, if anything was.
    pub status: Option<u16>,
    /// What was wrong.
    pub failure: String,
    /// When the event is tried again.
    pub again: Duration,
    /// How long the subscriber asks to be left alone; otherwise the longer the more tries in a row
    /// have failed, and for a minute at most.
    pub rest: Option<Duration>,
    /// It does not want events any more.
    pub gone: bool,
}

/// A try failed: the event is tried again later, or given up when it was tried for a day.
pub async fn failed(
    db: &DatabaseConnection,
    sent: &Outgoing,
    failed: &Failed,
) -> Result<(), StoreError> {
    let tx = db.begin().await?;
    let sql = "UPDATE outgoing SET taken = NULL, status = $2, failure = $3,
            next_at = now() + make_interval(secs => $4),
            state = CASE WHEN queued_at < now() - make_interval(hours => $5) THEN 'given-up'
            ELSE 'waiting' END,
            ended_at = CASE WHEN queued_at < now() - make_interval(hours => $5) THEN now() END
        WHERE number = $1 AND state = 'waiting'";
    let values = vec![
        sent.number.into(),
        failed.status.map(i32::from).into(),
        failed.failure.clone().into(),
        failed.again.as_secs_f64().into(),
        PATIENCE_HOURS.into(),
    ];
    sql::run(&tx, sql, values).await?;
    let sql = "UPDATE subscriber SET failures = failures + 1, failure = $2,
            next_at = greatest(next_at, now() + make_interval(secs => coalesce($3, least(60, power(2, least(failures, 6)))))),
            gone = gone OR $4, confirmed_at = CASE WHEN $4 THEN NULL ELSE confirmed_at END
        WHERE name = $1 AND address = $5";
    let values = vec![
        sent.subscriber.clone().into(),
        failed.failure.clone().into(),
        failed.rest.map(|rest| rest.as_secs_f64()).into(),
        failed.gone.into(),
        sent.address.clone().into(),
    ];
    sql::run(&tx, sql, values).await?;
    tx.commit().await?;
    Ok(())
}

/// Gives up what has waited for a day, whoever it waits for; how many.
pub async fn give_up(db: &impl ConnectionTrait) -> Result<u64, StoreError> {
    let sql = "UPDATE outgoing SET state = 'given-up', ended_at = now(), taken = NULL,
            failure = coalesce(failure, 'it waited for a day, and its subscriber could not be asked or did not agree')
        WHERE number IN (SELECT number FROM outgoing WHERE state = 'waiting'
        AND queued_at < now() - make_interval(hours => $1)
            AND (taken IS NULL OR taken < now() - make_interval(secs => $2)) ORDER BY number
            LIMIT 1000 FOR UPDATE SKIP LOCKED)";
    sql::run(db, sql, vec![PATIENCE_HOURS.into(), TAKEN_SECONDS.into()]).await
}

/// An address that is to be asked whether it wants events.
#[derive(Clone, Debug, FromQueryResult)]
pub struct Handshake {
    /// The name of the subscriber.
    pub name: String,
    /// The address.
    pub address: String,
    /// When it was asked for the first time, for a day: what it answers later names it.
    pub asked_at: DateTime<Utc>,
    /// Tries in a row that failed.
    pub failures: i32,
}

/// Takes the addresses that are to be asked, of these subscribers.
pub async fn to_ask(
    db: &impl ConnectionTrait,
    names: Vec<String>,
) -> Result<Vec<Handshake>, StoreError> {
    let sql = "UPDATE subscriber SET next_at = now() + make_interval(secs => $2),
            asked_at = CASE WHEN asked_at > now() - make_interval(hours => $3) THEN asked_at
            ELSE now() END
        WHERE name IN (SELECT name FROM subscriber WHERE confirmed_at IS NULL AND NOT gone
        AND next_at <= now()
            AND name = ANY($1) ORDER BY name LIMIT 8 FOR UPDATE SKIP LOCKED)
        RETURNING name, address, asked_at, failures";
    sql::typed(db, sql, vec![names.into(), TAKEN_SECONDS.into(), CONSENT_HOURS.into()]).await
}

/// An address has agreed; whether it was still the one, asked at that moment.
pub async fn agreed(
    db: &impl ConnectionTrait,
    name: &str,
    asked_at: DateTime<Utc>,
    rate: Option<i32>,
) -> Result<bool, StoreError> {
    let sql = "UPDATE subscriber SET confirmed_at = coalesce(confirmed_at, now()),
            rate = CASE WHEN confirmed_at IS NULL THEN $3 ELSE coalesce($3, rate) END, gone = false,
            next_at = now(), failures = 0, failure = NULL
        WHERE name = $1 AND asked_at = $2 AND asked_at > now() - make_interval(hours => $4)";
    Ok(sql::run(db, sql, vec![name.into(), asked_at.into(), rate.into(), CONSENT_HOURS.into()])
        .await?
        > 0)
}

/// An address has not agreed; it is asked again after a while.
pub async fn not_agreed(
    db: &impl ConnectionTrait,
    asked: &Handshake,
    why: &str,
    again: Duration,
) -> Result<(), StoreError> {
    let sql = "UPDATE subscriber SET failures = failures + 1, failure = $3,
        next_at = now() + make_interval(secs => $4)
        WHERE name = $1 AND asked_at = $2 AND confirmed_at IS NULL";
    let values = vec![
        asked.name.clone().into(),
        asked.asked_at.into(),
        why.into(),
        again.as_secs_f64().into(),
    ];
    sql::run(db, sql, values).await?;
    Ok(())
}

/// Has what waits for a subscriber sent at once, or its address asked once more if it has not
/// agreed.
pub async fn hurry(db: &DatabaseConnection, name: &str) -> Result<(), StoreError> {
    let tx = db.begin().await?;
    let sql = "UPDATE subscriber SET next_at = now(), failures = 0, gone = false WHERE name = $1";
    sql::run(&tx, sql, vec![name.into()]).await?;
    let sql = "UPDATE outgoing SET next_at = now() WHERE subscriber = $1 AND state = 'waiting'";
    sql::run(&tx, sql, vec![name.into()]).await?;
    tx.commit().await?;
    Ok(())
}

const READ: &str = "SELECT s.*,
    (SELECT count(*) FROM (SELECT 1 FROM outgoing o WHERE o.subscriber = s.name
    AND o.state = 'waiting' LIMIT $1) w) AS waiting,
    (SELECT count(*) FROM outgoing o WHERE o.subscriber = s.name
    AND o.state = 'given-up') AS given_up
    FROM subscriber s WHERE name = ANY($2) ORDER BY name";

/// What is known of these.
pub async fn states_of(
    db: &impl ConnectionTrait,
    names: Vec<String>,
) -> Result<Vec<SubscriberRecord>, StoreError> {
    sql::typed(db, READ, vec![MOST_WAITING.into(), names.into()]).await
}

/// A subscriber that takes nothing.
#[derive(Clone, Debug, PartialEq, Eq, FromQueryResult)]
pub struct Failing {
    /// The name.
    pub name: String,
    /// Tries in a row that failed.
    pub failures: i32,
    /// The last of them.
    pub failure: String,
}

/// Those that took nothing for so many tries in a row, or did not agree.
pub async fn failing(db: &impl ConnectionTrait, tries: i32) -> Result<Vec<Failing>, StoreError> {
    let sql = "SELECT name, failures, coalesce(failure, '') AS failure FROM subscriber
        WHERE failures >= $1
        ORDER BY name LIMIT 100";
    sql::typed(db, sql, vec![tries.into()]).await
}

/// Events that wait to leave for a subscriber.
#[derive(Clone, Debug, FromQueryResult)]
pub struct SubscriberBacklog {
    /// Its name.
    pub subscriber: String,
    /// How many, counted up to 10,000.
    pub events: i64,
    /// How long the oldest has waited, in seconds.
    pub oldest: f64,
}

/// How many events of jobs are not told yet, counted up to 10,000, and what waits for each
/// subscriber.
pub async fn waiting(
    db: &impl ConnectionTrait,
) -> Result<(i64, Vec<SubscriberBacklog>), StoreError> {
    #[derive(FromQueryResult)]
    struct Outbox {
        n: i64,
    }
    let outbox: Vec<Outbox> =
        sql::typed(db, "SELECT count(*) AS n FROM (SELECT 1 FROM outbox LIMIT 10000) o", vec![])
            .await?;
    let sql = "SELECT s.name AS subscriber, w.events, coalesce(extract(epoch
        FROM now() - w.oldest), 0)::float8 AS oldest
        FROM subscriber s CROSS JOIN LATERAL (SELECT count(*) AS events,
        min(queued_at) AS oldest FROM
            (SELECT queued_at FROM outgoing o WHERE o.subscriber = s.name AND state = 'waiting'
            ORDER BY number LIMIT 10000) q) w
        WHERE w.events > 0";
    Ok((outbox.first().map_or(0, |row| row.n), sql::typed(db, sql, vec![]).await?))
}

/// An event on its way, or one that has come to an end.
#[derive(Clone, Debug, FromQueryResult)]
pub struct Sent {
    /// Its number.
    pub number: i64,
    /// The event as it is sent.
    pub event: Value,
    /// What became of it.
    pub state: Stored<OutgoingState>,
    /// Tries so far.
    pub tries: i32,
    /// When it is tried next.
    pub next_at: DateTime<Utc>,
    /// What was answered last.
    pub status: Option<i32>,
    /// What was wrong last.
    pub failure: Option<String>,
    /// When it came to its end.
    pub ended_at: Option<DateTime<Utc>>,
}

/// Events of a subscriber in one state or in any, the newest first, from before a number.
pub async fn sent(
    db: &impl ConnectionTrait,
    name: &str,
    state: Option<OutgoingState>,
    before: Option<i64>,
    limit: i64,
) -> Result<Vec<Sent>, StoreError> {
    let sql = "SELECT number, event, state, tries, next_at, status, failure, ended_at FROM outgoing
        WHERE subscriber = $1 AND ($2::text IS NULL OR state = $2) AND number < $3
        ORDER BY number DESC LIMIT $4";
    let values = vec![
        name.into(),
        state.map(OutgoingState::as_str).into(),
        before.unwrap_or(i64::MAX).into(),
        limit.into(),
    ];
    sql::typed(db, sql, values).await
}

/// Sends again what was given up; how many events.
pub async fn replay_given_up(db: &impl ConnectionTrait, name: &str) -> Result<u64, StoreError> {
    let sql = "UPDATE outgoing SET state = 'waiting', queued_at = now(), next_at = now(),
        tries = 0, ended_at = NULL
        WHERE number IN (SELECT number FROM outgoing WHERE subscriber = $1 AND state = 'given-up'
        ORDER BY number LIMIT $2)";
    sql::run(db, sql, vec![name.into(), MOST_WAITING.into()]).await
}

/// Sends events again, or for the first time, whatever became of them; how many.
pub async fn replay(db: &impl ConnectionTrait, leaving: &[Leaving]) -> Result<u64, StoreError> {
    let column = |f: fn(&Leaving) -> String| leaving.iter().map(f).collect::<Vec<_>>();
    let sql = "INSERT INTO outgoing AS o (subscriber, event_id, event)
            SELECT subscriber, id, event::jsonb FROM unnest($1::text[], $2::text[],
            $3::text[]) AS l (subscriber, id, event)
        ON CONFLICT (subscriber, event_id) DO UPDATE
        SET state = 'waiting', queued_at = now(), next_at = now(), tries = 0,
            ended_at = NULL WHERE o.state <> 'waiting'";
    let values = vec![
        column(|l| l.subscriber.clone()).into(),
        column(|l| l.event_id.clone()).into(),
        column(|l| l.event.to_string()).into(),
    ];
    sql::run(db, sql, values).await
}
