//! Calls back: what the other side of a call says when it is done. It enters through the outbox as
//! an event, which the step of the call awaits.

use crate::{StoreError, sql};
use arvok_core::{JobId, job::Place};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, FromQueryResult};
use serde_json::Value;

/// The try of a step whose call back this is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Try {
    /// The job.
    pub job: JobId,
    /// When it was made: numbers come again when a backup is restored.
    pub created: DateTime<Utc>,
    /// The step.
    pub place: Place,
    /// Which try, from one.
    pub attempt: u32,
}

/// Takes what was called back, once. Whether that try still waits for it.
pub async fn record_answer(
    db: &impl ConnectionTrait,
    of: &Try,
    kind: &str,
    called: &Value,
) -> Result<bool, StoreError> {
    #[derive(FromQueryResult)]
    struct Waits {
        #[expect(dead_code, reason = "that there is a row is what counts")]
        id: i64,
    }
    let attempt = i32::try_from(of.attempt).unwrap_or(i32::MAX);
    let at = of.created.timestamp_micros();
    let id = format!("call-{}-{at}-{}-{attempt}", of.job, of.place);
    // A step that waits to be called back is a try that runs; what comes again is known by its id.
    let sql = "WITH waits AS (SELECT j.id, j.runbook, j.rule, j.target, j.chain FROM job j
        JOIN attempt a ON a.job_id = j.id
                WHERE j.id = $1 AND (extract(epoch FROM j.created_at) * 1000000)::bigint = $2
                AND a.place = $3 AND a.attempt = $4 AND a.state = 'running'
                AND j.state IN ('running', 'waiting', 'paused', 'unsure')),
            told AS (INSERT INTO outbox (id, kind, at, job_id, alert)
                SELECT $5, $6, clock_timestamp(), w.id, jsonb_build_object('kind', $6::text,
                'severity', 'indeterminate',
                    'state', 'noted', 'resource', 'job/' || w.id, 'summary', format('job %s (%s): %s was called back', w.id,
                    w.runbook, $3::text), 'labels', jsonb_build_object('job', w.id::text, 'runbook', w.runbook,
                    'step', $3::text, 'attempt', ($4::int)::text), 'body', jsonb_build_object('callback', $7::jsonb, 'job',
                    jsonb_build_object('id', w.id, 'runbook', w.runbook, 'rule', w.rule, 'target', w.target), 'chain',
                    coalesce(w.chain, '[]')))
                FROM waits w WHERE NOT EXISTS (SELECT 1 FROM outbox o WHERE o.id = $5))
        SELECT id FROM waits";
    let values = vec![
        of.job.0.into(),
        at.into(),
        of.place.as_str().into(),
        attempt.into(),
        id.into(),
        kind.into(),
        called.clone().into(),
    ];
    let waits: Vec<Waits> = sql::typed(db, sql, values).await?;
    Ok(!waits.is_empty())
}

/// How many decisions are open that a link may lead to, and how many calls have begun whose end may
/// be told by a call back.
pub async fn links_under_way(db: &impl ConnectionTrait) -> Result<(i64, i64), StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        decisions: i64,
        calls: i64,
    }
    let sql = "SELECT (SELECT count(*) FROM decision WHERE state = 'open') AS decisions,
        (SELECT count(*) FROM job j JOIN attempt a ON a.job_id = j.id WHERE a.state = 'running'
        AND j.state = 'waiting'
            AND a.request IS NOT NULL) AS calls";
    let rows: Vec<Row> = sql::typed(db, sql, vec![]).await?;
    Ok(rows.first().map_or((0, 0), |row| (row.decisions, row.calls)))
}
