//! Calendars (iCalendar, RFC 5545): which events are on at a moment, repeated ones with their
//! exceptions and with occurrences that were moved.

mod document;
mod events;
mod read;

pub use document::{CalendarDoc, NamedCalendar};
pub use events::EventNames;
pub use read::CalendarReading;

use chrono::{DateTime, Datelike, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta, TimeZone, Utc};
use chrono_tz::Tz;
use icalendar::parser::{Component, Property, read_calendar, unfold};
use rrule::{Frequency, RRule, RRuleSet, Unvalidated};
use std::collections::{BTreeMap, BTreeSet};

/// Largest calendar, in bytes.
pub const MAX_TEXT: usize = 256 << 10;
/// Most events, and most of them that repeat.
const MAX_EVENTS: usize = 2_000;
const MAX_REPEATED: usize = 50;
/// Most occurrences of one event that are on at a moment, or are exceptions.
const MAX_ON: u16 = 20;
const MAX_EXCEPTIONS: usize = 500;
/// Most occurrences of one event that are found within a span of time.
const MAX_WITHIN: u16 = 200;
/// The first year in which an event may begin.
const FIRST_YEAR: i32 = 2000;
/// Longest event.
const LONGEST: TimeDelta = TimeDelta::days(366);

/// A calendar.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Calendar {
    events: Vec<CalendarEvent>,
}

/// An event of a calendar.
#[derive(Clone, Debug, PartialEq)]
struct CalendarEvent {
    summary: String,
    attendees: Vec<String>,
    start: DateTime<rrule::Tz>,
    length: TimeDelta,
    /// How it repeats; none: it is on once.
    repeats: Option<Box<RRuleSet>>,
}

/// An event that is on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OngoingEvent<'c> {
    /// What it is called.
    pub summary: &'c str,
    /// The mail addresses of those who take part, in small letters.
    pub attendees: &'c [String],
    /// When it ends.
    pub until: DateTime<Utc>,
}

/// An event of a calendar at one of its times.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TimedEvent {
    /// What it is called.
    pub summary: String,
    /// When it begins.
    pub from: DateTime<Utc>,
    /// When it ends.
    pub until: DateTime<Utc>,
}

impl Calendar {
    /// Reads a calendar; times without a zone, and whole days, are in `zone`.
    ///
    /// # Errors
    /// Why it cannot be read, with the event that is wrong.
    pub fn read(text: &str, zone: Tz) -> Result<Self, String> {
        if text.len() > MAX_TEXT {
            return Err(format!("has {} bytes; {MAX_TEXT} are allowed", text.len()));
        }
        let unfolded = unfold(text);
        let read = read_calendar(&unfolded).map_err(|_| {
            "is no calendar: it is text that begins with BEGIN:VCALENDAR and ends with \
             END:VCALENDAR (RFC 5545)"
        })?;
        let of_events: Vec<&Component<'_>> =
            read.components.iter().filter(|c| c.name.as_str() == "VEVENT").collect();
        if of_events.len() > MAX_EVENTS {
            return Err(format!("has {} events; {MAX_EVENTS} are allowed", of_events.len()));
        }
        // Each is counted from its first occurrence on: they are bounded before any is read.
        let repeats = |event: &&&Component<'_>| {
            event.properties.iter().any(|of| matches!(of.name.as_str(), "RRULE" | "RDATE"))
        };
        let repeated = of_events.iter().filter(repeats).count();
        if repeated > MAX_REPEATED {
            return Err(format!("has {repeated} events that repeat; {MAX_REPEATED} are allowed"));
        }
        // An occurrence that was moved or changed is an event of its own, and not one of the event
        // that repeats (RFC 5545, section 3.8.4.4).
        let mut moved: BTreeMap<&str, BTreeSet<DateTime<Utc>>> = BTreeMap::new();
        for event in &of_events {
            if let Some(at) = event.find_prop("RECURRENCE-ID") {
                let at = moment(at, zone).map_err(|why| wrong_in(event, &why))?;
                moved.entry(value(event, "UID")).or_default().insert(at.to_utc());
            }
        }
        let none = BTreeSet::new();
        let mut events = Vec::new();
        for event in &of_events {
            if value(event, "STATUS").eq_ignore_ascii_case("CANCELLED") {
                continue;
            }
            let moved = moved.get(value(event, "UID")).unwrap_or(&none);
            events.push(read_event(event, zone, moved).map_err(|why| wrong_in(event, &why))?);
        }
        Ok(Self { events })
    }

    /// The events that are on at a moment, in the order in which they are written.
    pub fn on_at(&self, now: DateTime<Utc>) -> Vec<OngoingEvent<'_>> {
        let one = |event: &CalendarEvent| event.begun_at(now).map(|begun| begun + event.length);
        let on = self.events.iter().filter_map(|event| Some((event, one(event)?)));
        on.map(|(event, until)| OngoingEvent {
            summary: &event.summary,
            attendees: &event.attendees,
            until,
        })
        .collect()
    }

    /// When events are on within a span of time, the first first; of one that repeats so many at
    /// most.
    pub fn within(&self, from: DateTime<Utc>, to: DateTime<Utc>) -> Vec<TimedEvent> {
        let mut all: Vec<TimedEvent> = self
            .events
            .iter()
            .flat_map(|event| {
                event.begins_within(from, to).into_iter().map(|begins| TimedEvent {
                    summary: event.summary.clone(),
                    from: begins,
                    until: begins + event.length,
                })
            })
            .collect();
        all.sort_by_key(|one| (one.from, one.until));
        all
    }

    /// What all events are called, and who takes part in them.
    pub fn names(&self) -> impl Iterator<Item = (&str, &[String])> {
        self.events.iter().map(|event| (event.summary.as_str(), event.attendees.as_slice()))
    }
}

