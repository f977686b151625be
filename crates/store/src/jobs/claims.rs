//! Claims: which jobs are due, and who executes them.
//!
//! A job that somebody has begun is claimed as it is found. One that nobody has begun is found
//! without a lock and without a row being written: what its author wrote is evaluated first,
//! outside of any transaction, and then [`begin`] writes its claim and its first record in one
//! statement, if it is still as it was found. Whoever loses a job to another node has evaluated in
//! vain; so each node looks first at a share of the queue that is its own.

use super::{
    Claim, ClaimedJob, LEASE_SECONDS,
    guards::{self, AdmittedBy, Judged},
    new::LAUNCHED_BY,
    record::{ClaimedRecord, Record},
    recording::{Holds, write},
};
use crate::{StoreError, sql, stored::Stored};
use arvok_core::{
    AlarmId, AlertId, JobId, TraceContext, Trial,
    guard::{Guards, LaunchedBy, QueuePlace},
    job::{JobState, Progress},
};
use chrono::{DateTime, Utc};
use sea_orm::{
    ConnectionTrait, DatabaseConnection, DatabaseTransaction, FromQueryResult, TransactionTrait,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    hash::{DefaultHasher, Hash, Hasher},
};

/// How many jobs of a runbook there may be at once, where it says so.
pub type AtOnce = (String, i32);

/// What holds jobs back besides their targets.
#[derive(Clone, Copy, Debug)]
pub struct Limited<'a> {
    /// Runbooks of which there may be so many jobs at once.
    pub at_once: &'a [AtOnce],
    /// The guards.
    pub guards: &'a Guards,
}

impl Default for Limited<'_> {
    fn default() -> Self {
        static NONE: Guards = Guards::NONE;
        Self { at_once: &[], guards: &NONE }
    }
}

/// What a node looks for.
#[derive(Clone, Copy, Debug, Default)]
pub struct Search<'a> {
    /// The node.
    pub node: &'a str,
    /// Claims of executions that are alive in it, which are not taken up again.
    pub alive: &'a [Claim],
    /// Jobs whose first events it is deciding about.
    pub deciding: &'a [JobId],
    /// What holds them back besides their targets.
    pub limited: Limited<'a>,
    /// Most jobs.
    pub several: usize,
    /// Whether jobs that nobody has begun are claimed as well, instead of being found only.
    pub alone: bool,
    /// Which part of the queue it looks at first.
    pub share: Share,
}

/// A part of the queue of jobs that nobody has begun: which of the nodes that are alive this one
/// is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Share {
    /// From zero.
    pub rank: u64,
    /// The number of nodes.
    pub of: u64,
}

/// Most nodes for which more of the queue is read than one of them begins.
const MOST_SHARES: u64 = 8;

impl Default for Share {
    fn default() -> Self {
        Self { rank: 0, of: 1 }
    }
}

impl Share {
    /// How many jobs are looked at so that as many of this node's own are among them.
    fn window(self, several: usize) -> usize {
        several.saturating_mul(usize::try_from(self.of.clamp(1, MOST_SHARES)).unwrap_or(1))
    }

    /// Whether a job is of this share. Jobs on one target are of the same.
    fn has(self, row: &ClaimedRow) -> bool {
        let mut hasher = DefaultHasher::new();
        if row.holds {
            row.target.hash(&mut hasher)
        } else {
            row.id.hash(&mut hasher)
        }
        hasher.finish() % self.of.max(1) == self.rank
    }
}

/// What a claim has found.
#[derive(Debug, Default)]
pub struct Claimed {
    /// The jobs; none if none is due.
    pub jobs: Vec<ClaimedJob>,
    /// Whether nobody has begun them: they are claimed when they [`begin`], and not yet.
    pub unbegun: bool,
    /// Whether more may be due than was looked at.
    pub more: bool,
}

