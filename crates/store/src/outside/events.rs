//! Events that jobs wait for: which alerts may be one.
//!
//! Whoever records alerts notes, in the same statement, for which jobs each may be what they wait for. That sees a
//! wait once it is recorded; what was recorded before it, or by a transaction that could not see it yet, is found by
//! looking at what is stored: at once, and again when the last of these transactions is over. No more than a thousand
//! alerts are noted for a step that nobody reads; what came beyond these is found in the same way.

use super::Come;
use crate::{StoreError, read, sql};
use arvok_core::{
    JobId,
    job::{Place, What},
};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, FromQueryResult};
use std::collections::BTreeMap;

/// Alerts that are read at once.
const AT_ONCE: u64 = 200;
/// Alerts that are noted for a step at most, as `alerts_heard` counts them.
const MOST_NOTED: i64 = 1_000;

/// Alerts that may be what a job waits for.
pub(super) async fn come(db: &impl ConnectionTrait, job: JobId, come: &mut Come) -> Result<(), StoreError> {
    #[derive(FromQueryResult)]
    struct Heard {
        id: i64,
        place: String,
        alert_seq: i64,
    }
    let mut found: BTreeMap<String, Vec<i64>> = BTreeMap::new();
    let sql = format!("SELECT id, place, alert_seq FROM heard WHERE job_id = $1 ORDER BY id LIMIT {AT_ONCE}");
    let heard: Vec<Heard> = sql::typed(db, &sql, vec![job.0.into()]).await?;
    come.again |= heard.len() as u64 == AT_ONCE;
    for one in heard {
        come.read.push(one.id);
        found.entry(one.place).or_default().push(one.alert_seq);
    }
    let full = if come.again { full(db, job).await? } else { Vec::new() };
    for (place, stored) in look(db, job, &full, &mut come.again).await? {
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
        come.posts.push((Place::new(place), What::Heard(alerts)));
    }
    Ok(())
}

/// The steps for which alerts were not noted any more. What is stored is to be looked at for them, once there is room
/// again: what is recorded until then would be missed otherwise.
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
        let sql = "UPDATE wait SET settled = false, horizon = NULL, looked = CASE WHEN settled THEN 0 ELSE looked END
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
    /// 0: not looked at yet; 1: looked at, others may still record what it has not seen; 2: these are over.
    stage: i32,
}

/// Looks at what is stored for waits that are not settled yet.
async fn look(
    db: &impl ConnectionTrait,
    job: JobId,
    full: &[String],
    again: &mut bool,
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
        *again = true;
        if wait.stage == 1 || full.contains(&wait.place) {
            continue;
        }
        let (column, exact) = match wait.key.split_at_checked(1) {
            Some(("r", text)) => ("resource = $3", text),
            Some(("k", text)) => ("kind = $3", text),
            Some(("s", text)) => ("source = $3", text),
            _ => ("$3 = ''", ""),
        };
        let sql = format!(
            "SELECT seq FROM alerts WHERE {column} AND received >= $1 AND seq > greatest($2, (SELECT coalesce(max(first_seq), 0)
                FROM alert_day WHERE begun_at <= $1 - interval '5 minutes')) ORDER BY seq LIMIT {AT_ONCE}"
        );
        let found: Vec<Found> = sql::typed(db, &sql, vec![wait.since.into(), wait.looked.into(), exact.into()]).await?;
        let is_all = (found.len() as u64) < AT_ONCE;
        let next = match (is_all, wait.stage) {
            (false, _) => "looked = $4",
            (true, 0) => "looked = 0, horizon = pg_snapshot_xmax(pg_current_snapshot())",
            (true, _) => "settled = true",
        };
        let last = found.last().map_or(wait.looked, |f| f.seq);
        let sql =
            format!("UPDATE wait SET {next} WHERE job_id = $1 AND place = $2 AND key = $3 AND $4::bigint IS NOT NULL");
        let values = vec![job.0.into(), wait.place.clone().into(), wait.key.into(), last.into()];
        sql::run(db, &sql, values).await?;
        all.push((wait.place, found.iter().map(|f| f.seq).collect()));
    }
    Ok(all)
}

/// Wakes the jobs for which alerts were noted; their numbers.
pub async fn wake(db: &impl ConnectionTrait) -> Result<Vec<JobId>, StoreError> {
    #[derive(FromQueryResult)]
    struct Woken {
        id: i64,
    }
    let sql = "WITH told AS (UPDATE heard SET told = true WHERE id IN
            (SELECT id FROM heard WHERE NOT told ORDER BY id LIMIT 2000 FOR UPDATE SKIP LOCKED) RETURNING job_id)
        UPDATE job SET posts = posts + 1, wake_at = CASE WHEN state = 'waiting' THEN now() ELSE wake_at END
        WHERE id IN (SELECT job_id FROM told) AND state IN ('running', 'waiting', 'paused', 'unsure') RETURNING id";
    let woken: Vec<Woken> = sql::typed(db, sql, vec![]).await?;
    Ok(woken.into_iter().map(|w| JobId(w.id)).collect())
}
