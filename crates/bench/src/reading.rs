//! Reading over much against reading over little, and taking in over much against over nothing.

use crate::{
    Fallible, intake,
    stage::Stage,
    summary::{Figure, Goal},
};
use sea_orm::{ConnectionTrait, Database};
use std::time::Instant;

const LITTLE: u64 = 50_000;
const MUCH: u64 = 5_000_000;
const TRIES: usize = 9;

/// The questions: the overview, the rules, and lists of alerts that find nothing or next to nothing.
const QUESTIONS: [(&str, &[&str]); 3] = [
    ("read/watch-5m", &["/api/v1/watch"]),
    ("read/rules-5m", &["/api/v1/definitions/rule", "/api/v1/definitions/rule/rule-7", "/api/v1/verdicts?rule=rule-7"]),
    (
        "read/alerts-5m",
        &[
            "/api/v1/alerts?text=nowhere",
            "/api/v1/alerts?verdict=unmatched&kind=none",
            "/api/v1/alerts?severity=critical",
            "/api/v1/alerts?rule=rule-7&verdict=capped",
            "/api/v1/alerts?source=none",
        ],
    ),
];

/// Asks over little, over much, and takes in over much.
pub async fn figures(stage: &Stage, empty: f64) -> Fallible<Vec<Figure>> {
    empty_all(stage).await?;
    fill(stage, LITTLE).await?;
    let little = ask(stage).await?;
    fill(stage, MUCH).await?;
    let much = ask(stage).await?;
    let mut figures: Vec<Figure> = QUESTIONS
        .iter()
        .zip(much.iter().zip(&little))
        .map(|((name, _), (much, little))| {
            Figure::new(name, (much * 1e3, "ms"), ("over 50,000", little * 1e3), Goal::AtMost(2.0, "<= 2"))
        })
        .collect();
    let full = intake::batch_rate(stage, "full").await?;
    figures.push(Figure::new(
        "intake/5m-vs-empty",
        (full, "alerts/s"),
        ("over an empty database", empty),
        Goal::AtLeast(0.9, ">= 0.9"),
    ));
    Ok(figures)
}

/// What the figures before have left would count as much.
async fn empty_all(stage: &Stage) -> Fallible<()> {
    let db = Database::connect(stage.database.as_str()).await?;
    db.execute_unprepared(
        "TRUNCATE alert, alarm, verdict, verdict_count, tally, pool, job, attempt, proposal, delivery_count RESTART IDENTITY",
    )
    .await?;
    db.close().await?;
    Ok(())
}

/// Stores alerts and verdicts up to a number, spread over the last thirty days.
async fn fill(stage: &Stage, upto: u64) -> Fallible<()> {
    let db = Database::connect(stage.database.as_str()).await?;
    db.execute_unprepared(&format!(
        "SET session_replication_role = replica;
        INSERT INTO alert (source, id, received, time, kind, resource, severity, state, summary, labels, body)
        SELECT 'bench', 'fill-' || n, now() - (({upto} - n) * interval '30 days' / {upto}), now(), 'fill.' || n % 20,
            'vm/n' || n % 50000, 1 + n % 3, 'raised', 'disk data of n' || n % 50000 || ' is full', '{{\"tier\": \"gold\"}}', '{{}}'
        FROM generate_series((SELECT count(*) + 1 FROM alert), {upto}) n;
        INSERT INTO verdict (alert_seq, rule, rule_version, verdict, reason, at, tally)
        SELECT seq, 'rule-' || seq % 100, 1, 'folded', 'alert of an episode', received, resource FROM alert
        WHERE seq > (SELECT coalesce(max(alert_seq), 0) FROM verdict) AND seq % 2 = 0;
        TRUNCATE verdict_count;
        INSERT INTO verdict_count SELECT rule, verdict, date_trunc('hour', at, 'UTC'), 0, count(*), max(at)
            FROM verdict GROUP BY 1, 2, 3;
        SET session_replication_role = origin"
    ))
    .await?;
    db.execute_unprepared("VACUUM ANALYZE alert").await?;
    db.execute_unprepared("VACUUM ANALYZE verdict").await?;
    db.execute_unprepared("ANALYZE verdict_count").await?;
    db.close().await?;
    Ok(())
}

/// The median time of the slowest question of each kind, in seconds.
async fn ask(stage: &Stage) -> Fallible<Vec<f64>> {
    let mut all = Vec::new();
    for (_, paths) in QUESTIONS {
        let mut slowest = 0.0f64;
        for path in paths {
            let mut times = Vec::new();
            for _ in 0..TRIES {
                let begun = Instant::now();
                stage.get(path).await?;
                times.push(begun.elapsed().as_secs_f64());
            }
            times.sort_by(f64::total_cmp);
            eprintln!("{path}: {:.1} ms", times[TRIES / 2] * 1e3);
            slowest = slowest.max(times[TRIES / 2]);
        }
        all.push(slowest);
    }
    Ok(all)
}
