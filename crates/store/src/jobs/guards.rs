//! Guards: whether jobs may begin, which of them are held, and when they are let back.
//!
//! What a guard knows is read under a lock of its own, which is kept until the jobs that it admits
//! have begun, with a row for each in `guard_use`: so over all nodes there is never one too many,
//! whoever dies. How jobs are counted follows from the guard and its group: where others than these
//! versions have counted, all is counted anew. What is held is set aside, and let back as soon as
//! there is room ([`let_back_held`]), in the order of the queue.

use super::{ClaimedJob, reason};
use crate::{StoreError, audit, sql, touches};
use arvok_core::{
    JobId, Principal, Trial,
    guard::{
        Admission, GuardHold, GuardState, GuardedJob, Guards, OpenCircuit, QueuePlace,
        StandingGuard, look_again,
    },
    job::{JobEffect, JobState},
    rule::Urgency,
    touch::{Touch, Touches, covering},
};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::{
    ConnectionTrait, DatabaseConnection, DatabaseTransaction, FromQueryResult, TransactionTrait,
    Value,
};
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet};

/// Most jobs that one guard lets back at once.
const LET_BACK: usize = 16;
/// Most jobs that are counted anew for a guard.
const COUNTED: i64 = 50_000;
/// Most jobs that are let back at once of a guard which is not there any more.
const MOST_FREED: i64 = 1_000;

/// What guards say of jobs that are to begin.
#[derive(Debug, Default)]
pub(super) struct Judged {
    /// What is counted of those that may begin, by job.
    uses: BTreeMap<JobId, Vec<Use>>,
    /// Those that may not, and whether they ever may.
    stopped: Vec<(JobId, GuardHold, bool)>,
    /// When they were judged.
    at: DateTime<Utc>,
}

/// A job as a guard counts it.
#[derive(Debug)]
struct Use {
    guard: String,
    runbook: String,
    target: String,
    amount: Option<f64>,
}

#[derive(FromQueryResult)]
struct StateRow {
    guard: String,
    version: Option<i32>,
    group_version: Option<i32>,
    moment: DateTime<Utc>,
    state: serde_json::Value,
}

impl Judged {
    /// Whether a job may not begin.
    pub fn stops(&self, job: JobId) -> bool {
        self.stopped.iter().any(|(stopped, ..)| *stopped == job)
    }

    /// Writes what is counted of those that have begun, and why others have not.
    pub async fn write(
        self,
        tx: &impl ConnectionTrait,
        begun: &BTreeSet<JobId>,
    ) -> Result<(), StoreError> {
        let uses = self.uses.into_iter().filter(|(job, _)| begun.contains(job));
        let uses: Vec<(JobId, Use)> =
            uses.flat_map(|(job, uses)| uses.into_iter().map(move |one| (job, one))).collect();
        count(tx, uses.iter().map(|(job, one)| (*job, one, self.at))).await?;
        stop(tx, self.stopped, self.at).await
    }
}

/// Asks the guards of jobs that are to begin, in the order in which they are given; the locks of
/// those that concern any are kept until the end of the transaction.
///
/// # Errors
/// [`StoreError::Stale`] if a later version of a guard stands than is known here.
pub(super) async fn judge(
    tx: &DatabaseTransaction,
    guards: &Guards,
    jobs: &[&ClaimedJob],
) -> Result<Judged, StoreError> {
    let asked: Vec<&&ClaimedJob> = jobs.iter().filter(|job| concerned(guards, job)).collect();
    if asked.is_empty() {
        return Ok(Judged::default());
    }
    let concerns = |standing: &&StandingGuard| {
        asked.iter().any(|job| standing.concerns(&guarded(job, &[], None)))
    };
    let concerning: Vec<&StandingGuard> = guards.iter().filter(concerns).collect();
    let (mut states, at) = states(tx, &concerning).await?;
    for standing in &concerning {
        let opened = states.get(&standing.guard.name).map(|state| standing.opens(at, state));
        open_circuits(tx, opened.as_deref().unwrap_or_default()).await?;
        if let Some(state) = states.get_mut(&standing.guard.name) {
            state.circuits.extend(opened.unwrap_or_default());
        }
    }
    let again: Vec<i64> = asked.iter().filter(|job| job.was_claimed).map(|job| job.id.0).collect();
    let counted = counted(tx, again).await?;
    let steps: Vec<i64> = asked.iter().filter(|job| job.depth > 0).map(|job| job.id.0).collect();
    let above = above(tx, steps).await?;
    let touches = match concerning.iter().any(|s| s.guard.untouched.is_some()) {
        true => touches::latest(tx, asked.iter().flat_map(|job| covering(&job.target))).await?,
        false => Touches::default(),
    };
    let mut judged = Judged { at, ..Judged::default() };
    for job in asked {
        let above = above.get(&job.id).map(Vec::as_slice).unwrap_or_default();
        let passed = counted.get(&job.id).map(Vec::as_slice).unwrap_or_default();
        let asked: Vec<&StandingGuard> =
            concerning.iter().copied().filter(|g| !passed.contains(&g.guard.name)).collect();
        let place = &job.place;
        let but = |other: JobId| other == job.id || above.contains(&other);
        let job = guarded(job, above, touches.of(&job.target, but));
        one(&asked, &mut states, &mut judged, (&job, place));
    }
    Ok(judged)
}

