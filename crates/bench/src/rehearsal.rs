//! Rehearsing a rule over a million stored alerts, against reading the same rows.

use crate::{
    Fallible,
    stage::Stage,
    summary::{Figure, Goal},
};
use arvok_core::{
    Catalog, definition::Defined, document::parse_file, rehearse::Rehearsal, rule::Rule,
};
use arvok_store::read::{Replay, replay};
use chrono::{DateTime, TimeDelta, Utc};
use futures_util::StreamExt;
use sea_orm::{ConnectionTrait, Database, DatabaseConnection, DbBackend, Statement, StreamTrait};
use std::time::Instant;

const ALERTS: usize = 1_000_000;

const RULE: &str = "rule: disks\nlisten:\n  kinds: [disk.usage]\n  severity: major..\n  resource: \
    vm/*-booking-db-*\n  \
    where: alert.value >= 87.5 && alert.labels.tier == 'gold'\nsettle: { after: { alerts: 3, \
    within: 6h }, rest: 15m }\n\
    dispatch: { runbook: grow-disk, inputs: { vm: \"${alert.resource}\" } }\n";

const FILL: &str =
    "INSERT INTO alerts (source, id, kind, severity, state, resource, time, received, summary,
        value, labels, body)
    SELECT 'yard', 'replay-' || n, 'disk.usage', 1 + (n * 7) % 5, CASE WHEN n % 40 = 0
    THEN 'cleared' ELSE 'raised' END,
        'vm/quill-booking-db-' || (n * 131) % 5000, $1::timestamptz + n * interval '50 milliseconds',
        $1::timestamptz + n * interval '50 milliseconds', 'disk data is filling', 80 + (n * 13) % 20,
        jsonb_build_object('tier', CASE WHEN n % 3 = 0 THEN 'gold'
        ELSE 'silver' END, 'disk', 'data'),
        '{\"reading\": {\"percent\": 88.5, \"check\": \"disk\"}}'
    FROM generate_series(1, $2::int) n";

/// Both go over the same rows, as a stream.
pub async fn over_a_million(stage: &Stage) -> Fallible<Figure> {
    let db = Database::connect(stage.database.as_str()).await?;
    let since = DateTime::from_timestamp(1_700_000_000, 0).ok_or("a time")?;
    let until = since + TimeDelta::days(2);
    let values = vec![since.into(), (ALERTS as i32).into()];
    db.execute_raw(Statement::from_sql_and_values(DbBackend::Postgres, FILL, values)).await?;
    db.execute_unprepared("ANALYZE alerts").await?;
    let documents = parse_file("bench.yaml", RULE).map_err(|p| p.to_string())?;
    let rule = Rule::check(&documents[0])
        .map_err(|p| p.iter().map(ToString::to_string).collect::<String>())?;
    read(&db, since, until).await?;
    let reading = read(&db, since, until).await?;
    let begun = Instant::now();
    let unknown = Catalog::default();
    let mut rehearsal = Rehearsal::new(&rule, &unknown);
    let mut alerts = Box::pin(replay(&db, &Replay::of_rules(&[&rule], since, until)).await?);
    while let Some(next) = alerts.next().await {
        let (number, alert) = next?;
        rehearsal.feed(number, alert)?;
    }
    let report = rehearsal.finish(until);
    let rehearsing = begun.elapsed().as_secs_f64();
    println!(
        "rehearsed {} alerts, {} matched, {} dispatches",
        report.alerts, report.matched, report.dispatches
    );
    if report.alerts != ALERTS as u64 {
        return Err("not all alerts were gone through".into());
    }
    db.execute_unprepared("DELETE FROM alerts WHERE source = 'yard'").await?;
    Ok(Figure::new(
        "rehearse/1m-vs-read",
        (rehearsing, "s"),
        ("reading the same rows", reading),
        Goal::AtMost(1.3, "<= 1.3"),
    ))
}

/// Every column that a rehearsal reads, decoded and dropped.
async fn read(
    db: &DatabaseConnection,
    since: DateTime<Utc>,
    until: DateTime<Utc>,
) -> Fallible<f64> {
    let sql =
        "SELECT seq, id, source, kind, severity, state, resource, time, received, summary, value,
            labels FROM alerts
        WHERE received >= $1 AND received < $2 AND kind = 'disk.usage' ORDER BY received, seq";
    let begun = Instant::now();
    let statement =
        Statement::from_sql_and_values(DbBackend::Postgres, sql, vec![since.into(), until.into()]);
    let mut rows = db.stream_raw(statement).await?;
    let mut bytes = 0;
    while let Some(row) = rows.next().await {
        let row = row?;
        for column in ["id", "source", "kind", "state", "resource", "summary"] {
            bytes += row.try_get::<String>("", column)?.len();
        }
        let _: (i64, i16) = (row.try_get("", "seq")?, row.try_get("", "severity")?);
        let _: (DateTime<Utc>, DateTime<Utc>) =
            (row.try_get("", "time")?, row.try_get("", "received")?);
        let (_, labels): (Option<f64>, serde_json::Value) =
            (row.try_get("", "value")?, row.try_get("", "labels")?);
        bytes += usize::from(labels.is_object());
    }
    if bytes == 0 {
        return Err("nothing was read".into());
    }
    Ok(begun.elapsed().as_secs_f64())
}
