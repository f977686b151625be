//! Whether what one does costs the others: jobs beside many that are blocked, that expire or that
//! evaluate much, jobs under many guards, and alerts beside jobs that wait for the same kind or
//! beside slow senders. And what one alert costs the node and the database.

use crate::{
    Fallible, intake,
    jobs::{self, median},
    stage::Stage,
    summary::{Figure, Goal},
};
use sea_orm::{ConnectionTrait, Database, DatabaseConnection};
use serde_json::{Value, json};
use std::time::{Duration, Instant};
use tokio::{io::AsyncWriteExt, net::TcpStream};

const ROUNDS: usize = 3;
/// Queued jobs behind one target.
const BLOCKED: usize = 50_000;
/// Jobs that wait for the kind that is sent.
const WAITING: usize = 2_000;
/// Jobs whose deadline passes at once.
const EXPIRING: usize = 200_000;
/// Senders that send slowly.
const SLOW: usize = 200;
/// Guards that are published; one in so many of them concerns the jobs that are measured.
const GUARDS: usize = 50;
const ONE_CONCERNS: usize = 10;
/// Least rate beside neighbours, of that without.
const LEAST: Goal = Goal::AtLeast(0.8, ">= 0.8");
const LEAST_GUARDED: Goal = Goal::AtLeast(0.9, ">= 0.9");

const GUARDED: &str = "guard/overhead";
const BESIDE_JOBS: [&str; 4] =
    ["claim/50k-blocked", "expire/200k", "jobs/heavy-neighbour", GUARDED];
const BESIDE_ALERTS: [&str; 2] = ["await/2k-same-kind", "intake/trickle"];
const BUDGET: &str = "budget";

/// What is measured here, by name.
pub fn names() -> impl Iterator<Item = &'static str> {
    BESIDE_JOBS.into_iter().chain(BESIDE_ALERTS).chain([BUDGET])
}