/// Whether any guard concerns a job. What leaves all undone concerns none.
pub(super) fn concerned(guards: &Guards, job: &ClaimedJob) -> bool {
    job.trial != Some(Trial::Dry) && guards.concern(&guarded(job, &[], None))
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
        let name = standing.guard.name.clone();
        standing.count(judged.at, states.entry(name.clone()).or_default(), job);
        let counted = Use {
            guard: name,
            runbook: job.runbook.to_owned(),
            target: job.target.to_owned(),
            amount: standing.amount(job),
        };
        judged.uses.entry(job.id).or_default().push(counted);
    }
}

/// A job as guards look at it.
fn guarded<'a>(
    job: &'a ClaimedJob,
    above: &'a [JobId],
    touched: Option<&'a Touch>,
) -> GuardedJob<'a> {
    GuardedJob {
        id: job.id,
        runbook: &job.runbook,
        target: &job.target,
        rule: job.rule.as_deref(),
        by_person: job.by_person,
        urgency: Urgency::from_rank(job.place.urgency),
        inputs: &job.inputs,
        above,
        overruled: &job.overruled,
        touched,
        let_back_by: job.held_by.as_deref(),
    }
}

/// What guards know, and the moment, under their locks.
async fn states(
    tx: &DatabaseTransaction,
    guards: &[&StandingGuard],
) -> Result<(BTreeMap<String, GuardState>, DateTime<Utc>), StoreError> {
    let mut rows = read_states(tx, guards).await?;
    let mut anew = false;
    for row in &rows {
        let Some(standing) = guards.iter().find(|g| g.guard.name == row.guard) else { continue };
        let own = (standing.version, standing.group_version);
        match row.version.zip(row.group_version) {
            Some(counted) if counted == own => {}
            Some(counted) if counted > own => {
                return Err(StoreError::Stale(generation(tx).await?));
            }
            _ => {
                recount(tx, standing).await?;
                anew = true;
            }
        }
    }
    if anew {
        rows = read_states(tx, guards).await?;
    }
    let at = rows.first().map_or_else(DateTime::default, |row| row.moment);
    let read = |row: StateRow| Ok((row.guard, serde_json::from_value(row.state)?));
    Ok((rows.into_iter().map(read).collect::<Result<_, StoreError>>()?, at))
}

/// The generation of what is published.
async fn generation(tx: &DatabaseTransaction) -> Result<i64, StoreError> {
    #[derive(FromQueryResult)]
    struct Generation {
        generation: i64,
    }
    let rows: Vec<Generation> = sql::typed(tx, "SELECT generation FROM catalog", vec![]).await?;
    Ok(rows.first().map_or(0, |row| row.generation))
}

async fn read_states(
    tx: &DatabaseTransaction,
    guards: &[&StandingGuard],
) -> Result<Vec<StateRow>, StoreError> {
    let sql = "SELECT guard, version, group_version, moment, state FROM guards_locked($1)";
    sql::typed(tx, sql, vec![asked(guards.iter().copied())]).await
}

