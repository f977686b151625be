//! Jobs that wait for events: whether ten thousand of them cost those who send alerts.

use crate::{
    Fallible,
    intake::batch_rate,
    stage::Stage,
    summary::{Figure, Goal},
};
use sea_orm::{ConnectionTrait, Database, DbBackend, Statement};
use serde_json::{Value, json};
use std::time::{Duration, Instant};

/// Jobs that wait.
const WAITING: usize = 10_000;
/// Alerts of one delivery that launch them.
const BATCH: usize = 100;
/// Rounds, of which the median counts.
const ROUNDS: usize = 3;

/// Intake while jobs wait for events, against intake while none does.
pub async fn figure(stage: &Stage) -> Fallible<Figure> {
    stage
        .publish(
            "runbook: hears\ninputs: { port: { type: string } }\ntarget: ${inputs.port}\nsteps:\n\
             \x20 - { id: up, await: { kinds: bench.up, resource: '${inputs.port}' }, within: 45m }\n---\n\
             rule: hears\nstance: act\nlisten: { kinds: bench.hear }\n\
             dispatch: { runbook: hears, inputs: { port: \"${alert.resource}\" } }\n",
        )
        .await?;
    let db = Database::connect(stage.database.as_str()).await?;
    batch_rate(stage, "warm").await?;
    let without = median(stage, "without").await?;
    for from in (0..WAITING).step_by(BATCH) {
        let alert = |n| json!({ "kind": "bench.hear", "resource": format!("port/p{n}"), "severity": "major" });
        stage.post(&Value::Array((from..from + BATCH).map(alert).collect())).await?;
    }
    let begun = Instant::now();
    let waiting = "SELECT count(*) AS n FROM job WHERE runbook = 'hears' AND state = 'waiting'";
    while count(&db, waiting).await? < WAITING as i64 {
        if begun.elapsed() > Duration::from_secs(300) {
            return Err("the jobs do not come to wait".into());
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    // Each looks once more at what was recorded as its wait began.
    tokio::time::sleep(Duration::from_secs(5)).await;
    db.execute_unprepared("ANALYZE job; ANALYZE wait").await?;
    let with = median(stage, "with").await?;
    let left = count(&db, "SELECT count(DISTINCT job_id) AS n FROM wait").await?;
    if left != WAITING as i64 {
        return Err(format!("of the waits {left} are left").into());
    }
    db.execute_unprepared("UPDATE job SET state = 'cancelled', finished_at = now() WHERE runbook = 'hears'").await?;
    db.close().await?;
    Ok(Figure::new(
        "await/10k",
        (with, "alerts/s"),
        ("the same while nobody waits", without),
        Goal::AtLeast(0.9, ">= 0.9"),
    ))
}

async fn median(stage: &Stage, run: &str) -> Fallible<f64> {
    let mut rates = Vec::new();
    for n in 0..ROUNDS {
        rates.push(batch_rate(stage, &format!("{run}{n}")).await?);
    }
    rates.sort_by(f64::total_cmp);
    Ok(rates[ROUNDS / 2])
}

async fn count(db: &sea_orm::DatabaseConnection, sql: &str) -> Fallible<i64> {
    let row = db.query_one_raw(Statement::from_string(DbBackend::Postgres, sql)).await?.ok_or("no row")?;
    Ok(row.try_get("", "n")?)
}
