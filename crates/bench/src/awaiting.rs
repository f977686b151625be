//! Jobs that wait for events: whether ten thousand of them cost those who send alerts.

use crate::{
    Fallible,
    intake::batch_rate,
    jobs,
    stage::Stage,
    summary::{Figure, Goal},
};
use sea_orm::{ConnectionTrait, Database};

/// Jobs that wait.
const WAITING: usize = 10_000;
/// Rounds, of which the median counts.
const ROUNDS: usize = 3;

/// Intake while jobs wait for events, against intake while none does. The waits stand as they do
/// when all that was recorded as they began has been looked at; and none of what is sent is what
/// they wait for, since waking a job is work of its own.
pub async fn figure(stage: &Stage) -> Fallible<Figure> {
    let db = Database::connect(stage.database.as_str()).await?;
    batch_rate(stage, "warm").await?;
    let without = rate(stage, "without").await?;
    for sql in [
        format!(
            "INSERT INTO job (id, runbook, runbook_version, inputs, target, urgency, state,
                progress, created_at, wake_at, begun, outside)
                SELECT 200000000 + n, 'hears', 1, '{{}}', 'vm/waits-' || n, 1, 'waiting', '{{}}',
                now(), now() + interval '1 day', true, true
                FROM generate_series(1, {WAITING}) n"
        ),
        format!(
            "INSERT INTO wait (job_id, place, key, chosen, since, settled)
                SELECT 200000000 + n, 'up', 'rvm/others-' || n, '{{}}', now(), true
                FROM generate_series(1, {WAITING}) n"
        ),
        "ANALYZE job".to_owned(),
        "ANALYZE wait".to_owned(),
    ] {
        db.execute_unprepared(&sql).await?;
    }
    jobs::until_outbox_is_empty(&db).await?;
    let with = rate(stage, "with").await?;
    db.execute_unprepared("DELETE FROM wait").await?;
    db.execute_unprepared("DELETE FROM job WHERE runbook = 'hears'").await?;
    db.close().await?;
    Ok(Figure::new(
        "await/10k",
        (with, "alerts/s"),
        ("the same while nobody waits", without),
        Goal::AtLeast(0.9, ">= 0.9"),
    ))
}

/// Alerts a second, the median of some rounds.
async fn rate(stage: &Stage, run: &str) -> Fallible<f64> {
    let mut rates = Vec::new();
    for n in 0..ROUNDS {
        rates.push(batch_rate(stage, &format!("{run}{n}")).await?);
    }
    Ok(jobs::median(rates))
}
