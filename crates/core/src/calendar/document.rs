//! The `calendar:` document: times under a name, as guards, plans and hours of people ask for them.

use super::{Calendar, read::CalendarReading};
use crate::{
    Period,
    connector::LookupDoc,
    definition::{Defined, Definition, Kind, Mismatch, Others},
    document::{Checker, Document, Problem},
    expr::Expr,
};
use chrono::{DateTime, Utc};
use chrono_tz::Tz;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

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
    /// Instead of these: the operation that gives them, from where the calendar is kept. It changes
    /// nothing, and is called again and again.
    #[serde(default)]
    pub call: Option<String>,
    /// The connection through which it is called.
    #[serde(default)]
    pub via: Option<String>,
    /// What it is given.
    #[serde(default)]
    pub give: Map<String, Value>,
    /// An expression over `result`, what the operation gave: the iCalendar as one text. Left out:
    /// `result`.
    #[serde(default)]
    pub text: Option<String>,
    /// How often it is called, from 1m to 1d. Left out: 1h.
    #[serde(default)]
    pub every: Option<Period>,
}

/// A checked calendar with its name.
#[derive(Clone, Debug)]
pub struct NamedCalendar {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// The times; none as long as they are not known.
    pub calendar: Calendar,
    /// From where it is read, if its events do not stand in the document.
    pub reading: Option<Box<CalendarReading>>,
    /// Since when what was read there stands so.
    pub read_at: Option<DateTime<Utc>>,
    zone: Tz,
}

impl NamedCalendar {
    /// Whether its events are known.
    pub fn is_known(&self) -> bool {
        self.reading.is_none() || self.read_at.is_some()
    }

    /// The same with events that were read from where it is kept.
    ///
    /// # Errors
    /// Why they cannot be read.
    pub fn with_events(&self, text: &str, read_at: DateTime<Utc>) -> Result<Self, String> {
        let calendar = Calendar::read(text, self.zone)?;
        Ok(Self { calendar, read_at: Some(read_at), ..self.clone() })
    }
}

impl Definition for NamedCalendar {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }

    fn expressions(&self) -> Vec<(String, &Expr)> {
        self.reading.iter().map(|reading| ("/text".to_owned(), reading.expression())).collect()
    }

    fn uses(&self) -> Vec<(Kind, String)> {
        self.reading.iter().map(|reading| (Kind::Connection, reading.lookup.via.clone())).collect()
    }

    fn misfits(&self, others: &dyn Others) -> Vec<Mismatch> {
        self.reading.iter().flat_map(|reading| reading.misfits(others)).collect()
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
        let written = doc.events.is_some() || doc.events_from.is_some();
        let reading = match &doc.call {
            Some(_) if written => {
                check.fail("/call", "its events stand here already; leave one of the two out");
                return check.finish(None);
            }
            Some(call) => {
                let reads = ("text", doc.text.as_deref().unwrap_or("result"));
                let lookup = LookupDoc { call, via: doc.via.as_ref(), give: &doc.give, reads };
                Some(CalendarReading::check(&mut check, &lookup, doc.every))
            }
            None => {
                for (key, is_given) in [
                    ("via", doc.via.is_some()),
                    ("give", !doc.give.is_empty()),
                    ("text", doc.text.is_some()),
                    ("every", doc.every.is_some()),
                ] {
                    if is_given {
                        check.fail(&format!("/{key}"), "belongs to `call`, which is not there");
                    }
                }
                None
            }
        };
        let (calendar, reading) = match reading {
            Some(reading) => (Some(Calendar::default()), reading.map(|r| Some(Box::new(r)))),
            None => (events(&mut check, (doc.events, doc.events_from), zone), Some(None)),
        };
        let made = (|| {
            Some(Self {
                name: doc.calendar,
                summary: doc.summary,
                calendar: calendar?,
                reading: reading?,
                read_at: None,
                zone: zone?,
            })
        })();
        check.finish(made)
    }
}

/// The events that stand in the document.
fn events(
    check: &mut Checker<'_>,
    written: (Option<String>, Option<String>),
    zone: Option<Tz>,
) -> Option<Calendar> {
    let events = match written {
        (Some(events), _) => events,
        (None, Some(file)) => {
            let wrong = format!(
                "there is no file `{file}` here; it lies beside the one that is checked and \
                published with `arvok`"
            );
            check.fail("/events_from", wrong);
            return None;
        }
        (None, None) => {
            let wrong = "the key `events` is missing: iCalendar; or `events_from`, a file; or \
                `call`, an operation that gives it";
            check.fail("", wrong);
            return None;
        }
    };
    let calendar = check.accept("/events", Calendar::read(&events, zone?))?;
    if calendar.names().next().is_none() {
        check.fail("/events", "has no event");
    }
    Some(calendar)
}
