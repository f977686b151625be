//! Acts of people on alarms that are done at the sender as well: taken by one node at a time, in
//! the order in which people did them.

use crate::{
    StoreError, read, sql,
    stored::{Stored, StoredPrincipal},
};
use arvok_api::WriteBackState;
use arvok_core::{Alert, Principal, alarm::AlarmAct};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult};
use std::time::Duration;

/// How long whoever has taken an act has it; then another takes it.
const HELD: &str = "60 seconds";

/// An act that this node is to do at the sender.
#[derive(Debug)]
pub struct TakenAct {
    /// Its number.
    pub id: i64,
    /// The alarm.
    pub alarm: i64,
    /// Which try it is, from 1 on.
    pub tries: i32,
    /// What somebody did.
    pub act: AlarmAct,
    /// Who.
    pub by: Principal,
    /// In that one's words.
    pub text: String,
    /// When.
    pub at: DateTime<Utc>,
    /// The source of the alarm.
    pub source: String,
    /// Whether somebody had begun with it and did not end.
    pub was_under_way: bool,
    /// The newest alert of its sender that raised the alarm, as long as it is kept.
    pub alert: Option<Alert>,
}

#[derive(FromQueryResult)]
struct Row {
    id: i64,
    alarm_id: i64,
    tries: i32,
    act: Stored<AlarmAct>,
    by: StoredPrincipal,
    text: String,
    at: DateTime<Utc>,
    source: String,
    was_under_way: bool,
    seq: Option<i64>,
}

/// Takes acts that are due: of each source one at most, and of each alarm the first.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn take(db: &DatabaseConnection) -> Result<Vec<TakenAct>, StoreError> {
    // Of a source that has one due, one: it is locked before it is known to be nobody else's, and
    // what it was is asked for in the same statement.
    let sql = format!(
        "WITH due AS MATERIALIZED (
            SELECT k.id, k.sending = 'under-way' AS was_under_way FROM alarm_act k
            WHERE k.id IN (
                SELECT DISTINCT ON (a.source) d.id FROM alarm_act d
                JOIN alarm a ON a.id = d.alarm_id
                WHERE d.sending IN ('waiting', 'under-way') AND d.next_at <= now()
                    AND NOT EXISTS (SELECT 1 FROM alarm_act b WHERE b.alarm_id = d.alarm_id
                        AND b.id < d.id AND b.sending IN ('waiting', 'under-way'))
                ORDER BY a.source, d.next_at, d.id)
                AND k.sending IN ('waiting', 'under-way') AND k.next_at <= now()
            FOR NO KEY UPDATE OF k SKIP LOCKED)
        UPDATE alarm_act k SET sending = 'under-way', tries = k.tries + 1,
            next_at = now() + interval '{HELD}'
        FROM due, alarm a
        WHERE k.id = due.id AND a.id = k.alarm_id
        RETURNING k.id, k.alarm_id, k.tries, k.act, k.by, k.text, k.at, a.source, due.was_under_way,
            (SELECT s.seq FROM alerts s WHERE s.resource = a.resource AND s.source = a.source
                AND s.kind = a.kind AND s.state = 'raised' AND s.trial IS NULL
                ORDER BY s.seq DESC LIMIT 1) AS seq"
    );
    let rows: Vec<Row> = sql::typed(db, &sql, vec![]).await?;
    let seqs: Vec<i64> = rows.iter().filter_map(|row| row.seq).collect();
    let mut alerts = read::whole_alerts(db, &seqs).await?;
    let act = |row: Row| TakenAct {
        id: row.id,
        alarm: row.alarm_id,
        tries: row.tries,
        act: row.act.0,
        by: row.by.0,
        text: row.text,
        at: row.at,
        source: row.source,
        was_under_way: row.was_under_way,
        alert: row.seq.and_then(|seq| alerts.remove(&seq)),
    };
    Ok(rows.into_iter().map(act).collect())
}

/// Has all that waits be tried now.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn hasten(db: &impl ConnectionTrait) -> Result<u64, StoreError> {
    let sql = "UPDATE alarm_act SET next_at = now() WHERE sending = 'waiting' AND next_at > now()";
    sql::run(db, sql, vec![]).await
}

/// What became of a try.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WriteBackTry {
    /// The sender was told.
    Done,
    /// It was not, and is tried again after a time.
    Again(Duration, String),
    /// It is not tried any more.
    Ended(WriteBackState, String),
}

/// Writes down what became of a try, unless another has taken the act meanwhile.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn end(
    db: &impl ConnectionTrait,
    taken: &TakenAct,
    came_of_it: &WriteBackTry,
) -> Result<bool, StoreError> {
    let (state, wait, reason) = match came_of_it {
        WriteBackTry::Done => (WriteBackState::Done, Duration::ZERO, None),
        WriteBackTry::Again(wait, why) => (WriteBackState::Waiting, *wait, Some(why.as_str())),
        WriteBackTry::Ended(state, why) => (*state, Duration::ZERO, Some(why.as_str())),
    };
    let sql = "UPDATE alarm_act SET sending = $3, reason = $4,
            next_at = now() + make_interval(secs => $5),
            ended_at = CASE WHEN $3 <> 'waiting' THEN now() END
        WHERE id = $1 AND tries = $2 AND sending = 'under-way'";
    let values = vec![
        taken.id.into(),
        taken.tries.into(),
        Stored(state).into(),
        reason.map(|why| why.replace('\0', "\u{fffd}")).into(),
        wait.as_secs_f64().into(),
    ];
    Ok(sql::run(db, sql, values).await? == 1)
}
