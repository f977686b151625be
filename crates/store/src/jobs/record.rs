//! What is recorded after an event of a job, in one transaction and one statement.

use super::{Claim, Id, LEASE_SECONDS, outside, reason};
use crate::{
    StoreError,
    sql::{self, NO_TIME},
};
use arvok_core::{
    JobId,
    job::{Emitted, JobEffect, JobState, Listening, Place, Progress, Question, Summary},
};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DatabaseConnection, TransactionTrait, Value};
use std::collections::BTreeMap;

/// What is recorded after an event of a job, in one transaction.
#[derive(Clone, Debug, Default)]
pub struct Record {
    /// Tries that began.
    pub began: Vec<Began>,
    /// Tries that ended.
    pub ended: Vec<Ended>,
    /// What lists show of it.
    pub summary: Summary,
    /// The number of the word of a person's that it has heard.
    pub heard: Option<i32>,
    /// How much has come for it from outside, as far as its walk has seen it.
    pub posts: i32,
    /// Questions that it asks.
    pub asked: Vec<Question>,
    /// Events that it begins to wait for.
    pub listens: Vec<Listening>,
    /// Steps whose questions or events are not waited for any more.
    pub withdrawn: Vec<String>,
    /// Events that it tells of.
    pub emitted: Vec<Emitted>,
    /// What was heard of alerts, and is not what is waited for.
    pub passed_over: Vec<i64>,
    /// What becomes of the job.
    pub then: Then,
}

/// A try of a step that began.
#[derive(Clone, Debug)]
pub struct Began {
    /// The step.
    pub place: Place,
    /// Which try, from one.
    pub attempt: i32,
    /// What was given.
    pub give: serde_json::Value,
    /// What is sent for it.
    pub request: Option<serde_json::Value>,
}

/// A try of a step that ended.
#[derive(Clone, Debug)]
pub struct Ended {
    /// The step.
    pub place: Place,
    /// Which try, from one.
    pub attempt: i32,
    /// `done`, `failed`, `unsure`, `skipped`, `stopped`.
    pub state: &'static str,
    /// What it gave.
    pub output: Option<serde_json::Value>,
    /// What went wrong.
    pub error: Option<String>,
}

/// What becomes of a job after an event.
#[derive(Clone, Debug, Default)]
pub enum Then {
    /// The node goes on with it.
    #[default]
    GoOn,
    /// It is let go until then.
    Wait {
        /// Until when.
        until: DateTime<Utc>,
        /// If it is woken by its alarm as well: when the alarm had changed last, as it was seen.
        alarm: Option<Option<DateTime<Utc>>>,
    },
    /// It is let go until a person lets it go on.
    Rest,
    /// Its state is final, or unsure.
    End {
        /// The state.
        state: JobState,
        /// Whether it helped.
        effect: Option<JobEffect>,
        /// Why not.
        failure: Option<String>,
        /// What it gave.
        outputs: serde_json::Value,
    },
}

/// Keeps a job's progress and records.
///
/// # Errors
/// [`StoreError::ClaimLost`] if another claim holds the job by now. After any error nothing was
/// kept, or, if the connection was lost at the very commit, all of it: the same record may be
/// tried again.
pub async fn record(
    db: &DatabaseConnection,
    (id, claim): (JobId, Claim),
    progress: &Progress,
    record: &Record,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let (sql, values) = recording(id, claim, progress, record, Holds::Claim, now)?;
    let kept: Vec<Id> = match record.then {
        Then::Wait { .. } => {
            let tx = db.begin().await?;
            // Alarm before job, as intake does: a clearing under way is waited for and then seen
            // below, and one that comes later finds the job waiting. Without it each could miss the
            // other, and the job would sleep through the proof of its effect.
            let lock = "SELECT 1 FROM alarm WHERE id = (SELECT alarm_id FROM job WHERE id = $1) FOR SHARE";
            tx.query_all_raw(sql::statement(lock, vec![id.0.into()])).await?;
            let kept = sql::typed(&tx, &sql, values).await?;
            tx.commit().await?;
            kept
        }
        _ => sql::typed(db, &sql, values).await?,
    };
    if kept.is_empty() { Err(StoreError::ClaimLost) } else { Ok(()) }
}

