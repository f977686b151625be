//! When a plan runs: at the times of a cron expression, once, or when events of a calendar begin.

use crate::{
    calendar::{Calendar, EventNames, NamedCalendar},
    definition::Others,
    document::{Checker, Texts},
    schedule::{MOST_MISSED, Missed, ON_TIME, Schedule, ScheduleDoc},
};
use chrono::{DateTime, NaiveDateTime, TimeDelta, TimeZone, Utc};
use chrono_tz::Tz;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

/// How far ahead the next event of a calendar is looked for; of one that repeats so many times are
/// worked out at most, however far that is.
const CALENDAR_AHEAD: TimeDelta = TimeDelta::days(3_660);

/// When a plan runs, as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AtDoc {
    /// Minute, hour, day of the month, month and day of the week, such as `30 2 * * 1-5`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cron: Option<String>,
    /// One time, such as `2027-01-12T02:30`, in the zone unless it says another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time: Option<String>,
    /// The name of a calendar: when its events begin.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub calendar: Option<String>,
    /// What the calendar's events are called that count, globs allowed. Left out: all of them.
    #[serde(default)]
    pub events: Texts,
    /// The time zone of `cron` and `time`, such as `Europe/London`. Left out: `UTC`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// What becomes of times that passed while no node ran: `once` (one run makes up for all of
    /// them) or `skip`. Left out: `skip`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub missed: Option<Missed>,
}

/// When a plan runs.
#[derive(Clone, Debug)]
pub struct Times {
    kind: TimesKind,
    missed: Missed,
}

#[derive(Clone, Debug)]
enum TimesKind {
    Cron(String, Box<Schedule>),
    Once(DateTime<Utc>),
    Calendar { name: String, events: EventNames },
}

/// What is to be done at a moment about times that have come.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DueRun {
    /// The latest time that has come.
    pub due: DateTime<Utc>,
    /// Whether the plan runs for it.
    pub runs: bool,
    /// How many times before it passed without a run, and with it if there is none for it either.
    pub missed: u32,
    /// The next time to come, if there is one.
    pub next: Option<DateTime<Utc>>,
}

impl AtDoc {
    pub(super) fn check(self, check: &mut Checker<'_>) -> Option<Times> {
        let missed = self.missed.unwrap_or(Missed::Skip);
        let named =
            [self.cron.is_some(), self.time.is_some(), self.calendar.is_some()].map(u8::from);
        if named.iter().sum::<u8>() != 1 {
            check.fail("/at", "names one of `cron`, `time` and `calendar`");
            return None;
        }
        if self.calendar.is_none() && !self.events.0.is_empty() {
            check.fail("/at/events", "are those of a `calendar`, which is not named");
        }
        if self.calendar.is_some() && self.zone.is_some() {
            check.fail("/at/zone", "is said by the calendar itself");
        }
        let kind = match (self.cron, self.time, self.calendar) {
            (Some(cron), _, _) => {
                let doc = ScheduleDoc { cron: cron.clone(), zone: self.zone, missed };
                TimesKind::Cron(cron, Box::new(doc.check(check, "/at")?))
            }
            (_, Some(time), _) => {
                let zone = self.zone.as_deref().unwrap_or("UTC").parse::<Tz>();
                let zone = zone.map_err(|_| "is not a time zone such as Europe/London");
                let zone = check.accept("/at/zone", zone)?;
                TimesKind::Once(check.accept("/at/time", moment(&time, zone))?)
            }
            (_, _, Some(name)) => {
                let events = EventNames::check(check, "/at/events", &self.events)?;
                TimesKind::Calendar { name, events }
            }
            _ => return None,
        };
        Some(Times { kind, missed })
    }
}

/// A time with its offset, or one of a zone.
fn moment(text: &str, zone: Tz) -> Result<DateTime<Utc>, String> {
    if let Ok(at) = DateTime::parse_from_rfc3339(text) {
        return Ok(at.to_utc());
    }
    let written = ["%Y-%m-%dT%H:%M:%S", "%Y-%m-%dT%H:%M", "%Y-%m-%d %H:%M"];
    let mut read = written.iter().filter_map(|form| NaiveDateTime::parse_from_str(text, form).ok());
    let at = read.next().ok_or_else(|| {
        "is no time such as 2027-01-12T02:30, or with its offset (RFC 3339)".to_owned()
    })?;
    let found = zone.from_local_datetime(&at).earliest();
    found.map(|at| at.to_utc()).ok_or_else(|| {
        format!("is left out in {zone}, where clocks are put forward then; name another")
    })
}

