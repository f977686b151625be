//! Runners: which are known, and what was last heard of each. What they are to do is in [`calls`].

pub mod calls;

use crate::{StoreError, access, audit, sql};
use arvok_api::RunnerItem;
use arvok_core::{Labels, Principal};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait};
use serde_json::{Value, json};

/// Most runners of an installation.
pub const MAX_RUNNERS: i64 = 1_000;

/// Whose token was shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KnownRunner {
    /// The runner's name.
    pub name: String,
    /// The labels that it may serve.
    pub labels: Labels,
}

/// What a runner tells of itself.
#[derive(Clone, Debug)]
pub struct RunnerNews<'a> {
    /// The labels that it serves.
    pub serves: &'a Labels,
    /// The version of its program.
    pub build: &'a str,
    /// Most calls at once.
    pub at_once: i32,
    /// Seconds that its clock is behind ours.
    pub clock_offset: f64,
}

/// Makes a runner known, with a token of which a digest is kept.
///
/// # Errors
/// That the name is taken, or that there are enough.
pub async fn add(
    db: &DatabaseConnection,
    runner: &KnownRunner,
    token: &str,
    by: &Principal,
) -> Result<(), StoreError> {
    let tx = db.begin().await?;
    let sql = "INSERT INTO runner (name, labels, hash, added_by)
        SELECT $1, $2, $3, $4 WHERE (SELECT count(*) FROM runner) < $5";
    let KnownRunner { name, labels } = runner;
    let values = vec![
        name.clone().into(),
        json!(labels).into(),
        access::hash(token).into(),
        by.to_string().into(),
        MAX_RUNNERS.into(),
    ];
    match sql::run(&tx, sql, values).await {
        Ok(0) => return Err(StoreError::TooMany("runners", MAX_RUNNERS)),
        Ok(_) => {}
        Err(e) if e.is_duplicate() => return Err(StoreError::Taken(name.clone())),
        Err(e) => return Err(e),
    }
    audit::record(&tx, by, "runner.added", name, &labels.to_string()).await?;
    Ok(tx.commit().await?)
}

/// Knows a runner no more: its token is worth nothing. Whether it was known.
pub async fn remove(
    db: &DatabaseConnection,
    name: &str,
    by: &Principal,
) -> Result<bool, StoreError> {
    let tx = db.begin().await?;
    let was = sql::run(&tx, "DELETE FROM runner WHERE name = $1", vec![name.into()]).await? > 0;
    if was {
        audit::record(&tx, by, "runner.removed", name, "").await?;
    }
    tx.commit().await?;
    Ok(was)
}

/// Whose token it is.
pub async fn by_token(
    db: &impl ConnectionTrait,
    token: &str,
) -> Result<Option<KnownRunner>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        name: String,
        labels: Value,
    }
    let sql = "SELECT name, labels FROM runner WHERE hash = $1";
    let found: Vec<Row> = sql::typed(db, sql, vec![access::hash(token).into()]).await?;
    let Some(Row { name, labels }) = found.into_iter().next() else { return Ok(None) };
    Ok(Some(KnownRunner { name, labels: serde_json::from_value(labels)? }))
}

/// A runner was heard of.
pub async fn note_news(
    db: &impl ConnectionTrait,
    name: &str,
    news: RunnerNews<'_>,
) -> Result<(), StoreError> {
    let sql = "UPDATE runner SET seen = clock_timestamp(), serves = $2, build = $3, at_once = $4,
        clock_offset = $5 WHERE name = $1";
    let RunnerNews { serves, build, at_once, clock_offset } = news;
    let values =
        vec![name.into(), json!(serves).into(), build.into(), at_once.into(), clock_offset.into()];
    sql::run(db, sql, values).await?;
    Ok(())
}

/// All runners, by name.
pub async fn all(db: &impl ConnectionTrait) -> Result<Vec<RunnerItem>, StoreError> {
    let sql = "SELECT name, labels, added_at, added_by, seen, serves, build, at_once, clock_offset,
        extract(epoch FROM clock_timestamp() - seen)::float8 AS lag,
        (SELECT count(*) FROM runner_call c WHERE c.runner = r.name AND c.state = 'begun'
            AND c.lease_until > now()) AS calls,
        '[]'::jsonb AS connections
        FROM runner r ORDER BY name";
    sql::rows(db, sql, vec![]).await
}
