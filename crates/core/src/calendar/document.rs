//! The `calendar:` document: times under a name, as guards ask for them.

use super::Calendar;
use crate::{
    definition::{Defined, Definition, Kind},
    document::{Checker, Document, Problem},
};
use chrono_tz::Tz;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A calendar as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CalendarDoc {
    /// The name.
    pub calendar: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// The time zone of times without one, such as `Europe/London`. Left out: `UTC`.
    #[serde(default)]
    pub zone: Option<String>,
    /// The events, as iCalendar (RFC 5545).
    #[serde(default)]
    pub events: Option<String>,
    /// The file beside this one that has them, such as `harbour.ics`: it is put in as `events` when
    /// this is checked and published.
    #[serde(default)]
    pub events_from: Option<String>,
}

/// A checked calendar with its name.
#[derive(Clone, Debug)]
pub struct NamedCalendar {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// The times.
    pub calendar: Calendar,
}

impl Definition for NamedCalendar {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }
}

impl Defined for NamedCalendar {
    const KIND: Kind = Kind::Calendar;
    type Doc = CalendarDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::decoding::<CalendarDoc>(document)?;
        let zone = doc.zone.as_deref().unwrap_or("UTC").parse::<Tz>();
        let zone =
            check.accept("/zone", zone.map_err(|_| "is not a time zone such as Europe/London"));
        let events = match (doc.events, doc.events_from) {
            (Some(events), _) => Some(events),
            (None, Some(file)) => {
                let wrong = format!(
                    "there is no file `{file}` here; it lies beside the one that is checked and \
                    published with `arvok`"
                );
                check.fail("/events_from", wrong);
                None
            }
            (None, None) => {
                check.fail("", "the key `events` is missing: iCalendar, or `events_from`, a file");
                None
            }
        };
        let read = zone
            .zip(events)
            .and_then(|(zone, events)| check.accept("/events", Calendar::read(&events, zone)));
        if read.as_ref().is_some_and(|calendar| calendar.names().next().is_none()) {
            check.fail("/events", "has no event");
        }
        let made = read.map(|calendar| Self { name: doc.calendar, summary: doc.summary, calendar });
        check.finish(made)
    }
}