/// The runbook of a job that evaluates as much as it may again and again, and of one that waits for
/// the kind of alert that is sent; with the rules that dispatch them.
const DEFINITIONS: &str = "
runbook: evaluates
target: vm/evaluates
inputs: { n: { type: array, default: [] } }
steps:
  - id: rounds
    each: inputs.n
    as: n
    steps:
      - id: much
        set: { sum: \"${inputs.n.filter(a, a > n).size() + inputs.n.map(a, a * 2).size()}\" }
---
runbook: awaits
inputs: { vm: { type: string } }
target: ${inputs.vm}
timeout: 1d
steps:
  - id: seen
    await: { kinds: disk.usage, where: event.labels.disk == inputs.vm }
    within: 1d
---
rule: awaits
stance: act
listen: { kinds: bench.awaits }
dispatch: { runbook: awaits, inputs: { vm: \"${alert.resource}\" } }
";

/// The figures whose names are asked for, each at hand as soon as it is measured.
pub async fn measure(
    stage: &Stage,
    asked: impl Fn(&str) -> bool,
    figures: &mut Vec<Figure>,
) -> Fallible<()> {
    let db = Database::connect(stage.database.as_str()).await?;
    stage.publish(&jobs::definitions("http://127.0.0.1:1")).await?;
    stage.publish(DEFINITIONS).await?;
    jobs::round(stage, &db, "neighbours-warm").await?;
    db.execute_unprepared("ANALYZE").await?;
    if BESIDE_JOBS.iter().any(|name| asked(name)) {
        let alone = rate_of_jobs(stage, &db, "alone").await?;
        for name in BESIDE_JOBS.into_iter().filter(|name| asked(name)) {
            let beside = match name {
                "claim/50k-blocked" => blocked(stage, &db).await?,
                "expire/200k" => expiring(stage, &db).await?,
                GUARDED => guarded(stage, &db).await?,
                _ => evaluating(stage, &db).await?,
            };
            let without = ("the same without them", alone);
            let least = if name == GUARDED { LEAST_GUARDED } else { LEAST };
            figures.push(Figure::new(name, (beside, "jobs/s"), without, least));
        }
    }
    if BESIDE_ALERTS.iter().any(|name| asked(name)) {
        let alone = rate_of_alerts(stage, "neighbours-alone").await?;
        for name in BESIDE_ALERTS.into_iter().filter(|name| asked(name)) {
            let beside = match name {
                "await/2k-same-kind" => awaited(stage, &db).await?,
                _ => trickling(stage).await?,
            };
            let without = ("the same without them", alone);
            figures.push(Figure::new(name, (beside, "alerts/s"), without, LEAST));
        }
    }
    if asked(BUDGET) {
        budget(stage, &db).await?;
    }
    db.close().await?;
    Ok(())
}

/// Jobs a second, the median of some rounds.
async fn rate_of_jobs(stage: &Stage, db: &DatabaseConnection, run: &str) -> Fallible<f64> {
    let mut rates = Vec::new();
    for n in 0..ROUNDS {
        jobs::until_outbox_is_empty(db).await?;
        rates.push(jobs::round(stage, db, &format!("{run}{n}")).await?);
    }
    Ok(median(rates))
}

/// Alerts a second, the median of some rounds.
async fn rate_of_alerts(stage: &Stage, run: &str) -> Fallible<f64> {
    let mut rates = Vec::new();
    for n in 0..ROUNDS {
        rates.push(intake::batch_rate(stage, &format!("{run}{n}")).await?);
    }
    Ok(median(rates))
}

/// Adds jobs as they are when rules have dispatched them, each with its own columns.
async fn add_jobs(
    db: &DatabaseConnection,
    many: usize,
    columns: &str,
    values: &str,
) -> Fallible<()> {
    db.execute_unprepared(&format!(
        "SET session_replication_role = replica;
        INSERT INTO job (id, runbook, runbook_version, inputs, urgency, progress, created_at,
            {columns})
        SELECT 300000000 + n, 'neighbour', 1, '{{}}', 3, '{{}}', now(), {values}
        FROM generate_series(1, {many}) n;
        SET session_replication_role = origin;
        ANALYZE job"
    ))
    .await?;
    Ok(())
}

/// Jobs while one job holds a target and others, all more urgent than what is measured, stand
/// behind it.
async fn blocked(stage: &Stage, db: &DatabaseConnection) -> Fallible<f64> {
    let state = "CASE WHEN n = 1 THEN 'paused' ELSE 'queued' END, n = 1, 'vm/held'";
    add_jobs(db, BLOCKED, "state, begun, target", state).await?;
    let beside = rate_of_jobs(stage, db, "blocked").await?;
    remove_jobs(db).await?;
    Ok(beside)
}

async fn remove_jobs(db: &DatabaseConnection) -> Fallible<()> {
    db.execute_unprepared("DELETE FROM job WHERE runbook = 'neighbour'").await?;
    db.execute_unprepared("VACUUM ANALYZE job").await?;
    Ok(())
}

/// Jobs while the deadline of very many others passes: until these are ended, round after round.
async fn expiring(stage: &Stage, db: &DatabaseConnection) -> Fallible<f64> {
    let late = "'queued', false, 'vm/late-' || n, now() - interval '1 second'";
    let mut rates = Vec::new();
    for n in 0..ROUNDS {
        jobs::until_outbox_is_empty(db).await?;
        add_jobs(db, EXPIRING, "state, begun, target, deadline", late).await?;
        rates.push(jobs::round(stage, db, &format!("late{n}")).await?);
        let left = "SELECT count(*) AS n FROM job WHERE runbook = 'neighbour' AND state = 'queued'";
        eprintln!("expire/200k: {} left after round {n}", jobs::count(db, left).await?);
        // What is left of them is not what is measured; what they told goes with them.
        remove_jobs(db).await?;
    }
    Ok(median(rates))
}

/// Jobs beside one that evaluates as much as one may, without a pause.
async fn evaluating(stage: &Stage, db: &DatabaseConnection) -> Fallible<f64> {
    let items: Vec<usize> = (0..900).collect();
    let launch = json!({ "runbook": "evaluates", "inputs": { "n": items } });
    let mut rates = Vec::new();
    for n in 0..ROUNDS {
        jobs::until_outbox_is_empty(db).await?;
        let job = stage.launch(&launch).await?;
        rates.push(jobs::round(stage, db, &format!("evaluates{n}")).await?);
        let begun = Instant::now();
        while stage.get(&format!("/api/v1/jobs/{job}")).await?["job"]["finished_at"].is_null() {
            if begun.elapsed() > Duration::from_secs(120) {
                return Err("the job that evaluates does not end".into());
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }
    Ok(median(rates))
}

/// Jobs while many guards are published. Those that concern them have a line of each sort and hold
/// none of them: each job is asked for, counted and given back.
async fn guarded(stage: &Stage, db: &DatabaseConnection) -> Fallible<f64> {
    let lines = [
        "at_once: 1000",
        "after_failure: 5m",
        "untouched: 1s",
        "circuit: { failures: 100, within: 1h }",
        "redundant: [[vm/held-1, vm/held-2]]",
    ];
    let guard = |n: usize| {
        let runbook = if n.is_multiple_of(ONE_CONCERNS) { "three" } else { "many" };
        let line = lines[(n / ONE_CONCERNS) % lines.len()];
        format!("guard: bench-{n}\nconcerns: {{ runbooks: {runbook} }}\n{line}\n")
    };
    let guards: Vec<String> = (0..GUARDS).map(guard).collect();
    stage.publish(&guards.join("---\n")).await?;
    let beside = rate_of_jobs(stage, db, "guarded").await?;
    let gone: Vec<Value> =
        (0..GUARDS).map(|n| json!({ "kind": "guard", "name": format!("bench-{n}") })).collect();
    stage.post_to("/api/v1/publish", &json!({ "files": [], "withdraw": gone })).await?;
    Ok(beside)
}

/// Alerts while jobs wait for their kind, and each for something that none of them says.
async fn awaited(stage: &Stage, db: &DatabaseConnection) -> Fallible<f64> {
    for first in (0..WAITING).step_by(100) {
        let alert = |n| json!({ "kind": "bench.awaits", "resource": format!("vm/awaits-{n}") });
        stage.post(&Value::Array((first..first + 100).map(alert).collect())).await?;
    }
    let begun = Instant::now();
    while jobs::count(db, "SELECT count(*) AS n FROM wait WHERE settled").await? < WAITING as i64 {
        if begun.elapsed() > Duration::from_secs(120) {
            return Err("the jobs do not wait".into());
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    jobs::until_outbox_is_empty(db).await?;
    let beside = rate_of_alerts(stage, "awaited").await?;
    db.execute_unprepared("DELETE FROM wait").await?;
    db.execute_unprepared(
        "SET session_replication_role = replica; DELETE FROM job WHERE runbook = 'awaits';
        SET session_replication_role = origin",
    )
    .await?;
    Ok(beside)
}

/// Alerts beside senders that send a body of which a little comes every moment.
async fn trickling(stage: &Stage) -> Fallible<f64> {
    let host = stage.address.trim_start_matches("http://").to_owned();
    let slow: Vec<_> = (0..SLOW).map(|_| tokio::spawn(send_slowly(host.clone()))).collect();
    let beside = rate_of_alerts(stage, "trickle").await;
    slow.iter().for_each(tokio::task::JoinHandle::abort);
    beside
}

/// Sends slowly, and again whenever the node has enough of it.
async fn send_slowly(host: String) {
    loop {
        let _ = send_until_sent_away(&host).await;
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

async fn send_until_sent_away(host: &str) -> std::io::Result<()> {
    let mut line = TcpStream::connect(host).await?;
    let head = format!(
        "POST /in/bench HTTP/1.1\r\nhost: {host}\r\nauthorization: Bearer bench\r\n\
         content-type: application/json\r\ncontent-length: 60000\r\n\r\n"
    );
    line.write_all(head.as_bytes()).await?;
    loop {
        line.write_all(b"          ").await?;
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

/// What one alert costs, printed: processor time of the node, commits, rows written and bytes of
/// the write-ahead log.
async fn budget(stage: &Stage, db: &DatabaseConnection) -> Fallible<()> {
    let read = async || -> Fallible<[f64; 4]> {
        let of = |sql: &str| format!("SELECT ({sql})::bigint AS n");
        // What backends have counted becomes visible after a moment.
        tokio::time::sleep(Duration::from_secs(2)).await;
        let wal = jobs::count(db, &of("pg_current_wal_insert_lsn() - '0/0'::pg_lsn")).await?;
        let own = "FROM pg_stat_database WHERE datname = current_database()";
        let commits = jobs::count(db, &of(&format!("SELECT xact_commit {own}"))).await?;
        let rows = format!("SELECT tup_inserted + tup_updated + tup_deleted {own}");
        let rows = jobs::count(db, &of(&rows)).await?;
        Ok([stage.processor_seconds()?, commits as f64, rows as f64, wal as f64])
    };
    let before = read().await?;
    let rate = intake::batch_rate(stage, "budget").await?;
    let after = read().await?;
    let alerts = intake::ALERTS as f64;
    let each: Vec<f64> =
        after.iter().zip(before).map(|(after, before)| (after - before) / alerts).collect();
    println!(
        "budget: one alert of a batch of {} takes {:.0} us of the node's processors, {:.3} commits, \
         {:.1} rows and {:.0} bytes of the log, at {rate:.0} alerts/s",
        intake::BATCH,
        each[0] * 1e6,
        each[1],
        each[2],
        each[3],
    );
    Ok(())
}
