//! Jobs as rows: claimed by one walk at a time, held by a lease, their progress kept step by step.
//!
//! A job is held by the number of its claim, not by a node's name: each claim draws a new number,
//! and whatever is recorded or renewed names it. So a walk that was left behind can record nothing
//! any more, and a node never takes up what it is still walking itself. Leases are measured by the
//! database's clock alone.

use crate::{
    StoreError,
    entity::alarm,
    sql::{self, NO_TIME},
};
use arvok_core::{
    AlarmId, AlertId, JobId, Severity,
    alarm::Alarm,
    job::{JobEffect, JobState, Kept, Place, Progress, Resolution, Summary},
};
use chrono::{DateTime, Utc};
use sea_orm::{
    ConnectionTrait, DatabaseConnection, DatabaseTransaction, EntityTrait, FromQueryResult, TransactionTrait, Value,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// How long a claim holds without being renewed.
pub const LEASE_SECONDS: i32 = 10;
/// How often a job may be left behind without having come a step further, until it is given up.
const MOST_LAPSES: i32 = 5;

/// The number of a claim.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Claim(pub i64);

/// A job that a claim holds.
#[derive(Clone, Debug)]
pub struct ClaimedJob {
    /// Its number.
    pub id: JobId,
    /// The claim that holds it.
    pub claim: Claim,
    /// Its runbook.
    pub runbook: String,
    /// The version it was dispatched with.
    pub runbook_version: i32,
    /// Its inputs.
    pub inputs: serde_json::Value,
    /// Its target.
    pub target: String,
    /// What set it off.
    pub alert: Option<AlertId>,
    /// The alarm of that alert.
    pub alarm: Option<AlarmId>,
    /// When it was dispatched.
    pub created_at: DateTime<Utc>,
    /// Where it stands, as it is stored.
    pub progress: serde_json::Value,
    /// Whether its first record was kept.
    pub begun: bool,
    /// What a person says to it, and its number.
    pub word: Option<(i32, Word)>,
}

/// What a person says to a job.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Word {
    /// No further step is begun.
    Pause {
        /// Who, and why.
        words: String,
    },
    /// It goes on.
    Resume,
    /// It is stopped.
    Cancel {
        /// Whether what was done is taken back.
        undo: bool,
        /// Who, and why.
        words: String,
    },
    /// What became of a step that is unsure.
    Resolve {
        /// The step; none if there is only one.
        place: Option<Place>,
        /// What became of it.
        word: Resolution,
    },
}

impl Word {
    /// The states in which it can be said.
    pub const fn states(&self) -> &'static [JobState] {
        match self {
            Self::Pause { .. } => &[JobState::Running, JobState::Waiting],
            Self::Resume => &[JobState::Paused],
            Self::Cancel { .. } => &[JobState::Running, JobState::Waiting, JobState::Paused],
            Self::Resolve { .. } => &[JobState::Unsure],
        }
    }
}

#[derive(FromQueryResult)]
struct ClaimedRow {
    id: i64,
    claim: i64,
    runbook: String,
    runbook_version: i32,
    inputs: serde_json::Value,
    target: String,
    alert_seq: Option<i64>,
    alarm_id: Option<i64>,
    created_at: DateTime<Utc>,
    progress: serde_json::Value,
    begun: bool,
    lapses: i32,
    word: Option<serde_json::Value>,
    word_number: i32,
}

const CLAIMED: &str = "id, claim, runbook, runbook_version, inputs, target, alert_seq, alarm_id, created_at, progress,
    begun, lapses, word, word_number";

