//! Jobs as rows: claimed by one walk at a time, held by a lease, their progress kept step by step.
//!
//! A job is held by the number of its claim, not by a node's name: each claim draws a new number,
//! and whatever is recorded or renewed names it. So a walk that was left behind can record nothing
//! any more, and a node never takes up what it is still walking itself. Leases are measured by the
//! database's clock alone.

mod outside;
mod record;

pub use record::{Began, Ended, Record, Then, record};

use crate::{StoreError, entity::alarm, sql};
use arvok_core::{
    AlarmId, AlertId, JobId, Severity,
    alarm::Alarm,
    job::{JobState, Kept, Place, Progress, Resolution},
};
use chrono::{DateTime, Utc};
use record::{Holds, recording};
use sea_orm::{
    ConnectionTrait, DatabaseConnection, DatabaseTransaction, EntityTrait, FromQueryResult, TransactionTrait,
};
use serde::{Deserialize, Serialize};

/// How long a claim holds without being renewed.
pub const LEASE_SECONDS: i32 = 10;
/// How often a job may be left behind without having come a step further, until it is given up; `job_due` knows it as well.
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
    /// How much has come for it from outside.
    pub posts: i32,
    /// How deep it stands below the first of the jobs above it.
    pub depth: i16,
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
            Self::Cancel { .. } => &[JobState::Running, JobState::Waiting, JobState::Paused, JobState::Unsure],
            // While others of its steps go on it waits, though one is unsure.
            Self::Resolve { .. } => &[JobState::Unsure, JobState::Waiting],
        }
    }
}

#[derive(FromQueryResult)]
struct ClaimedRow {
    id: i64,
    claim: i64,
    state: String,
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
}

const CLAIMED: &str = "id, state, runbook, runbook_version, inputs, target, alert_seq, alarm_id, created_at, progress,
    begun, word, word_number, posts, depth";

/// The statement that looks for a job to claim, for whoever wants to know what it looks at: `$1` claims that are alive, `$2`
/// and `$3` runbooks and how many of their jobs there may be at once. The function goes through the index of each way to become
/// due, in its order.
pub fn claiming() -> String {
    format!("SELECT nextval('claim_number') AS claim, {CLAIMED} FROM job_due($1, $2, $3)")
}

/// Writes a claim to the row of its job.
const CLAIM: &str = "UPDATE job SET state = 'running', node = $2, claim = $3, claims = claims + 1, wake_at = NULL,
        lapses = lapses + CASE WHEN state = 'running' THEN 1 ELSE 0 END,
        lease_until = now() + make_interval(secs => $4), started_at = coalesce(started_at, now())
    WHERE id = $1";

async fn write_claim(tx: &DatabaseTransaction, id: JobId, node: &str, claim: Claim) -> Result<(), StoreError> {
    let values = vec![id.0.into(), node.into(), claim.0.into(), LEASE_SECONDS.into()];
    sql::run(tx, CLAIM, values).await?;
    Ok(())
}

/// The transaction in which a job is held that nobody has begun yet: its row is locked, and nothing written. The first
/// record goes into it, so that claim and beginning cost one commit, and the row is written once; if it is dropped, nothing
/// was claimed.
#[derive(Debug)]
pub struct Opening {
    tx: DatabaseTransaction,
    id: JobId,
    claim: Claim,
    node: String,
}

impl Opening {
    /// Reads what the job needs to begin; on another connection it would hold two of them.
    pub fn db(&self) -> &DatabaseTransaction {
        &self.tx
    }

    /// Keeps the claim alone. So it must be before a record that lets the job wait: that one locks the
    /// job's alarm, and intake locks alarms before jobs.
    ///
    /// # Errors
    /// [`StoreError::Behind`] if another job on its target has begun meanwhile: it waits for that one.
    pub async fn commit(self) -> Result<(), StoreError> {
        write_claim(&self.tx, self.id, &self.node, self.claim).await.map_err(behind)?;
        Ok(self.tx.commit().await?)
    }

    /// Keeps the claim together with the first record.
    ///
    /// # Errors
    /// As those of `commit`. If the database went away at the very commit, both may have been kept; [`record()`] then tells.
    pub async fn record(
        self,
        (id, claim): (JobId, Claim),
        progress: &Progress,
        record: &Record,
        now: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let (sql, values) = recording(id, claim, progress, record, Holds::Opening(&self.node), now)?;
        sql::run(&self.tx, &sql, values).await.map_err(behind)?;
        Ok(self.tx.commit().await?)
    }
}

