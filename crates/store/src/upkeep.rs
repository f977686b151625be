//! Upkeep: what would grow without end is bounded, a little at a time.
//!
//! Each pass removes at most so many rows of each kind, in statements of their own, so that it
//! never holds what others need for long. Any node may do it; several at once only share the work.

use crate::{StoreError, days, definitions, jobs::guards, retention::Retention, sql};
use arvok_api::Goes;
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::{DatabaseConnection, FromQueryResult};

/// Rows of a kind that one pass removes.
const A_PASS: i64 = 5_000;

/// How long things are kept.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Payloads that cannot be read, for so long.
    pub unreadable: TimeDelta,
    /// And at most so many of each source.
    pub unreadable_of_source: i64,
    /// And at most so many bytes of each source.
    pub unreadable_bytes_of_source: i64,
    /// Counts of deliveries by minute.
    pub deliveries: TimeDelta,
    /// Tries of jobs that have ended.
    pub attempts: TimeDelta,
    /// Events that a subscriber took, for so long.
    pub delivered: TimeDelta,
    /// And at most so many of each subscriber.
    pub delivered_of_subscriber: i64,
    /// Events that were given up, for so long.
    pub given_up: TimeDelta,
    /// And at most so many of each subscriber.
    pub given_up_of_subscriber: i64,
    /// Calls of connections, for so long.
    pub calls: TimeDelta,
    /// And at most so many of each connection.
    pub calls_of_connection: i64,
    /// Alarms that were only ever cleared, never raised.
    pub never_raised: TimeDelta,
    /// Alarms that are over, to which no job belongs.
    pub over: TimeDelta,
}

impl Limits {
    /// Those under a retention.
    pub fn under(retention: &Retention) -> Self {
        Self {
            unreadable: retention.unreadable,
            unreadable_of_source: 1_000,
            unreadable_bytes_of_source: 64 << 20,
            deliveries: TimeDelta::days(90),
            attempts: retention.attempts,
            delivered: TimeDelta::days(1),
            delivered_of_subscriber: 1_000,
            given_up: TimeDelta::days(30),
            given_up_of_subscriber: 10_000,
            calls: TimeDelta::days(30),
            calls_of_connection: 5_000,
            never_raised: TimeDelta::days(1),
            over: TimeDelta::days(400),
        }
    }
}

impl Default for Limits {
    fn default() -> Self {
        Self::under(&Retention::default())
    }
}

/// How many rows were removed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Swept {
    /// Payloads that could not be read.
    pub unreadable: u64,
    /// Counts of deliveries.
    pub deliveries: u64,
    /// Tries of jobs.
    pub attempts: u64,
    /// Alarms.
    pub alarms: u64,
    /// Memories of rules that are withdrawn.
    pub memories: u64,
    /// Events that have left, or were given up.
    pub outgoing: u64,
    /// Calls of connections.
    pub calls: u64,
    /// What was done and refused.
    pub audit: u64,
}

impl Swept {
    /// Whether there may be more to remove.
    pub fn is_full(self) -> bool {
        let most = A_PASS.unsigned_abs();
        [
            self.unreadable,
            self.deliveries,
            self.attempts,
            self.alarms,
            self.memories,
            self.outgoing,
            self.calls,
            self.audit,
        ]
        .into_iter()
        .any(|n| n >= most)
    }
}

