//! Reading over much against reading over little, and taking in over much against over nothing.

use crate::{
    Fallible, intake,
    stage::Stage,
    summary::{Figure, Goal},
};
use arvok_store::days;
use chrono::{TimeDelta, Utc};
use sea_orm::{ConnectionTrait, Database};
use std::time::Instant;

const LITTLE: u64 = 50_000;
const MUCH: u64 = 5_000_000;
const TRIES: usize = 9;
/// Over so many days it is spread, in tables of their own.
const DAYS: i64 = 30;

/// The questions: the overview, the rules, and lists of alerts that find nothing or next to
/// nothing.
const QUESTIONS: [(&str, &[&str]); 3] = [
    ("read/watch-5m", &["/api/v1/watch"]),
    (
        "read/rules-5m",
        &[
            "/api/v1/definitions/rule",
            "/api/v1/definitions/rule/rule-7",
            "/api/v1/verdicts?rule=rule-7",
        ],
    ),
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
    begin_days(stage).await?;
    stage.publish(&intake::rules(0)).await?;
    fill(stage, LITTLE).await?;
    let little = ask(stage).await?;
    fill(stage, MUCH).await?;
    let much = ask(stage).await?;
    let mut figures: Vec<Figure> = QUESTIONS
        .iter()
        .zip(much.iter().zip(&little))
        .map(|((name, _), (much, little))| {
            Figure::new(
                name,
                (much * 1e3, "ms"),
                ("over 50,000", little * 1e3),
                Goal::AtMost(2.0, "<= 2"),
            )
        })
        .collect();
    figures.push(sources(stage).await?);
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
        "TRUNCATE alerts, alarm, verdicts, verdict_count, tally, pool, job, attempt, job_count, \
        proposal, delivery_count RESTART IDENTITY",
    )
    .await?;
    db.close().await?;
    Ok(())
}

/// As if the installation had stood for thirty days.
async fn begin_days(stage: &Stage) -> Fallible<()> {
    let db = Database::connect(stage.database.as_str()).await?;
    db.execute_unprepared(&format!(
        "UPDATE alert_day SET begun_at = now() - interval '{DAYS} days'"
    ))
    .await?;
    for age in (0..DAYS).rev() {
        if !days::begin(&db, Utc::now() - TimeDelta::days(age)).await? {
            return Err("a day did not begin".into());
        }
    }
    db.close().await?;
    Ok(())
}

/// Stores alerts and verdicts up to a number, spread over the days.
async fn fill(stage: &Stage, upto: u64) -> Fallible<()> {
    let db = Database::connect(stage.database.as_str()).await?;
    db.execute_unprepared(&format!(
        "SET session_replication_role = replica;
        INSERT INTO alerts (seq, source, id, received, time, kind, resource, severity, state,
        summary, labels, body)
        SELECT d.first_seq + 1 + n / {days}, 'bench', 'fill-' || n,
        d.begun_at + interval '1 day' * n / {upto}, now(),
            'fill.' || n % 20, 'vm/n' || n % 50000, 1 + n % 3, 'raised', 'disk data of n' || n % 50000 || ' is full',
            '{{\"tier\": \"gold\"}}', '{{}}'
        FROM generate_series((SELECT count(*) FROM alerts), {upto} - 1) n
        JOIN (SELECT *, row_number() OVER (ORDER BY first_seq) - 1 AS day
        FROM alert_day) d ON d.day = n % {days};
        UPDATE alert_day d SET last_seq = (SELECT max(seq) FROM alerts WHERE seq >= d.first_seq
        AND seq < d.bound_seq)
            WHERE last_seq IS NOT NULL;
        SELECT setval('alert_seq_seq', (SELECT max(seq) FROM alerts));
        INSERT INTO verdicts (alert_seq, rule, rule_version, verdict, reason, at, tally)
        SELECT seq, 'rule-' || (seq / 2) % 100, 1, 'folded', 'alert of an episode', received,
        resource FROM alerts a
        WHERE seq % 2 = 0 AND NOT EXISTS (SELECT 1 FROM verdicts v WHERE v.alert_seq = a.seq);
        TRUNCATE verdict_count;
        INSERT INTO verdict_count SELECT rule, verdict, date_trunc('hour', at, 'UTC'), 0, count(*),
        max(at)
            FROM verdicts GROUP BY 1, 2, 3;
        SET session_replication_role = origin",
        days = DAYS + 1,
    ))
    .await?;
    db.execute_unprepared("VACUUM ANALYZE alerts").await?;
    db.execute_unprepared("VACUUM ANALYZE verdicts").await?;
    db.execute_unprepared("ANALYZE verdict_count").await?;
    // What filling has left to be written is not to be paid by what is measured.
    db.execute_unprepared("CHECKPOINT").await?;
    db.close().await?;
    Ok(())
}

/// The median time of the slowest question of each kind, in seconds.
async fn ask(stage: &Stage) -> Fallible<Vec<f64>> {
    let mut all = Vec::new();
    for (_, paths) in QUESTIONS {
        all.push(slowest(stage, paths).await?);
    }
    Ok(all)
}

/// The median time of the slowest of some questions, in seconds.
async fn slowest(stage: &Stage, paths: &[&str]) -> Fallible<f64> {
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
    Ok(slowest)
}

/// Ninety days of what ten sources delivered, as upkeep leaves it, against one day: the sources,
/// and the overview.
async fn sources(stage: &Stage) -> Fallible<Figure> {
    let db = Database::connect(stage.database.as_str()).await?;
    let fill = async |bucket: &str, from: i64, to: i64| {
        db.execute_unprepared(&format!(
            "INSERT INTO delivery_count (source, minute, shard, alerts, repeated, unreadable)
            SELECT 'source-' || s, m, 0, 10, 1, 0 FROM generate_series(1, 10) s,
                generate_series(date_trunc('hour', now()) - interval '{from} days',
                    date_trunc('hour', now()) - interval '{to} days' - interval '1 {bucket}', interval '1 {bucket}') m
            ON CONFLICT DO NOTHING"
        ))
        .await?;
        db.execute_unprepared("VACUUM ANALYZE delivery_count").await
    };
    let paths = ["/api/v1/definitions/source", "/api/v1/watch"];
    fill("minute", 1, 0).await?;
    let little = slowest(stage, &paths).await?;
    fill("minute", 9, 1).await?;
    fill("hour", 90, 9).await?;
    let much = slowest(stage, &paths).await?;
    db.execute_unprepared("TRUNCATE delivery_count").await?;
    db.close().await?;
    let limit = Goal::AtMost(10.0, "<= 10");
    Ok(Figure::new("read/sources-90d", (much * 1e3, "ms"), ("over one day", little * 1e3), limit))
}
