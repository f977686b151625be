//! Events that jobs wait for: which alerts may be one.
//!
//! Whoever records alerts notes, in the same statement, each that may be what some job waits for;
//! one row for an alert, however many wait. For which jobs it may be is found out afterwards, by
//! one node at a time, and noted for each. That sees a wait once it is recorded; what was recorded
//! before it, or by a transaction that could not see it yet, is found by looking at what is stored:
//! at once, and again when the last of these transactions is over. No more than a thousand alerts
//! are noted for a step that nobody reads; what came beyond these is found in the same way.

use super::{
    Inbox,
    candidates::{Candidates, Waiting, candidates, keys},
};
use crate::{
    StoreError,
    jobs::{Looked, Next},
    read, sql,
};
use arvok_core::{
    JobId,
    job::{Place, StepEvent},
};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait};
use std::collections::{BTreeMap, BTreeSet};

/// Alerts that are read at once.
const AT_ONCE: u64 = 200;
/// How often is found out, at one look, for whom alerts may be.
const HEARD_AT_A_LOOK: usize = 20;
/// Alerts that are noted for a step at most, as `alerts_heard` counts them.
const MOST_NOTED: i64 = 1_000;

/// Alerts that may be what a job waits for.
pub(super) async fn come(
    db: &impl ConnectionTrait,
    job: JobId,
    come: &mut Inbox,
) -> Result<(), StoreError> {
    #[derive(FromQueryResult)]
    struct Heard {
        id: i64,
        place: String,
        alert_seq: i64,
    }
    let mut found: BTreeMap<String, Vec<i64>> = BTreeMap::new();
    let sql = format!(
        "SELECT id, place, alert_seq FROM heard WHERE job_id = $1 ORDER BY id LIMIT {AT_ONCE}"
    );
    let heard: Vec<Heard> = sql::typed(db, &sql, vec![job.0.into()]).await?;
    come.unread |= heard.len() as u64 == AT_ONCE;
    come.again |= come.unread;
    for one in heard {
        come.read.push(one.id);
        found.entry(one.place).or_default().push(one.alert_seq);
    }
    let full = if come.again { full(db, job).await? } else { Vec::new() };
    for (place, stored) in look(db, job, &full, come).await? {
        found.entry(place).or_default().extend(stored);
    }
    let mut seqs: Vec<i64> = found.values().flatten().copied().collect();
    seqs.sort_unstable();
    seqs.dedup();
    if seqs.is_empty() {
        return Ok(());
    }
    let alerts = read::whole_alerts(db, &seqs).await?;
    for (place, mut seqs) in found {
        seqs.sort_unstable();
        seqs.dedup();
        let alerts: Vec<_> = seqs.iter().filter_map(|seq| alerts.get(seq).cloned()).collect();
        come.posts.push((Place::new(place), StepEvent::Heard(alerts)));
    }
    Ok(())
}

/// The steps for which alerts were not noted any more. What is stored is to be looked at for them,
/// once there is room again: what is recorded until then would be missed otherwise.
async fn full(db: &impl ConnectionTrait, job: JobId) -> Result<Vec<String>, StoreError> {
    #[derive(FromQueryResult)]
    struct Full {
        place: String,
    }
    let sql = "SELECT place FROM heard WHERE job_id = $1 GROUP BY place HAVING count(*) >= $2";
    let full: Vec<Full> = sql::typed(db, sql, vec![job.0.into(), MOST_NOTED.into()]).await?;
    let places: Vec<String> = full.into_iter().map(|f| f.place).collect();
    if !places.is_empty() {
        // Where a look is under way it goes on.
        let sql = "UPDATE wait SET settled = false, horizon = NULL, looked = CASE WHEN settled
            THEN 0 ELSE looked END
            WHERE job_id = $1 AND place = ANY($2)";
        sql::run(db, sql, vec![job.0.into(), places.clone().into()]).await?;
    }
    Ok(places)
}

#[derive(FromQueryResult)]
struct Wait {
    place: String,
    key: String,
    since: DateTime<Utc>,
    looked: i64,
    /// 0: not looked at yet; 1: looked at, others may still record what it has not seen; 2: these
    /// are over.
    stage: i32,
}

