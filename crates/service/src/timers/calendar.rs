//! Calendars that are kept elsewhere: their events are read again and again. What is no calendar
//! changes nothing: the events stay as they were read before.

use super::{
    Handled,
    asking::{self, AskedOperation},
};
use crate::{
    clock,
    node::{Node, Published},
};
use arvok_api::Change;
use arvok_core::calendar::{CalendarReading, NamedCalendar};
use arvok_store::{
    StoreError, calendars,
    timers::{Timer, WantedTimer},
};
use chrono::{DateTime, Utc};
use tokio::task::spawn_blocking;

/// Each at once, when it is new or what it is called through has changed.
pub(super) fn wanted(published: &Published, now: DateTime<Utc>) -> Vec<WantedTimer> {
    let timer = |(named, version): (&NamedCalendar, i32)| {
        let reading = named.reading.as_deref()?;
        let spec = fingerprint(published, reading, version);
        Some(WantedTimer { key: named.name.clone(), spec, due: now })
    };
    published.catalog.all::<NamedCalendar>().filter_map(timer).collect()
}

fn fingerprint(published: &Published, reading: &CalendarReading, version: i32) -> String {
    let versions = asking::versions(published, &reading.lookup.via);
    format!("{version} {versions} {}", reading.every)
}

/// Reads one, and keeps what it is now.
pub(super) async fn handle(node: &Node, timer: &Timer) -> Result<Handled, String> {
    let published = node.published();
    let found = published.catalog.shared::<NamedCalendar>(&timer.key);
    let Some((named, version)) = found else { return Ok(Handled::Unwanted) };
    let reading = named.reading.as_deref();
    let reading = reading.filter(|r| fingerprint(&published, r, version) == timer.spec);
    let Some(reading) = reading.cloned() else { return Ok(Handled::Unwanted) };
    let asked = AskedOperation {
        via: &reading.lookup.via,
        operation: &reading.lookup.operation,
        give: &reading.lookup.give,
        key: &format!("calendar-{}-{}", timer.key, timer.due.timestamp_micros()),
    };
    let result = asking::called(node, asked).await?;
    let (every, name, now) = (reading.every, named.name.clone(), clock::now());
    // What an author wrote, and what a stranger sent, is worked through where nobody waits.
    let text = spawn_blocking(move || {
        let text = reading.text_of(&result)?.replace('\0', "\u{fffd}");
        let read = named.with_events(&text, now)?;
        let stands_since = named.read_at.filter(|_| read.calendar == named.calendar);
        Ok::<_, String>((text, stands_since))
    });
    let (text, stands_since) = text.await.map_err(|_| "it cannot be read".to_owned())??;
    let changed = keep(node, &name, &text, stands_since).await;
    if changed.map_err(|_| "the records cannot be written at the moment")? {
        node.announcer.tell(Change { definitions: true, ..Change::default() });
        node.reload().await.map_err(|_| "what is published cannot be read at the moment")?;
    }
    Ok(Handled::GoesOn(clock::now() + every.delta()))
}

/// Keeps what was read; whether its events are others than before. Many write into a calendar when
/// they were asked for it, so with the same events another text changes nothing.
async fn keep(
    node: &Node,
    name: &str,
    text: &str,
    stands_since: Option<DateTime<Utc>>,
) -> Result<bool, StoreError> {
    let db = &node.pools.work;
    if let Some(since) = stands_since
        && calendars::stands(db, name, since).await?
    {
        return Ok(false);
    }
    calendars::keep(db, name, text).await
}
