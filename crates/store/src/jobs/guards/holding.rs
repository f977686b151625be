//! Jobs that guards hold: set aside with the reason, let back as soon as there is room, in the
//! order of the queue, or begun in spite of a guard.

use super::counting::{GuardsLocked, lock_guards};
use crate::{StoreError, audit, jobs::reason, sql};
use arvok_core::{
    JobId, Principal,
    guard::{GuardHold, Guards, StandingGuard, look_again},
    job::{JobEffect, JobState},
};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait, Value};
use serde_json::json;

/// Most jobs that one guard lets back at once.
const LET_BACK: usize = 16;

/// Most jobs that are let back at once of a guard which is not there any more.
const MOST_FREED: i64 = 1_000;

/// Sets aside those that are held, and ends those that are refused, unless they have begun or ended
/// meanwhile.
pub(super) async fn stop(
    tx: &impl ConnectionTrait,
    stopped: Vec<(JobId, GuardHold, bool)>,
    at: DateTime<Utc>,
) -> Result<(), StoreError> {
    let (refused, held): (Vec<_>, Vec<_>) = stopped.into_iter().partition(|(.., ends)| *ends);
    if !held.is_empty() {
        let rows: Vec<serde_json::Value> = held
            .iter()
            .map(|(job, held, _)| json!({ "id": job, "held": held, "look": look_again(at, held) }))
            .collect();
        // What was put back once without having begun stays as it is, and is looked at anew soon.
        let sql = "UPDATE job j SET held_look = t.look,
                aside = CASE WHEN j.state = 'queued' THEN true ELSE j.aside END,
                lease_until = CASE WHEN j.state = 'running' THEN now() + interval '2 seconds' END,
                held = t.held || jsonb_build_object('since', coalesce(j.held -> 'since',
                    to_jsonb(now())))
            FROM jsonb_to_recordset($1) AS t (id bigint, held jsonb, look timestamptz)
            WHERE j.id = t.id AND (j.state = 'queued' OR (j.state = 'running' AND NOT j.begun))";
        sql::run(tx, sql, vec![serde_json::Value::Array(rows).into()]).await?;
    }
    for (job, held, _) in refused {
        let why = format!("refused by guard {}: {}", held.guard, held.why);
        // What was put back once without having begun is not in the queue any more, and would be
        // looked at before all others again and again.
        let sql = format!(
            "UPDATE job SET state = CASE state WHEN 'queued' THEN '{}' ELSE '{}' END,
                effect = '{}', failure = $2, held = NULL,
                finished_at = now(), node = NULL, claim = NULL, lease_until = NULL
            WHERE id = $1 AND (state = 'queued' OR (state = 'running' AND NOT begun))",
            JobState::Refused,
            JobState::Failed,
            JobEffect::NotChecked
        );
        sql::run(tx, &sql, vec![job.0.into(), reason(&why).into()]).await?;
    }
    Ok(())
}

/// Has a job begin in spite of the guard that holds it; whether that guard holds it.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn overrule(
    db: &DatabaseConnection,
    job: JobId,
    guard: &str,
    by: &Principal,
    why: &str,
) -> Result<bool, StoreError> {
    let tx = db.begin().await?;
    let sql = "UPDATE job SET aside = false, held_look = NULL, overruled = coalesce(overruled, '[]')
            || jsonb_build_array(jsonb_build_object('guard', $2, 'by', $3, 'reason', $4, 'at', now()))
        WHERE id = $1 AND state = 'queued' AND held ->> 'guard' = $2
            AND NOT coalesce(overruled, '[]') @> jsonb_build_array(jsonb_build_object('guard', $2))";
    let why = reason(why);
    let values = vec![job.0.into(), guard.into(), by.to_string().into(), why.as_str().into()];
    let done = sql::run(&tx, sql, values).await? > 0;
    if done {
        let detail = format!("guard {guard}: {why}");
        audit::record(&tx, by, "guard.overruled", &audit::job_name(job), &detail).await?;
    }
    tx.commit().await?;
    Ok(done)
}

/// Which guards are looked at when what they hold is let back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LetBack {
    /// Those of which the first that waits is the first that may begin: whenever a job has ended.
    InOrder,
    /// All of them: now and then, since of those others what waits is tried in vain.
    All,
}

