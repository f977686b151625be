//! Jobs that end though nobody executes them: cancelled or expired in the queue, in each other's
//! way, or given up.

use super::{ENDED_AT_ONCE, MOST_LAPSES, noted, reason, values_of};
use crate::{StoreError, audit::Act, sql};
use arvok_core::{
    JobId,
    job::{JobEffect, JobState},
};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult};

#[derive(FromQueryResult)]
struct EndedId {
    id: i64,
}

fn numbers(ended: &[EndedId]) -> Vec<JobId> {
    ended.iter().map(|job| JobId(job.id)).collect()
}

/// The statement that ends jobs in a state, with an expression for why; nothing was tried of their
/// effect.
fn ending(state: JobState, why: &str, which: &str) -> String {
    let effect = JobEffect::NotChecked;
    format!(
        "UPDATE job SET state = '{state}', effect = '{effect}', failure = {why},
            finished_at = now(), node = NULL, claim = NULL, lease_until = NULL
        WHERE {which} RETURNING id"
    )
}

/// Gives up what is left behind again and again without coming any further, so that it does not
/// hold its target for ever; the numbers of these jobs, so many at most.
pub async fn give_up(db: &DatabaseConnection) -> Result<Vec<JobId>, StoreError> {
    let sql = ending(
        JobState::Failed,
        "'given up: it was left behind ' || lapses || ' times at the same step; '
            || coalesce(failure, 'the logs of the nodes say why')",
        "id IN (SELECT id FROM job WHERE state = 'running' AND lapses >= $1 AND lease_until < now()
            ORDER BY lease_until LIMIT $2 FOR UPDATE SKIP LOCKED)",
    );
    let values = vec![MOST_LAPSES.into(), ENDED_AT_ONCE.into()];
    Ok(numbers(&sql::typed::<EndedId>(db, &sql, values).await?))
}

/// Ends jobs whose deadline passed before they were started, so many at most; their numbers.
pub async fn expire(db: &DatabaseConnection) -> Result<Vec<JobId>, StoreError> {
    let sql = ending(
        JobState::Expired,
        "'not started before its deadline'",
        "id IN (SELECT id FROM job WHERE state = 'queued' AND deadline <= now()
            ORDER BY deadline LIMIT $1 FOR UPDATE SKIP LOCKED)",
    );
    Ok(numbers(&sql::typed::<EndedId>(db, &sql, vec![ENDED_AT_ONCE.into()]).await?))
}

/// Cancels a job that was not started yet; whether it was not. What somebody does is recorded with
/// it.
pub async fn cancel_queued(
    db: &DatabaseConnection,
    id: JobId,
    words: &str,
    act: Option<Act<'_>>,
) -> Result<bool, StoreError> {
    let cancels = ending(JobState::Cancelled, "$2", "id = $1 AND state = 'queued'");
    let sql = format!("WITH done AS ({cancels}), {}", noted(3));
    let mut values = vec![id.0.into(), reason(words).into()];
    values.extend(values_of(act));
    Ok(!sql::typed::<EndedId>(db, &sql, values).await?.is_empty())
}

/// Ends a job that was not started yet as failed; whether it was not.
pub async fn fail_queued(
    db: &impl ConnectionTrait,
    id: JobId,
    why: &str,
) -> Result<bool, StoreError> {
    let sql = ending(JobState::Failed, "$2", "id = $1 AND state = 'queued'");
    Ok(!sql::typed::<EndedId>(db, &sql, vec![id.0.into(), reason(why).into()]).await?.is_empty())
}
