//! What people did about alarms and said of them: acknowledged, noted, cleared by hand.

use crate::{
    StoreError, audit, sql,
    stored::{Stored, StoredPrincipal},
};
use arvok_api::{AlarmActItem, WriteBackItem, WriteBackState};
use arvok_core::{Principal, alarm::AlarmAct};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait};
use std::collections::HashMap;

/// Most acts of one alarm.
pub const MOST: i64 = 500;
/// Most that are shown of one.
const SHOWN: i64 = 50;

/// Keeps what somebody did about an alarm; false if there is no such alarm. If it is one of some
/// sources, it is to be done at the sender as well.
///
/// # Errors
/// [`StoreError::TooMany`] if people have done as much about it as is kept.
pub async fn add(
    db: &DatabaseConnection,
    alarm: i64,
    (by, act, text): (&Principal, AlarmAct, &str),
    sent_to: Vec<String>,
) -> Result<bool, StoreError> {
    let tx = db.begin().await?;
    // Whoever does something about it as well waits, so that both are counted.
    let sql = "SELECT id FROM alarm WHERE id = $1 FOR NO KEY UPDATE";
    if tx.query_all_raw(sql::statement(sql, vec![alarm.into()])).await?.is_empty() {
        tx.rollback().await?;
        return Ok(false);
    }
    let sql = "INSERT INTO alarm_act (alarm_id, by, act, text, sending, next_at)
        SELECT id, $2, $3, $4, CASE WHEN is_sent THEN 'waiting' END, CASE WHEN is_sent THEN now() END
        FROM (SELECT id, source = ANY($6) AND NOT trial AS is_sent FROM alarm WHERE id = $1) a
        WHERE (SELECT count(*) FROM alarm_act WHERE alarm_id = $1) < $5";
    let clean = text.replace('\0', "\u{fffd}");
    let values = vec![
        alarm.into(),
        by.to_string().into(),
        Stored(act).into(),
        clean.as_str().into(),
        MOST.into(),
        sent_to.into(),
    ];
    if sql::run(&tx, sql, values).await? == 0 {
        tx.rollback().await?;
        return Err(StoreError::TooMany("acts of people upon this alarm", MOST));
    }
    audit::record(&tx, by, &format!("alarm.{act}"), &format!("alarm {alarm}"), &clean).await?;
    tx.commit().await?;
    Ok(true)
}

/// What people did about an alarm, the newest first.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn of_alarm(
    db: &impl ConnectionTrait,
    alarm: i64,
) -> Result<Vec<AlarmActItem>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        at: DateTime<Utc>,
        by: StoredPrincipal,
        act: Stored<AlarmAct>,
        text: String,
        sending: Option<Stored<WriteBackState>>,
        tries: i32,
        next_at: Option<DateTime<Utc>>,
        ended_at: Option<DateTime<Utc>>,
        reason: Option<String>,
    }
    let sql = "SELECT at, by, act, text, sending, tries, next_at, ended_at, reason FROM alarm_act
        WHERE alarm_id = $1 ORDER BY id DESC LIMIT $2";
    let rows: Vec<Row> = sql::typed(db, sql, vec![alarm.into(), SHOWN.into()]).await?;
    let item = |row: Row| AlarmActItem {
        at: row.at,
        by: row.by.0,
        act: row.act.0,
        text: row.text,
        at_sender: row.sending.map(|state| WriteBackItem {
            state: state.0,
            tries: row.tries,
            next_at: row.next_at.filter(|_| state.0 == WriteBackState::Waiting),
            ended_at: row.ended_at,
            reason: row.reason,
        }),
    };
    Ok(rows.into_iter().map(item).collect())
}

/// Who acknowledged which of some alarms last, since it was raised.
///
/// # Errors
/// If the database cannot be worked with.
pub(crate) async fn acknowledged(
    db: &impl ConnectionTrait,
    alarms: Vec<i64>,
) -> Result<HashMap<i64, Principal>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        id: i64,
        by: StoredPrincipal,
    }
    let sql = "SELECT a.id, k.by FROM alarm a CROSS JOIN LATERAL
            (SELECT by FROM alarm_act WHERE alarm_id = a.id AND act = 'acknowledged'
                AND at >= a.raised_at ORDER BY id DESC LIMIT 1) k
        WHERE a.id = ANY($1)";
    let rows: Vec<Row> = sql::typed(db, sql, vec![alarms.into()]).await?;
    Ok(rows.into_iter().map(|row| (row.id, row.by.0)).collect())
}