/// What is asked of guards, as the functions of the database read it.
fn asked<'g>(guards: impl Iterator<Item = &'g StandingGuard>) -> Value {
    let asked = guards.map(|standing| {
        let guard = &standing.guard;
        json!({
            "guard": guard.name,
            "targets": guard.counts_targets(),
            "per": guard.per.map(|per| per.within.millis()),
            "most": guard.per.map(|per| per.jobs.of(standing.size())),
            "after": guard.after_failure.map(|after| after.millis()),
            "ceiling": guard.ceiling.as_ref().map(|ceiling| ceiling.within.millis()),
            "circuit": guard.circuit.map(|circuit| circuit.within.millis()),
        })
    });
    serde_json::Value::Array(asked.collect()).into()
}

/// What guards know at the moment, and how many jobs each holds, for whoever looks at them.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn known(
    db: &impl ConnectionTrait,
    guards: &Guards,
) -> Result<BTreeMap<String, (GuardState, i64)>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        guard: String,
        state: serde_json::Value,
        holds: i64,
    }
    let sql = "SELECT k.guard, k.state, (SELECT count(*) FROM job WHERE state = 'queued'
            AND held IS NOT NULL AND held ->> 'guard' = k.guard) AS holds
        FROM guards_known($1) k";
    let rows: Vec<Row> = sql::typed(db, sql, vec![asked(guards.iter())]).await?;
    let read = |row: Row| Ok((row.guard, (serde_json::from_value(row.state)?, row.holds)));
    rows.into_iter().map(read).collect()
}

/// Counts what a guard concerns by the jobs that there are, of those under way and those that it
/// looks back at; what had been counted by another version is forgotten.
async fn recount(tx: &DatabaseTransaction, standing: &StandingGuard) -> Result<(), StoreError> {
    #[derive(FromQueryResult)]
    struct Begun {
        id: i64,
        runbook: String,
        target: String,
        rule: Option<String>,
        by_person: bool,
        urgency: i16,
        inputs: serde_json::Value,
        started_at: DateTime<Utc>,
    }
    let guard = &standing.guard;
    sql::run(tx, "DELETE FROM guard_use WHERE guard = $1", vec![guard.name.clone().into()]).await?;
    let sql =
        "SELECT id, runbook, target, rule, launched_by IS NOT NULL AS by_person, urgency, inputs,
            started_at
        FROM job WHERE started_at IS NOT NULL AND trial IS DISTINCT FROM 'dry'
            AND (state = ANY($1) OR created_at > now() - make_interval(secs => $2))
        ORDER BY id DESC LIMIT $3";
    let begun: Vec<String> = JobState::BEGUN.iter().map(ToString::to_string).collect();
    // A job may have been in the queue for a while.
    let back = guard.window().delta() + TimeDelta::hours(1);
    #[expect(clippy::cast_precision_loss, reason = "whole seconds of a month")]
    let back = back.num_seconds() as f64;
    let jobs: Vec<Begun> =
        sql::typed(tx, sql, vec![begun.into(), back.into(), COUNTED.into()]).await?;
    let mut uses = Vec::new();
    for job in jobs {
        let as_guarded = GuardedJob {
            id: JobId(job.id),
            runbook: &job.runbook,
            target: &job.target,
            rule: job.rule.as_deref(),
            by_person: job.by_person,
            urgency: Urgency::from_rank(job.urgency),
            inputs: &job.inputs,
            above: &[],
            overruled: &[],
            touched: None,
            let_back_by: None,
        };
        if standing.concerns(&as_guarded) {
            let counted = Use {
                guard: guard.name.clone(),
                amount: standing.amount(&as_guarded),
                runbook: job.runbook,
                target: job.target,
            };
            uses.push((JobId(job.id), counted, job.started_at));
        }
    }
    count(tx, uses.iter().map(|(job, one, at)| (*job, one, *at))).await?;
    let sql = "INSERT INTO guard_counted (guard, version, group_version) VALUES ($1, $2, $3)
        ON CONFLICT (guard) DO UPDATE SET version = excluded.version,
            group_version = excluded.group_version";
    let (version, of_group) = (standing.version, standing.group_version);
    sql::run(tx, sql, vec![guard.name.clone().into(), version.into(), of_group.into()]).await?;
    Ok(())
}