/// What holds the job whose record is written.
#[derive(Clone, Copy)]
pub(super) enum Holds<'a> {
    /// Its claim, which stands on its row.
    Claim,
    /// The lock of its row; the claim for this node is written along.
    Opening(&'a str),
}

/// Job and tries as one statement: without the job's row nothing is written.
pub(super) fn recording(
    id: JobId,
    claim: Claim,
    progress: &Progress,
    record: &Record,
    holds: Holds<'_>,
    now: DateTime<Utc>,
) -> Result<(String, Vec<Value>), StoreError> {
    let furthered = record.ended.iter().any(|e| e.state == "done");
    let progress = serde_json::to_value(progress)?;
    let number = |n: usize| i32::try_from(n).unwrap_or(i32::MAX);
    let Summary { done, total, doing } = &record.summary;
    let mut values = vec![Value::from(id.0), claim.0.into(), progress.into(), now.into(), furthered.into()];
    values.extend::<[Value; 6]>([
        number(*done).into(),
        number(*total).into(),
        reason(doing).into(),
        record.heard.unwrap_or(-1).into(),
        record.posts.into(),
        (!record.asked.is_empty() || !record.listens.is_empty()).into(),
    ]);
    let mut set = next_state(&record.then, &mut values);
    let held = match holds {
        Holds::Claim => "claim = $2 AND state = 'running'",
        Holds::Opening(node) => {
            set.push_str(&opened(&record.then, node, &mut values));
            "$2::bigint IS NOT NULL AND state = 'queued'"
        }
    };
    let (began, ended) = tries(record);
    let mut sql = format!(
        "WITH held AS (UPDATE job SET progress = $3, begun = true, lapses = CASE WHEN $5 THEN 0 ELSE lapses END,
                steps_done = $6, steps = $7, doing = $8, word = CASE WHEN word_number = $9 THEN NULL ELSE word END,
                outside = outside OR $11, {set}
            WHERE id = $1 AND {held} RETURNING id, runbook, rule, target, chain)"
    );
    if !began.is_empty() {
        let source = unnest(&began, now, &mut values);
        sql.push_str(&format!(
            ", began AS (INSERT INTO attempt (job_id, place, attempt, state, started_at, give, request, finished_at, output, error)
            SELECT held.id, t.place, t.attempt, t.state, $4, t.give::jsonb, t.request::jsonb, t.finished, t.output::jsonb, t.error
            FROM held, {source} ON CONFLICT (job_id, place, attempt) DO UPDATE SET state = excluded.state,
                finished_at = excluded.finished_at, output = excluded.output, error = excluded.error)"
        ));
    }
    if !ended.is_empty() {
        let source = unnest(&ended, now, &mut values);
        sql.push_str(&format!(
            ", ended AS (UPDATE attempt a SET state = t.state, finished_at = t.finished, output = t.output::jsonb,
                error = t.error
            FROM held, {source} WHERE a.job_id = held.id AND a.place = t.place AND a.attempt = t.attempt)"
        ));
    }
    outside::write(record, now, &mut sql, &mut values);
    // Mentioned, so that it counts as one of the statement's values wherever it is not used.
    sql.push_str(" SELECT id FROM held WHERE $10::int IS NOT NULL");
    Ok((sql, values))
}

/// The columns of a claim that is written with the first record.
fn opened(then: &Then, node: &str, values: &mut Vec<Value>) -> String {
    let begun = ", claims = claims + 1, wake_at = NULL";
    match then {
        Then::GoOn => {
            values.push(node.into());
            let node = values.len();
            format!(
                "{begun}, state = 'running', node = ${node}, claim = $2,
                lease_until = now() + make_interval(secs => {LEASE_SECONDS})"
            )
        }
        Then::Wait { .. } | Then::Rest => begun.to_owned(),
        Then::End { .. } => format!("{begun}, started_at = coalesce(started_at, $4)"),
    }
}

/// A try as it is written: how it began if it does so now, and how it ended if it has.
type Try<'a> = (&'a str, i32, Option<&'a Began>, Option<&'a Ended>);