/// The statement of a claim, for whoever wants to know what it looks at: `$1` the node, `$2` seconds, `$3` claims that
/// are alive. Each way to become due has an index of its own, and is asked only if those before it gave nothing.
pub fn claiming() -> String {
    let way = |which: &str, order: &str| {
        format!("SELECT * FROM (SELECT id FROM job j WHERE {which} ORDER BY {order} LIMIT 1 FOR UPDATE SKIP LOCKED) w")
    };
    let ways = [
        way("state = 'waiting' AND wake_at <= now()", "wake_at"),
        way(
            &format!(
                "state = 'running' AND lease_until < now() AND lapses < {MOST_LAPSES}
                    AND (claim IS NULL OR claim <> ALL($3))"
            ),
            "lease_until",
        ),
        way("state IN ('paused', 'unsure') AND word IS NOT NULL", "id"),
        way(
            "state = 'queued' AND (deadline IS NULL OR deadline > now()) AND NOT EXISTS (
                SELECT 1 FROM job o WHERE o.target = j.target AND o.state IN ('running', 'waiting', 'paused', 'unsure'))",
            "urgency DESC, deadline, id",
        ),
    ];
    format!(
        "UPDATE job SET state = 'running', node = $1, claim = nextval('claim_number'), claims = claims + 1, wake_at = NULL,
            lapses = lapses + CASE WHEN state = 'running' THEN 1 ELSE 0 END,
            lease_until = now() + make_interval(secs => $2), started_at = coalesce(started_at, now())
        WHERE id = (SELECT id FROM ({}) due LIMIT 1)
        RETURNING {CLAIMED}",
        ways.join(" UNION ALL ")
    )
}

/// The transaction in which a job was claimed that nobody has begun yet. The first record goes into
/// it, so that claim and beginning cost one commit; if it is dropped, nothing was claimed.
#[derive(Debug)]
pub struct Opening(DatabaseTransaction);

impl Opening {
    /// Reads what the job needs to begin; on another connection it would hold two of them.
    pub fn db(&self) -> &DatabaseTransaction {
        &self.0
    }

    /// Keeps the claim alone. So it must be before a record that lets the job wait: that one locks the
    /// job's alarm, and intake locks alarms before jobs.
    pub async fn commit(self) -> Result<(), StoreError> {
        Ok(self.0.commit().await?)
    }

    /// Keeps the claim together with the first record.
    ///
    /// # Errors
    /// After an error of the passing kind both may have been kept; [`record()`] then tells.
    pub async fn record(
        self,
        (id, claim): (JobId, Claim),
        progress: &Progress,
        record: &Record,
        now: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let (sql, values) = recording(id, claim, progress, record, now)?;
        sql::run(&self.0, &sql, values).await?;
        Ok(self.0.commit().await?)
    }
}

/// Takes the next job that is due: first what waits or was left behind, then by urgency,
/// deadline and age. What this node is walking already (`alive`) is not taken up again. A job that was
/// not begun yet is held only once its first record is kept.
pub async fn claim(
    db: &DatabaseConnection,
    node: &str,
    alive: &[Claim],
) -> Result<Option<(ClaimedJob, Option<Opening>)>, StoreError> {
    let alive: Vec<i64> = alive.iter().map(|c| c.0).collect();
    let values = vec![node.into(), LEASE_SECONDS.into(), alive.into()];
    let tx = db.begin().await?;
    let row = match sql::typed::<ClaimedRow>(&tx, &claiming(), values).await {
        Ok(rows) => rows.into_iter().next(),
        // Another node took a job on the same target at the same moment; its turn comes.
        Err(e) if e.is_passing() => None,
        Err(e) => return Err(e),
    };
    let Some(row) = row else {
        tx.rollback().await?;
        return Ok(None);
    };
    let fresh = row.lapses == 0 && !row.begun;
    let held = held(row)?;
    // Nothing of it is known yet that the first record would not tell as well.
    if fresh && held.word.is_none() {
        return Ok(Some((held, Some(Opening(tx)))));
    }
    tx.commit().await?;
    Ok(Some((held, None)))
}

fn held(row: ClaimedRow) -> Result<ClaimedJob, StoreError> {
    Ok(ClaimedJob {
        progress: row.progress,
        begun: row.begun,
        word: row.word.map(|word| serde_json::from_value(word).map(|word| (row.word_number, word))).transpose()?,
        id: JobId(row.id),
        claim: Claim(row.claim),
        runbook: row.runbook,
        runbook_version: row.runbook_version,
        inputs: row.inputs,
        target: row.target,
        alert: row.alert_seq.map(AlertId),
        alarm: row.alarm_id.map(AlarmId),
        created_at: row.created_at,
    })
}

