//! Jobs as rows: claimed by one execution at a time, held by a lease, their progress kept step by
//! step.
//!
//! A job is held by the number of its claim, not by a node's name: each claim draws a new number,
//! and whatever is recorded or renewed names it. So an execution that was left behind can record
//! nothing any more, and a node never takes up what it is still executing itself. Leases are
//! measured by the database's clock alone.

mod aside;
mod claims;
pub mod guards;
mod halt;
pub(crate) mod new;
mod outside;
mod parts;
mod record;
mod recording;
mod unexecuted;

pub use aside::{let_back, set_aside};
pub use claims::{AtOnce, Claimed, First, Limited, Search, Share, begin, claim, claiming};
pub use halt::{
    MAX_HALTS, begin_halt, concerned_by, halt, halts, let_go_on, lift_halt, lift_halt_of, set_halt,
};
pub use record::{
    AlarmSeen, Answered, AttemptEnd, AttemptStart, ClaimedRecord, Looked, Next, Record, Saw,
};
pub use recording::record;
pub use unexecuted::{cancel_queued, expire, fail_queued, give_up};

use crate::{StoreError, audit::Act, entity::alarm, sql, stored::Stored};
use arvok_api::StepState;
use arvok_core::{
    AlarmId, AlertId, AlertState, JobId, Principal, Severity, TraceContext, Trial,
    alarm::Alarm,
    guard::{LaunchedBy, QueuePlace},
    job::{JobCommand, Place, StepOutputs},
};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::{ConnectionTrait, DatabaseConnection, EntityTrait, FromQueryResult, Value};

/// How long a claim holds without being renewed.
pub const LEASE_SECONDS: i32 = 10;
/// How often a job may be left behind without having come a step further, until it is given up;
/// `jobs_due` knows it as well.
const MOST_LAPSES: i32 = 5;

/// Jobs that one statement ends: their rows are locked until all of them have ended.
const ENDED_AT_ONCE: i32 = 500;

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
    /// Whether no node has taken it up yet: it begins now, or goes on from where another ended.
    pub is_new: bool,
    /// Whether a claim of it was lost before its first record.
    pub was_claimed: bool,
    /// What a person says to it, and its number.
    pub word: Option<(i32, JobCommand)>,
    /// How much has come for it from outside.
    pub posts: i32,
    /// How deep it stands below the first of the jobs above it.
    pub depth: i16,
    /// Its span; none of a job that was made before jobs had one.
    pub trace: Option<TraceContext>,
    /// How far it may go, if it is that of a trial.
    pub trial: Option<Trial>,
    /// Where it stands in the queue.
    pub place: QueuePlace,
    /// The rule that dispatched it or a job above it.
    pub rule: Option<String>,
    /// The version of it that did.
    pub rule_version: Option<i32>,
    /// Who launched it or a job above it.
    pub launched_by: LaunchedBy,
    /// The guard that held it last.
    pub held_by: Option<String>,
    /// The guards that were overruled for it.
    pub overruled: Vec<String>,
}

/// A claim that was renewed.
#[derive(Debug)]
pub struct Renewed {
    /// The claim.
    pub claim: Claim,
    /// What a person says to its job.
    pub said: Option<NumberedCommand>,
    /// How much has come for it from outside.
    pub posts: i32,
    /// Who halts what is under way, and why, while somebody does.
    pub halted: Option<String>,
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
        halted_by: Option<String>,
        halted: Option<String>,
    }
    if claims.is_empty() {
        return Ok(Vec::new());
    }
    let sql = "UPDATE job SET lease_until = now() + make_interval(secs => $2)
        WHERE id IN (SELECT id FROM job WHERE claim = ANY($1) AND state = 'running' ORDER BY id
        FOR UPDATE SKIP LOCKED)
        RETURNING claim, word, word_number, posts,
            (SELECT principal_shown(h.by) FROM halt h WHERE h.running AND halt_concerns(h, job)
                ORDER BY h.id LIMIT 1) AS halted_by,
            (SELECT h.reason FROM halt h WHERE h.running AND halt_concerns(h, job)
                ORDER BY h.id LIMIT 1) AS halted";
    let claims: Vec<i64> = claims.iter().map(|c| c.0).collect();
    let renewed: Vec<Row> = sql::typed(db, sql, vec![claims.into(), LEASE_SECONDS.into()]).await?;
    let said = |r: Row| {
        let word = r.word.map(serde_json::from_value).transpose()?;
        Ok(Renewed {
            claim: Claim(r.claim),
            said: word.map(|word| (r.word_number, word)),
            posts: r.posts,
            halted: r.halted_by.zip(r.halted).map(|(by, why)| format!("halted by {by}: {why}")),
        })
    };
    renewed.into_iter().map(said).collect()
}

