//! Durable intake: in batches against PostgreSQL's own COPY of the same rows, one by one against
//! pgbench's single-row commits.

use crate::{
    Fallible, lean,
    stage::{RACKS, Stage, alert},
    summary::{Figure, Goal},
};
use futures_util::StreamExt;
use sea_orm::{ConnectionTrait, Database, sqlx::postgres::PgPoolCopyExt};
use serde_json::Value;
use std::{process::Command, time::Instant};

const BATCHES: usize = 600;
/// Alerts of one delivery.
pub const BATCH: usize = 100;
/// Alerts of one measurement in batches.
pub const ALERTS: usize = BATCHES * BATCH;
const SINGLES: usize = 12_000;
const CONNECTIONS: usize = 64;

/// What others are laid beside.
pub struct Rates {
    /// Alerts a second in batches over an empty database.
    pub batches: f64,
    /// Rows a second of COPY.
    copy: f64,
    /// Commits a second of pgbench.
    pgbench: f64,
}

/// Alerts a second, in batches of 100 over four connections.
pub async fn batch_rate(stage: &Stage, run: &str) -> Fallible<f64> {
    let body =
        |b| Value::Array((0..BATCH).map(|i| alert(run, b * BATCH + i)).collect()).to_string();
    let bodies: Vec<String> = (0..BATCHES).map(body).collect();
    Ok(lean::rate(&stage.address, &bodies, 4).await? * BATCH as f64)
}

async fn single_rate(stage: &Stage, run: &str) -> Fallible<f64> {
    let bodies: Vec<String> = (0..SINGLES).map(|n| alert(run, n).to_string()).collect();
    lean::rate(&stage.address, &bodies, CONNECTIONS).await
}

/// In batches and one by one, while nothing concerns them.
pub async fn plain(stage: &Stage) -> Fallible<(Vec<Figure>, Rates)> {
    let batches = batch_rate(stage, "batch").await?;
    let copy = copy(stage).await?;
    let singles = single_rate(stage, "single").await?;
    let pgbench = pgbench(stage)?;
    let figures = vec![
        Figure::new(
            "intake/batch-vs-copy",
            (batches, "alerts/s"),
            ("one COPY of the same rows, the same indexes", copy),
            Goal::AtLeast(0.5, ">= 0.5"),
        ),
        Figure::new(
            "intake/single-vs-pgbench",
            (singles, "alerts/s"),
            ("pgbench, one row a commit, 64 connections", pgbench),
            Goal::AtLeast(1.5, ">= 1.5"),
        ),
    ];
    Ok((figures, Rates { batches, copy, pgbench }))
}

/// The same under a hundred rules, of which some share the alerts among them: each is matched by
/// one.
pub async fn ruled(stage: &Stage, rates: &Rates) -> Fallible<Vec<Figure>> {
    stage.publish(&rules(10)).await?;
    let batches = batch_rate(stage, "batch-ruled").await?;
    stage.publish(&rules(20)).await?;
    let singles = single_rate(stage, "single-ruled").await?;
    Ok(vec![
        Figure::new(
            "intake/batch-100-rules",
            (batches, "alerts/s"),
            ("one COPY of the same rows, without rules", rates.copy),
            Goal::AtLeast(0.4, ">= 0.4"),
        ),
        Figure::new(
            "intake/single-100-rules",
            (singles, "alerts/s"),
            ("pgbench, one row a commit, 64 connections", rates.pgbench),
            Goal::AtLeast(0.8, ">= 0.8"),
        ),
    ])
}

/// A hundred rules, so many of which match the alerts of the benchmark, each those of its racks;
/// they only watch.
pub fn rules(matching: usize) -> String {
    let note = "runbook: note\ntarget: group/one\nsteps: [ { id: fine, require: 'true' } ]\n";
    let rule = |n: usize| {
        let kind = if n < matching { "disk.usage".to_owned() } else { format!("other.{n}") };
        let racks: Vec<String> = (0..RACKS)
            .filter(|r| r % matching.max(1) == n % matching.max(1))
            .map(|r| format!("'{r}'"))
            .collect();
        format!(
            "---\nrule: rule-{n}\nlisten: {{ kinds: {kind}, resource: vm/quill-*, labels: {{ rack: \
            [{}] }}, where: alert.value >= {} }}\n\
             settle: {{ fold: [alert.resource] }}\ndispatch: {{ runbook: note }}\n",
            racks.join(", "),
            50 + n % 30
        )
    };
    std::iter::once(note.to_owned()).chain((0..100).map(rule)).collect()
}