/// Adds up what connections have counted for themselves in hours and minutes that are over.
async fn add_up(db: &DatabaseConnection, now: DateTime<Utc>) -> Result<u64, StoreError> {
    let sql = "WITH hours AS (SELECT DISTINCT rule, verdict, hour FROM verdict_count
                WHERE shard <> 0 AND hour < $1 ORDER BY rule, verdict, hour LIMIT $2),
            own AS (DELETE FROM verdict_count c USING hours h
                WHERE c.shard <> 0 AND (c.rule, c.verdict, c.hour) = (h.rule, h.verdict, h.hour)
                RETURNING c.*)
        INSERT INTO verdict_count AS c (rule, verdict, hour, shard, count, last_at)
            SELECT rule, verdict, hour, 0, sum(count), max(last_at) FROM own
            GROUP BY rule, verdict, hour
            ORDER BY rule, verdict, hour
            ON CONFLICT (rule, verdict, hour, shard)
                DO UPDATE SET count = c.count + excluded.count, last_at = greatest(c.last_at,
                excluded.last_at)";
    let verdicts =
        sql::run(db, sql, vec![(now - TimeDelta::hours(2)).into(), A_PASS.into()]).await?;
    let sql = "WITH minutes AS (SELECT DISTINCT minute, how FROM alert_count
                WHERE shard > 0 AND minute < $1 ORDER BY minute, how LIMIT $2),
            own AS (DELETE FROM alert_count c USING minutes m
                WHERE c.shard > 0 AND (c.minute, c.how) = (m.minute, m.how) RETURNING c.*)
        INSERT INTO alert_count AS c (minute, how, shard, count)
            SELECT minute, how, 0, sum(count) FROM own GROUP BY minute, how ORDER BY minute, how
            ON CONFLICT (minute, how, shard) DO UPDATE SET count = c.count + excluded.count";
    let alerts =
        sql::run(db, sql, vec![(now - TimeDelta::minutes(10)).into(), A_PASS.into()]).await?;
    // Deliveries of minutes that are over, of all connections; and by the hour, of days that are
    // over.
    for (bucket, which, before) in [
        ("minute", "shard <> 0", TimeDelta::minutes(10)),
        ("date_trunc('hour', minute)", "minute <> date_trunc('hour', minute)", TimeDelta::days(9)),
    ] {
        let sql = format!(
            "WITH old AS (SELECT source, minute, shard FROM delivery_count WHERE minute < $1
                AND {which}
                    ORDER BY minute LIMIT $2 FOR UPDATE SKIP LOCKED),
                own AS (DELETE FROM delivery_count c USING old o
                    WHERE (c.source, c.minute, c.shard) = (o.source, o.minute, o.shard)
                    RETURNING c.*)
            INSERT INTO delivery_count AS c (source, minute, shard, alerts, repeated, unreadable,
            conflicts, over_limit, last_at)
                SELECT source, {bucket} AS at, 0, sum(alerts), sum(repeated), sum(unreadable),
                sum(conflicts), sum(over_limit),
                    max(coalesce(last_at, minute)) FROM own GROUP BY source, at ORDER BY source, at
                ON CONFLICT (source, minute, shard) DO UPDATE
                SET alerts = c.alerts + excluded.alerts,
                    repeated = c.repeated + excluded.repeated, unreadable = c.unreadable + excluded.unreadable,
                    conflicts = c.conflicts + excluded.conflicts,
                    over_limit = c.over_limit + excluded.over_limit,
                    last_at = greatest(c.last_at, excluded.last_at)"
        );
        sql::run(db, &sql, vec![(now - before).into(), A_PASS.into()]).await?;
    }
    // The hours of a day that is long over; its first hour stands for the day.
    let sql = "WITH hours AS (SELECT rule, verdict, hour FROM verdict_count WHERE shard = 0
        AND hour < $1
                AND hour <> date_trunc('day', hour, 'UTC') ORDER BY rule, verdict, hour LIMIT $2),
            own AS (DELETE FROM verdict_count c USING hours h
                WHERE c.shard = 0 AND (c.rule, c.verdict, c.hour) = (h.rule, h.verdict, h.hour)
                RETURNING c.*)
        INSERT INTO verdict_count AS c (rule, verdict, hour, shard, count, last_at)
            SELECT rule, verdict, date_trunc('day', hour, 'UTC') AS day, 0, sum(count),
            max(last_at) FROM own
            GROUP BY rule, verdict, day ORDER BY rule, verdict, day
            ON CONFLICT (rule, verdict, hour, shard)
                DO UPDATE SET count = c.count + excluded.count, last_at = greatest(c.last_at,
                excluded.last_at)";
    let days = sql::run(db, sql, vec![(now - TimeDelta::days(30)).into(), A_PASS.into()]).await?;
    // Jobs have no hours; what connections that have ended counted.
    let sql = "WITH own AS (DELETE FROM job_count
            WHERE shard <> 0 AND shard NOT IN (SELECT pid FROM pg_stat_activity
            WHERE pid IS NOT NULL) RETURNING *)
        INSERT INTO job_count AS c (runbook, rule, shard, jobs, confirmed, last_at)
            SELECT runbook, rule, 0, sum(jobs), sum(confirmed), max(last_at) FROM own
            GROUP BY runbook, rule
            ORDER BY runbook, rule
            ON CONFLICT (runbook, rule, shard) DO UPDATE SET jobs = c.jobs + excluded.jobs,
                confirmed = c.confirmed + excluded.confirmed, last_at = greatest(c.last_at, excluded.last_at)";
    let jobs = sql::run(db, sql, vec![]).await?;
    Ok(verdicts + alerts + days + jobs)
}

