//! The nodes as they tell of themselves, and what waits for them.

use crate::{
    StoreError,
    entity::node,
    intake,
    jobs::{self, Share},
    sql,
};
use arvok_api::{AsideItem, Backlog, ListenerItem, NodeItem};
use chrono::{DateTime, Utc};
use sea_orm::{DatabaseConnection, EntityTrait, FromQueryResult};

/// What a node tells of itself.
#[derive(Clone, Debug)]
pub struct Beat {
    /// New with each start.
    pub name: String,
    /// The machine.
    pub host: String,
    /// Where it listens.
    pub address: String,
    /// The version of its program.
    pub build: String,
    /// When it started.
    pub since: DateTime<Utc>,
    /// What is published, as far as it knows.
    pub generation: i64,
    /// Seconds that its clock is behind the database's.
    pub clock_offset: f64,
    /// Bytes of deliveries under way.
    pub intake_bytes: i64,
    /// Seconds that the oldest delivery has waited.
    pub oldest_seconds: f64,
    /// Seconds of a commit.
    pub commit_seconds: f64,
    /// Why it is not ready.
    pub fault: Option<String>,
    /// Why no answers by mail come to it.
    pub answers_fault: Option<String>,
    /// Until when the certificate holds by which it speaks TLS.
    pub certificate_until: Option<DateTime<Utc>>,
    /// How its listeners stand.
    pub listeners: Vec<ListenerItem>,
}

/// Keeps what a node tells; an earlier one at the same address is over.
pub async fn beat(db: &DatabaseConnection, beat: &Beat) -> Result<(), StoreError> {
    let sql = "WITH former AS (DELETE FROM node WHERE host = $2 AND address = $3 AND name <> $1)
        INSERT INTO node (name, host, address, build, since, seen, generation, clock_offset,
        intake_bytes,
            oldest_seconds, commit_seconds, fault, listeners, answers_fault,
            certificate_until)
        VALUES ($1, $2, $3, $4, $5, clock_timestamp(), $6, $7, $8, $9, $10, $11, $12, $13, $14)
        ON CONFLICT (name) DO UPDATE SET seen = excluded.seen, generation = excluded.generation,
            clock_offset = excluded.clock_offset, intake_bytes = excluded.intake_bytes,
            oldest_seconds = excluded.oldest_seconds, commit_seconds = excluded.commit_seconds, fault = excluded.fault,
            listeners = excluded.listeners, answers_fault = excluded.answers_fault,
            certificate_until = excluded.certificate_until";
    let b = beat.clone();
    let values = vec![
        b.name.into(),
        b.host.into(),
        b.address.into(),
        b.build.into(),
        b.since.into(),
        b.generation.into(),
        b.clock_offset.into(),
        b.intake_bytes.into(),
        b.oldest_seconds.into(),
        b.commit_seconds.into(),
        b.fault.into(),
        serde_json::json!(b.listeners).into(),
        b.answers_fault.into(),
        b.certificate_until.into(),
    ];
    sql::run(db, sql, values).await.map(|_| ())
}

/// Which of the nodes that were heard of of late this one is, by name.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn share(db: &DatabaseConnection, name: &str) -> Result<Share, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        rank: i64,
        nodes: i64,
    }
    let sql = "SELECT count(*) FILTER (WHERE name < $1) AS rank, count(*) AS nodes
        FROM node WHERE seen > clock_timestamp() - interval '10 seconds' OR name = $1";
    let found: Vec<Row> = sql::typed(db, sql, vec![name.into()]).await?;
    let row = found.first().map(|row| (u64::try_from(row.rank), u64::try_from(row.nodes)));
    Ok(match row {
        Some((Ok(rank), Ok(of))) if of > rank => Share { rank, of },
        _ => Share::default(),
    })
}

/// A node has ended in order.
pub async fn leave(db: &DatabaseConnection, name: &str) -> Result<(), StoreError> {
    node::Entity::delete_by_id(name.to_owned()).exec(db).await?;
    Ok(())
}

