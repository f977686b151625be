//! Alerts and their verdicts by day: each day has a table of its own, made ahead and dropped whole.
//!
//! A table holds a room of numbers ([`ROOM`]) and not of times: so every key, every join and every
//! list by number leads to few tables, and nothing that asks by number has to know of days. When a
//! day begins, the numbers go on in the next room. Whoever takes alerts in shares [`TURN`] until
//! the commit, and a day begins while nobody holds it; so of one id that comes twice around
//! midnight the later sees the earlier. `retention` removes what is kept no longer, `storage` tells
//! how much there is.

mod retention;
mod storage;

pub use retention::{expire, would_go};
pub use storage::storage;

use crate::{StoreError, entity::alert_day, retention::IDS_KNOWN, schema, sql};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::{
    ConnectionTrait, DatabaseConnection, EntityTrait, FromQueryResult, QueryOrder, Set,
    TransactionTrait, Unchanged,
};

/// Numbers of a day. One that needs more ends early.
pub const ROOM: i64 = 1_000_000_000;

/// Days for which there are tables before they begin.
const AHEAD: i64 = 3;

/// The advisory lock that is shared by whoever takes alerts in, and held alone while a day begins.
pub const TURN: i64 = 0x6172_766f_6b02;

/// Longest time from the reception of an alert to its number, generously.
const TO_NUMBER: TimeDelta = TimeDelta::minutes(5);

/// A day that has begun.
#[derive(Clone, Copy, Debug, PartialEq, Eq, FromQueryResult)]
pub struct Day {
    /// Its first number; 0 for the very first day.
    pub first_seq: i64,
    /// The first number beyond its table.
    pub bound_seq: i64,
    /// When it began; numbers below its first were drawn before.
    pub begun_at: DateTime<Utc>,
    /// The last number drawn, once it is over.
    pub last_seq: Option<i64>,
}

impl Day {
    /// The tables of its alerts and of its verdicts.
    pub(crate) fn tables(self) -> (String, String) {
        tables(self.first_seq / ROOM)
    }

    /// Whether the next one begins.
    fn is_over(self, now: DateTime<Utc>, last: i64) -> bool {
        now.date_naive() > self.begun_at.date_naive() || last >= self.bound_seq - ROOM / 10
    }
}

/// The tables of a day by its room.
fn tables(room: i64) -> (String, String) {
    (format!("alerts_{room}"), format!("verdicts_{room}"))
}

/// The days that have begun and are still kept, the newest first.
pub async fn all(db: &impl ConnectionTrait) -> Result<Vec<Day>, StoreError> {
    let found = alert_day::Entity::find().order_by_desc(alert_day::Column::FirstSeq);
    Ok(found.into_model::<Day>().all(db).await?)
}

/// What whoever takes alerts in has to know of the days; all zero knows nothing yet.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, FromQueryResult)]
pub struct DayBounds {
    /// The first number of the newest day.
    pub first: i64,
    /// From this number on, ids are looked for.
    pub ids_from: i64,
}

/// The same as [`DayBounds`], as columns of a statement of its own snapshot, and the newest day's
/// bound.
pub(crate) fn known_columns() -> String {
    let hours = IDS_KNOWN.num_hours();
    format!(
        "(SELECT max(first_seq) FROM alert_day) AS first, (SELECT max(bound_seq)
            FROM alert_day) AS bound,
        coalesce((SELECT max(first_seq) FROM alert_day
        WHERE begun_at <= now() - interval '{hours} hours'),
            (SELECT min(first_seq) FROM alert_day)) AS ids_from"
    )
}

/// What is to be known of the days at this moment.
pub(crate) async fn bounds(db: &impl ConnectionTrait) -> Result<DayBounds, StoreError> {
    let rows: Vec<DayBounds> =
        sql::typed(db, &format!("SELECT {}", known_columns()), vec![]).await?;
    Ok(rows.into_iter().next().unwrap_or_default())
}