/// A gathering against the same rule without one.
pub async fn gathered(stage: &Stage) -> Fallible<Figure> {
    let note = "runbook: note\ninputs: { hosts: { type: array, default: [] } }\ntarget: \
        group/one\nsteps: [ { id: fine, require: 'true' } ]\n---\n";
    let rule = |settle: &str| {
        format!(
            "{note}rule: rule-0\nlisten: {{ kinds: disk.usage }}\nsettle: {{ fold: \
            [alert.resource]{settle} }}\ndispatch: {{ runbook: note }}\n"
        )
    };
    stage.publish(&rules(0)).await?;
    stage.publish(&rule("")).await?;
    let plain = batch_rate(stage, "plain").await?;
    stage.publish(&rule(", gather: { by: [alert.kind], for: 10m }")).await?;
    let gathered = batch_rate(stage, "gather").await?;
    stage.publish(&rules(0)).await?;
    Ok(Figure::new(
        "intake/gather-vs-plain",
        (gathered, "alerts/s"),
        ("the same rule without gathering", plain),
        Goal::AtLeast(0.5, ">= 0.5"),
    ))
}

/// A storm of 100,000 alerts of fifty problems: the jobs it becomes, and the memory it takes.
pub async fn storm(stage: &Stage) -> Fallible<Vec<Figure>> {
    stage
        .publish(
            "runbook: note\ntarget: group/one\nsteps: [ { id: fine, require: 'true' } ]\n---\n\
             rule: storm\nstance: act\nlisten: { kinds: storm.hit }\nsettle: { fold: \
             [alert.resource] }\ndispatch: { runbook: note }\n",
        )
        .await?;
    let hit = |n: usize| {
        serde_json::json!({"id": format!("storm-{n}"), "kind": "storm.hit",
        "resource": format!("vm/storm-{}", n % 50), "severity": "major"})
    };
    let body =
        |b: usize| Value::Array((0..BATCH).map(|i| hit(b * BATCH + i)).collect()).to_string();
    let bodies: Vec<String> = (0..1000).map(body).collect();
    lean::rate(&stage.address, &bodies, 32).await?;
    let jobs = stage.get("/api/v1/jobs?rule=storm&limit=500").await?["items"]
        .as_array()
        .map_or(0, Vec::len);
    if jobs != 50 {
        return Err(format!("the storm became {jobs} jobs, not 50").into());
    }
    Ok(vec![Figure::new(
        "storm/100k-to-50",
        (stage.most_memory()?, "MB"),
        ("megabytes that are allowed", 300.0),
        Goal::AtMost(1.0, "50 jobs and <= 1"),
    )])
}

/// One COPY of the rows that were just taken in, into a table of the same form and indexes.
async fn copy(stage: &Stage) -> Fallible<f64> {
    let db = Database::connect(stage.database.as_str()).await?;
    db.execute_unprepared("CREATE TABLE copied (LIKE alerts_0 INCLUDING ALL)").await?;
    let columns = "seq, source, id, kind, severity, state, resource, time, received, summary, \
        value, labels, body";
    let pool = db.get_postgres_connection_pool();
    let mut out = pool
        .copy_out_raw(&format!("COPY (SELECT {columns} FROM alerts ORDER BY seq) TO STDOUT"))
        .await?;
    let mut text = Vec::new();
    while let Some(chunk) = out.next().await {
        text.extend_from_slice(&chunk?);
    }
    drop(out);
    let rows = text.iter().filter(|b| **b == b'\n').count();
    let begun = Instant::now();
    let mut into = pool.copy_in_raw(&format!("COPY copied ({columns}) FROM STDIN")).await?;
    into.send(text).await?;
    into.finish().await?;
    let rate = rows as f64 / begun.elapsed().as_secs_f64();
    db.close().await?;
    Ok(rate)
}

/// Commits a second of one-row inserts of an alert's size.
fn pgbench(stage: &Stage) -> Fallible<f64> {
    let script = "target/bench/single.sql";
    std::fs::write(
        script,
        "INSERT INTO plain (id, source, body) VALUES (nextval('plain_id'), 'bench',
            '{\"reading\": {\"number\": 1, \"percent\": 88.5, \"check\": \"disk\", \"summary\": \"disk data of quill-booking-db-1 is 88.5 % full\"}}');\n",
    )?;
    let bin = arvok_postgres::binaries()?;
    let run = |program: &str, args: &[&str]| -> Fallible<String> {
        let output = Command::new(bin.join(program))
            .env("PGPASSWORD", stage.cluster.password())
            .args(["-h", "127.0.0.1", "-p", &stage.cluster.port().to_string(), "-U", "arvok"])
            .args(args)
            .output()?;
        let said = String::from_utf8_lossy(&output.stdout).into_owned();
        if output.status.success() {
            Ok(said)
        } else {
            Err(String::from_utf8_lossy(&output.stderr).into_owned().into())
        }
    };
    run(
        "psql",
        &[
            "-d",
            "bench",
            "-c",
            "CREATE SEQUENCE plain_id",
            "-c",
            "CREATE TABLE plain (id bigint PRIMARY KEY, source text, body jsonb)",
        ],
    )?;
    let said = run("pgbench", &["-n", "-f", script, "-c", "64", "-j", "2", "-T", "4", "bench"])?;
    let tps = said.lines().find_map(|l| l.strip_prefix("tps = ")?.split(' ').next()?.parse().ok());
    tps.ok_or_else(|| format!("pgbench said: {said}").into())
}