/// Looks at what is stored for waits that are not settled yet.
async fn look(
    db: &impl ConnectionTrait,
    job: JobId,
    full: &[String],
    come: &mut Inbox,
) -> Result<Vec<(String, Vec<i64>)>, StoreError> {
    #[derive(FromQueryResult)]
    struct Found {
        seq: i64,
    }
    let sql = "SELECT place, key, since, looked, CASE WHEN horizon IS NULL THEN 0
            WHEN pg_snapshot_xmin(pg_current_snapshot()) < horizon THEN 1 ELSE 2 END AS stage
        FROM wait WHERE job_id = $1 AND NOT settled";
    let waits: Vec<Wait> = sql::typed(db, sql, vec![job.0.into()]).await?;
    let mut all = Vec::new();
    for wait in waits {
        // Whoever wakes jobs sees when the transactions that it waits for are over.
        if wait.stage == 1 {
            continue;
        }
        come.again = true;
        if full.contains(&wait.place) {
            continue;
        }
        let (sql, exact) = stored(&wait.key);
        let found: Vec<Found> =
            sql::typed(db, &sql, vec![wait.since.into(), wait.looked.into(), exact.into()]).await?;
        let is_all = (found.len() as u64) < AT_ONCE;
        come.unread |= !is_all;
        let (next, seq) = match (is_all, wait.stage) {
            (false, _) => (Next::Further, found.last().map_or(wait.looked, |f| f.seq)),
            (true, 0) => (Next::WhenTheseAreOver, 0),
            (true, _) => (Next::Nothing, wait.looked),
        };
        come.looked.push(Looked { place: wait.place.clone(), key: wait.key, seq, next });
        all.push((wait.place, found.iter().map(|f| f.seq).collect()));
    }
    Ok(all)
}

/// The statement that finds stored alerts under a key, and the text that it asks for: those of $3
/// that were received since $1, behind number $2. What was received before is not read, however
/// much it is: very many jobs may begin to wait at once, in the middle of a storm.
fn stored(key: &str) -> (String, &str) {
    let (column, exact) = match key.split_at_checked(1) {
        Some(("r", resource)) => {
            let sql = format!(
                "SELECT seq FROM alerts WHERE resource = $3 AND trial IS NULL AND received >= $1
                    AND seq > greatest($2, (SELECT alert_floor($1 - interval '5 minutes')))
                    ORDER BY seq LIMIT {AT_ONCE}"
            );
            return (sql, resource);
        }
        Some(("k", kind)) => ("kind = $3", kind),
        Some(("s", source)) => ("source = $3", source),
        _ => ("$3 = ''", ""),
    };
    // No index has the numbers of a kind or of a source: these are met in the order of reception.
    let sql = format!(
        "SELECT seq FROM alerts WHERE {column} AND trial IS NULL
            AND (received, seq) > (coalesce((SELECT received FROM alerts WHERE seq = $2), $1), $2)
            AND seq >= (SELECT coalesce(max(first_seq), 0) FROM alert_day
                WHERE begun_at <= $1 - interval '5 minutes')
            ORDER BY received, seq LIMIT {AT_ONCE}"
    );
    (sql, exact)
}

/// Alerts of which is found out at once for whom they may be.
const FOUND_OUT: i64 = 500;

