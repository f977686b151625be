//! Hours of people: on which days and between which times somebody can be reached, or during which
//! events of a calendar.

use crate::{
    calendar::{EventNames, NamedCalendar},
    definition::Others,
    document::{Checker, Texts},
};
use chrono::{DateTime, Datelike, Days, NaiveTime, Utc, Weekday};
use chrono_tz::Tz;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

crate::words! {
    /// A day of the week.
    #[derive(JsonSchema)]
    pub enum Day("day of the week") {
        /// Monday.
        Monday = "mon",
        /// Tuesday.
        Tuesday = "tue",
        /// Wednesday.
        Wednesday = "wed",
        /// Thursday.
        Thursday = "thu",
        /// Friday.
        Friday = "fri",
        /// Saturday.
        Saturday = "sat",
        /// Sunday.
        Sunday = "sun",
    }
}

/// Hours as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HoursDoc {
    /// On which days they begin. Left out: on all.
    #[serde(default)]
    pub days: Vec<Day>,
    /// From when on, such as `07:00`.
    #[serde(default)]
    pub from: Option<String>,
    /// Until when, such as `22:00`; what is earlier than `from` is on the day behind.
    #[serde(default)]
    pub to: Option<String>,
    /// The time zone that they are in, such as `Europe/London`. Left out: `UTC`.
    #[serde(default)]
    pub zone: Option<String>,
    /// Instead of these: the name of a calendar, during whose events it is.
    #[serde(default)]
    pub during: Option<String>,
    /// What its events are called that count, globs allowed. Left out: all of them.
    #[serde(default)]
    pub events: Texts,
}

/// Checked hours.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Hours {
    /// Between two times of some days.
    Daily {
        /// On which days they begin; none: on all.
        days: Vec<Day>,
        /// From when on.
        from: NaiveTime,
        /// Until when.
        to: NaiveTime,
        /// Where these times are told.
        zone: Tz,
    },
    /// During events of a calendar.
    During {
        /// Its name.
        calendar: String,
        /// Which of its events count.
        events: EventNames,
    },
}

impl HoursDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Hours> {
        if let Some(calendar) = self.during {
            let own = [("from", self.from.is_some()), ("to", self.to.is_some())];
            let own = own.into_iter().chain([("days", !self.days.is_empty())]);
            for (key, _) in own.chain([("zone", self.zone.is_some())]).filter(|(_, given)| *given) {
                let wrong = "does not go with `during`: its calendar says when";
                check.fail(&format!("{at}/{key}"), wrong);
            }
            let events = EventNames::check(check, &format!("{at}/events"), &self.events)?;
            return Some(Hours::During { calendar, events });
        }
        if !self.events.0.is_empty() {
            check.fail(&format!("{at}/events"), "stands beside `during`: of which calendar?");
        }
        let (Some(from), Some(to)) = (self.from, self.to) else {
            check.fail(at, "says when: give it `from` and `to`, or `during`, a calendar");
            return None;
        };
        let mut time = |key: &str, text: &str| {
            let read = NaiveTime::parse_from_str(text, "%H:%M");
            check.accept(&format!("{at}/{key}"), read.map_err(|_| "is not a time such as 07:00"))
        };
        let (from, to) = (time("from", &from), time("to", &to));
        if from.is_some() && from == to {
            check
                .fail(&format!("{at}/to"), "is the same as `from`; leave the hours out for always");
        }
        let zone = zone(check, &format!("{at}/zone"), self.zone.as_deref());
        Some(Hours::Daily { days: self.days, from: from?, to: to?, zone: zone? })
    }
}

/// The time zone of a name; of none it is UTC.
pub(super) fn zone(check: &mut Checker<'_>, at: &str, name: Option<&str>) -> Option<Tz> {
    let zone = name.unwrap_or("UTC").parse::<Tz>();
    check.accept(at, zone.map_err(|_| "is not a time zone such as Europe/London"))
}

impl Hours {
    /// The calendar that they follow.
    pub fn calendar(&self) -> Option<&str> {
        match self {
            Self::Daily { .. } => None,
            Self::During { calendar, .. } => Some(calendar),
        }
    }

    /// Whether a moment is within them. By a calendar that is not there, or is not known yet, it
    /// always is: nobody becomes one who cannot be reached.
    pub fn hold(&self, others: &dyn Others, now: DateTime<Utc>) -> bool {
        let (days, from, to, zone) = match self {
            Self::Daily { days, from, to, zone } => (days, *from, *to, zone),
            Self::During { calendar, events } => {
                let Ok(named) = others.get::<NamedCalendar>(calendar) else { return true };
                if !named.is_known() {
                    return true;
                }
                return named.calendar.on_at(now).iter().any(|event| events.count(event.summary));
            }
        };
        let here = now.with_timezone(zone).naive_local();
        let begins_on = |day: Option<Weekday>| match day {
            _ if days.is_empty() => true,
            Some(day) => days.contains(&Day::ALL[day.num_days_from_monday() as usize]),
            None => false,
        };
        let today = begins_on(Some(here.weekday()));
        let before = || begins_on(here.date().checked_sub_days(Days::new(1)).map(|d| d.weekday()));
        let time = here.time();
        match from < to {
            true => today && from <= time && time < to,
            // Over midnight: the part behind it is of the day before.
            false => (today && from <= time) || (time < to && before()),
        }
    }
}

impl fmt::Display for Hours {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (days, from, to, zone) = match self {
            Self::Daily { days, from, to, zone } => (days, from, to, zone),
            Self::During { calendar, events } => {
                return match events.are_all() {
                    true => write!(f, "during {calendar}"),
                    false => write!(f, "during {events} of {calendar}"),
                };
            }
        };
        let days: Vec<&str> = days.iter().map(|day| day.as_str()).collect();
        if !days.is_empty() {
            write!(f, "{} ", days.join(","))?;
        }
        write!(f, "{}-{} {}", from.format("%H:%M"), to.format("%H:%M"), zone)
    }
}
