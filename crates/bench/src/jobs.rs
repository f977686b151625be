//! Jobs: how many a second one node executes, what a step adds to its outward call, and whether
//! jobs that wait cost those that work.

use crate::{
    Fallible,
    latency::peer,
    stage::Stage,
    summary::{Figure, Goal},
};
use futures_util::StreamExt;
use sea_orm::{ConnectionTrait, Database, DatabaseConnection, DbBackend, Statement};
use serde_json::{Value, json};
use std::time::{Duration, Instant};

/// Jobs of one round.
const JOBS: usize = 3_000;
/// Alerts of one delivery; each is a job.
const DELIVERED: usize = 100;
/// Deliveries at once.
const SENDERS: usize = 4;
/// Rounds, of which the median counts.
const ROUNDS: usize = 3;
/// Bare transactions at once.
const AT_ONCE: usize = 16;
/// Steps of the job by which a step is measured.
const STEPS: usize = 60;
const WAITING: usize = 10_000;

pub async fn count(db: &DatabaseConnection, sql: &str) -> Fallible<i64> {
    let row = db
        .query_one_raw(Statement::from_string(DbBackend::Postgres, sql))
        .await?
        .ok_or("no row")?;
    Ok(row.try_get("", "n")?)
}

/// The one in the middle.
pub fn median(mut all: Vec<f64>) -> f64 {
    all.sort_by(f64::total_cmp);
    all[all.len() / 2]
}