impl CalendarEvent {
    /// When those of its occurrences begin of which a part lies within a span of time.
    fn begins_within(&self, from: DateTime<Utc>, to: DateTime<Utc>) -> Vec<DateTime<Utc>> {
        let is_within = |begun: &DateTime<Utc>| *begun < to && *begun + self.length > from;
        match &self.repeats {
            None => Some(self.start.to_utc()).filter(is_within).into_iter().collect(),
            Some(set) => {
                let zone = self.start.timezone();
                let first = (from - self.length).with_timezone(&zone);
                let set = set.as_ref().clone().after(first).before(to.with_timezone(&zone));
                let begins = set.all(MAX_WITHIN).dates;
                begins.iter().map(DateTime::to_utc).filter(is_within).collect()
            }
        }
    }

    /// When that of its occurrences began that is on.
    fn begun_at(&self, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
        let is_on = |begun: &DateTime<Utc>| *begun <= now && now < *begun + self.length;
        match &self.repeats {
            None => Some(self.start.to_utc()).filter(is_on),
            Some(set) => {
                let zone = self.start.timezone();
                let from = (now - self.length).with_timezone(&zone);
                let set = set.as_ref().clone().after(from).before(now.with_timezone(&zone));
                set.all(MAX_ON).dates.iter().map(DateTime::to_utc).rfind(is_on)
            }
        }
    }
}

/// What is wrong with an event, with its name.
fn wrong_in(event: &Component<'_>, why: &str) -> String {
    format!("the event `{}` {why}", value(event, "SUMMARY"))
}

fn value<'e>(event: &'e Component<'_>, name: &str) -> &'e str {
    event.find_prop(name).map_or("", |property| property.val.as_str())
}

fn read_event(
    event: &Component<'_>,
    zone: Tz,
    moved: &BTreeSet<DateTime<Utc>>,
) -> Result<CalendarEvent, String> {
    let starts = event.find_prop("DTSTART").ok_or("has no DTSTART")?;
    let start = moment(starts, zone)?;
    // Each occurrence is counted from the first one on.
    if start.year() < FIRST_YEAR {
        return Err(format!("begins before {FIRST_YEAR}"));
    }
    let whole_days = !starts.val.as_str().contains('T');
    let length = match (event.find_prop("DTEND"), event.find_prop("DURATION")) {
        (Some(ends), _) => moment(ends, zone)?.to_utc() - start.to_utc(),
        (None, Some(lasts)) => {
            duration(lasts.val.as_str()).ok_or("has no DURATION such as PT8H")?
        }
        (None, None) if whole_days => TimeDelta::days(1),
        (None, None) => TimeDelta::zero(),
    };
    if length < TimeDelta::zero() || length > LONGEST {
        return Err("ends before it begins, or lasts longer than a year".into());
    }
    let all = |name: &'static str| {
        event.properties.iter().filter(move |property| property.name.as_str() == name)
    };
    let attendees = all("ATTENDEE")
        .filter_map(|one| {
            one.val.as_str().to_lowercase().strip_prefix("mailto:").map(str::to_owned)
        })
        .collect();
    let (rules, dates): (Vec<_>, Vec<_>) = (all("RRULE").collect(), all("RDATE").collect());
    let repeats = if event.find_prop("RECURRENCE-ID").is_some()
        || (rules.is_empty() && dates.is_empty())
    {
        None
    } else {
        if rules.len() > 1 {
            return Err("has more than one RRULE".into());
        }
        let mut set = RRuleSet::new(start).limit();
        for rule in rules {
            let rule: RRule<Unvalidated> =
                rule.val.as_str().parse().map_err(|e| format!("has a wrong RRULE: {e}"))?;
            let times = [rule.get_by_hour(), rule.get_by_minute(), rule.get_by_second()];
            if rule.get_freq() > Frequency::Daily || times.iter().any(|all| !all.is_empty()) {
                return Err("repeats more often than daily, which is not read".into());
            }
            set = set.rrule(rule.validate(start).map_err(|e| format!("has a wrong RRULE: {e}"))?);
        }
        for date in moments(dates.into_iter(), zone)? {
            set = set.rdate(date);
        }
        for date in moments(all("EXDATE"), zone)? {
            set = set.exdate(date);
        }
        for date in moved.iter().take(MAX_EXCEPTIONS) {
            set = set.exdate(date.with_timezone(&start.timezone()));
        }
        if set.clone().all(1).dates.is_empty() {
            return Err("never comes".into());
        }
        Some(Box::new(set))
    };
    let summary = unescaped(value(event, "SUMMARY"));
    Ok(CalendarEvent { summary, attendees, start, length, repeats })
}

