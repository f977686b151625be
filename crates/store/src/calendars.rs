//! The events of calendars that are kept elsewhere, as they were read at last.

use crate::{StoreError, sql};
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, FromQueryResult};

/// The events of a calendar.
#[derive(Clone, Debug, PartialEq, Eq, FromQueryResult)]
pub struct CalendarText {
    /// The calendar's name.
    pub name: String,
    /// iCalendar.
    pub text: String,
    /// Since when it stands so.
    pub read_at: DateTime<Utc>,
}

/// Since when the events of a calendar stand so, and when they were read at last.
#[derive(Clone, Copy, Debug, PartialEq, Eq, FromQueryResult)]
pub struct CalendarRead {
    /// Since when they stand so.
    pub read_at: DateTime<Utc>,
    /// When they were read at last.
    pub seen_at: DateTime<Utc>,
}

/// Those that stand otherwise than is known: since when, by name.
pub async fn newer(
    db: &impl ConnectionTrait,
    known: &[(String, DateTime<Utc>)],
) -> Result<Vec<CalendarText>, StoreError> {
    let (names, times): (Vec<String>, Vec<DateTime<Utc>>) = known.iter().cloned().unzip();
    let sql = "SELECT name, text, read_at FROM calendar_text WHERE (name, read_at) NOT IN
            (SELECT name, at FROM unnest($1::text[], $2::timestamptz[]) AS k (name, at))
        ORDER BY name";
    sql::typed(db, sql, vec![names.into(), times.into()]).await
}

/// Keeps what was read; whether it is another text than before.
pub async fn keep(db: &impl ConnectionTrait, name: &str, text: &str) -> Result<bool, StoreError> {
    let sql = "INSERT INTO calendar_text (name, text, read_at, seen_at)
        VALUES ($1, $2, clock_timestamp(), clock_timestamp())
        ON CONFLICT (name) DO UPDATE SET text = excluded.text, read_at = excluded.read_at,
            seen_at = excluded.seen_at
        WHERE calendar_text.text <> excluded.text";
    if sql::run(db, sql, vec![name.into(), text.into()]).await? > 0 {
        return Ok(true);
    }
    let sql = "UPDATE calendar_text SET seen_at = clock_timestamp() WHERE name = $1";
    sql::run(db, sql, vec![name.into()]).await?;
    Ok(false)
}

/// Notes that one was read again and has the same events as those that stand since then; false if
/// these stand no more.
pub async fn stands(
    db: &impl ConnectionTrait,
    name: &str,
    read_at: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let sql = "UPDATE calendar_text SET seen_at = clock_timestamp()
        WHERE name = $1 AND read_at = $2";
    Ok(sql::run(db, sql, vec![name.into(), read_at.into()]).await? == 1)
}

/// How one stands, if it was read.
pub async fn read(
    db: &impl ConnectionTrait,
    name: &str,
) -> Result<Option<CalendarRead>, StoreError> {
    let sql = "SELECT read_at, seen_at FROM calendar_text WHERE name = $1";
    let found: Vec<CalendarRead> = sql::typed(db, sql, vec![name.into()]).await?;
    Ok(found.into_iter().next())
}

/// Removes those of calendars that are not published any more.
pub(crate) async fn sweep(db: &impl ConnectionTrait) -> Result<u64, StoreError> {
    let sql = "DELETE FROM calendar_text t WHERE NOT EXISTS (SELECT 1 FROM definition d
        WHERE d.kind = 'calendar' AND d.name = t.name AND NOT d.withdrawn AND d.version =
            (SELECT max(l.version) FROM definition l WHERE l.kind = d.kind AND l.name = d.name))";
    sql::run(db, sql, vec![]).await
}