/// Gives up what is left behind again and again without coming any further, so that it does not
/// hold its target for ever; the numbers of these jobs.
pub async fn give_up(db: &DatabaseConnection) -> Result<Vec<JobId>, StoreError> {
    let sql = "UPDATE job SET state = 'failed', effect = 'not checked', finished_at = now(), node = NULL, claim = NULL,
            lease_until = NULL, failure = 'given up: it was left behind ' || lapses || ' times at the same step; '
                || coalesce(failure, 'the logs of the nodes say why')
        WHERE id IN (SELECT id FROM job WHERE state = 'running' AND lapses >= $1 AND lease_until < now()
            FOR UPDATE SKIP LOCKED) RETURNING id";
    let given_up: Vec<Id> = sql::typed(db, sql, vec![MOST_LAPSES.into()]).await?;
    Ok(given_up.iter().map(|j| JobId(j.id)).collect())
}

#[derive(FromQueryResult)]
struct Id {
    id: i64,
}

/// Renews claims; those that still hold, each with what a person says to its job. A job whose row is locked at
/// the moment is passed over, so that it cannot keep the others from being renewed.
pub async fn renew(db: &DatabaseConnection, claims: &[Claim]) -> Result<Vec<(Claim, Option<Said>)>, StoreError> {
    #[derive(FromQueryResult)]
    struct Renewed {
        claim: i64,
        word: Option<serde_json::Value>,
        word_number: i32,
    }
    if claims.is_empty() {
        return Ok(Vec::new());
    }
    let sql = "UPDATE job SET lease_until = now() + make_interval(secs => $2)
        WHERE id IN (SELECT id FROM job WHERE claim = ANY($1) AND state = 'running' ORDER BY id FOR UPDATE SKIP LOCKED)
        RETURNING claim, word, word_number";
    let claims: Vec<i64> = claims.iter().map(|c| c.0).collect();
    let renewed: Vec<Renewed> = sql::typed(db, sql, vec![claims.into(), LEASE_SECONDS.into()]).await?;
    let said = |r: Renewed| {
        let word = r.word.map(serde_json::from_value).transpose()?;
        Ok((Claim(r.claim), word.map(|word| (r.word_number, word))))
    };
    renewed.into_iter().map(said).collect()
}

/// A word of a person's, and its number.
pub type Said = (i32, Word);

/// Says something to a job; whether it can be said to it at the moment, and nobody else has said something
/// that it has not heard yet. Whoever walks the job hears it, or it is taken up for it.
pub async fn say(db: &DatabaseConnection, id: JobId, word: &Word) -> Result<bool, StoreError> {
    let sql = "UPDATE job SET word = $2, word_number = word_number + 1,
            wake_at = CASE WHEN state = 'waiting' THEN now() ELSE wake_at END
        WHERE id = $1 AND word IS NULL AND state = ANY($3) RETURNING id";
    let states: Vec<String> = word.states().iter().map(ToString::to_string).collect();
    let said: Vec<Id> =
        sql::typed(db, sql, vec![id.0.into(), serde_json::to_value(word)?.into(), states.into()]).await?;
    Ok(!said.is_empty())
}

/// Cancels a job that was not started yet; whether it was not.
pub async fn cancel_queued(db: &DatabaseConnection, id: JobId, words: &str) -> Result<bool, StoreError> {
    let sql = "UPDATE job SET state = 'cancelled', effect = 'not checked', finished_at = now(), failure = $2
        WHERE id = $1 AND state = 'queued' RETURNING id";
    let cancelled: Vec<Id> = sql::typed(db, sql, vec![id.0.into(), reason(words).into()]).await?;
    Ok(!cancelled.is_empty())
}