/// Finds out of alerts that were recorded for which steps they may be what is waited for; whether
/// there may be more of them. One node at a time does: nothing is lost or noted twice by another,
/// but it would be done twice.
pub async fn hear(db: &DatabaseConnection) -> Result<bool, StoreError> {
    #[derive(FromQueryResult)]
    struct Unheard {
        alert_seq: i64,
    }
    let tx = db.begin().await?;
    let turn = "SELECT pg_try_advisory_xact_lock(hashtextextended('who hears', 0)) AS free";
    let turn: Vec<Turn> = sql::typed(&tx, turn, vec![]).await?;
    let next = "SELECT alert_seq FROM unheard ORDER BY alert_seq LIMIT $1";
    let unheard: Vec<Unheard> = match turn.first() {
        Some(Turn { free: true }) => sql::typed(&tx, next, vec![FOUND_OUT.into()]).await?,
        _ => Vec::new(),
    };
    if unheard.is_empty() {
        tx.rollback().await?;
        return Ok(false);
    }
    let mut seqs: Vec<i64> = unheard.iter().map(|u| u.alert_seq).collect();
    let alerts = read::alerts_without_payload(&tx, &seqs).await?;
    let keys: BTreeSet<String> = alerts.values().flat_map(keys).collect();
    let keys: Vec<String> = keys.into_iter().collect();
    let sql = "SELECT job_id, place, key, chosen FROM wait WHERE key = ANY($1)";
    let waiting: Vec<Waiting> = sql::typed(&tx, sql, vec![keys.into()]).await?;
    // Off the workers that serve everybody.
    let Candidates { found, last } =
        tokio::task::spawn_blocking(move || candidates(waiting, alerts))
            .await
            .map_err(|_| StoreError::BrokenOff("finding out for which steps alerts may be"))?;
    seqs.retain(|seq| *seq <= last);
    let jobs: Vec<i64> = found.iter().map(|n| n.0).collect();
    let places: Vec<String> = found.iter().map(|n| n.1.clone()).collect();
    let alerts: Vec<i64> = found.iter().map(|n| n.2).collect();
    let sql =
        "WITH may AS (SELECT * FROM unnest($1::bigint[], $2::text[], $3::bigint[]) AS m (job_id,
            place, alert_seq)),
            room AS (SELECT m.job_id, m.place FROM (SELECT DISTINCT job_id, place FROM may) m
                WHERE (SELECT count(*) FROM (SELECT 1 FROM heard h
                    WHERE h.job_id = m.job_id AND h.place = m.place LIMIT $4) noted) < $4)
        INSERT INTO heard (job_id, place, alert_seq)
            SELECT may.job_id, may.place, may.alert_seq FROM may JOIN room USING (job_id, place)";
    sql::run(&tx, sql, vec![jobs.into(), places.into(), alerts.into(), MOST_NOTED.into()]).await?;
    let more = unheard.len() as i64 == FOUND_OUT || seqs.len() < unheard.len();
    sql::run(&tx, "DELETE FROM unheard WHERE alert_seq = ANY($1)", vec![seqs.into()]).await?;
    tx.commit().await?;
    Ok(more)
}

#[derive(FromQueryResult)]
struct Turn {
    free: bool,
}

/// Wakes the jobs among those that are `due` for which `noted` notes that they are woken; their
/// numbers. Their rows are locked before any other, as by whoever records them, and of these none
/// is waited for: a job that is just being recorded is woken at the next look.
async fn wake_due(
    db: &impl ConnectionTrait,
    due: &str,
    noted: &str,
) -> Result<Vec<Woken>, StoreError> {
    let sql = format!(
        "WITH due AS MATERIALIZED ({due}),
            free AS MATERIALIZED (SELECT id FROM job WHERE id IN (SELECT job_id FROM due)
                FOR UPDATE SKIP LOCKED),
            noted AS ({noted})
        UPDATE job SET posts = posts + 1, wake_at = CASE WHEN state = 'waiting' THEN now()
        ELSE wake_at END
        WHERE id IN (SELECT job_id FROM noted) AND state IN ('running', 'waiting', 'paused',
        'unsure') RETURNING id"
    );
    sql::typed(db, &sql, vec![]).await
}

#[derive(FromQueryResult)]
struct Woken {
    id: i64,
}

/// Waits that are to be looked at once more, since the transactions that ran when they began are
/// over.
const TO_LOOK_AGAIN: (&str, &str) = (
    "SELECT job_id FROM wait WHERE NOT settled AND NOT called
        AND horizon <= pg_snapshot_xmin(pg_current_snapshot()) ORDER BY horizon LIMIT 2000",
    "UPDATE wait SET called = true FROM free WHERE job_id = free.id AND NOT settled AND NOT called
        AND horizon <= pg_snapshot_xmin(pg_current_snapshot()) RETURNING job_id",
);

/// Alerts that were noted for jobs which do not know of it yet.
const NOTED: (&str, &str) = (
    "SELECT id, job_id FROM heard WHERE NOT told ORDER BY id LIMIT 2000",
    "UPDATE heard SET told = true FROM due JOIN free ON free.id = due.job_id
        WHERE heard.id = due.id RETURNING heard.job_id",
);

/// Wakes the jobs for which alerts were noted, or whose waits are to be looked at once more; their
/// numbers.
pub async fn wake(db: &DatabaseConnection) -> Result<Vec<JobId>, StoreError> {
    for _ in 0..HEARD_AT_A_LOOK {
        if !hear(db).await? {
            break;
        }
    }
    let mut woken = Vec::new();
    for (due, noted) in [TO_LOOK_AGAIN, NOTED] {
        woken.extend(wake_due(db, due, noted).await?);
    }
    Ok(woken.into_iter().map(|w| JobId(w.id)).collect())
}