/// A text as it is meant (RFC 5545, section 3.3.11).
fn unescaped(text: &str) -> String {
    text.replace("\\n", " ").replace("\\N", " ").replace('\\', "").trim().to_owned()
}

/// All moments of properties that may list several.
fn moments<'p, 'v: 'p>(
    properties: impl Iterator<Item = &'p Property<'v>>,
    zone: Tz,
) -> Result<Vec<DateTime<rrule::Tz>>, String> {
    let mut all = Vec::new();
    for property in properties {
        for text in property.val.as_str().split(',') {
            all.push(moment_of(property, text, zone)?);
        }
    }
    if all.len() > MAX_EXCEPTIONS {
        return Err(format!("has more than {MAX_EXCEPTIONS} exceptions"));
    }
    Ok(all)
}

fn moment(property: &Property<'_>, zone: Tz) -> Result<DateTime<rrule::Tz>, String> {
    moment_of(property, property.val.as_str(), zone)
}

/// A date, or a date with a time (RFC 5545, sections 3.3.4 and 3.3.5).
fn moment_of(property: &Property<'_>, text: &str, zone: Tz) -> Result<DateTime<rrule::Tz>, String> {
    let name = property.name.as_str();
    let wrong = || format!("has a {name} that is no time: {text}");
    if let Some(utc) = text.strip_suffix('Z') {
        let at = NaiveDateTime::parse_from_str(utc, "%Y%m%dT%H%M%S").map_err(|_| wrong())?;
        return Ok(rrule::Tz::UTC.from_utc_datetime(&at));
    }
    let own = property.params.iter().find(|parameter| parameter.key.as_str() == "TZID");
    let zone = match own.and_then(|own| own.val.as_ref()) {
        Some(own) => own.as_str().trim_matches('"').parse::<Tz>().map_err(|_| {
            format!("has a {name} in {}, which is not a zone such as Europe/London", own.as_str())
        })?,
        None => zone,
    };
    let at = match text.contains('T') {
        true => NaiveDateTime::parse_from_str(text, "%Y%m%dT%H%M%S").map_err(|_| wrong())?,
        false => {
            let day = NaiveDate::parse_from_str(text, "%Y%m%d").map_err(|_| wrong())?;
            day.and_time(NaiveTime::MIN)
        }
    };
    // A time that is left out when clocks are put forward is that of an hour later.
    let zone = rrule::Tz::Tz(zone);
    let found = zone.from_local_datetime(&at).earliest();
    let later = || zone.from_local_datetime(&(at + TimeDelta::hours(1))).earliest();
    found.or_else(later).ok_or_else(wrong)
}

/// A length of time (RFC 5545, section 3.3.6), such as `P1DT12H`.
fn duration(text: &str) -> Option<TimeDelta> {
    let mut rest = text.trim_start_matches('+').strip_prefix('P')?;
    let (mut total, mut in_day) = (TimeDelta::zero(), false);
    while !rest.is_empty() {
        if let Some(behind) = rest.strip_prefix('T') {
            (in_day, rest) = (true, behind);
            continue;
        }
        let digits = rest.find(|c: char| !c.is_ascii_digit())?;
        let count: i64 = rest[..digits].parse().ok().filter(|count| *count < 1_000_000)?;
        let unit = rest[digits..].chars().next()?;
        total += match (unit, in_day) {
            ('W', false) => TimeDelta::weeks(count),
            ('D', false) => TimeDelta::days(count),
            ('H', true) => TimeDelta::hours(count),
            ('M', true) => TimeDelta::minutes(count),
            ('S', true) => TimeDelta::seconds(count),
            _ => return None,
        };
        rest = &rest[digits + unit.len_utf8()..];
    }
    Some(total)
}

#[cfg(test)]
mod tests;