/// What became of forgetting a node.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Forgotten {
    /// It is forgotten.
    Gone,
    /// It was heard of within the last 30 s.
    Alive,
    /// There is no such node.
    Unknown,
}

/// Forgets a node that has not been heard of for 30 s.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn forget(db: &DatabaseConnection, name: &str) -> Result<Forgotten, StoreError> {
    let sql =
        "DELETE FROM node WHERE name = $1 AND seen < clock_timestamp() - interval '30 seconds'";
    if sql::run(db, sql, vec![name.into()]).await? > 0 {
        return Ok(Forgotten::Gone);
    }
    let there = node::Entity::find_by_id(name.to_owned()).one(db).await?;
    Ok(if there.is_some() { Forgotten::Alive } else { Forgotten::Unknown })
}

/// Forgets all nodes that have not been heard of for 30 s; how many.
pub async fn forget_silent(db: &DatabaseConnection) -> Result<u64, StoreError> {
    sql::run(db, "DELETE FROM node WHERE seen < clock_timestamp() - interval '30 seconds'", vec![])
        .await
}

/// The nodes heard of within the last day, the longest running first.
pub async fn all(db: &DatabaseConnection) -> Result<Vec<NodeItem>, StoreError> {
    let sql = "SELECT name, host, address, build, since, seen, generation, clock_offset,
        intake_bytes, fault, answers_fault, certificate_until,
            listeners, oldest_seconds AS oldest_delivery, commit_seconds AS commit,
            extract(epoch FROM clock_timestamp() - seen)::float8 AS lag,
            (SELECT count(*) FROM job j WHERE j.node = n.name AND j.state = 'running') AS leases
        FROM node n WHERE seen > clock_timestamp() - interval '1 day' ORDER BY since, name
        LIMIT 200";
    sql::rows(db, sql, vec![]).await
}

/// How the listeners of a source stand at the nodes that are alive.
pub async fn listeners(
    db: &DatabaseConnection,
    source: &str,
) -> Result<Vec<ListenerItem>, StoreError> {
    let alive = all(db).await?.into_iter().filter(|node| node.lag < 30.0);
    Ok(alive.flat_map(|node| node.listeners).filter(|listener| listener.source == source).collect())
}

/// What waits for the nodes.
pub async fn backlog(db: &DatabaseConnection) -> Result<Backlog, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        queued: i64,
        oldest_queued: f64,
        overdue: f64,
        lock_waits: i64,
        aside: i64,
    }
    let sql = "SELECT q.queued, coalesce(extract(epoch
        FROM now() - q.oldest), 0)::float8 AS oldest_queued,
            greatest(coalesce(extract(epoch FROM now() - least(
                (SELECT min(due) FROM tally), (SELECT min(due)
                FROM pool))), 0), 0)::float8 AS overdue,
            (SELECT count(*) FROM pg_stat_activity
                WHERE datname = current_database() AND wait_event_type = 'Lock') AS lock_waits,
            (SELECT count(*) FROM tally WHERE aside IS NOT NULL)
                + (SELECT count(*) FROM pool WHERE aside IS NOT NULL) AS aside
        FROM (SELECT count(*) AS queued, min(created_at) AS oldest FROM job
        WHERE state = 'queued') q";
    let rows: Vec<Row> = sql::typed(db, sql, vec![]).await?;
    let Some(row) = rows.into_iter().next() else { return Ok(Backlog::default()) };
    let set_aside = if row.aside > 0 { intake::set_aside_now(db, 20).await? } else { Vec::new() };
    let item = |a: intake::SetAside| AsideItem {
        rule: a.rule,
        key: a.key,
        reason: a.reason,
        tries: a.tries,
        again_at: a.again_at,
    };
    Ok(Backlog {
        halt: jobs::halt(db).await?,
        halts: jobs::halts(db).await?,
        queued: row.queued,
        oldest_queued: row.oldest_queued,
        overdue: row.overdue,
        lock_waits: row.lock_waits,
        aside: row.aside,
        set_aside: set_aside.into_iter().map(item).collect(),
    })
}