/// Removes events that have left or were given up long ago, and whatever is of subscribers that are
/// withdrawn.
async fn outgoing(
    db: &DatabaseConnection,
    limits: Limits,
    now: DateTime<Utc>,
) -> Result<u64, StoreError> {
    let old = "DELETE FROM outgoing WHERE number IN (SELECT number FROM outgoing WHERE state = $3
        AND ended_at < $1
        ORDER BY number LIMIT $2)";
    let many = "DELETE FROM outgoing WHERE number IN (SELECT beyond.number FROM subscriber s CROSS
        JOIN LATERAL
        (SELECT number FROM outgoing o WHERE o.subscriber = s.name AND o.state = $3
        ORDER BY number DESC OFFSET $1) beyond LIMIT $2)";
    let mut removed = 0;
    for (state, age, most) in [
        ("delivered", limits.delivered, limits.delivered_of_subscriber),
        ("given-up", limits.given_up, limits.given_up_of_subscriber),
    ] {
        removed += sql::run(db, old, vec![(now - age).into(), A_PASS.into(), state.into()]).await?;
        removed += sql::run(db, many, vec![most.into(), A_PASS.into(), state.into()]).await?;
    }
    let withdrawn = "EXISTS (SELECT 1 FROM definition d WHERE d.kind = 'subscriber'
        AND d.name = s.name AND d.withdrawn
        AND d.version = (SELECT max(version) FROM definition n WHERE n.kind = 'subscriber'
        AND n.name = s.name))";
    let rows = format!(
        "DELETE FROM outgoing WHERE number IN (SELECT o.number FROM subscriber s
            JOIN outgoing o ON o.subscriber = s.name WHERE {withdrawn} LIMIT $1)"
    );
    removed += sql::run(db, &rows, vec![A_PASS.into()]).await?;
    let gone = format!(
        "DELETE FROM subscriber s WHERE {withdrawn} AND NOT EXISTS (SELECT 1 FROM outgoing o
            WHERE o.subscriber = s.name)"
    );
    sql::run(db, &gone, vec![]).await?;
    Ok(removed)
}

/// Removes calls that are long over, and of each connection those beyond the latest.
async fn calls(
    db: &DatabaseConnection,
    limits: Limits,
    now: DateTime<Utc>,
) -> Result<u64, StoreError> {
    let old =
        "DELETE FROM call WHERE id IN (SELECT id FROM call WHERE at < $1 ORDER BY at LIMIT $2)";
    let many = "DELETE FROM call c USING (
            SELECT k.connection, (SELECT id FROM call o WHERE o.connection = k.connection
            ORDER BY id DESC OFFSET $1 LIMIT 1) AS last
            FROM (SELECT DISTINCT connection FROM call) k) t
        WHERE c.id IN (SELECT o.id FROM call o WHERE o.connection = t.connection AND o.id <= t.last
        ORDER BY o.id LIMIT $2)";
    Ok(sql::run(db, old, vec![(now - limits.calls).into(), A_PASS.into()]).await?
        + sql::run(db, many, vec![limits.calls_of_connection.into(), A_PASS.into()]).await?)
}