/// Writes what is counted.
async fn count<'u>(
    tx: &impl ConnectionTrait,
    uses: impl Iterator<Item = (JobId, &'u Use, DateTime<Utc>)>,
) -> Result<(), StoreError> {
    let rows: Vec<serde_json::Value> = uses
        .map(|(job, one, at)| {
            let Use { guard, runbook, target, amount } = one;
            json!({ "guard": guard, "job_id": job.0, "runbook": runbook, "target": target,
                "amount": amount, "begun_at": at })
        })
        .collect();
    if rows.is_empty() {
        return Ok(());
    }
    let sql = "INSERT INTO guard_use (guard, job_id, runbook, target, amount, begun_at)
        SELECT guard, job_id, runbook, target, amount, begun_at
        FROM jsonb_to_recordset($1) AS u (guard text, job_id bigint, runbook text, target text,
            amount double precision, begun_at timestamptz)
        ON CONFLICT (guard, job_id) DO NOTHING";
    sql::run(tx, sql, vec![serde_json::Value::Array(rows).into()]).await?;
    Ok(())
}

/// Sets aside those that are held, and ends those that are refused, unless they have begun or ended
/// meanwhile.
async fn stop(
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

/// The guards that have admitted jobs which were claimed before, and then lost before their first
/// record: they are counted there, and stand in nobody's way but their own.
async fn counted(
    tx: &DatabaseTransaction,
    jobs: Vec<i64>,
) -> Result<BTreeMap<JobId, Vec<String>>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        job_id: i64,
        guard: String,
    }
    let mut counted: BTreeMap<JobId, Vec<String>> = BTreeMap::new();
    if !jobs.is_empty() {
        let sql = "SELECT job_id, guard FROM guard_use WHERE job_id = ANY($1) AND guard IN
            (SELECT guard FROM guard_counted)";
        for row in sql::typed::<Row>(tx, sql, vec![jobs.into()]).await? {
            counted.entry(JobId(row.job_id)).or_default().push(row.guard);
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

async fn open_circuits(
    tx: &impl ConnectionTrait,
    opened: &[OpenCircuit],
) -> Result<(), StoreError> {
    for OpenCircuit { guard, runbook, since, failures } in opened {
        let sql = "INSERT INTO circuit (guard, runbook, open, since, failures)
            VALUES ($1, $2, true, $3, $4)
            ON CONFLICT (guard, runbook) DO UPDATE SET open = true, since = excluded.since,
                failures = excluded.failures";
        let failures = i32::try_from(*failures).unwrap_or(i32::MAX);
        let values =
            vec![guard.as_str().into(), runbook.as_str().into(), (*since).into(), failures.into()];
        sql::run(tx, sql, values).await?;
    }
    Ok(())
}

/// Looks at the failures of guards, and opens circuits; counts anew what other versions of a guard
/// have counted. Whether a circuit was opened.
///
/// # Errors
/// [`StoreError::Stale`] if a later version of a guard stands than is known here.
pub async fn look_at(db: &DatabaseConnection, guards: &Guards) -> Result<bool, StoreError> {
    #[derive(FromQueryResult)]
    struct Counted {
        guard: String,
        version: i32,
        group_version: i32,
    }
    if guards.is_empty() {
        return Ok(false);
    }
    let sql = "SELECT guard, version, group_version FROM guard_counted";
    let counted: Vec<Counted> = sql::typed(db, sql, vec![]).await?;
    let is_counted = |standing: &StandingGuard| {
        counted.iter().any(|c| {
            c.guard == standing.guard.name
                && (c.version, c.group_version) == (standing.version, standing.group_version)
        })
    };
    let looked_at = guards.iter().filter(|g| g.guard.circuit.is_some() || !is_counted(g));
    let mut any = false;
    for standing in looked_at {
        let tx = db.begin().await?;
        let (states, at) = states(&tx, &[standing]).await?;
        let opened: Vec<OpenCircuit> =
            states.values().flat_map(|state| standing.opens(at, state)).collect();
        open_circuits(&tx, &opened).await?;
        tx.commit().await?;
        any |= !opened.is_empty();
    }
    Ok(any)
}

/// The circuits that are open.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn circuits(db: &impl ConnectionTrait) -> Result<Vec<OpenCircuit>, StoreError> {
    let sql = "SELECT guard, runbook, since, failures FROM circuit WHERE open
        ORDER BY guard, runbook";
    sql::rows(db, sql, vec![]).await
}

/// Closes the circuits of a guard, or that of one runbook: rules dispatch again. How many were
/// open.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn resume(
    db: &DatabaseConnection,
    guard: &str,
    runbook: Option<&str>,
    by: &Principal,
    why: &str,
) -> Result<u64, StoreError> {
    let tx = db.begin().await?;
    // Whoever counts failures at this moment has opened it before, or counts none from now on.
    lock(&tx, guard).await?;
    let sql = "UPDATE circuit SET open = false, resumed_at = clock_timestamp()
        WHERE guard = $1 AND ($2::text IS NULL OR runbook = $2) AND open";
    let closed = sql::run(&tx, sql, vec![guard.into(), runbook.into()]).await?;
    if closed > 0 {
        let what = match runbook {
            Some(runbook) => format!("guard {guard}, runbook {runbook}"),
            None => format!("guard {guard}"),
        };
        audit::record(&tx, by, "guard.resumed", &what, &reason(why)).await?;
    }
    tx.commit().await?;
    Ok(closed)
}

