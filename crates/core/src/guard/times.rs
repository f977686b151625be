//! Times of a calendar at which a guard lets nothing begin, or at which alone it does.

use crate::{
    Period,
    calendar::{EventNames, TimedEvent},
    document::{Checker, Texts},
    text::cut,
};
use chrono::{DateTime, Utc};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How far ahead the times of calendars are worked out. Whoever works with them does it anew before
/// that: what lies behind is not known.
pub const AHEAD: Period = Period::from_secs(2 * 24 * 3600);

/// Most bytes of what an event is called, where it is told.
const MAX_SUMMARY: usize = 100;

/// Times of a calendar, as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TimesDoc {
    /// The name of a calendar.
    pub during: String,
    /// What its events are called that count, globs allowed. Left out: all of them.
    #[serde(default)]
    pub events: Texts,
}

/// Times of a calendar, checked.
#[derive(Clone, Debug)]
pub struct AtTimes {
    /// The name of the calendar.
    pub calendar: String,
    events: EventNames,
}

/// The times, worked out from one moment until another.
#[derive(Clone, Debug)]
pub struct KnownTimes {
    /// The name of the calendar.
    pub calendar: String,
    /// The events, the first first.
    events: Vec<TimedEvent>,
    /// Until when they are known.
    known_until: DateTime<Utc>,
}

impl TimesDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<AtTimes> {
        let events = EventNames::check(check, &format!("{at}/events"), &self.events)?;
        Some(AtTimes { calendar: self.during, events })
    }
}

impl AtTimes {
    /// Those of the events of its calendar, from a moment on, that count. Of a calendar that is not
    /// there none are known.
    pub fn times(&self, events: Option<&[TimedEvent]>, now: DateTime<Utc>) -> KnownTimes {
        let counts = |one: &&TimedEvent| self.events.count(&one.summary);
        let shown = |one: &TimedEvent| TimedEvent {
            summary: cut(&one.summary, MAX_SUMMARY).to_string(),
            ..one.clone()
        };
        KnownTimes {
            calendar: self.calendar.clone(),
            events: events.unwrap_or_default().iter().filter(counts).map(shown).collect(),
            known_until: if events.is_some() { now + AHEAD.delta() } else { now },
        }
    }
}

impl KnownTimes {
    /// The event that is on at a moment; of several that which ends last.
    pub fn on_at(&self, now: DateTime<Utc>) -> Option<&TimedEvent> {
        let is_on = |one: &&TimedEvent| one.from <= now && now < one.until;
        self.events.iter().filter(is_on).max_by_key(|one| one.until)
    }

    /// The event that comes next.
    pub fn next_after(&self, now: DateTime<Utc>) -> Option<&TimedEvent> {
        self.events.iter().find(|one| one.from > now)
    }

    /// Whether it is known what is on at a moment.
    pub fn reach(&self, now: DateTime<Utc>) -> bool {
        now < self.known_until
    }
}