/// Waits until all that jobs told has entered: it is not what is measured next.
pub async fn until_outbox_is_empty(db: &DatabaseConnection) -> Fallible<()> {
    let begun = Instant::now();
    while count(db, "SELECT (SELECT count(*) FROM outbox) + (SELECT count(*) FROM job_change) AS n")
        .await?
        > 0
    {
        if begun.elapsed() > Duration::from_secs(120) {
            return Err("what jobs told does not enter".into());
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    Ok(())
}

/// Jobs a second while their alerts come in: from the moment at which the first is dispatched until
/// the last has ended.
pub async fn round(stage: &Stage, db: &DatabaseConnection, name: &str) -> Fallible<f64> {
    let first = count(db, "SELECT coalesce(max(id), 0) AS n FROM job WHERE id < 100000000").await?;
    let begun = Instant::now();
    let delivery = |first: usize| {
        let alert = |n| {
            json!({ "kind": "bench.three", "resource": format!("vm/{name}-{n}"),
            "severity": "major" })
        };
        let alerts: Vec<Value> = (first..first + DELIVERED).map(alert).collect();
        async move { stage.post(&Value::Array(alerts)).await }
    };
    let mut sent = futures_util::stream::iter((0..JOBS).step_by(DELIVERED).map(delivery))
        .buffer_unordered(SENDERS);
    while let Some(answer) = sent.next().await {
        answer?;
    }
    // Found by the key, however many others there are.
    let left = format!(
        "SELECT EXISTS (SELECT 1 FROM job WHERE id > {first} AND id < 100000000
            AND finished_at IS NULL)::int::bigint AS n"
    );
    while count(db, &left).await? > 0 {
        if begun.elapsed() > Duration::from_secs(120) {
            return Err("the jobs do not end".into());
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let took = "SELECT (extract(epoch FROM max(finished_at) - min(created_at)) * 1e6)::bigint AS n
        FROM job
        WHERE runbook = 'three' AND target LIKE";
    let micros = count(db, &format!("{took} 'vm/{name}-%'")).await?;
    Ok(JOBS as f64 / (micros as f64 / 1e6))
}

/// Bare transactions a second, beside nothing else.
async fn bare(db: &DatabaseConnection) -> Fallible<f64> {
    let begun = Instant::now();
    let all = futures_util::stream::iter(0..JOBS)
        .map(|_| {
            db.execute_unprepared("INSERT INTO bare_job (text) VALUES ('a job of some length')")
        })
        .buffer_unordered(AT_ONCE);
    let failed = all.filter_map(|r| async { r.err() }).collect::<Vec<_>>().await;
    match failed.into_iter().next() {
        Some(e) => Err(e.into()),
        None => Ok(JOBS as f64 / begun.elapsed().as_secs_f64()),
    }
}

/// A runbook of three trivial steps, one of many calls, and the rules that dispatch them.
pub fn definitions(address: &str) -> String {
    let steps: Vec<String> =
        (0..STEPS).map(|n| format!("{{ id: s{n}, call: call, via: jobs-peer }}")).collect();
    format!(
        "connector: jobs-peer\noperations: {{ call: {{ request: {{ method: POST, path: /call }}, \
        repeat: safe }} }}\n---\n\
         connection: jobs-peer\nconnector: jobs-peer\nbase: {address}\n---\n\
         runbook: three\ninputs: {{ vm: {{ type: string }} }}\ntarget: ${{inputs.vm}}\nsteps:\n\
         \x20 - {{ id: a, set: {{ n: 1 }} }}\n  - {{ id: b, require: steps.a.n == 1 }}\n  - {{ id: \
         c, set: {{ m: '${{steps.a.n + 1}}' }} }}\n---\n\
         runbook: many\ninputs: {{ vm: {{ type: string }} }}\ntarget: ${{inputs.vm}}\nsteps: \
         [{}]\n---\n\
         rule: three\nstance: act\nlisten: {{ kinds: bench.three }}\ndispatch: {{ runbook: three, \
         inputs: {{ vm: \"${{alert.resource}}\" }} }}\n---\n\
         rule: many\nstance: act\nlisten: {{ kinds: bench.many }}\ndispatch: {{ runbook: many, \
         inputs: {{ vm: \"${{alert.resource}}\" }} }}\n",
        steps.join(", ")
    )
}

/// All figures about jobs.
pub async fn figures(stage: &Stage) -> Fallible<Vec<Figure>> {
    let (address, mut calls) = peer()?;
    stage.publish(&definitions(&address)).await?;
    let mut options = sea_orm::ConnectOptions::new(stage.database.as_str());
    options.max_connections(AT_ONCE as u32).min_connections(AT_ONCE as u32);
    let db = Database::connect(options).await?;
    db.execute_unprepared("CREATE TABLE bare_job (n serial PRIMARY KEY, text text)").await?;

    let (mut alone, mut others) = (Vec::new(), Vec::new());
    round(stage, &db, "warm").await?;
    // As the database does by itself after a minute: until then it takes its tables for empty.
    db.execute_unprepared("ANALYZE").await?;
    for n in 0..ROUNDS {
        until_outbox_is_empty(&db).await?;
        alone.push(round(stage, &db, &format!("alone{n}")).await?);
        until_outbox_is_empty(&db).await?;
        others.push(bare(&db).await?);
    }
    let (alone, others) = (median(alone), median(others));
    let overhead = step_overhead(stage, &db, &mut calls, &address).await?;

    // Jobs that wait for a day, on targets of their own.
    db.execute_unprepared(&format!(
        "INSERT INTO job (id, runbook, runbook_version, inputs, target, urgency, state, progress,
            created_at, wake_at, begun)
        SELECT 100000000 + n, 'three', 1, '{{}}', 'vm/waits-' || n, 1, 'waiting', '{{}}', now(),
        now() + interval '1 day', true
        FROM generate_series(1, {WAITING}) n"
    ))
    .await?;
    db.execute_unprepared("ANALYZE job").await?;
    until_outbox_is_empty(&db).await?;
    // They never end here, and are not waited for.
    db.execute_unprepared("UPDATE job SET finished_at = now() WHERE state = 'waiting'").await?;
    let mut beside = Vec::new();
    for n in 0..ROUNDS {
        until_outbox_is_empty(&db).await?;
        beside.push(round(stage, &db, &format!("beside{n}")).await?);
    }
    let beside = median(beside);
    db.execute_unprepared("DELETE FROM job WHERE state = 'waiting'").await?;
    db.close().await?;
    Ok(vec![
        Figure::new(
            "jobs/three-steps",
            (alone, "jobs/s"),
            ("as many bare transactions, 16 at once", others),
            Goal::AtLeast(0.3, ">= 0.3"),
        ),
        overhead,
        Figure::new(
            "jobs/10k-waiting",
            (beside, "jobs/s"),
            ("the same without jobs that wait", alone),
            Goal::AtLeast(0.9, ">= 0.9"),
        ),
    ])
}

/// What a step takes beyond its call, against two commits.
async fn step_overhead(
    stage: &Stage,
    db: &DatabaseConnection,
    calls: &mut tokio::sync::mpsc::UnboundedReceiver<Instant>,
    address: &str,
) -> Fallible<Figure> {
    while calls.try_recv().is_ok() {}
    let (mut steps, mut bare_calls, mut commits) = (Vec::new(), Vec::new(), Vec::new());
    for n in 0..5 {
        stage
            .post(&json!({ "kind": "bench.many", "resource": format!("vm/many-{n}"),
            "severity": "major" }))
            .await?;
        let mut heard = Vec::new();
        for _ in 0..STEPS {
            let at = tokio::time::timeout(Duration::from_secs(20), calls.recv())
                .await?
                .ok_or("the peer is gone")?;
            heard.push(at);
        }
        steps.extend(heard.windows(2).map(|w| w[1].duration_since(w[0]).as_secs_f64() * 1000.0));
        for _ in 0..STEPS {
            let begun = Instant::now();
            stage.http.post(format!("{address}/call")).send().await?.bytes().await?;
            bare_calls.push(begun.elapsed().as_secs_f64() * 1000.0);
            calls.recv().await;
            let begun = Instant::now();
            for _ in 0..2 {
                db.execute_unprepared(
                    "INSERT INTO bare_job (text) VALUES ('a step of some length')",
                )
                .await?;
            }
            commits.push(begun.elapsed().as_secs_f64() * 1000.0);
        }
    }
    let added = median(steps) - median(bare_calls);
    Ok(Figure::new(
        "jobs/step-overhead",
        (added, "ms"),
        ("two bare commits", median(commits)),
        Goal::AtMost(2.0, "<= 2"),
    ))
}
