//! Decisions: questions that jobs put to people, and what became of them.

use crate::{
    StoreError, audit, sql,
    stored::{Stored, StoredPrincipal},
};
use arvok_api::DecisionState;
use arvok_core::{
    JobId, Principal,
    job::{Decided, Place, StepEvent},
};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait};
use serde_json::Value;

/// A question as it is kept.
#[derive(Clone, Debug, FromQueryResult)]
pub struct Decision {
    /// Its number.
    pub id: i64,
    /// The job that asks.
    pub job_id: i64,
    /// The step.
    pub place: String,
    /// Who may decide.
    pub decider: Value,
    /// What is asked.
    pub text: String,
    /// Pairs of a name and what it means.
    pub choices: Value,
    /// What nobody's decision means.
    pub unanswered: Option<String>,
    /// Whether whoever has the link may decide without signing in.
    pub by_link: bool,
    /// Who may answer by mail: a list of addresses and globs.
    pub by_mail: Value,
    /// When it was asked.
    pub asked_at: DateTime<Utc>,
    /// Until when it stands.
    pub until: DateTime<Utc>,
    /// What became of it.
    pub state: Stored<DecisionState>,
    /// What was chosen.
    pub choice: Option<String>,
    /// By whom.
    pub decided_by: Option<StoredPrincipal>,
    /// By which way.
    pub how: Option<String>,
    /// A remark.
    pub remark: Option<String>,
    /// When it was decided.
    pub decided_at: Option<DateTime<Utc>>,
    /// The runbook of the job.
    pub runbook: String,
    /// The target of the job.
    pub target: String,
    /// The rule of the job.
    pub rule: Option<String>,
}

const READ: &str = "SELECT d.id, d.job_id, d.place, d.decider, d.text, d.choices,
    d.silence AS unanswered, d.by_link, d.by_mail, d.asked_at, d.until, d.state,
    d.choice, d.decided_by, d.how, d.remark, d.decided_at, j.runbook, j.target, j.rule
    FROM decision d JOIN job j ON j.id = d.job_id";

/// One of them.
pub async fn one(db: &impl ConnectionTrait, id: i64) -> Result<Option<Decision>, StoreError> {
    Ok(sql::typed(db, &format!("{READ} WHERE d.id = $1"), vec![id.into()])
        .await?
        .into_iter()
        .next())
}

/// Those of a job.
pub async fn of_job(db: &impl ConnectionTrait, job: JobId) -> Result<Vec<Decision>, StoreError> {
    sql::typed(db, &format!("{READ} WHERE d.job_id = $1 ORDER BY d.id"), vec![job.0.into()]).await
}

/// Those that are open, the most pressing first; or all, the newest first, from before a number.
pub async fn list(
    db: &impl ConnectionTrait,
    open: bool,
    before: Option<i64>,
    limit: i64,
) -> Result<Vec<Decision>, StoreError> {
    if open {
        let sql = format!(
            "{READ} WHERE d.state = 'open' AND d.until > now() ORDER BY d.until, d.id LIMIT $1"
        );
        return sql::typed(db, &sql, vec![limit.into()]).await;
    }
    let sql = format!("{READ} WHERE d.id < $1 ORDER BY d.id DESC LIMIT $2");
    sql::typed(db, &sql, vec![before.unwrap_or(i64::MAX).into(), limit.into()]).await
}

/// How many are open.
pub async fn open(db: &impl ConnectionTrait) -> Result<i64, StoreError> {
    #[derive(FromQueryResult)]
    struct Count {
        n: i64,
    }
    let counted: Vec<Count> = sql::typed(
        db,
        "SELECT count(*) AS n FROM decision WHERE state = 'open' AND until > now()",
        vec![],
    )
    .await?;
    Ok(counted.first().map_or(0, |c| c.n))
}

