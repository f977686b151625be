//! What calendars hold, and from where.

use super::{ApiError, caller::Caller};
use crate::{clock, node::Node};
use arvok_api::{CalendarEventItem, CalendarState};
use arvok_core::{
    calendar::{NamedCalendar, TimedEvent},
    text::cut,
};
use arvok_store::{
    calendars as store,
    timers::{self, TimerKind},
};
use chrono::TimeDelta;

/// How far ahead events are shown, and how many.
const SHOWN_AHEAD: TimeDelta = TimeDelta::days(14);
const SHOWN_EVENTS: usize = 20;
/// Most bytes of what an event is called.
const SHOWN_BYTES: usize = 200;

/// How a calendar stands.
pub(super) async fn state(
    node: &Node,
    caller: &Caller,
    named: NamedCalendar,
) -> Result<CalendarState, ApiError> {
    let (name, now) = (named.name.clone(), clock::now());
    let reading = named.reading.as_ref().map(|reading| reading.lookup.to_string());
    let (read, failure) = match reading {
        None => (None, None),
        Some(_) => (
            store::read(&node.pools.questions, &name).await?,
            timers::failure(&node.pools.questions, TimerKind::Calendar, &name).await?,
        ),
    };
    // To find out what is on takes its time.
    let known = named.is_known();
    let listed = move || {
        let events = named.calendar.within(now, now + SHOWN_AHEAD).into_iter().take(SHOWN_EVENTS);
        let item = |event: TimedEvent| CalendarEventItem {
            summary: cut(&event.summary, SHOWN_BYTES).to_owned(),
            from: event.from,
            until: event.until,
        };
        events.map(item).collect()
    };
    Ok(CalendarState {
        reading,
        known,
        read_at: read.map(|read| read.read_at),
        seen_at: read.map(|read| read.seen_at),
        failure,
        events: node.capacity.evaluate(&caller.0, listed).await?,
    })
}
