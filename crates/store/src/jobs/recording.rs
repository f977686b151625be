//! Records are written in one transaction and one statement; of several jobs that begin together in
//! one statement as well.

use super::{
    LEASE_SECONDS,
    guards::AdmittedBy,
    outside,
    parts::Parts,
    reason,
    record::{AttemptEnd, AttemptStart, ClaimedRecord, Record},
};
use crate::{StoreError, sql};
use arvok_api::StepState;
use arvok_core::{JobId, job::Transition, text::clean_json};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait, Value};
use serde_json::json;
use std::collections::BTreeMap;

/// Keeps a job's progress and records.
///
/// # Errors
/// [`StoreError::ClaimLost`] if another claim holds the job by now. After any error nothing was
/// kept, or, if the connection was lost at the very commit, all of it: the same record may be
/// tried again.
pub async fn record(
    db: &DatabaseConnection,
    standing: ClaimedRecord<'_>,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let kept = match standing.record.then {
        Transition::Wait { alarm: true, .. } => {
            let tx = db.begin().await?;
            // Alarm before job, as intake does: a clearing under way is waited for and then seen
            // below, and one that comes later finds the job waiting. Without it each could miss the
            // other, and the job would sleep through the proof of its effect.
            tx.query_all_raw(sql::statement(LOCK_ALARMS, vec![standing.id.0.into()])).await?;
            let kept = write(&tx, &[standing], Holds::Claim, now).await?;
            if let Some(seen) = standing.record.seen.others_changed_at {
                tx.execute_raw(sql::statement(
                    WAKE_IF_OTHERS_CHANGED,
                    vec![standing.id.0.into(), seen.into()],
                ))
                .await?;
            }
            tx.commit().await?;
            kept
        }
        _ => write(db, &[standing], Holds::Claim, now).await?,
    };
    if kept == [standing.id] { Ok(()) } else { Err(StoreError::ClaimLost) }
}

/// The alarms of a job, in the order in which intake locks alarms.
const LOCK_ALARMS: &str = "SELECT 1 FROM alarm WHERE id IN (SELECT alarm_id FROM job WHERE id = $1
    UNION ALL SELECT alarm_id FROM gathered WHERE job_id = $1) ORDER BY source, resource, kind
    FOR SHARE";

/// A job that waits looks again if one of its further alarms has changed since it was seen.
const WAKE_IF_OTHERS_CHANGED: &str =
    "UPDATE job SET wake_at = now() WHERE id = $1 AND state = 'waiting' AND EXISTS (
    SELECT 1 FROM gathered g JOIN alarm a ON a.id = g.alarm_id
    WHERE g.job_id = $1 AND a.id IS DISTINCT FROM job.alarm_id AND a.changed_at > $2)";

/// What holds the jobs whose records are written.
#[derive(Clone, Copy)]
pub(super) enum Holds<'a> {
    /// Their claims, which stand on their rows.
    Claim,
    /// Nothing yet: nobody has begun them, and their claims for this node are written along, and
    /// what they are counted as by guards.
    Nothing { begins_at: &'a str, admitted: &'a AdmittedBy },
}