/// Takes a decision; whether it was still open. Whoever executes the job hears of it, or it is
/// taken up for it.
pub async fn decide(
    db: &DatabaseConnection,
    id: i64,
    decided: &Decided,
) -> Result<bool, StoreError> {
    #[derive(FromQueryResult)]
    struct Of {
        job_id: i64,
    }
    let tx = db.begin().await?;
    let sql =
        "UPDATE decision SET state = 'taken', choice = $2, decided_by = $3, how = $4, remark = $5,
            decided_at = now()
        WHERE id = $1 AND state = 'open' AND until > now() RETURNING job_id";
    // The row of the job before its question's, as whoever records the job locks them.
    let lock = "SELECT id AS job_id FROM job WHERE id = (SELECT job_id FROM decision WHERE id = $1)
        FOR UPDATE";
    sql::typed::<Of>(&tx, lock, vec![id.into()]).await?;
    let Decided { choice, by, how, remark } = decided.clone();
    let detail = if remark.is_empty() { choice.clone() } else { format!("{choice}: {remark}") };
    let clean = |text: String| text.replace('\0', "\u{fffd}");
    let values =
        vec![id.into(), choice.into(), by.to_string().into(), how.into(), clean(remark).into()];
    let taken: Vec<Of> = sql::typed(&tx, sql, values).await?;
    let Some(of) = taken.first() else { return Ok(false) };
    notify(&tx, of.job_id).await?;
    audit::record(&tx, &by, "decision.taken", &audit::job_name(JobId(of.job_id)), &detail).await?;
    tx.commit().await?;
    Ok(true)
}

/// Notes that a message was no answer to a question: of whom, and what kind of message it was.
pub async fn pass_over(
    db: &impl ConnectionTrait,
    decision: &Decision,
    by: &Principal,
    act: &str,
) -> Result<(), StoreError> {
    audit::refused(db, by, act, &audit::job_name(JobId(decision.job_id))).await
}

/// Counts that something has come for a job, and wakes it if it waits.
async fn notify(db: &impl ConnectionTrait, job: i64) -> Result<(), StoreError> {
    let sql = "UPDATE job SET posts = posts + 1, wake_at = CASE WHEN state = 'waiting' THEN now()
        ELSE wake_at END
        WHERE id = $1";
    sql::run(db, sql, vec![job.into()]).await?;
    Ok(())
}

/// What became of the questions of a job at some places. Those whose time is over are ended here,
/// so that none is taken of which the job then hears nothing.
pub(super) async fn answers(
    db: &impl ConnectionTrait,
    job: JobId,
    places: Vec<String>,
) -> Result<Vec<(Place, StepEvent)>, StoreError> {
    #[derive(FromQueryResult)]
    struct Answer {
        place: String,
        state: Stored<DecisionState>,
        choice: Option<String>,
        decided_by: Option<StoredPrincipal>,
        how: Option<String>,
        remark: Option<String>,
    }
    let over = "UPDATE decision SET state = 'silent', decided_at = now()
        WHERE job_id = $1 AND state = 'open' AND until <= now()";
    sql::run(db, over, vec![job.0.into()]).await?;
    let sql = "SELECT place, state, choice, decided_by, how, remark FROM decision
        WHERE job_id = $1 AND place = ANY($2) AND state IN ('taken', 'silent') ORDER BY id";
    let found: Vec<Answer> = sql::typed(db, sql, vec![job.0.into(), places.into()]).await?;
    let what = |a: Answer| {
        let what = match a.state.0 {
            DecisionState::Taken => StepEvent::Decided(Decided {
                choice: a.choice.unwrap_or_default(),
                by: a.decided_by.map_or_else(|| Principal::stranger(""), |by| by.0),
                how: a.how.unwrap_or_default(),
                remark: a.remark.unwrap_or_default(),
            }),
            _ => StepEvent::Silent,
        };
        (Place::new(a.place), what)
    };
    Ok(found.into_iter().map(what).collect())
}