#[derive(FromQueryResult)]
struct ClaimedRow {
    id: i64,
    claim: i64,
    state: Stored<JobState>,
    runbook: String,
    runbook_version: i32,
    inputs: serde_json::Value,
    target: String,
    alert_seq: Option<i64>,
    alarm_id: Option<i64>,
    created_at: DateTime<Utc>,
    progress: serde_json::Value,
    begun: bool,
    word: Option<serde_json::Value>,
    word_number: i32,
    posts: i32,
    depth: i16,
    holds: bool,
    trace: Option<String>,
    trial: Option<Stored<Trial>>,
    urgency: i16,
    deadline: Option<DateTime<Utc>>,
    rule: Option<String>,
    rule_version: Option<i32>,
    launched_by: Stored<LaunchedBy>,
    held_by: Option<String>,
    overruled: Vec<String>,
}

impl ClaimedRow {
    /// Whether it is that of a trial that leaves all undone.
    fn is_dry(&self) -> bool {
        self.trial == Some(Stored(Trial::Dry))
    }

    /// Whether nothing of it is known yet that its first record would not tell as well.
    fn is_fresh(&self) -> bool {
        self.state.0 == JobState::Queued && !self.begun && self.word.is_none()
    }
}

const CLAIMED: &str = "id, state, runbook, runbook_version, inputs, target, alert_seq, alarm_id, \
    created_at, progress,
    begun, word, word_number, posts, depth, holds, trace, trial,
    urgency, deadline, rule, rule_version,
    held ->> 'guard' AS held_by,
    coalesce(ARRAY(SELECT o ->> 'guard' FROM jsonb_array_elements(overruled) o), '{}') AS overruled";

/// The statement that looks for jobs to claim, for whoever wants to know what it looks at: `$1`
/// claims that are alive, `$2` and `$3` runbooks and how many of their jobs there may be at once,
/// `$4` jobs that are not looked at, `$5` how many are looked for, `$6` how many of those that
/// nobody has begun. The function goes through the index of each way to become due, in its order,
/// and what it finds became due in the same way.
pub fn claiming() -> String {
    format!(
        "SELECT nextval('claim_number') AS claim, {CLAIMED}, {LAUNCHED_BY} FROM jobs_due($1, $2, $3, $4, $5, $6)
        WHERE NOT EXISTS (SELECT 1 FROM halt WHERE is_one)"
    )
}

/// Takes the next jobs that are due: first what waits or was left behind, then by urgency, deadline
/// and age. Jobs that nobody has begun are only found, unless the search is `alone`.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn claim(db: &DatabaseConnection, search: Search<'_>) -> Result<Claimed, StoreError> {
    let Search { node, limited, several, .. } = search;
    let tx = db.begin().await?;
    let mut found = find(&tx, search).await?;
    let all = found.len();
    let fresh = found.first().is_some_and(ClaimedRow::is_fresh);
    found.retain(|row| row.is_fresh() == fresh);
    // What nobody has begun is looked for last.
    let more = !fresh || all == search.share.window(several) || found.len() < all;
    found = in_order_of_share(found, search.share);
    one_a_target(&mut found);
    found.truncate(several);
    let counted = |row: &ClaimedRow| {
        // What leaves all undone takes nobody's place.
        let counts = row.state.0 == JobState::Queued && row.depth == 0 && !row.is_dry();
        counts.then(|| row.runbook.clone())
    };
    as_many_as_may_be(&tx, &mut found, (limited.at_once, search.deciding), counted).await?;
    // They are written in this order: of two nodes with jobs on the same targets one waits for the
    // other, and never both.
    found.sort_by(|a, b| a.target.cmp(&b.target));
    if found.is_empty() || (fresh && !search.alone) {
        tx.rollback().await?;
        return Ok(Claimed {
            more: more && !found.is_empty(),
            jobs: claimed(found)?,
            unbegun: fresh,
        });
    }
    let mut jobs = claimed(found)?;
    let judged = match judge(&tx, limited.guards, &mut jobs).await {
        // More is published than this node knows; its turn comes.
        Err(StoreError::Stale(_)) => {
            tx.rollback().await?;
            return Ok(Claimed::default());
        }
        judged => judged?,
    };
    let claims: Vec<(JobId, Claim)> = jobs.iter().map(|job| (job.id, job.claim)).collect();
    let written = write_claims(&tx, &claims, node, fresh, judged.admitted()).await;
    let taken = match written.map_err(behind) {
        // Another node took a job on the same target at the same moment; its turn comes.
        Err(StoreError::Behind) => {
            tx.rollback().await?;
            return Ok(Claimed { more: true, ..Claimed::default() });
        }
        taken => taken?,
    };
    judged.write(&tx, &taken).await?;
    tx.commit().await?;
    jobs.retain(|job| taken.contains(&job.id));
    // Where others were quicker, more may be due than they took.
    Ok(Claimed { more: more || jobs.is_empty(), jobs, unbegun: false })
}