/// Tries that are new, also those that end at once; and tries that began before and end now.
fn tries(record: &Record) -> (Vec<Try<'_>>, Vec<Try<'_>>) {
    // Of several ends of one try the last counts: it may have been in doubt first.
    let ends: BTreeMap<(&str, i32), &Ended> = record.ended.iter().map(|e| ((e.place.as_str(), e.attempt), e)).collect();
    let begins: BTreeMap<(&str, i32), &Began> =
        record.began.iter().map(|b| ((b.place.as_str(), b.attempt), b)).collect();
    let began = begins.iter().map(|(at, b)| (at.0, at.1, Some(*b), ends.get(at).copied())).collect();
    let before = ends.iter().filter(|(at, _)| !begins.contains_key(*at));
    (began, before.map(|(at, e)| (at.0, at.1, None, Some(*e))).collect())
}

/// Tries as a table; their columns are added to the values.
fn unnest(tries: &[Try<'_>], now: DateTime<Utc>, values: &mut Vec<Value>) -> String {
    let clean = |text: String| text.replace('\0', "\u{fffd}");
    let first = values.len() + 1;
    values.extend::<[Value; 8]>([
        tries.iter().map(|t| t.0.to_owned()).collect::<Vec<String>>().into(),
        tries.iter().map(|t| t.1).collect::<Vec<i32>>().into(),
        tries.iter().map(|t| t.3.map_or("running", |e| e.state).to_owned()).collect::<Vec<_>>().into(),
        sql::texts(tries.iter().map(|t| t.2.map(|b| b.give.to_string()))),
        sql::texts(tries.iter().map(|t| t.2.and_then(|b| b.request.as_ref()).map(ToString::to_string))),
        sql::moments(tries.iter().map(|t| t.3.map(|_| now))),
        sql::texts(tries.iter().map(|t| t.3.and_then(|e| e.output.as_ref()).map(ToString::to_string))),
        sql::texts(tries.iter().map(|t| t.3.and_then(|e| e.error.clone()).map(clean))),
    ]);
    let types = ["text[]", "int[]", "text[]", "text[]", "text[]", "timestamptz[]", "text[]", "text[]"];
    let columns: Vec<String> = types.iter().enumerate().map(|(i, t)| format!("${}::{t}", first + i)).collect();
    format!(
        "(SELECT place, attempt, state, nullif(give, '') AS give, nullif(request, '') AS request, nullif(finished, {NO_TIME}) AS finished,
            nullif(output, '') AS output, nullif(error, '') AS error
        FROM unnest({}) AS u (place, attempt, state, give, request, finished, output, error)) t",
        columns.join(", ")
    )
}

/// The columns for what becomes of a job, whose values are added; `$4` is now.
fn next_state(then: &Then, values: &mut Vec<Value>) -> String {
    let first = values.len() + 1;
    match then {
        Then::GoOn => "started_at = coalesce(started_at, $4), failure = NULL".to_owned(),
        // An alarm cleared between looking at it and letting go must not be missed.
        Then::Wait { until, alarm } => {
            values.extend::<[Value; 3]>([(*until).into(), alarm.is_some().into(), alarm.flatten().into()]);
            let [woken, seen] = [first + 1, first + 2];
            format!(
                "state = 'waiting', failure = NULL, node = NULL, claim = NULL, lease_until = NULL, waits_for_alarm = ${woken},
                started_at = coalesce(started_at, $4), wake_at =
                    CASE WHEN job.word IS NOT NULL AND job.word_number <> $9 OR job.posts <> $10 THEN now()
                    WHEN ${woken} AND EXISTS (SELECT 1 FROM alarm a WHERE a.id = job.alarm_id AND a.state = 'cleared'
                        AND a.changed_at IS DISTINCT FROM ${seen}) THEN now() ELSE ${first} END"
            )
        }
        Then::Rest => "state = 'paused', failure = NULL, node = NULL, claim = NULL, lease_until = NULL,
            started_at = coalesce(started_at, $4)"
            .to_owned(),
        Then::End { state, effect, failure, outputs } => {
            values.extend::<[Value; 4]>([
                state.as_str().into(),
                effect.map(JobEffect::as_str).map(str::to_owned).into(),
                failure.as_ref().map(|f| f.replace('\0', "\u{fffd}")).into(),
                outputs.clone().into(),
            ]);
            let [effect, failure, outputs] = [first + 1, first + 2, first + 3];
            format!(
                "state = ${first}, effect = ${effect}, failure = ${failure}, outputs = ${outputs}, node = NULL,
                claim = NULL, lease_until = NULL,
                finished_at = CASE WHEN ${first} = 'unsure' THEN NULL ELSE $4 END"
            )
        }
    }
}
