//! Hours of people: on which days and between which times somebody can be reached.

use crate::document::Checker;
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
    pub from: String,
    /// Until when, such as `22:00`; what is earlier than `from` is on the day behind.
    pub to: String,
    /// The time zone that they are in, such as `Europe/London`. Left out: `UTC`.
    #[serde(default)]
    pub zone: Option<String>,
}

/// Checked hours.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hours {
    days: Vec<Day>,
    from: NaiveTime,
    to: NaiveTime,
    zone: Tz,
}

impl HoursDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Hours> {
        let mut time = |key: &str, text: &str| {
            let read = NaiveTime::parse_from_str(text, "%H:%M");
            check.accept(&format!("{at}/{key}"), read.map_err(|_| "is not a time such as 07:00"))
        };
        let (from, to) = (time("from", &self.from), time("to", &self.to));
        if from.is_some() && from == to {
            check
                .fail(&format!("{at}/to"), "is the same as `from`; leave the hours out for always");
        }
        let zone = zone(check, &format!("{at}/zone"), self.zone.as_deref());
        Some(Hours { days: self.days, from: from?, to: to?, zone: zone? })
    }
}

/// The time zone of a name; of none it is UTC.
pub(super) fn zone(check: &mut Checker<'_>, at: &str, name: Option<&str>) -> Option<Tz> {
    let zone = name.unwrap_or("UTC").parse::<Tz>();
    check.accept(at, zone.map_err(|_| "is not a time zone such as Europe/London"))
}

impl Hours {
    /// Whether a moment is within them.
    pub fn hold(&self, now: DateTime<Utc>) -> bool {
        let here = now.with_timezone(&self.zone).naive_local();
        let begins_on = |day: Option<Weekday>| match day {
            _ if self.days.is_empty() => true,
            Some(day) => self.days.contains(&Day::ALL[day.num_days_from_monday() as usize]),
            None => false,
        };
        let today = begins_on(Some(here.weekday()));
        let before = || begins_on(here.date().checked_sub_days(Days::new(1)).map(|d| d.weekday()));
        let time = here.time();
        match self.from < self.to {
            true => today && self.from <= time && time < self.to,
            // Over midnight: the part behind it is of the day before.
            false => (today && self.from <= time) || (time < self.to && before()),
        }
    }
}

impl fmt::Display for Hours {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let days: Vec<&str> = self.days.iter().map(|day| day.as_str()).collect();
        if !days.is_empty() {
            write!(f, "{} ", days.join(","))?;
        }
        write!(f, "{}-{} {}", self.from.format("%H:%M"), self.to.format("%H:%M"), self.zone)
    }
}