/// Lets a claim go that has ended otherwise than by a record: whoever comes next may take the job
/// up at once. The reason is kept, in case that nobody gets any further with it.
pub async fn let_go(db: &DatabaseConnection, claim: Claim, why: &str) -> Result<(), StoreError> {
    let sql = "UPDATE job SET lease_until = now() + interval '1 second', failure = $2
        WHERE claim = $1 AND state = 'running'";
    sql::run(db, sql, vec![claim.0.into(), reason(why).into()]).await?;
    Ok(())
}

/// Puts a job back whose claim was never kept, since its walk ended before the first record. It counts
/// as left behind, so that what can never begin does not keep the others from their turn.
pub async fn put_back(db: &DatabaseConnection, id: JobId, why: &str) -> Result<(), StoreError> {
    let sql =
        "UPDATE job SET state = 'running', lease_until = now() + interval '1 second', lapses = lapses + 1, failure = $2
        WHERE id = $1 AND state = 'queued'";
    sql::run(db, sql, vec![id.0.into(), reason(why).into()]).await?;
    Ok(())
}

/// A reason as it is kept.
fn reason(why: &str) -> String {
    why.replace('\0', "\u{fffd}").chars().take(500).collect()
}

/// Ends the jobs whose deadline passed before they were started; their numbers.
pub async fn expire(db: &DatabaseConnection) -> Result<Vec<JobId>, StoreError> {
    let sql = "UPDATE job SET state = 'expired', effect = 'not checked', finished_at = now(),
            failure = 'not started before its deadline'
        WHERE id IN (SELECT id FROM job WHERE state = 'queued' AND deadline <= now() FOR UPDATE SKIP LOCKED)
        RETURNING id";
    let expired: Vec<Id> = sql::typed(db, sql, vec![]).await?;
    Ok(expired.iter().map(|e| JobId(e.id)).collect())
}

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
    let (sql, values) = recording(id, claim, progress, record, now)?;
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

