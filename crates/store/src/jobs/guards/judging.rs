//! Whether jobs may begin: what guards say of those that are to, under their locks.

use super::{
    circuits::open_circuits,
    counting::{AlertLabels, GuardUse, GuardsLocked, count, lock_guards},
    holding::stop,
};
use crate::{StoreError, jobs::ClaimedJob, sql};
use arvok_core::{
    JobId, Trial,
    guard::{Admission, GuardHold, GuardState, GuardedJob, Guards, QueuePlace, StandingGuard},
    rule::Urgency,
    touch::{Touch, covering},
};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DatabaseTransaction, FromQueryResult};
use std::collections::{BTreeMap, BTreeSet};

/// What jobs that begin are counted as, which their rows keep.
pub(in crate::jobs) type AdmittedBy = BTreeMap<JobId, Vec<String>>;

/// What guards say of jobs that are to begin.
#[derive(Debug, Default)]
pub(in crate::jobs) struct Judged {
    /// What those that may begin are counted as, by the guards that let them.
    admitted: AdmittedBy,
    /// What is counted of them beside their rows.
    uses: Vec<(JobId, GuardUse)>,
    /// Those that may not, and whether they ever may.
    stopped: Vec<(JobId, GuardHold, bool)>,
    /// When they were judged.
    at: DateTime<Utc>,
}

impl Judged {
    /// Whether a job may not begin.
    pub fn stops(&self, job: JobId) -> bool {
        self.stopped.iter().any(|(stopped, ..)| *stopped == job)
    }

    /// What those that may begin are counted as.
    pub fn admitted(&self) -> &AdmittedBy {
        &self.admitted
    }

    /// Writes what is counted of those that have begun, and why others have not.
    pub async fn write(
        self,
        tx: &impl ConnectionTrait,
        begun: &BTreeSet<JobId>,
    ) -> Result<(), StoreError> {
        let uses = self.uses.into_iter().filter(|(job, _)| begun.contains(job));
        count(tx, &uses.map(|(_, one)| one).collect::<Vec<_>>()).await?;
        stop(tx, self.stopped, self.at).await
    }
}

/// Asks the guards of jobs that are to begin, in the order in which they are given; the locks of
/// those that concern any are kept until the end of the transaction.
///
/// # Errors
/// [`StoreError::Stale`] if a later version of a guard stands than is known here.
pub(in crate::jobs) async fn judge(
    tx: &DatabaseTransaction,
    guards: &Guards,
    jobs: &[&ClaimedJob],
) -> Result<Judged, StoreError> {
    let asked: Vec<&&ClaimedJob> = jobs.iter().filter(|job| concerned(guards, job)).collect();
    if asked.is_empty() {
        return Ok(Judged::default());
    }
    let concerns = |standing: &&StandingGuard| {
        asked.iter().any(|job| standing.concerns(&guarded(job, Beside::default())))
    };
    let concerning: Vec<&StandingGuard> = guards.iter().filter(concerns).collect();
    let resources: BTreeSet<&str> = match concerning.iter().any(|s| s.guard.untouched.is_some()) {
        true => asked.iter().flat_map(|job| covering(&job.target)).collect(),
        false => BTreeSet::new(),
    };
    let resources: Vec<String> = resources.into_iter().map(str::to_owned).collect();
    let GuardsLocked { mut states, at, touches } = lock_guards(tx, &concerning, &resources).await?;
    for standing in &concerning {
        let opened = states.get(&standing.guard.name).map(|state| standing.opens(at, state));
        open_circuits(tx, opened.as_deref().unwrap_or_default()).await?;
        if let Some(state) = states.get_mut(&standing.guard.name) {
            state.circuits.extend(opened.unwrap_or_default());
        }
    }
    let again: Vec<i64> = asked.iter().filter(|job| job.was_claimed).map(|job| job.id.0).collect();
    let counted = counted(tx, again, &concerning).await?;
    let steps: Vec<i64> = asked.iter().filter(|job| job.depth > 0).map(|job| job.id.0).collect();
    let above = above(tx, steps).await?;
    let asks_labels = concerning.iter().any(|s| s.guard.concerns.asks_labels());
    let labels = match asks_labels {
        true => Some(AlertLabels::of(tx, asked.iter().map(|job| alert(job))).await?),
        false => None,
    };
    let mut judged = Judged { at, ..Judged::default() };
    for job in asked {
        let above = above.get(&job.id).map(Vec::as_slice).unwrap_or_default();
        let passed = counted.get(&job.id).map(Vec::as_slice).unwrap_or_default();
        let asked: Vec<&StandingGuard> =
            concerning.iter().copied().filter(|g| !passed.contains(&g.counted_as())).collect();
        let place = &job.place;
        let but = |other: JobId| other == job.id || above.contains(&other);
        let beside = Beside {
            above,
            touched: touches.of(&job.target, but),
            labels: labels.as_ref().and_then(|labels| labels.get(alert(job))),
        };
        let job = guarded(job, beside);
        one(&asked, &mut states, &mut judged, (&job, place));
    }
    Ok(judged)
}