/// Asks the guards of those that have not begun, and leaves out what they stop.
async fn judge(
    tx: &DatabaseTransaction,
    guards: &Guards,
    jobs: &mut Vec<ClaimedJob>,
) -> Result<Judged, StoreError> {
    let mut unbegun: Vec<&ClaimedJob> = jobs.iter().filter(|job| job.is_new).collect();
    unbegun.sort_by(|a, b| a.place.order(&b.place));
    let judged = guards::judge(tx, guards, &unbegun).await?;
    jobs.retain(|job| !judged.stops(job.id));
    Ok(judged)
}

/// What is due.
async fn find(tx: &DatabaseTransaction, search: Search<'_>) -> Result<Vec<ClaimedRow>, StoreError> {
    let alive: Vec<i64> = search.alive.iter().map(|c| c.0).collect();
    let deciding: Vec<i64> = search.deciding.iter().map(|job| job.0).collect();
    let (runbooks, most): (Vec<String>, Vec<i32>) = search.limited.at_once.iter().cloned().unzip();
    let number = |n: usize| i32::try_from(n).unwrap_or(i32::MAX);
    let (several, unbegun) = (number(search.several), number(search.share.window(search.several)));
    let values = vec![
        alive.into(),
        runbooks.into(),
        most.into(),
        deciding.into(),
        several.into(),
        unbegun.into(),
    ];
    sql::typed(tx, &claiming(), values).await
}

/// Jobs of the node's own share first; those of others follow, so that none waits for a node that
/// has no room.
fn in_order_of_share(found: Vec<ClaimedRow>, share: Share) -> Vec<ClaimedRow> {
    let (mut own, others): (Vec<_>, Vec<_>) = found.into_iter().partition(|row| share.has(row));
    own.extend(others);
    own
}

/// Of several on one target the first.
fn one_a_target(found: &mut Vec<ClaimedRow>) {
    let mut targets = BTreeSet::new();
    found.retain(|row| !row.holds || targets.insert(row.target.clone()));
}

fn claimed(found: Vec<ClaimedRow>) -> Result<Vec<ClaimedJob>, StoreError> {
    found.into_iter().map(ClaimedRow::job).collect()
}

impl ClaimedRow {
    fn job(self) -> Result<ClaimedJob, StoreError> {
        let row = self;
        Ok(ClaimedJob {
            posts: row.posts,
            depth: row.depth,
            trace: row.trace.as_deref().and_then(TraceContext::parse),
            trial: row.trial.map(|trial| trial.0),
            progress: row.progress,
            begun: row.begun,
            is_new: row.state.0 == JobState::Queued || !row.begun,
            was_claimed: row.state.0 != JobState::Queued && !row.begun,
            word: row
                .word
                .map(|word| serde_json::from_value(word).map(|word| (row.word_number, word)))
                .transpose()?,
            id: JobId(row.id),
            claim: Claim(row.claim),
            runbook: row.runbook,
            runbook_version: row.runbook_version,
            inputs: row.inputs,
            target: row.target,
            alert: row.alert_seq.map(AlertId),
            alarm: row.alarm_id.map(AlarmId),
            created_at: row.created_at,
            place: QueuePlace { urgency: row.urgency, deadline: row.deadline, id: JobId(row.id) },
            rule: row.rule,
            rule_version: row.rule_version,
            launched_by: row.launched_by.0,
            held_by: row.held_by,
            overruled: row.overruled,
        })
    }
}

