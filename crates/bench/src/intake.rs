//! Durable intake: in batches against PostgreSQL's own COPY of the same rows, one by one against
//! pgbench's single-row commits.

use crate::{
    Fallible,
    stage::{Stage, alert},
    summary::{Figure, Goal},
};
use futures_util::{StreamExt, TryStreamExt, stream};
use sea_orm::{ConnectionTrait, Database, sqlx::postgres::PgPoolCopyExt};
use serde_json::Value;
use std::{process::Command, time::Instant};

const BATCHES: usize = 600;
const BATCH: usize = 100;
const SINGLES: usize = 12_000;
const CONNECTIONS: usize = 64;

/// Batches of 100 over four connections.
pub async fn batches(stage: &Stage) -> Fallible<Figure> {
    let bodies: Vec<Value> =
        (0..BATCHES).map(|b| Value::Array((0..BATCH).map(|i| alert("batch", b * BATCH + i)).collect())).collect();
    let begun = Instant::now();
    stream::iter(&bodies).map(|body| stage.post(body)).buffer_unordered(4).try_collect::<Vec<()>>().await?;
    let ours = (BATCHES * BATCH) as f64 / begun.elapsed().as_secs_f64();
    let theirs = copy(stage).await?;
    Ok(Figure::new(
        "intake/batch-vs-copy",
        (ours, "alerts/s"),
        ("one COPY of the same rows, the same indexes", theirs),
        Goal::AtLeast(0.2, ">= 0.2"),
    ))
}

/// One COPY of the rows that were just taken in, into a table of the same form and indexes.
async fn copy(stage: &Stage) -> Fallible<f64> {
    let db = Database::connect(stage.database.as_str()).await?;
    db.execute_unprepared("CREATE TABLE copied (LIKE alert INCLUDING ALL)").await?;
    db.execute_unprepared("ALTER TABLE copied ALTER COLUMN seq DROP IDENTITY").await?;
    let columns = "seq, source, id, kind, severity, state, resource, time, received, summary, value, labels, body";
    let pool = db.get_postgres_connection_pool();
    let mut out = pool.copy_out_raw(&format!("COPY (SELECT {columns} FROM alert ORDER BY seq) TO STDOUT")).await?;
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

/// Single posts over 64 connections.
pub async fn singles(stage: &Stage) -> Fallible<Figure> {
    let bodies: Vec<Value> = (0..SINGLES).map(|n| alert("single", n)).collect();
    let begun = Instant::now();
    stream::iter(&bodies).map(|body| stage.post(body)).buffer_unordered(CONNECTIONS).try_collect::<Vec<()>>().await?;
    let ours = SINGLES as f64 / begun.elapsed().as_secs_f64();
    let theirs = pgbench(stage)?;
    Ok(Figure::new(
        "intake/single-vs-pgbench",
        (ours, "alerts/s"),
        ("pgbench, one row a commit, 64 connections", theirs),
        Goal::AtLeast(0.5, ">= 0.5"),
    ))
}

/// Commits a second of one-row inserts of an alert's size.
fn pgbench(stage: &Stage) -> Fallible<f64> {
    let script = "target/bench/single.sql";
    std::fs::write(
        script,
        "INSERT INTO plain (id, source, body) VALUES (nextval('plain_id'), 'bench', '{\"reading\": {\"number\": 1, \"percent\": 88.5, \"check\": \"disk\", \"summary\": \"disk data of quill-booking-db-1 is 88.5 % full\"}}');\n",
    )?;
    let bin = arvok_store::cluster::binaries()?;
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