impl Times {
    /// The calendar that is asked, if it is one.
    pub fn calendar(&self) -> Option<&str> {
        match &self.kind {
            TimesKind::Calendar { name, .. } => Some(name),
            _ => None,
        }
    }

    /// Whether an event that is called so counts.
    pub(super) fn counts(&self, summary: &str) -> bool {
        let TimesKind::Calendar { events, .. } = &self.kind else { return true };
        events.count(summary)
    }

    /// The one time, if it is one.
    pub fn once(&self) -> Option<DateTime<Utc>> {
        match self.kind {
            TimesKind::Once(at) => Some(at),
            _ => None,
        }
    }

    /// What tells them from others: with these changed, they begin anew. A calendar says its
    /// version, and since when it stands so where it was read.
    pub fn fingerprint(&self, calendar: &str) -> String {
        match &self.kind {
            TimesKind::Cron(_, schedule) => schedule.fingerprint(),
            TimesKind::Once(at) => format!("once {}", at.timestamp()),
            TimesKind::Calendar { name, events } => {
                format!("calendar {name} {calendar} {events}")
            }
        }
    }

    /// The first time after a moment.
    pub fn next(&self, others: &dyn Others, after: DateTime<Utc>) -> Option<DateTime<Utc>> {
        match &self.kind {
            TimesKind::Cron(_, schedule) => schedule.next(after),
            TimesKind::Once(at) => Some(*at).filter(|at| *at > after),
            TimesKind::Calendar { name, events } => {
                let calendar = &others.get::<NamedCalendar>(name).ok()?.calendar;
                begins(calendar, events, after, after + CALENDAR_AHEAD).into_iter().next()
            }
        }
    }

    /// The times after a moment until another, so many at most.
    pub fn between(
        &self,
        others: &dyn Others,
        (after, until): (DateTime<Utc>, DateTime<Utc>),
        most: usize,
    ) -> Vec<DateTime<Utc>> {
        if let TimesKind::Calendar { name, events } = &self.kind {
            let Ok(named) = others.get::<NamedCalendar>(name) else { return Vec::new() };
            let mut all = begins(&named.calendar, events, after, until);
            all.truncate(most);
            return all;
        }
        let mut found = Vec::new();
        let mut last = after;
        while found.len() < most {
            match self.next(others, last) {
                Some(at) if at <= until => {
                    found.push(at);
                    last = at;
                }
                _ => break,
            }
        }
        found
    }

    /// What is to be done now, when the time that was waited for is `first`. None as long as it has
    /// not come.
    pub fn due(
        &self,
        others: &dyn Others,
        first: DateTime<Utc>,
        now: DateTime<Utc>,
    ) -> Option<DueRun> {
        if first > now {
            return None;
        }
        if let TimesKind::Cron(_, schedule) = &self.kind {
            let found = schedule.occurrence(first, now)?;
            let (due, runs, missed) = (found.due, found.sends, found.missed);
            return Some(DueRun { due, runs, missed, next: Some(found.next) });
        }
        let (mut due, mut passed) = (first, 1);
        let mut next = self.next(others, due);
        while let Some(at) = next.filter(|at| *at <= now && passed < MOST_MISSED) {
            (due, passed) = (at, passed + 1);
            next = self.next(others, at);
        }
        let next = next.filter(|at| *at > now).or_else(|| self.next(others, now));
        let runs = now - due <= ON_TIME || self.missed == Missed::Once;
        Some(DueRun { due, runs, missed: passed - u32::from(runs), next })
    }
}

/// When events begin after a moment until another, each time once, the first first.
fn begins(
    calendar: &Calendar,
    events: &EventNames,
    after: DateTime<Utc>,
    until: DateTime<Utc>,
) -> Vec<DateTime<Utc>> {
    // One that only ends within the span has begun before it.
    let within = calendar.within(after, until + TimeDelta::seconds(1)).into_iter();
    let mut all: Vec<DateTime<Utc>> = within
        .filter(|event| event.from > after && event.from <= until && events.count(&event.summary))
        .map(|event| event.from)
        .collect();
    all.dedup();
    all
}

impl fmt::Display for Times {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.kind {
            TimesKind::Cron(cron, schedule) => write!(f, "{cron} ({})", schedule.zone()),
            TimesKind::Once(at) => write!(f, "once, at {}", at.format("%Y-%m-%d %H:%M UTC")),
            TimesKind::Calendar { name, events } if events.are_all() => {
                write!(f, "calendar {name}")
            }
            TimesKind::Calendar { name, events } => write!(f, "calendar {name}: {events}"),
        }
    }
}