/// Writes claims to the rows of their jobs. Those that nobody had begun must still be queued,
/// nothing may be halted, and no one may hold what they are steps of, as `jobs_recorded` has it.
const CLAIM: &str = "UPDATE job SET state = 'running', node = $3, claim = c.claim,
    claims = claims + 1, wake_at = NULL,
        lapses = lapses + CASE WHEN state = 'running' THEN 1 ELSE 0 END,
        lease_until = now() + make_interval(secs => $4), started_at = coalesce(started_at, now()),
        guards = guards || (SELECT array_agg(g) FROM jsonb_array_elements_text($6 -> job.id::text) g)
    FROM unnest($1::bigint[], $2::bigint[]) AS c (id, claim)
    WHERE job.id = c.id AND (NOT $5 OR job.state = 'queued' AND NOT job_halted(job)
        AND NOT EXISTS (SELECT 1 FROM job p WHERE p.id = job.parent AND p.state = 'paused'))
    RETURNING job.id";

#[derive(FromQueryResult)]
struct Id {
    id: i64,
}

/// The jobs whose claims were written.
async fn write_claims(
    db: &impl ConnectionTrait,
    claims: &[(JobId, Claim)],
    node: &str,
    fresh: bool,
    admitted: &AdmittedBy,
) -> Result<BTreeSet<JobId>, StoreError> {
    let (jobs, numbers): (Vec<i64>, Vec<i64>) =
        claims.iter().map(|(job, claim)| (job.0, claim.0)).unzip();
    if jobs.is_empty() {
        return Ok(BTreeSet::new());
    }
    let admitted = serde_json::to_value(admitted)?;
    let values = vec![
        jobs.into(),
        numbers.into(),
        node.into(),
        LEASE_SECONDS.into(),
        fresh.into(),
        admitted.into(),
    ];
    let written: Vec<Id> = sql::typed(db, CLAIM, values).await?;
    Ok(written.into_iter().map(|row| JobId(row.id)).collect())
}

/// What stands in the way of a claim: another on the same target was quicker.
fn behind(e: StoreError) -> StoreError {
    if e.is_passing() { StoreError::Behind } else { e }
}

/// Leaves out what is one too many of its runbook, where `counted` names it; those that are decided
/// about count as begun. Whoever else begins one of it waits until the transaction ends.
async fn as_many_as_may_be<T>(
    tx: &DatabaseTransaction,
    found: &mut Vec<T>,
    (at_once, deciding): (&[AtOnce], &[JobId]),
    counted: impl Fn(&T) -> Option<String>,
) -> Result<(), StoreError> {
    // In one order, whoever asks for several.
    let mut room = BTreeMap::new();
    let begun: BTreeSet<String> = found.iter().filter_map(&counted).collect();
    for runbook in begun {
        if let Some((_, most)) = at_once.iter().find(|(name, _)| *name == runbook) {
            let alive = alive_of(tx, &runbook, deciding).await?;
            room.insert(runbook, i64::from(*most) - alive);
        }
    }
    found.retain(|one| match counted(one).and_then(|runbook| room.get_mut(&runbook)) {
        Some(room) => {
            *room -= 1;
            *room >= 0
        }
        None => true,
    });
    Ok(())
}

/// How many jobs of a runbook there are, which nobody changes by beginning one until the end of the
/// transaction; with those of some jobs that are not begun yet.
async fn alive_of(
    tx: &DatabaseTransaction,
    runbook: &str,
    deciding: &[JobId],
) -> Result<i64, StoreError> {
    #[derive(FromQueryResult)]
    struct Count {
        n: i64,
    }
    sql::run(
        tx,
        "SELECT pg_advisory_xact_lock(hashtextextended('runbook ' || $1, 0))",
        vec![runbook.into()],
    )
    .await?;
    let sql = "SELECT (SELECT count(*) FROM job WHERE runbook = $1 AND parent IS NULL
            AND trial IS DISTINCT FROM 'dry'
            AND state IN ('running', 'waiting', 'paused', 'unsure'))
        + (SELECT count(*) FROM job WHERE id = ANY($2) AND runbook = $1 AND parent IS NULL
        AND trial IS DISTINCT FROM 'dry' AND state = 'queued') AS n";
    let deciding: Vec<i64> = deciding.iter().map(|job| job.0).collect();
    let counted: Vec<Count> = sql::typed(tx, sql, vec![runbook.into(), deciding.into()]).await?;
    Ok(counted.first().map_or(0, |c| c.n))
}