/// A command of a person's, and its number.
pub type NumberedCommand = (i32, JobCommand);

/// Records an act upon the jobs of a statement named `done`; the values of the act are the last
/// three.
fn noted(first: usize) -> String {
    let [by, act, detail] = [first, first + 1, first + 2];
    format!(
        "noted AS (INSERT INTO audit (at, by, act, what, detail)
            SELECT clock_timestamp(), ${by}, ${act}, 'job ' || id, ${detail} FROM done
            WHERE ${act} IS NOT NULL)
        SELECT id FROM done"
    )
}

fn values_of(act: Option<Act<'_>>) -> [Value; 3] {
    let Some(Act { by, act, detail }) = act else {
        return [(); 3].map(|()| None::<String>.into());
    };
    [by.to_string().into(), act.into(), reason(detail).into()]
}

/// Gives a job a command; whether it can be given at the moment, and nobody else has given one that
/// it has not heard yet. Whoever executes the job hears it, or it is taken up for it. What somebody
/// does is recorded with it.
pub async fn command(
    db: &DatabaseConnection,
    id: JobId,
    command: &JobCommand,
    act: Option<Act<'_>>,
) -> Result<bool, StoreError> {
    // A hold can be taken back while nobody has heard of it yet, and while what is under way comes
    // to its end.
    let sql = format!(
        "WITH done AS (UPDATE job SET word = $2, word_number = word_number + 1,
                wake_at = CASE WHEN state = 'waiting' THEN now() ELSE wake_at END
            WHERE id = $1 AND CASE WHEN $2 = '\"resume\"'::jsonb
                THEN (word IS NULL AND (state = 'paused' OR state IN ('running', 'waiting')
                AND progress -> 'paused' IS NOT NULL))
                    OR (word ? 'pause'
                    AND state IN ('running', 'waiting', 'paused', 'unsure'))
                ELSE word IS NULL AND state = ANY($3) END RETURNING id), {}",
        noted(4)
    );
    let states: Vec<String> = command.states().iter().map(ToString::to_string).collect();
    let mut values = vec![id.0.into(), serde_json::to_value(command)?.into(), states.into()];
    values.extend(values_of(act));
    Ok(!db.query_all_raw(sql::statement(&sql, values)).await?.is_empty())
}

/// Lets a claim go that has ended otherwise than by a record: whoever comes next may take the job
/// up at once. The reason is kept, in case that nobody gets any further with it.
pub async fn let_go(db: &DatabaseConnection, claim: Claim, why: &str) -> Result<(), StoreError> {
    let sql = "UPDATE job SET lease_until = now() + interval '1 second', failure = $2
        WHERE claim = $1 AND state = 'running'";
    sql::run(db, sql, vec![claim.0.into(), reason(why).into()]).await?;
    Ok(())
}

/// Lets a claim go in order, since its node stops: whoever comes next takes the job up at once, and
/// it does not count as left behind, however often that happens during one call.
pub async fn hand_over(db: &DatabaseConnection, claim: Claim) -> Result<(), StoreError> {
    // The next claim counts one.
    let sql = "UPDATE job SET lease_until = now() - interval '1 second', lapses = lapses - 1
        WHERE claim = $1 AND state = 'running'";
    sql::run(db, sql, vec![claim.0.into()]).await?;
    Ok(())
}

/// Puts a job back whose claim was never kept, since its execution ended before the first record.
/// It counts as left behind, so that what can never begin does not keep the others from their turn.
pub async fn put_back(db: &DatabaseConnection, id: JobId, why: &str) -> Result<(), StoreError> {
    let sql = "UPDATE job SET state = 'running', lease_until = now() + interval '1 second',
            lapses = lapses + 1, failure = $2
        WHERE id = $1 AND state = 'queued'";
    sql::run(db, sql, vec![id.0.into(), reason(why).into()]).await?;
    Ok(())
}

/// A reason as it is kept.
fn reason(why: &str) -> String {
    why.replace('\0', "\u{fffd}").chars().take(500).collect()
}

