//! The overview.

use super::{alarms::select, jobs::ITEM};
use crate::{StoreError, sql};
use arvok_api::{AlarmItem, JobItem, ProposalItem, Strait};
use chrono::{DateTime, TimeDelta, Timelike, Utc};
use sea_orm::DatabaseConnection;

/// Most items of each part.
const MOST: usize = 50;

/// The parts of the overview that the store knows.
#[derive(Clone, Debug)]
pub struct Overview {
    /// From received to confirmed.
    pub strait: Strait,
    /// Jobs for a person.
    pub needs_you: Vec<JobItem>,
    /// Jobs that wait for a person to launch them.
    pub proposals: Vec<ProposalItem>,
    /// Jobs at work.
    pub under_way: Vec<JobItem>,
    /// Alarms that stand or ended within the last five minutes.
    pub alarms: Vec<AlarmItem>,
    /// How many alarms stand.
    pub alarms_open: i64,
    /// Payloads of the window that could not be read.
    pub unreadable: i64,
}

/// Each alert by the furthest that any rule took it, as that is counted by minute; those that led to
/// a job by what became of the first of them.
const NARROWING: &str = "
    WITH counted AS (
        SELECT coalesce(sum(count) FILTER (WHERE shard = -1), 0)::bigint AS former,
            coalesce(sum(count) FILTER (WHERE how = 2), 0)::bigint AS proposed,
            coalesce(sum(count) FILTER (WHERE how = 3), 0)::bigint AS watched,
            coalesce(sum(count) FILTER (WHERE how = 4), 0)::bigint AS folded,
            coalesce(sum(count) FILTER (WHERE how = 5), 0)::bigint AS held
        FROM alert_count WHERE minute >= $1
    ), delivered AS (
        SELECT coalesce(sum(alerts - repeated), 0)::bigint AS alerts, coalesce(sum(repeated), 0)::bigint AS repeated
        FROM delivery_count WHERE minute >= $1
    ), job_of AS (
        SELECT alert_seq, min(job_id) AS job FROM verdicts WHERE verdict = 'dispatched' AND at >= $1 GROUP BY alert_seq
    ), done AS (
        SELECT count(*) AS dispatched,
            count(*) FILTER (WHERE j.id IS NULL OR j.state IN ('queued', 'running', 'waiting')) AS under_way,
            count(*) FILTER (WHERE j.state = 'succeeded' AND j.effect IS DISTINCT FROM 'confirmed') AS unproved,
            count(*) FILTER (WHERE j.state IN ('failed', 'expired', 'refused', 'unsure')) AS failed,
            count(*) FILTER (WHERE j.state = 'succeeded' AND j.effect = 'confirmed') AS confirmed
        FROM job_of LEFT JOIN job j ON j.id = job_of.job
    ), matching AS (
        SELECT dispatched + proposed + watched + folded + held AS matched FROM counted, done
    )
    SELECT greatest(matched, alerts + former) AS distinct, greatest(alerts + former - matched, 0) AS unmatched, matched,
        proposed, watched, folded, held, dispatched, under_way, unproved, failed, confirmed, repeated,
        $1 AS \"from\", $2 AS \"to\", 0 AS received
    FROM counted, delivered, done, matching";

/// Alarms that stand, or ended within the last five minutes; the worst and newest first.
pub async fn open_alarms(db: &DatabaseConnection, now: DateTime<Utc>) -> Result<Vec<AlarmItem>, StoreError> {
    let tail = format!(
        "WHERE count > 0 AND (a.state = 'raised' OR a.cleared_at >= $1)
        ORDER BY (a.state = 'raised') DESC, CASE WHEN a.state = 'raised' THEN a.severity ELSE 0 END DESC, a.changed_at DESC LIMIT {MOST}"
    );
    let recently = now - TimeDelta::minutes(5);
    sql::rows(db, &select(&tail), vec![recently.into()]).await
}

/// The overview of a window that ends now.
pub async fn overview(db: &DatabaseConnection, window: TimeDelta, now: DateTime<Utc>) -> Result<Overview, StoreError> {
    #[derive(serde::Deserialize)]
    struct Counts {
        alarms_open: i64,
        unreadable: i64,
    }
    let from = now - window;
    let from = from.with_second(0).and_then(|t| t.with_nanosecond(0)).unwrap_or(from);
    let mut strait: Strait = sql::maybe(db, NARROWING, vec![from.into(), now.into()]).await?.unwrap_or_default();
    strait.received = strait.distinct + strait.repeated;

    let jobs = |condition: &str, order: &str| {
        format!("SELECT {ITEM} FROM job j WHERE {condition} ORDER BY {order} LIMIT {MOST}")
    };
    let needing = jobs(
        "(j.state IN ('failed', 'refused', 'expired', 'unsure') OR j.effect = 'unconfirmed')
            AND (j.state = 'unsure' OR (j.created_at >= $1
                AND NOT EXISTS (SELECT 1 FROM job later WHERE later.target = j.target AND later.runbook = j.runbook
                    AND later.id > j.id AND later.effect = 'confirmed')))",
        "(j.state = 'unsure') DESC, j.id DESC",
    );
    let needs_you = sql::rows(db, &needing, vec![(now - TimeDelta::hours(24)).into()]).await?;
    let at_work = jobs("j.state IN ('queued', 'running', 'waiting')", "j.urgency DESC, j.id");
    let under_way = sql::rows(db, &at_work, vec![]).await?;
    let sql = "SELECT (SELECT count(*) FROM alarm WHERE state = 'raised') AS alarms_open,
        (SELECT count(*) FROM unreadable WHERE received >= $1) AS unreadable";
    let counts: Option<Counts> = sql::maybe(db, sql, vec![from.into()]).await?;
    let (alarms_open, unreadable) = counts.map_or((0, 0), |c| (c.alarms_open, c.unreadable));
    let open = super::ProposalFilter { state: Some("open".into()), limit: MOST as u64, ..Default::default() };
    let mut proposals = super::proposals(db, open).await?.items;
    proposals.reverse();
    Ok(Overview {
        strait,
        needs_you,
        proposals,
        under_way,
        alarms: open_alarms(db, now).await?,
        alarms_open,
        unreadable,
    })
}