/// Begins the next day if it is time, and makes tables ahead; whether one began.
///
/// # Errors
/// Of the passing kind if somebody takes alerts in at this very moment and does not end: try later.
pub async fn begin(db: &DatabaseConnection, now: DateTime<Utc>) -> Result<bool, StoreError> {
    #[derive(FromQueryResult)]
    struct Last {
        seq: i64,
    }
    make_ahead(db).await?;
    let tx = db.begin().await?;
    // Whoever takes alerts in waits behind this one; it does not wait long itself.
    tx.execute_unprepared("SET LOCAL lock_timeout = '500ms'").await?;
    tx.execute_unprepared(&format!("SELECT pg_advisory_xact_lock({TURN})")).await?;
    let Some(newest) = all(&tx).await?.first().copied() else { return Ok(false) };
    let last: Vec<Last> =
        sql::typed(&tx, "SELECT last_value AS seq FROM alert_seq_seq", vec![]).await?;
    let last = last.first().map_or(0, |l| l.seq);
    if !newest.is_over(now, last) {
        return Ok(false);
    }
    // Numbers may have gone on before: a node died here, or a day ran over.
    let first = newest.bound_seq.max(last / ROOM * ROOM);
    let over = alert_day::ActiveModel {
        first_seq: Unchanged(newest.first_seq),
        last_seq: Set(Some(last.min(newest.bound_seq - 1))),
        ..Default::default()
    };
    alert_day::Entity::update(over).exec(&tx).await?;
    let begun = alert_day::ActiveModel {
        first_seq: Set(first),
        bound_seq: Set(first + ROOM),
        begun_at: Set(now),
        last_seq: Set(None),
    };
    alert_day::Entity::insert(begun).exec_without_returning(&tx).await?;
    if last < first {
        tx.execute_unprepared(&format!("SELECT setval('alert_seq_seq', {first}, false)")).await?;
    }
    tx.commit().await?;
    make_ahead(db).await?;
    Ok(true)
}

/// Has the database look at what all days hold together, which it does by itself for each day
/// alone: by that it plans what reaches over several.
pub async fn survey(db: &DatabaseConnection) -> Result<(), StoreError> {
    db.execute_unprepared("ANALYZE alerts").await?;
    db.execute_unprepared("ANALYZE verdicts").await?;
    Ok(())
}

/// Makes the tables of the days to come. Nobody has to wait for it.
async fn make_ahead(db: &DatabaseConnection) -> Result<(), StoreError> {
    #[derive(FromQueryResult)]
    struct There {
        there: bool,
    }
    let Some(newest) = all(db).await?.first().copied() else { return Ok(()) };
    let next = newest.bound_seq / ROOM;
    // The newest day's own table as well, should its numbers have run ahead of all that were made.
    let first = newest.first_seq / ROOM;
    for room in first..next + AHEAD {
        let (alerts, verdicts) = tables(room);
        let there = "SELECT to_regclass($1) IS NOT NULL AS there";
        let there: Vec<There> = sql::typed(db, there, vec![verdicts.as_str().into()]).await?;
        if there.first().is_some_and(|t| t.there) {
            continue;
        }
        let (from, to) = (room * ROOM, (room + 1) * ROOM);
        let tx = db.begin().await?;
        tx.execute_unprepared("SET LOCAL lock_timeout = '5s'").await?;
        schema::take_turn(&tx).await?;
        // Another node may have made them meanwhile. A table that is made apart and then attached
        // keeps nobody waiting; one made as a part would.
        tx.execute_unprepared(&format!(
            "DO $$ BEGIN
                CREATE TABLE {alerts} (LIKE alerts INCLUDING DEFAULTS INCLUDING CONSTRAINTS);
                CREATE UNIQUE INDEX {alerts}_id ON {alerts} (source, id);
                ALTER TABLE alerts ATTACH PARTITION {alerts} FOR VALUES FROM ({from}) TO ({to});
                CREATE TABLE {verdicts} (LIKE verdicts INCLUDING DEFAULTS INCLUDING CONSTRAINTS);
                ALTER TABLE verdicts ATTACH PARTITION {verdicts} FOR VALUES FROM ({from}) TO ({to});
            EXCEPTION WHEN duplicate_table THEN END $$"
        ))
        .await?;
        tx.commit().await?;
    }
    Ok(())
}

/// The number down to which `depth` alerts below `top` are numbered at most, whatever the days are.
pub(crate) fn floor(newest_first: &[Day], mut top: i64, mut depth: i64) -> i64 {
    for day in newest_first {
        if day.first_seq >= top {
            continue;
        }
        top = day.last_seq.map_or(top, |last| top.min(last + 1));
        let here = (top - day.first_seq).max(0);
        if here >= depth {
            return top - depth;
        }
        depth -= here;
        top = day.first_seq;
    }
    0
}