/// Removes what is kept no longer, at most some of each kind.
///
/// What is counted is added up on the way.
pub async fn sweep(
    db: &DatabaseConnection,
    limits: Limits,
    now: DateTime<Utc>,
) -> Result<Swept, StoreError> {
    let before = |age: TimeDelta| vec![(now - age).into(), A_PASS.into()];
    let old = "DELETE FROM unreadable WHERE id IN (SELECT id FROM unreadable WHERE received < $1
        ORDER BY received LIMIT $2)";
    let many = "DELETE FROM unreadable u USING (
            SELECT s.source, (SELECT id FROM unreadable o WHERE o.source = s.source
            ORDER BY id DESC OFFSET $1 LIMIT 1) AS last
            FROM (SELECT DISTINCT source FROM unreadable) s) t
        WHERE u.id IN (SELECT o.id FROM unreadable o WHERE o.source = t.source AND o.id <= t.last
        ORDER BY o.id LIMIT $2)";
    let large = "DELETE FROM unreadable WHERE id IN (SELECT id FROM (SELECT id,
            sum(octet_length(payload)) OVER (PARTITION BY source ORDER BY id DESC) AS bytes
            FROM unreadable) u
        WHERE bytes > $1 ORDER BY id LIMIT $2)";
    let deliveries = "DELETE FROM delivery_count WHERE (source, minute, shard) IN
        (SELECT source, minute, shard FROM delivery_count WHERE minute < $1 LIMIT $2)";
    let attempts = "DELETE FROM attempt WHERE (job_id, place, attempt) IN (SELECT a.job_id,
        a.place, a.attempt
        FROM job j JOIN attempt a ON a.job_id = j.id WHERE j.finished_at < $1
        ORDER BY j.finished_at LIMIT $2)";
    let alarms = |which: &str| {
        format!(
            "DELETE FROM alarm WHERE id IN (SELECT id FROM alarm a WHERE state = 'cleared'
                AND changed_at < $1 AND {which}
                AND NOT EXISTS (SELECT 1 FROM job j WHERE j.alarm_id = a.id)
                AND NOT EXISTS (SELECT 1 FROM tally t WHERE t.alarms && ARRAY[a.id])
            ORDER BY changed_at LIMIT $2 FOR UPDATE SKIP LOCKED)"
        )
    };
    let run = async |sql: &str, values| sql::run(db, sql, values).await;
    let decisions = "DELETE FROM decision WHERE id IN (SELECT d.id FROM job j
        JOIN decision d ON d.job_id = j.id
        WHERE j.finished_at < $1 ORDER BY j.finished_at LIMIT $2)";
    run(decisions, before(limits.attempts)).await?;
    // What was noted for a wait at the very moment at which that ended.
    let unheard = "DELETE FROM heard WHERE id IN (SELECT h.id FROM heard h WHERE NOT EXISTS
        (SELECT 1 FROM wait w WHERE w.job_id = h.job_id AND w.place = h.place) ORDER BY h.id
        LIMIT $1)";
    run(unheard, vec![A_PASS.into()]).await?;
    guards::sweep(db, A_PASS).await?;
    crate::touches::sweep(db, A_PASS).await?;
    crate::calendars::sweep(db).await?;
    crate::polls::sweep(db).await?;
    crate::heartbeats::sweep(db).await?;
    crate::shapes::sweep(db).await?;
    let gathered = "DELETE FROM gathered WHERE job_id IN (SELECT g.job_id FROM gathered g LEFT
            JOIN job j ON j.id = g.job_id
        LEFT JOIN proposal p ON p.id = g.job_id WHERE coalesce(j.finished_at, p.decided_at) < $1
        LIMIT $2)";
    run(gathered, before(limits.attempts)).await?;
    // Places of those who left without a word: jobs that have ended, people who ask no more.
    let queued = "DELETE FROM call_queue WHERE (connection, holder) IN (SELECT q.connection,
        q.holder FROM call_queue q
        WHERE q.asked_at < $1 AND NOT EXISTS (SELECT 1 FROM job j WHERE j.id = q.job_id
            AND j.state IN ('running', 'waiting', 'paused', 'unsure')) LIMIT $2)";
    run(queued, before(TimeDelta::minutes(5))).await?;
    // Turns of nodes that died: a node that is gone for good asks for none of its own any more.
    let slots = "DELETE FROM call_slot WHERE id IN
        (SELECT id FROM call_slot WHERE until < $1 ORDER BY id LIMIT $2 FOR UPDATE SKIP LOCKED)";
    run(slots, before(TimeDelta::hours(1))).await?;
    // Of nodes that died.
    let live = "DELETE FROM live_output WHERE (job_id, place, attempt) IN
        (SELECT l.job_id, l.place, l.attempt FROM live_output l WHERE l.written_at < $1
        AND NOT EXISTS (SELECT 1 FROM job j WHERE j.id = l.job_id AND j.state = 'running')
        LIMIT $2)";
    run(live, before(TimeDelta::minutes(5))).await?;
    let outgoing = outgoing(db, limits, now).await?;
    let calls = calls(db, limits, now).await?;
    add_up(db, now).await?;
    let counts = "DELETE FROM alert_count WHERE (minute, how, shard) IN
        (SELECT minute, how, shard FROM alert_count WHERE minute < $1 LIMIT $2)";
    run(counts, before(TimeDelta::days(8))).await?;
    let nodes = "DELETE FROM node WHERE seen < $1 AND name IN (SELECT name FROM node LIMIT $2)";
    run(nodes, before(TimeDelta::days(1))).await?;
    crate::runners::calls::sweep(db).await?;
    crate::mutes::sweep(db, now, A_PASS).await?;
    crate::plans::sweep(db, now, A_PASS).await?;
    Ok(Swept {
        unreadable: run(old, before(limits.unreadable)).await?
            + run(many, vec![limits.unreadable_of_source.into(), A_PASS.into()]).await?
            + run(large, vec![limits.unreadable_bytes_of_source.into(), A_PASS.into()]).await?,
        deliveries: run(deliveries, before(limits.deliveries)).await?,
        attempts: run(attempts, before(limits.attempts)).await?,
        alarms: run(
            &alarms("count = 0 AND coalesce(told_at, changed_at) < $1"),
            before(limits.never_raised),
        )
        .await?
            + run(&alarms("true"), before(limits.over)).await?,
        memories: definitions::end_left_memories(db, now).await?,
        outgoing,
        calls,
        audit: crate::audit::sweep(db, now, A_PASS).await?,
    })
}