/// What was let back.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct HeldJobs {
    /// How many guards held some.
    pub guards: usize,
    /// How many jobs were let back.
    pub let_back: u64,
}

/// Lets back what guards hold, as many as there is room for.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn let_back_held(
    db: &DatabaseConnection,
    guards: &Guards,
    which: LetBack,
) -> Result<HeldJobs, StoreError> {
    #[derive(FromQueryResult)]
    struct Name {
        name: String,
    }
    let asked = guards.iter().filter(|s| which == LetBack::All || !s.guard.is_selective());
    let names: Vec<String> = asked.map(|standing| standing.guard.name.clone()).collect();
    if names.is_empty() {
        return Ok(HeldJobs::default());
    }
    let sql = "SELECT n AS name FROM unnest($1::text[]) n WHERE EXISTS (SELECT 1 FROM job
        WHERE state = 'queued' AND held IS NOT NULL AND held ->> 'guard' = n AND aside)";
    let holding: Vec<Name> = sql::typed(db, sql, vec![names.into()]).await?;
    let mut held = HeldJobs { guards: holding.len(), let_back: 0 };
    for Name { name } in holding {
        if let Some(standing) = guards.get(&name) {
            held.let_back += let_back_by(db, standing).await?;
        }
    }
    Ok(held)
}

/// Lets back what one guard holds.
async fn let_back_by(db: &DatabaseConnection, standing: &StandingGuard) -> Result<u64, StoreError> {
    let tx = db.begin().await?;
    let GuardsLocked { states, at, .. } = match lock_guards(&tx, &[standing], &[]).await {
        // Others know more of it, and do this.
        Err(StoreError::Stale(_)) => return Ok(0),
        locked => locked?,
    };
    let state = states.into_values().next().unwrap_or_default();
    let room = standing.room(at, &state, LET_BACK);
    // Those that it may not keep for long are asked one after another.
    let order =
        if standing.guard.is_selective() { "held_look, id" } else { "urgency DESC, deadline, id" };
    // Where all places are taken, a step of a job that has one of them may begin all the same.
    let (room, which) = match room {
        0 if standing.guard.at_once.is_some() => (1, "AND depth > 0"),
        room => (room, ""),
    };
    let sql = format!(
        "WITH on_their_way AS (SELECT count(*) AS n FROM job WHERE state = 'queued'
                AND held IS NOT NULL AND held ->> 'guard' = $1 AND aside IS NOT TRUE)
        UPDATE job SET aside = false, held_look = NULL WHERE id IN (SELECT id FROM job
            WHERE state = 'queued' AND held IS NOT NULL AND held ->> 'guard' = $1 AND aside
                AND coalesce(deadline, 'infinity') > now() {which}
            ORDER BY {order} LIMIT greatest(0, $2 - (SELECT n FROM on_their_way))
            FOR UPDATE SKIP LOCKED)"
    );
    let room = i64::try_from(room).unwrap_or(0);
    let back = match room {
        0 => 0,
        room => {
            let values: Vec<Value> = vec![standing.guard.name.clone().into(), room.into()];
            sql::run(&tx, &sql, values).await?
        }
    };
    tx.commit().await?;
    Ok(back)
}

/// Lets back what is held by guards that are not there any more, so many at most; how many. Nothing
/// if more is published than the caller knows: it may be one that is new.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn free(
    db: &impl ConnectionTrait,
    guards: &Guards,
    generation: i64,
) -> Result<u64, StoreError> {
    let names: Vec<String> = guards.iter().map(|standing| standing.guard.name.clone()).collect();
    let sql = "UPDATE job SET aside = false, held_look = NULL WHERE id IN (SELECT id FROM job
        WHERE state = 'queued' AND held IS NOT NULL AND held ->> 'guard' <> ALL($1) AND aside
            AND (SELECT c.generation FROM catalog c) = $3
        ORDER BY id LIMIT $2 FOR UPDATE SKIP LOCKED)";
    sql::run(db, sql, vec![names.into(), MOST_FREED.into(), generation.into()]).await
}
