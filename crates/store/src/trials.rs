//! Trials cleared away: what was made up, and all that came of it. What is real is told from it by
//! the marks in the rows alone.

use crate::{StoreError, audit, sql};
use arvok_api::ClearedTrials;
use arvok_core::Principal;
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait, Value};

/// Rows of each kind that one transaction removes.
const A_PASS: i64 = 500;
/// Most passes of one clearing; whoever has made up more clears again.
const PASSES: usize = 200;

/// Jobs of trials that are over; what was still to be told of them goes with them.
const JOBS: &str =
    "WITH gone AS (DELETE FROM job WHERE id IN (SELECT j.id FROM job j WHERE j.trial IS NOT NULL
    AND j.state IN ('succeeded', 'failed', 'cancelled', 'expired', 'refused')
    AND NOT EXISTS (SELECT 1 FROM job p WHERE p.id = j.parent
        AND p.state NOT IN ('succeeded', 'failed', 'cancelled', 'expired', 'refused'))
    ORDER BY j.id LIMIT $1 FOR UPDATE SKIP LOCKED) RETURNING id),
    members AS (DELETE FROM gathered g USING gone WHERE g.job_id = gone.id),
    untold AS (DELETE FROM outbox o USING gone WHERE o.job_id = gone.id),
    asked AS (DELETE FROM decision d USING gone WHERE d.job_id = gone.id)
    SELECT count(*) AS n FROM gone";

/// The alerts, each with the verdicts about it. Those of jobs that are still there stay with them.
const ALERTS: &str =
    "WITH gone AS MATERIALIZED (SELECT a.seq FROM alerts a WHERE a.trial IS NOT NULL
        AND NOT EXISTS (SELECT 1 FROM job j WHERE j.alert_seq = a.seq AND j.trial IS NOT NULL)
        ORDER BY a.seq LIMIT $1),
    decided AS (DELETE FROM verdicts v USING gone WHERE v.alert_seq = gone.seq)
    DELETE FROM alerts a USING gone WHERE a.seq = gone.seq";

const ALARMS: &str = "DELETE FROM alarm WHERE id IN (SELECT a.id FROM alarm a WHERE a.trial
    AND NOT EXISTS (SELECT 1 FROM job j WHERE j.alarm_id = a.id AND j.trial IS NOT NULL)
    ORDER BY a.id LIMIT $1)";

const PROPOSALS: &str = "WITH gone AS (DELETE FROM proposal WHERE id IN (SELECT id FROM proposal
    WHERE trial IS NOT NULL ORDER BY id LIMIT $1) RETURNING id, state),
    members AS (DELETE FROM gathered g USING gone WHERE g.job_id = gone.id
        AND gone.state <> 'launched'),
    untold AS (DELETE FROM outbox o USING gone WHERE o.job_id = gone.id)
    SELECT count(*) AS n FROM gone";

/// What rules remember of trials stands under keys that begin so.
const TALLIES: &str = "DELETE FROM tally WHERE (rule, key) IN (SELECT rule, key FROM tally
    WHERE key LIKE 'dry trial %' OR key LIKE 'acting trial %' ORDER BY rule, key LIMIT $1)";
const POOLS: &str = "DELETE FROM pool WHERE (rule, key) IN (SELECT rule, key FROM pool
    WHERE key ~ '^(cap|gather) (dry|acting) trial ' ORDER BY rule, key LIMIT $1)";

/// Removes all of trials but the jobs that are not over and what these are about, in the order in
/// which the intake locks such rows.
///
/// # Errors
/// If the database cannot be worked with; what was removed by then stays so.
pub async fn clear(db: &DatabaseConnection, by: &Principal) -> Result<ClearedTrials, StoreError> {
    let mut cleared = ClearedTrials::default();
    for _ in 0..PASSES {
        let tx = db.begin().await?;
        let run = async |sql: &str| sql::run(&tx, sql, vec![A_PASS.into()]).await;
        let jobs = counted(&tx, JOBS, vec![A_PASS.into()]).await?;
        let (alerts, alarms) = (run(ALERTS).await?, run(ALARMS).await?);
        let proposals = counted(&tx, PROPOSALS, vec![A_PASS.into()]).await?;
        let memories = run(TALLIES).await? + run(POOLS).await?;
        tx.commit().await?;
        cleared.jobs += jobs;
        cleared.alerts += alerts;
        cleared.alarms += alarms;
        cleared.proposals += proposals;
        if jobs + alerts + alarms + proposals + memories == 0 {
            break;
        }
    }
    cleared.under_way = under_way(db).await?;
    let what = format!("{} alerts, {} jobs", cleared.alerts, cleared.jobs);
    audit::record(db, by, "trial.cleared", "trials", &what).await?;
    Ok(cleared)
}

/// How many jobs of trials are not over.
async fn under_way(db: &impl ConnectionTrait) -> Result<u64, StoreError> {
    let sql = "SELECT count(*) AS n FROM job WHERE trial IS NOT NULL
        AND state NOT IN ('succeeded', 'failed', 'cancelled', 'expired', 'refused')";
    counted(db, sql, vec![]).await
}

/// What a statement counts.
async fn counted(
    db: &impl ConnectionTrait,
    sql: &str,
    values: Vec<Value>,
) -> Result<u64, StoreError> {
    #[derive(FromQueryResult)]
    struct Count {
        n: i64,
    }
    let found: Vec<Count> = sql::typed(db, sql, values).await?;
    Ok(found.first().map_or(0, |count| count.n.unsigned_abs()))
}