/// Most that is counted of what would go.
const MOST_COUNTED: i64 = 100_000;

/// What goes under a retention that does not go yet.
pub async fn goes(
    db: &DatabaseConnection,
    retention: &Retention,
    now: DateTime<Utc>,
) -> Result<Goes, StoreError> {
    #[derive(FromQueryResult)]
    struct Count {
        n: i64,
    }
    let count = async |sql: &str, before: DateTime<Utc>| {
        let sql = format!("SELECT count(*) AS n FROM ({sql} LIMIT $2) c");
        let rows: Vec<Count> =
            sql::typed(db, &sql, vec![before.into(), MOST_COUNTED.into()]).await?;
        Ok::<i64, StoreError>(rows.first().map_or(0, |count| count.n))
    };
    let (days, alerts) = days::would_go(db, retention, MOST_COUNTED, now).await?;
    let attempts = "SELECT 1 FROM job j JOIN attempt a ON a.job_id = j.id WHERE j.finished_at < $1";
    Ok(Goes {
        days,
        alerts,
        unreadable: count(
            "SELECT 1 FROM unreadable WHERE received < $1",
            now - retention.unreadable,
        )
        .await?,
        attempts: count(attempts, now - retention.attempts).await?,
        most_counted: MOST_COUNTED,
    })
}