/// What stands in the way of a claim: another on the same target was quicker.
fn behind(e: StoreError) -> StoreError {
    if e.is_passing() { StoreError::Behind } else { e }
}

/// Takes the next job that is due: first what waits or was left behind, then by urgency,
/// deadline and age. What this node is walking already (`alive`) is not taken up again, nor is one begun of a runbook of
/// which there are as many at once as may be (`at_once`). A job that was not begun yet is held only once its first record
/// is kept.
pub async fn claim(
    db: &DatabaseConnection,
    node: &str,
    alive: &[Claim],
    at_once: &[(String, i32)],
) -> Result<Option<(ClaimedJob, Option<Opening>)>, StoreError> {
    let alive: Vec<i64> = alive.iter().map(|c| c.0).collect();
    let (runbooks, most): (Vec<String>, Vec<i32>) = at_once.iter().cloned().unzip();
    let tx = db.begin().await?;
    let found = sql::typed::<ClaimedRow>(&tx, &claiming(), vec![alive.into(), runbooks.into(), most.into()]).await?;
    let Some(row) = found.into_iter().next() else {
        tx.rollback().await?;
        return Ok(None);
    };
    let queued = row.state == "queued";
    let limit = at_once.iter().find(|(runbook, _)| *runbook == row.runbook).filter(|_| queued && row.depth == 0);
    if let Some((runbook, most)) = limit
        && are_enough(&tx, runbook, *most).await?
    {
        tx.rollback().await?;
        return Ok(None);
    }
    let held = held(row)?;
    // Nothing of it is known yet that the first record would not tell as well.
    if queued && !held.begun && held.word.is_none() {
        let opening = Opening { tx, id: held.id, claim: held.claim, node: node.to_owned() };
        return Ok(Some((held, Some(opening))));
    }
    match write_claim(&tx, held.id, node, held.claim).await.map_err(behind) {
        // Another node took a job on the same target at the same moment; its turn comes.
        Err(StoreError::Behind) => return Ok(None),
        written => written?,
    }
    tx.commit().await?;
    Ok(Some((held, None)))
}

/// Whether there are as many jobs of a runbook as there may be. Whoever else begins one waits until this is decided.
async fn are_enough(tx: &DatabaseTransaction, runbook: &str, most: i32) -> Result<bool, StoreError> {
    #[derive(FromQueryResult)]
    struct Count {
        n: i64,
    }
    sql::run(tx, "SELECT pg_advisory_xact_lock(hashtextextended('runbook ' || $1, 0))", vec![runbook.into()]).await?;
    let sql = "SELECT count(*) AS n FROM job
        WHERE runbook = $1 AND parent IS NULL AND state IN ('running', 'waiting', 'paused', 'unsure')";
    let counted: Vec<Count> = sql::typed(tx, sql, vec![runbook.into()]).await?;
    Ok(counted.first().is_some_and(|c| c.n >= i64::from(most)))
}

fn held(row: ClaimedRow) -> Result<ClaimedJob, StoreError> {
    Ok(ClaimedJob {
        posts: row.posts,
        depth: row.depth,
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

/// A claim that was renewed.
#[derive(Debug)]
pub struct Renewed {
    /// The claim.
    pub claim: Claim,
    /// What a person says to its job.
    pub said: Option<Said>,
    /// How much has come for it from outside.
    pub posts: i32,
}

/// Renews claims; those that still hold. A job whose row is locked at
/// the moment is passed over, so that it cannot keep the others from being renewed.
pub async fn renew(db: &DatabaseConnection, claims: &[Claim]) -> Result<Vec<Renewed>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        claim: i64,
        word: Option<serde_json::Value>,
        word_number: i32,
        posts: i32,
    }
    if claims.is_empty() {
        return Ok(Vec::new());
    }
    let sql = "UPDATE job SET lease_until = now() + make_interval(secs => $2)
        WHERE id IN (SELECT id FROM job WHERE claim = ANY($1) AND state = 'running' ORDER BY id FOR UPDATE SKIP LOCKED)
        RETURNING claim, word, word_number, posts";
    let claims: Vec<i64> = claims.iter().map(|c| c.0).collect();
    let renewed: Vec<Row> = sql::typed(db, sql, vec![claims.into(), LEASE_SECONDS.into()]).await?;
    let said = |r: Row| {
        let word = r.word.map(serde_json::from_value).transpose()?;
        Ok(Renewed { claim: Claim(r.claim), said: word.map(|word| (r.word_number, word)), posts: r.posts })
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