async fn lock(tx: &DatabaseTransaction, guard: &str) -> Result<(), StoreError> {
    let sql = "SELECT pg_advisory_xact_lock(hashtextextended('guard ' || $1, 0))";
    sql::run(tx, sql, vec![guard.into()]).await?;
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

/// Lets back what guards hold, as many as there is room for; how many.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn let_back_held(
    db: &DatabaseConnection,
    guards: &Guards,
    which: LetBack,
) -> Result<u64, StoreError> {
    #[derive(FromQueryResult)]
    struct Name {
        name: String,
    }
    let asked = guards.iter().filter(|s| which == LetBack::All || !s.guard.is_selective());
    let names: Vec<String> = asked.map(|standing| standing.guard.name.clone()).collect();
    if names.is_empty() {
        return Ok(0);
    }
    let sql = "SELECT n AS name FROM unnest($1::text[]) n WHERE EXISTS (SELECT 1 FROM job
        WHERE state = 'queued' AND held IS NOT NULL AND held ->> 'guard' = n AND aside)";
    let holding: Vec<Name> = sql::typed(db, sql, vec![names.into()]).await?;
    let mut back = 0;
    for Name { name } in holding {
        if let Some(standing) = guards.get(&name) {
            back += let_back_by(db, standing).await?;
        }
    }
    Ok(back)
}

/// Lets back what one guard holds.
async fn let_back_by(db: &DatabaseConnection, standing: &StandingGuard) -> Result<u64, StoreError> {
    let tx = db.begin().await?;
    let (states, at) = match states(&tx, &[standing]).await {
        // Others know more of it, and do this.
        Err(StoreError::Stale(_)) => return Ok(0),
        states => states?,
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

/// Removes what no guard looks back at any more, so many rows at most; how many.
///
/// # Errors
/// If the database cannot be worked with.
pub(crate) async fn sweep(db: &impl ConnectionTrait, most: i64) -> Result<u64, StoreError> {
    let sql = "SELECT guards_closed(array_agg(DISTINCT guard)) FROM guard_use WHERE open";
    sql::run(db, sql, vec![]).await?;
    let back = arvok_core::guard::LONGEST.delta() + TimeDelta::days(1);
    let sql = "DELETE FROM guard_use WHERE (guard, job_id) IN (SELECT guard, job_id FROM guard_use
        WHERE NOT open AND begun_at < now() - make_interval(days => $1)
        ORDER BY begun_at LIMIT $2 FOR UPDATE SKIP LOCKED)";
    let days = i32::try_from(back.num_days()).unwrap_or(i32::MAX);
    sql::run(db, sql, vec![days.into(), most.into()]).await
}