/// Job and tries as one statement: without the job's row nothing is written.
fn recording(
    id: JobId,
    claim: Claim,
    progress: &Progress,
    record: &Record,
    now: DateTime<Utc>,
) -> Result<(String, Vec<Value>), StoreError> {
    let furthered = record.ended.iter().any(|e| e.state == "done");
    let progress = serde_json::to_value(progress)?;
    let number = |n: usize| i32::try_from(n).unwrap_or(i32::MAX);
    let Summary { done, total, doing } = &record.summary;
    let mut values = vec![Value::from(id.0), claim.0.into(), progress.into(), now.into(), furthered.into()];
    values.extend::<[Value; 4]>([
        number(*done).into(),
        number(*total).into(),
        reason(doing).into(),
        record.heard.unwrap_or(-1).into(),
    ]);
    let set = next_state(&record.then, &mut values);
    let (began, ended) = tries(record);
    let mut sql = format!(
        "WITH held AS (UPDATE job SET progress = $3, begun = true, lapses = CASE WHEN $5 THEN 0 ELSE lapses END,
                steps_done = $6, steps = $7, doing = $8, word = CASE WHEN word_number = $9 THEN NULL ELSE word END, {set}
            WHERE id = $1 AND claim = $2 AND state = 'running' RETURNING id)"
    );
    if !began.is_empty() {
        let source = unnest(&began, now, &mut values);
        sql.push_str(&format!(
            ", began AS (INSERT INTO attempt (job_id, place, attempt, state, started_at, give, finished_at, output, error)
            SELECT held.id, t.place, t.attempt, t.state, $4, t.give::jsonb, t.finished, t.output::jsonb, t.error
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
    sql.push_str(" SELECT id FROM held");
    Ok((sql, values))
}

/// A try as it is written: what it was given, and how it ended if it has.
type Try<'a> = (&'a str, i32, Option<&'a serde_json::Value>, Option<&'a Ended>);

/// Tries that are new, also those that end at once; and tries that began before and end now.
fn tries(record: &Record) -> (Vec<Try<'_>>, Vec<Try<'_>>) {
    // Of several ends of one try the last counts: it may have been in doubt first.
    let ends: BTreeMap<(&str, i32), &Ended> = record.ended.iter().map(|e| ((e.place.as_str(), e.attempt), e)).collect();
    let begins: BTreeMap<(&str, i32), &Began> =
        record.began.iter().map(|b| ((b.place.as_str(), b.attempt), b)).collect();
    let began = begins.iter().map(|(at, b)| (at.0, at.1, Some(&b.give), ends.get(at).copied())).collect();
    let before = ends.iter().filter(|(at, _)| !begins.contains_key(*at));
    (began, before.map(|(at, e)| (at.0, at.1, None, Some(*e))).collect())
}

/// Tries as a table; their columns are added to the values.
fn unnest(tries: &[Try<'_>], now: DateTime<Utc>, values: &mut Vec<Value>) -> String {
    let clean = |text: String| text.replace('\0', "\u{fffd}");
    let first = values.len() + 1;
    values.extend::<[Value; 7]>([
        tries.iter().map(|t| t.0.to_owned()).collect::<Vec<String>>().into(),
        tries.iter().map(|t| t.1).collect::<Vec<i32>>().into(),
        tries.iter().map(|t| t.3.map_or("running", |e| e.state).to_owned()).collect::<Vec<_>>().into(),
        sql::texts(tries.iter().map(|t| t.2.map(ToString::to_string))),
        sql::moments(tries.iter().map(|t| t.3.map(|_| now))),
        sql::texts(tries.iter().map(|t| t.3.and_then(|e| e.output.as_ref()).map(ToString::to_string))),
        sql::texts(tries.iter().map(|t| t.3.and_then(|e| e.error.clone()).map(clean))),
    ]);
    let types = ["text[]", "int[]", "text[]", "text[]", "timestamptz[]", "text[]", "text[]"];
    let columns: Vec<String> = types.iter().enumerate().map(|(i, t)| format!("${}::{t}", first + i)).collect();
    format!(
        "(SELECT place, attempt, state, nullif(give, '') AS give, nullif(finished, {NO_TIME}) AS finished,
            nullif(output, '') AS output, nullif(error, '') AS error
        FROM unnest({}) AS u (place, attempt, state, give, finished, output, error)) t",
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
                    CASE WHEN job.word IS NOT NULL AND job.word_number <> $9 THEN now()
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

/// An alarm as it stands.
pub async fn alarm_of(db: &impl ConnectionTrait, id: AlarmId) -> Result<Option<Alarm>, StoreError> {
    let row = alarm::Entity::find_by_id(id.0).one(db).await?;
    Ok(row.map(|a| Alarm {
        raised: a.state == "raised",
        severity: Severity::from_rank(a.severity),
        summary: a.summary,
        value: a.value,
        count: a.count,
        raised_at: a.raised_at,
        changed_at: a.changed_at,
        cleared_at: a.cleared_at,
        last_sent_at: None,
    }))
}

/// What the steps of a job gave so far, and the lists that they go through. Of before, steps have numbers: those
/// that `named` tells get their names.
pub async fn kept(db: &impl ConnectionTrait, id: JobId, named: &[&str]) -> Result<Kept, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        place: String,
        state: String,
        output: Option<serde_json::Value>,
        list: Option<serde_json::Value>,
    }
    if !named.is_empty() {
        let sql = "UPDATE attempt SET place = names[substr(place, 2)::int + 1]
            FROM (SELECT $2::text[] AS names) n WHERE job_id = $1 AND place LIKE '#%'";
        let names: Vec<String> = named.iter().map(|n| (*n).to_owned()).collect();
        sql::run(db, sql, vec![id.0.into(), names.into()]).await?;
    }
    let sql = "SELECT place, state, output, give -> 'each' AS list FROM attempt
        WHERE job_id = $1 AND (state = 'done' OR (give ? 'each' AND state = 'running'))";
    let mut kept = Kept::default();
    for row in sql::typed::<Row>(db, sql, vec![id.0.into()]).await? {
        let place = Place::new(row.place);
        if let Some(serde_json::Value::Array(items)) = row.list {
            kept.list(&place, items);
        }
        match row.output {
            Some(output) if row.state == "done" && place.is_step() => kept.output(&place, output),
            _ => {}
        }
    }
    Ok(kept)
}
