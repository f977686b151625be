//! What is known of a resource.

use crate::{StoreError, sql, touches};
use arvok_core::{ResourcePath, Severity, touch::covering};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, FromQueryResult};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

/// Most alarms, jobs and touches that are told of one.
const MOST: i64 = 100;

/// The alarms that stand on a resource or a part of it, the jobs that hold these, and the jobs that
/// have touched it; a hundred of each at most. Trials are none of them.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn known_of(
    db: &impl ConnectionTrait,
    resource: &ResourcePath,
    now: DateTime<Utc>,
) -> Result<Value, StoreError> {
    #[derive(FromQueryResult)]
    struct Standing {
        resource: String,
        kind: String,
        source: String,
        severity: i16,
        summary: String,
        raised_at: DateTime<Utc>,
    }
    #[derive(Serialize, Deserialize)]
    struct UnderWay {
        job: i64,
        runbook: String,
        target: String,
        state: String,
    }
    let path = resource.as_str();
    let sql = "SELECT resource, kind, source, severity, summary, raised_at FROM alarm
        WHERE state = 'raised' AND NOT trial
            AND (resource = $1 OR starts_with(resource, $1 || '/'))
        ORDER BY severity DESC, raised_at LIMIT $2";
    let standing: Vec<Standing> = sql::typed(db, sql, vec![path.into(), MOST.into()]).await?;
    let alarms = standing.into_iter().map(|a| {
        json!({ "resource": a.resource, "kind": a.kind, "source": a.source,
            "severity": Severity::from_rank(a.severity), "summary": a.summary,
            "since": a.raised_at })
    });
    let alarms: Vec<Value> = alarms.collect();
    // Those that hold a target have an index of their own (`job_target`), however many jobs have
    // ended or are queued.
    let sql = "SELECT id AS job, runbook, target, state FROM job
        WHERE holds AND state IN ('running', 'waiting', 'paused', 'unsure')
            AND (target = $1 OR starts_with(target, $1 || '/'))
        ORDER BY id LIMIT $2";
    let jobs: Vec<UnderWay> = sql::rows(db, sql, vec![path.into(), MOST.into()]).await?;
    let touched = touches::latest(db, covering(path)).await?;
    let touched = touched.of_all().map(|touch| {
        // One that goes on touches it now.
        let ago = touch.ended.map_or(0, |ended| (now - ended).num_seconds().max(0));
        json!({ "job": touch.job, "resource": touch.resource, "ended": touch.ended,
            "seconds_ago": ago })
    });
    let touched: Vec<Value> = touched.collect();
    Ok(json!({ "alarms": alarms, "jobs": jobs, "touched": touched }))
}
