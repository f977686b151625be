//! Alerts over time, by how far any rule took them; as that is counted by minute, so that it costs the
//! same however many there are.

use crate::{StoreError, sql};
use arvok_api::{Timeline, TimelineMark};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::DatabaseConnection;

/// Most marks of a timeline.
const MARKS: i64 = 120;
/// The steps between marks, in minutes.
const STEPS: [i64; 9] = [1, 2, 5, 10, 15, 30, 60, 120, 360];

const COUNTED: &str = "
    WITH decided AS (
        SELECT date_bin(make_interval(mins => $3::int), minute, $1) AS at,
            sum(count) FILTER (WHERE how = 1) AS dispatched, sum(count) FILTER (WHERE how = 2) AS proposed,
            sum(count) FILTER (WHERE how = 3) AS watched, sum(count) FILTER (WHERE how = 4) AS folded,
            sum(count) FILTER (WHERE how = 5) AS held, sum(count) FILTER (WHERE how > 0) AS matched
        FROM alert_count WHERE minute >= $1 AND minute < $2 GROUP BY 1
    ), came AS (
        SELECT date_bin(make_interval(mins => $3::int), minute, $1) AS at, sum(alerts - repeated) AS alerts
        FROM delivery_count WHERE minute >= $1 AND minute < $2 GROUP BY 1
    )
    SELECT at, coalesce(dispatched, 0)::bigint AS dispatched, coalesce(proposed, 0)::bigint AS proposed,
        coalesce(watched, 0)::bigint AS watched, coalesce(folded, 0)::bigint AS folded, coalesce(held, 0)::bigint AS held,
        greatest(coalesce(alerts, 0) - coalesce(matched, 0), 0)::bigint AS unmatched
    FROM decided FULL JOIN came USING (at) ORDER BY at";

/// The timeline of a stretch of time, in whole minutes.
pub async fn timeline(db: &DatabaseConnection, from: DateTime<Utc>, to: DateTime<Utc>) -> Result<Timeline, StoreError> {
    let minutes = (to - from).num_minutes().max(1);
    let step = STEPS.into_iter().find(|s| minutes / s <= MARKS).unwrap_or(STEPS[STEPS.len() - 1]);
    let whole = from.timestamp().div_euclid(step * 60) * step * 60;
    let from = DateTime::from_timestamp(whole, 0).unwrap_or(from);
    let values = vec![from.into(), (to + TimeDelta::minutes(1)).into(), step.into()];
    let marks: Vec<TimelineMark> = sql::rows(db, COUNTED, values).await?;
    Ok(Timeline { from, to, step_seconds: step * 60, marks })
}