/// Writes jobs and their tries as one statement: without a job's row nothing of it is written.
/// Those that were.
pub(super) async fn write(
    db: &impl ConnectionTrait,
    standing: &[ClaimedRecord<'_>],
    holds: Holds<'_>,
    now: DateTime<Utc>,
) -> Result<Vec<JobId>, StoreError> {
    #[derive(FromQueryResult)]
    struct RecordedId {
        id: i64,
    }
    let (sql, values) = recording(standing, holds, now)?;
    let kept: Vec<RecordedId> = sql::typed(db, &sql, values).await?;
    Ok(kept.into_iter().map(|row| JobId(row.id)).collect())
}

fn recording(
    standing: &[ClaimedRecord<'_>],
    holds: Holds<'_>,
    now: DateTime<Utc>,
) -> Result<(String, Vec<Value>), StoreError> {
    let (node, admitted) = match holds {
        Holds::Claim => (None, None),
        Holds::Nothing { begins_at, admitted } => (Some(begins_at.to_owned()), Some(admitted)),
    };
    // In the one order in which rows of jobs are locked.
    let mut standing: Vec<&ClaimedRecord<'_>> = standing.iter().collect();
    standing.sort_by_key(|s| s.id);
    let jobs = standing.iter().map(|s| row(s, admitted)).collect::<Result<Vec<_>, _>>()?;
    let (began, ended): (Vec<_>, Vec<_>) = standing.iter().map(|s| tries(s, now)).unzip();
    let [jobs, began, ended] =
        [jobs, began.concat(), ended.concat()].map(|rows| clean_json(rows.into()).into());
    let held = "WITH held AS (SELECT * FROM jobs_recorded($1, $2, $3, $4, $5, $6))";
    let mut parts =
        Parts::new(held, vec![jobs, began, ended, node.into(), now.into(), LEASE_SECONDS.into()]);
    outside::write(&standing, now, &mut parts);
    Ok(parts.end("SELECT id FROM held"))
}

/// A job as a row of what `jobs_recorded` takes.
fn row(
    standing: &ClaimedRecord<'_>,
    admitted: Option<&AdmittedBy>,
) -> Result<serde_json::Value, StoreError> {
    let Record { summary, then, .. } = standing.record;
    let record = standing.record;
    let furthered = record.ended.iter().any(|e| e.state == StepState::Done);
    let mut row = json!({
        "id": standing.id, "claim": standing.claim.0,
            "progress": serde_json::to_value(standing.progress)?,
        "furthered": furthered, "steps_done": summary.done, "steps": summary.total,
            "doing": reason(&summary.doing),
        "heard": record.heard.unwrap_or(-1), "posts": record.posts,
        "outside": !record.asked.is_empty() || !record.listens.is_empty(),
        "state": then.state(), "failure": then.failure(),
        "ends": matches!(then, Transition::Unsure { .. } | Transition::End { .. }),
        "guards": admitted.and_then(|admitted| admitted.get(&standing.id)),
    });
    match then {
        Transition::GoOn { .. } | Transition::Rest | Transition::Unsure { .. } => {}
        Transition::Wait { until, alarm } => {
            row["until"] = json!(until);
            row["for_alarm"] = json!(alarm);
            row["alarm_seen"] = json!(record.seen.changed_at.filter(|_| *alarm));
        }
        Transition::End { effect, outputs, .. } => {
            row["effect"] = json!(effect);
            row["outputs"] = outputs.clone();
        }
    }
    Ok(row)
}

/// Rows of the tries that are new, also those that end at once; and of those that began before and
/// end now, or were answered or have looked and go on.
fn tries(
    standing: &ClaimedRecord<'_>,
    now: DateTime<Utc>,
) -> (Vec<serde_json::Value>, Vec<serde_json::Value>) {
    let Record { began, ended, answered, saw, .. } = standing.record;
    // Of several looks of one try the last counts.
    let mut saw: BTreeMap<(&str, i32), _> =
        saw.iter().map(|s| ((s.place.as_str(), s.attempt), &s.saw)).collect();
    // Of several ends of one try the last counts: it may have been in doubt first.
    let mut ends: BTreeMap<(&str, i32), &AttemptEnd> =
        ended.iter().map(|e| ((e.place.as_str(), e.attempt), e)).collect();
    let begins: BTreeMap<(&str, i32), &AttemptStart> =
        began.iter().map(|b| ((b.place.as_str(), b.attempt), b)).collect();
    let row = |(place, attempt): (&str, i32), end: Option<&AttemptEnd>| {
        json!({ "job": standing.id, "place": place, "attempt": attempt,
            "state": end.map_or(StepState::Running, |e| e.state),
            "finished_at": end.map(|_| now), "output": end.and_then(|e| e.output.as_ref()),
                "error": end.and_then(|e| e.error.as_ref()) })
    };
    let began = begins.into_iter().map(|(at, began)| {
        let mut row = row(at, ends.remove(&at));
        (row["give"], row["request"]) = (began.give.clone(), json!(began.request));
        row["saw"] = json!(saw.remove(&at));
        row
    });
    let began = began.collect();
    let mut later: BTreeMap<(&str, i32), serde_json::Value> =
        ends.into_iter().map(|(at, end)| (at, row(at, Some(end)))).collect();
    let answers = answered.iter().map(|a| ((a.place.as_str(), a.attempt), "answer", &a.answer));
    let goes_on = |at: (&str, i32)| json!({ "job": standing.id, "place": at.0, "attempt": at.1 });
    for (at, what, value) in answers.chain(saw.into_iter().map(|(at, saw)| (at, "saw", saw))) {
        later.entry(at).or_insert_with(|| goes_on(at))[what] = value.clone();
    }
    (began, later.into_values().collect())
}