/// A job that nobody has begun yet, and what its first event came to.
#[derive(Clone, Copy, Debug)]
pub struct First<'a> {
    /// As it was found.
    pub job: &'a ClaimedJob,
    /// What is recorded; none if it lets the job wait: that record locks the job's alarm, intake
    /// locks alarms before jobs, and so it is kept by itself after the claim.
    pub record: Option<(&'a Progress, &'a Record)>,
}

impl First<'_> {
    fn claim(&self) -> (JobId, Claim) {
        (self.job.id, self.job.claim)
    }

    fn standing(&self) -> Option<ClaimedRecord<'_>> {
        let (id, claim) = self.claim();
        self.record.map(|(progress, record)| ClaimedRecord { id, claim, progress, record })
    }
}

/// Begins jobs that nobody has begun: writes their claims, and their first records, in one commit.
/// Those that have begun; the others are not any more as they were found, are one too many of
/// their runbook, or are stopped by a guard.
///
/// # Errors
/// [`StoreError::Behind`] if another job on one of the targets has begun meanwhile: none of them
/// has, and that one waits for the other. If the database went away at the very commit, all may
/// have begun; [`super::record()`] then tells.
pub async fn begin(
    db: &DatabaseConnection,
    node: &str,
    mut first: Vec<First<'_>>,
    limited: Limited<'_>,
    now: DateTime<Utc>,
) -> Result<BTreeSet<JobId>, StoreError> {
    let Limited { at_once, guards } = limited;
    let counted = |first: &First<'_>| (first.job.depth == 0).then(|| first.job.runbook.clone());
    let is_limited = |first: &First<'_>| at_once.iter().any(|(name, _)| *name == first.job.runbook);
    let is_guarded = |first: &First<'_>| guards::concerned(guards, first.job);
    let kinds = first.iter().map(|f| f.record.is_some()).collect::<BTreeSet<_>>();
    if kinds.len() < 2 && !first.iter().any(|first| is_limited(first) || is_guarded(first)) {
        return write_first(db, node, &first, &AdmittedBy::new(), now).await;
    }
    let tx = db.begin().await?;
    let begun = async {
        as_many_as_may_be(&tx, &mut first, (at_once, &[]), counted).await?;
        let mut jobs: Vec<&ClaimedJob> = first.iter().map(|first| first.job).collect();
        jobs.sort_by(|a, b| a.place.order(&b.place));
        let judged = guards::judge(&tx, guards, &jobs).await?;
        first.retain(|first| !judged.stops(first.job.id));
        let begun = write_first(&tx, node, &first, judged.admitted(), now).await?;
        judged.write(&tx, &begun).await?;
        Ok(begun)
    };
    match begun.await {
        Ok(begun) => tx.commit().await.map(|()| begun).map_err(StoreError::from),
        Err(e) => {
            // Whoever comes next finds the rows free. If this fails as well, the end of the
            // connection frees them.
            let _ = tx.rollback().await;
            Err(e)
        }
    }
}

async fn write_first(
    db: &impl ConnectionTrait,
    node: &str,
    first: &[First<'_>],
    admitted: &AdmittedBy,
    now: DateTime<Utc>,
) -> Result<BTreeSet<JobId>, StoreError> {
    let standing: Vec<ClaimedRecord<'_>> = first.iter().filter_map(First::standing).collect();
    let claims: Vec<_> = first.iter().filter(|f| f.record.is_none()).map(First::claim).collect();
    let mut begun = write_claims(db, &claims, node, true, admitted).await.map_err(behind)?;
    if !standing.is_empty() {
        let holds = Holds::Nothing { begins_at: node, admitted };
        begun.extend(write(db, &standing, holds, now).await.map_err(behind)?);
    }
    Ok(begun)
}