/// Whether any guard concerns a job. What leaves all undone concerns none.
#[must_use]
pub fn concerned(guards: &Guards, job: &ClaimedJob) -> bool {
    job.trial != Some(Trial::Dry) && guards.concern(&guarded(job, Beside::default()))
}

/// Asks all guards of one job.
fn one(
    guards: &[&StandingGuard],
    states: &mut BTreeMap<String, GuardState>,
    judged: &mut Judged,
    (job, place): (&GuardedJob<'_>, &QueuePlace),
) {
    let concerning: Vec<_> = guards.iter().filter(|standing| standing.concerns(job)).collect();
    let nothing = GuardState::default();
    let mut held = None;
    for standing in &concerning {
        let state = states.get(&standing.guard.name).unwrap_or(&nothing);
        match standing.admit(judged.at, state, (job, place)) {
            Admission::Admit => {}
            Admission::Refuse(why) => return judged.stopped.push((job.id, why, true)),
            Admission::Hold(why) => held = held.or(Some(why)),
        }
    }
    if let Some(why) = held {
        return judged.stopped.push((job.id, why, false));
    }
    for standing in concerning {
        standing.count(judged.at, states.entry(standing.guard.name.clone()).or_default(), job);
        judged.admitted.entry(job.id).or_default().push(standing.counted_as());
        let counted = GuardUse::begins(standing, job, judged.at);
        judged.uses.extend(counted.map(|counted| (job.id, counted)));
    }
}

/// What guards look at besides a job's row.
#[derive(Clone, Copy, Default)]
struct Beside<'a> {
    above: &'a [JobId],
    touched: Option<&'a Touch>,
    labels: Option<&'a BTreeMap<String, String>>,
}

fn alert(job: &ClaimedJob) -> Option<i64> {
    job.alert.map(|alert| alert.0)
}

/// A job as guards look at it.
fn guarded<'a>(job: &'a ClaimedJob, beside: Beside<'a>) -> GuardedJob<'a> {
    let Beside { above, touched, labels } = beside;
    GuardedJob {
        id: job.id,
        runbook: &job.runbook,
        target: &job.target,
        rule: job.rule.as_deref(),
        launched_by: job.launched_by,
        urgency: Urgency::from_rank(job.place.urgency),
        inputs: &job.inputs,
        above,
        overruled: &job.overruled,
        labels,
        touched,
        let_back_by: job.held_by.as_deref(),
    }
}

/// What jobs which were claimed before, and then lost before their first record, are counted as by
/// the guards that have admitted them: they stand in nobody's way but their own.
async fn counted(
    tx: &DatabaseTransaction,
    jobs: Vec<i64>,
    guards: &[&StandingGuard],
) -> Result<AdmittedBy, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        job_id: i64,
        counted_as: String,
    }
    let mut counted = AdmittedBy::new();
    if !jobs.is_empty() {
        let sql = "SELECT j.id AS job_id, k.counted_as FROM job j
                CROSS JOIN LATERAL unnest(j.guards) AS k (counted_as) WHERE j.id = ANY($1)
            UNION SELECT job_id, counted_as FROM guard_use
                WHERE job_id = ANY($1) AND counted_as = ANY($2)";
        let asked: Vec<String> = guards.iter().map(|standing| standing.counted_as()).collect();
        for row in sql::typed::<Row>(tx, sql, vec![jobs.into(), asked.into()]).await? {
            counted.entry(JobId(row.job_id)).or_default().push(row.counted_as);
        }
    }
    Ok(counted)
}

/// The jobs above some, whose steps they are.
async fn above(
    tx: &DatabaseTransaction,
    jobs: Vec<i64>,
) -> Result<BTreeMap<JobId, Vec<JobId>>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        id: i64,
        above: Vec<i64>,
    }
    if jobs.is_empty() {
        return Ok(BTreeMap::new());
    }
    let sql = "WITH RECURSIVE up AS (SELECT id, parent FROM job WHERE id = ANY($1)
            UNION ALL SELECT u.id, j.parent FROM up u JOIN job j ON j.id = u.parent
            WHERE j.parent IS NOT NULL)
        SELECT id, array_agg(parent) AS above FROM up WHERE parent IS NOT NULL GROUP BY id";
    let rows: Vec<Row> = sql::typed(tx, sql, vec![jobs.into()]).await?;
    let named = |row: Row| (JobId(row.id), row.above.into_iter().map(JobId).collect());
    Ok(rows.into_iter().map(named).collect())
}
