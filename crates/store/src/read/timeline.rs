//! Alerts, verdicts and jobs over time. Alerts are counted by minute and verdicts by hour, so that
//! it costs the same however many there are; verdicts of a few hours, and jobs, are found by an
//! index.

use crate::{StoreError, days, sql};
use arvok_api::{JobTimeline, JobTimelineMark, Timeline, TimelineMark};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::{DatabaseConnection, FromQueryResult, Value};

/// Most marks of a timeline.
const MARKS: i64 = 120;
/// The steps between marks, in minutes.
const STEPS: [i64; 9] = [1, 2, 5, 10, 15, 30, 60, 120, 360];

/// Up to so many hours, and so many of them, the verdicts of a rule are counted one by one.
const ONE_BY_ONE: (i64, i64) = (3, 50_000);

const COUNTED: &str = "
    WITH decided AS (
        SELECT date_bin(make_interval(mins => $3::int), minute, $1) AS at,
            sum(count) FILTER (WHERE how = 1) AS dispatched, sum(count) FILTER (WHERE how = 2) AS
            proposed,
            sum(count) FILTER (WHERE how = 3) AS watched, sum(count) FILTER (WHERE how = 4) AS
            folded,
            sum(count) FILTER (WHERE how = 5) AS held, sum(count) FILTER (WHERE how > 0) AS matched
        FROM alert_count WHERE minute >= $1 AND minute < $2 GROUP BY 1
    ), came AS (
        SELECT date_bin(make_interval(mins => $3::int), minute, $1) AS at,
        sum(alerts - repeated) AS alerts
        FROM delivery_count WHERE minute >= $1 AND minute < $2 AND source <> 'arvok' GROUP BY 1
    )
    SELECT at, coalesce(dispatched, 0)::bigint AS dispatched, coalesce(proposed,
    0)::bigint AS proposed,
        coalesce(watched, 0)::bigint AS watched, coalesce(folded, 0)::bigint AS folded, coalesce(held, 0)::bigint AS held,
        greatest(coalesce(alerts, 0) - coalesce(matched, 0), 0)::bigint AS unmatched
    FROM decided FULL JOIN came USING (at) ORDER BY at";

/// The verdicts of a rule, from their counts by hour.
const BY_HOUR: &str = "SELECT hour AS at, how_far(verdict) AS how, count FROM verdict_count
    WHERE rule = $4 AND hour >= $1 AND hour < $2";

/// The verdicts of a rule, one by one, among alerts of those numbers.
const BY_MINUTE: &str = "SELECT at, how_far(verdict) AS how, 1 AS count FROM verdicts
    WHERE rule = $4 AND alert_seq >= $5 AND alert_seq < $6 AND at >= $1 AND at < $2
    AND NOT trial";

/// Verdicts, each with how far it took its alert, summed up by steps.
fn summed_up(verdicts: &str) -> String {
    let sum = |how: i16, name: &str| {
        format!("coalesce(sum(count) FILTER (WHERE how = {how}), 0)::bigint AS {name}")
    };
    let names = ["dispatched", "proposed", "watched", "folded", "held"];
    let sums: Vec<String> = (1..).zip(names).map(|(how, name)| sum(how, name)).collect();
    format!(
        "SELECT date_bin(make_interval(mins => $3::int), at, $1) AS at, {}, 0::bigint AS unmatched
        FROM ({verdicts}) v GROUP BY 1 ORDER BY 1",
        sums.join(", ")
    )
}

const JOBS: &str = "
    SELECT date_bin(make_interval(mins => $3::int), created_at, $1) AS at,
        count(*) FILTER (WHERE effect = 'confirmed') AS confirmed,
        count(*) FILTER (WHERE state = 'succeeded' AND effect IS DISTINCT
        FROM 'confirmed') AS unproved,
        count(*) FILTER (WHERE state IN ('queued', 'running', 'waiting', 'paused')) AS under_way,
        count(*) FILTER (WHERE state IN ('failed', 'refused', 'expired', 'unsure')) AS failed
    FROM job WHERE created_at >= $1 AND created_at < $2 AND trial IS NULL GROUP BY 1 ORDER BY 1";

/// Whole steps of a stretch of time: where they begin, and how many minutes each has.
fn steps(from: DateTime<Utc>, to: DateTime<Utc>, least: i64) -> (DateTime<Utc>, i64) {
    let minutes = (to - from).num_minutes().max(1);
    let step = STEPS
        .into_iter()
        .find(|s| *s >= least && minutes / s <= MARKS)
        .unwrap_or(STEPS[STEPS.len() - 1]);
    let whole = from.timestamp().div_euclid(step * 60) * step * 60;
    (DateTime::from_timestamp(whole, 0).unwrap_or(from), step)
}

/// The timeline of a stretch of time, in whole minutes: of all alerts, or of what one rule decided.
pub async fn timeline(
    db: &DatabaseConnection,
    from: DateTime<Utc>,
    to: DateTime<Utc>,
    rule: Option<&str>,
) -> Result<Timeline, StoreError> {
    let few = match rule {
        Some(rule) if to - from <= TimeDelta::hours(ONE_BY_ONE.0) => {
            verdict_count(db, rule, from, to).await? <= ONE_BY_ONE.1
        }
        _ => false,
    };
    let (from, step) = steps(from, to, if rule.is_none() || few { 1 } else { 60 });
    let end = to + TimeDelta::minutes(1);
    let mut values: Vec<Value> = vec![from.into(), end.into(), step.into()];
    values.extend(rule.map(Value::from));
    let sql = match rule {
        None => COUNTED.to_owned(),
        Some(_) if few => {
            let (first, beyond) = days::numbers(&days::all(db).await?, from, end);
            values.extend([first.into(), beyond.into()]);
            summed_up(BY_MINUTE)
        }
        Some(_) => summed_up(BY_HOUR),
    };
    let marks: Vec<TimelineMark> = sql::rows(db, &sql, values).await?;
    Ok(Timeline { from, to, step_seconds: step * 60, marks })
}

/// How many verdicts a rule gave, in whole hours.
async fn verdict_count(
    db: &DatabaseConnection,
    rule: &str,
    from: DateTime<Utc>,
    to: DateTime<Utc>,
) -> Result<i64, StoreError> {
    #[derive(FromQueryResult)]
    struct Given {
        given: i64,
    }
    let sql = "SELECT coalesce(sum(count), 0)::bigint AS given FROM verdict_count
        WHERE rule = $1 AND hour >= date_trunc('hour', $2::timestamptz, 'UTC') AND hour < $3";
    let rows: Vec<Given> = sql::typed(db, sql, vec![rule.into(), from.into(), to.into()]).await?;
    Ok(rows.first().map_or(0, |r| r.given))
}

/// The jobs that were dispatched in a stretch of time, by what has become of them.
pub async fn job_timeline(
    db: &DatabaseConnection,
    from: DateTime<Utc>,
    to: DateTime<Utc>,
) -> Result<JobTimeline, StoreError> {
    let (from, step) = steps(from, to, 1);
    let values = vec![from.into(), (to + TimeDelta::minutes(1)).into(), step.into()];
    let marks: Vec<JobTimelineMark> = sql::rows(db, JOBS, values).await?;
    Ok(JobTimeline { from, to, step_seconds: step * 60, marks })
}
