//! Queued jobs that something stands in the way of: another on their target, or as many of their
//! runbook as may be at once.
//!
//! Whoever claims passes over them one by one. Where there are many of them they are set aside, and
//! let back when what stood in their way ends (the trigger `jobs_let_back`), or when it is found to
//! be gone: what changes beside them, as a limit that is lifted, or an end at the very moment at
//! which they are set aside, lets none wait for ever.

use super::AtOnce;
use crate::{StoreError, sql};
use sea_orm::{ConnectionTrait, FromQueryResult};

/// Jobs that one statement looks at.
const LOOKED_AT: i64 = 4_000;
/// Targets that one statement looks at.
const TARGETS: i64 = 1_000;

/// What stands in the way of a job `j`; `$1` and `$2` are the runbooks with a limit, and their
/// limits.
const BLOCKED: &str = "((j.holds AND EXISTS (SELECT 1 FROM job o WHERE o.target = j.target
    AND o.holds
            AND o.state IN ('running', 'waiting', 'paused', 'unsure')))
        OR (j.parent IS NULL AND j.trial IS DISTINCT FROM 'dry' AND EXISTS (SELECT 1
        FROM unnest($1::text[], $2::int[]) AS l (runbook, most)
            WHERE l.runbook = j.runbook AND l.most <= (SELECT count(*) FROM job o
            WHERE o.runbook = j.runbook
                AND o.parent IS NULL AND o.trial IS DISTINCT FROM 'dry'
                AND o.state IN ('running', 'waiting', 'paused', 'unsure')))))";

/// Sets aside what something stands in the way of, of the next jobs so many at most; how many.
pub async fn set_aside(db: &impl ConnectionTrait, at_once: &[AtOnce]) -> Result<u64, StoreError> {
    let (runbooks, most): (Vec<String>, Vec<i32>) = at_once.iter().cloned().unzip();
    let sql = format!(
        "UPDATE job SET aside = true WHERE id IN (SELECT j.id FROM job j WHERE j.state = 'queued'
            AND j.aside IS NOT TRUE
            AND j.id IN (SELECT q.id FROM generate_series(3, 0, -1) AS level CROSS JOIN LATERAL
                (SELECT n.id FROM job n WHERE n.state = 'queued' AND n.aside IS NOT TRUE
                    AND n.urgency = level AND coalesce(n.deadline, 'infinity') > now()
                ORDER BY n.urgency DESC, coalesce(n.deadline, 'infinity'), n.id LIMIT $3) q LIMIT $3)
            AND {BLOCKED} FOR UPDATE SKIP LOCKED)"
    );
    sql::run(db, &sql, vec![runbooks.into(), most.into(), LOOKED_AT.into()]).await
}

/// Lets back the first on each target that is free, of so many targets behind `from`; the last of
/// these, or none if there are no more.
pub async fn let_back(
    db: &impl ConnectionTrait,
    at_once: &[AtOnce],
    from: &str,
) -> Result<Option<String>, StoreError> {
    #[derive(FromQueryResult)]
    struct Last {
        last: Option<String>,
        seen: i64,
    }
    let (runbooks, most): (Vec<String>, Vec<i32>) = at_once.iter().cloned().unzip();
    // From one target to the next by the index, however many jobs each has.
    let sql = format!(
        "WITH RECURSIVE target AS ((SELECT a.target FROM job a WHERE a.state = 'queued' AND a.aside
            AND a.target > $3
                    ORDER BY a.target LIMIT 1)
                UNION ALL SELECT (SELECT a.target FROM job a WHERE a.state = 'queued' AND a.aside
                AND a.target > t.target
                    ORDER BY a.target LIMIT 1) FROM target t WHERE t.target IS NOT NULL),
            seen AS (SELECT target FROM target WHERE target IS NOT NULL LIMIT $4),
            first AS (SELECT n.id FROM seen s CROSS JOIN LATERAL (SELECT a.id FROM job a
            WHERE a.state = 'queued' AND a.aside
                    AND a.target = s.target AND coalesce(a.deadline, 'infinity') > now()
                    AND coalesce(a.held_look, '-infinity') <= now()
                ORDER BY a.urgency DESC, coalesce(a.deadline, 'infinity'), a.id LIMIT 1) n),
            back AS (UPDATE job SET aside = false WHERE id IN (SELECT j.id FROM job j
            JOIN first f ON f.id = j.id
                    WHERE NOT {BLOCKED} FOR UPDATE OF j SKIP LOCKED) RETURNING 1)
        SELECT (SELECT max(target) FROM seen) AS last, (SELECT count(*) FROM seen) AS seen,
            (SELECT count(*) FROM back) AS back"
    );
    let values = vec![runbooks.into(), most.into(), from.into(), TARGETS.into()];
    let found: Vec<Last> = sql::typed(db, &sql, values).await?;
    Ok(found.into_iter().next().filter(|l| l.seen == TARGETS).and_then(|l| l.last))
}