/// The numbers among which all alerts lie that were received since a moment and before another, as
/// long as the clock of the database was right when the days began.
pub(crate) fn numbers(
    newest_first: &[Day],
    since: DateTime<Utc>,
    until: DateTime<Utc>,
) -> (i64, i64) {
    numbers_within(newest_first, since, until, TO_NUMBER)
}

/// The same, though the clock was wrong by so much when a day began.
pub(crate) fn numbers_within(
    newest_first: &[Day],
    since: DateTime<Utc>,
    until: DateTime<Utc>,
    wrong: TimeDelta,
) -> (i64, i64) {
    let begun = |then: DateTime<Utc>| newest_first.iter().find(|d| d.begun_at <= then);
    let from = begun(since - wrong).map_or(0, |d| d.first_seq);
    // The oldest may hold what was received before it was noted.
    let beyond = newest_first.iter().rev().skip(1).find(|d| d.begun_at > until + wrong);
    (from, beyond.map_or(i64::MAX, |d| d.first_seq))
}

/// The smallest and the largest of some numbers: with them the database looks into few tables.
pub(crate) fn span(seqs: &[i64]) -> (i64, i64) {
    (seqs.iter().copied().min().unwrap_or(0), seqs.iter().copied().max().unwrap_or(0))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(first: i64, hour: u32, last: Option<i64>) -> Day {
        let begun_at = format!("2026-11-{:02}T{:02}:00:00Z", 1 + hour / 24, hour % 24)
            .parse()
            .expect("a time");
        Day { first_seq: first * ROOM, bound_seq: (first + 1) * ROOM, begun_at, last_seq: last }
    }

    #[test]
    fn a_depth_counts_on_over_the_gaps_between_days() {
        let days = [day(2, 48, None), day(1, 24, Some(ROOM + 9)), day(0, 0, Some(100))];
        assert_eq!(floor(&days, 2 * ROOM + 50, 20), 2 * ROOM + 30);
        assert_eq!(
            floor(&days, 2 * ROOM + 5, 20),
            96,
            "5 of today, 10 of yesterday, 5 of the day before"
        );
        assert_eq!(floor(&days, 2 * ROOM + 5, 1_000), 0);
        assert_eq!(floor(&days, ROOM + 500_000, 10), ROOM, "a handle in a gap");
        assert_eq!(floor(&days, i64::MIN, 10), 0);
        assert_eq!(floor(&[], 7, 10), 0);
    }

    #[test]
    fn times_lead_to_numbers_with_room_for_what_was_on_its_way() {
        let days = [day(2, 48, None), day(1, 24, Some(ROOM + 9)), day(0, 0, Some(100))];
        let at = |text: &str| text.parse().expect("a time");
        assert_eq!(
            numbers(&days, at("2026-11-02T12:00:00Z"), at("2026-11-02T13:00:00Z")),
            (ROOM, 2 * ROOM)
        );
        assert_eq!(
            numbers(&days, at("2026-11-02T00:01:00Z"), at("2026-11-02T23:59:00Z")),
            (0, i64::MAX)
        );
        assert_eq!(
            numbers(&days, at("2026-01-01T00:00:00Z"), at("2027-01-01T00:00:00Z")),
            (0, i64::MAX)
        );
        assert_eq!(
            numbers(&days, at("2026-01-01T00:00:00Z"), at("2026-01-02T00:00:00Z")),
            (0, ROOM)
        );
    }

    #[test]
    fn a_day_that_began_while_the_clock_was_wrong_hides_nothing() {
        let days = [day(2, 48, None), day(1, 24, Some(ROOM + 9)), day(0, 0, Some(100))];
        let at = |text: &str| text.parse().expect("a time");
        let within = |from, to| numbers_within(&days, at(from), at(to), TimeDelta::days(1));
        // The second day may have begun hours before or after the time that is written for it.
        assert_eq!(within("2026-11-01T23:00:00Z", "2026-11-01T23:30:00Z"), (0, 2 * ROOM));
        assert_eq!(within("2026-11-02T01:00:00Z", "2026-11-02T02:00:00Z"), (0, i64::MAX));
    }

    #[test]
    fn a_day_ends_with_its_date_or_with_its_room() {
        let at = |text: &str| text.parse().expect("a time");
        let later = day(3, 23, None);
        assert!(later.is_over(at("2026-11-02T00:00:00Z"), 3 * ROOM + 5));
        assert!(!later.is_over(at("2026-11-01T23:59:59Z"), 3 * ROOM + 5));
        assert!(later.is_over(at("2026-11-01T23:59:59Z"), 4 * ROOM - 5));
    }
}