/// Keeps who has set aside a job that ended badly, and with it those of the same runbook on the
/// same target that ended so within a day before and that nobody has seen; none sets back what was
/// set aside together. Whether it had ended so.
pub async fn see(
    db: &DatabaseConnection,
    job: JobId,
    by: Option<&Principal>,
    now: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let sql = "UPDATE job j SET seen_by = $2, seen_at = $3 FROM job s WHERE s.id = $1
        AND (s.state IN ('failed', 'refused', 'expired') OR (s.state = 'succeeded'
        AND s.effect = 'unconfirmed'))
        AND (j.id = s.id OR (j.runbook = s.runbook AND j.target = s.target AND j.id < s.id
        AND j.parent IS NULL
            AND (j.state IN ('failed', 'refused', 'expired') OR j.effect = 'unconfirmed')
            AND CASE WHEN $2 IS NULL THEN j.seen_at = s.seen_at ELSE j.seen_by IS NULL
            AND j.created_at > $4 END))";
    let at = by.map(|_| now);
    let values = vec![
        job.0.into(),
        by.map(Principal::to_string).into(),
        at.into(),
        (now - TimeDelta::days(1)).into(),
    ];
    let done = db.execute_raw(sql::statement(sql, values)).await?;
    Ok(done.rows_affected() > 0)
}

/// An alarm as it stands.
pub async fn alarm_of(db: &impl ConnectionTrait, id: AlarmId) -> Result<Option<Alarm>, StoreError> {
    Ok(alarm::Entity::find_by_id(id.0).one(db).await?.map(as_it_stands))
}

fn as_it_stands(a: alarm::Model) -> Alarm {
    Alarm {
        raised: a.state.0 == AlertState::Raised,
        severity: Severity::from_rank(a.severity),
        summary: a.summary,
        value: a.value,
        count: a.count,
        raised_at: a.raised_at,
        changed_at: a.changed_at,
        cleared_at: a.cleared_at,
        last_sent_at: None,
    }
}

/// The alarm that a job is for, and those besides where it is for several.
#[derive(Clone, Debug)]
pub struct JobAlarm {
    /// That of the first alert.
    pub alarm: Alarm,
    /// How many of the others stand.
    pub others_raised: usize,
    /// When the others had changed last, if there are any.
    pub others_changed_at: Option<DateTime<Utc>>,
}

/// The alarms of a job as they stand.
pub async fn alarms_of(
    db: &impl ConnectionTrait,
    job: JobId,
    first: AlarmId,
) -> Result<Option<JobAlarm>, StoreError> {
    let sql = "SELECT a.*, o.raised, o.others_at FROM alarm a, LATERAL (
            SELECT count(DISTINCT b.id) FILTER (WHERE b.state = 'raised') AS raised,
            max(b.changed_at) AS others_at
            FROM gathered g JOIN alarm b ON b.id = g.alarm_id WHERE g.job_id = $1
            AND g.alarm_id <> a.id) o WHERE a.id = $2";
    let rows = db.query_all_raw(sql::statement(sql, vec![job.0.into(), first.0.into()])).await?;
    let Some(row) = rows.first() else { return Ok(None) };
    let alarm = alarm::Model::from_query_result(row, "")?;
    let raised: i64 = row.try_get("", "raised")?;
    Ok(Some(JobAlarm {
        alarm: as_it_stands(alarm),
        others_raised: usize::try_from(raised).unwrap_or(0),
        others_changed_at: row.try_get("", "others_at")?,
    }))
}

/// What the steps of a job gave so far, and the lists that they go through.
pub async fn stored_outputs(
    db: &impl ConnectionTrait,
    id: JobId,
) -> Result<StepOutputs, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        place: String,
        state: Stored<StepState>,
        output: Option<serde_json::Value>,
        list: Option<serde_json::Value>,
    }
    let sql = "SELECT place, state, output, give -> 'each' AS list FROM attempt
        WHERE job_id = $1 AND (state = 'done' OR (give ? 'each' AND state = 'running'))
        ORDER BY attempt";
    let mut kept = StepOutputs::default();
    for row in sql::typed::<Row>(db, sql, vec![id.0.into()]).await? {
        let place = Place::new(row.place);
        if let Some(serde_json::Value::Array(items)) = row.list {
            kept.list(&place, items);
        }
        match row.output {
            Some(output) if row.state.0 == StepState::Done && place.is_step() => {
                kept.output(&place, output)
            }
            _ => {}
        }
    }
    Ok(kept)
}
