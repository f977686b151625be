//! Calendars as programs write them: repeated, with exceptions, moved, across changes of clocks,
//! and what is none.

use super::{Calendar, NamedCalendar, duration};
use crate::{
    Catalog,
    catalog::check_files,
    contact::{Contact, Who},
};
use chrono::{DateTime, TimeDelta, Utc};
use chrono_tz::Tz;
use serde_json::json;
use std::collections::BTreeMap;

fn at(text: &str) -> DateTime<Utc> {
    text.parse().expect("a time")
}

fn read(events: &str) -> Result<Calendar, String> {
    let text = format!("BEGIN:VCALENDAR\r\nVERSION:2.0\r\n{events}END:VCALENDAR\r\n");
    Calendar::read(&text, Tz::Europe__Oslo)
}

fn on(calendar: &Calendar, now: &str) -> Vec<String> {
    calendar.on_at(at(now)).iter().map(|event| event.summary.to_owned()).collect()
}

fn event(lines: &[&str]) -> String {
    format!("BEGIN:VEVENT\r\n{}\r\nEND:VEVENT\r\n", lines.join("\r\n"))
}

/// Two weeks in turn, as a roster is; the second has a week in which another stands in.
fn roster() -> String {
    [
        event(&[
            "UID:1",
            "SUMMARY:vera-lund",
            "DTSTART;TZID=Europe/Oslo:20260302T080000",
            "DTEND;TZID=Europe/Oslo:20260309T080000",
            "RRULE:FREQ=WEEKLY;INTERVAL=2",
        ]),
        event(&[
            "UID:2",
            "SUMMARY:pat",
            " -moen",
            "DTSTART;TZID=Europe/Oslo:20260309T080000",
            "DURATION:P7D",
            "RRULE:FREQ=WEEKLY;INTERVAL=2",
            "EXDATE;TZID=Europe/Oslo:20260420T080000",
        ]),
        event(&[
            "UID:2",
            "RECURRENCE-ID;TZID=Europe/Oslo:20260323T080000",
            "SUMMARY:kim-aas",
            "DTSTART;TZID=Europe/Oslo:20260324T080000",
            "DTEND;TZID=Europe/Oslo:20260330T080000",
        ]),
    ]
    .concat()
}

#[test]
fn a_roster_repeats_with_its_exceptions_across_a_change_of_clocks() {
    let calendar = read(&roster()).expect("reads");
    assert_eq!(on(&calendar, "2026-03-02T06:59:59Z"), Vec::<String>::new());
    assert_eq!(on(&calendar, "2026-03-02T07:00:00Z"), ["vera-lund"]);
    assert_eq!(on(&calendar, "2026-03-09T06:59:59Z"), ["vera-lund"]);
    assert_eq!(on(&calendar, "2026-03-09T07:00:00Z"), ["pat-moen"]);
    // Moved to another person and a later day.
    assert_eq!(on(&calendar, "2026-03-23T12:00:00Z"), Vec::<String>::new());
    assert_eq!(on(&calendar, "2026-03-24T12:00:00Z"), ["kim-aas"]);
    // Clocks are put forward on the 29th of March: eight o'clock is an hour earlier then.
    assert_eq!(on(&calendar, "2026-03-30T05:59:59Z"), ["kim-aas"]);
    assert_eq!(on(&calendar, "2026-03-30T06:00:00Z"), ["vera-lund"]);
    // Left out.
    assert_eq!(on(&calendar, "2026-04-21T12:00:00Z"), Vec::<String>::new());
    assert_eq!(on(&calendar, "2036-03-05T12:00:00Z").len(), 1);
    let now = calendar.on_at(at("2026-03-03T00:00:00Z"));
    assert_eq!(now[0].until, at("2026-03-09T07:00:00Z"));
}

#[test]
fn whole_days_several_at_once_and_those_who_take_part() {
    let calendar = read(
        &[
            event(&["SUMMARY:day\\, one", "DTSTART;VALUE=DATE:20260501"]),
            event(&[
                "SUMMARY:Standby",
                "ATTENDEE;CN=Vera:MAILTO:Vera.Lund@skerrow.example",
                "DTSTART:20260501T000000Z",
                "DTEND:20260502T000000Z",
            ]),
            event(&["SUMMARY:gone", "STATUS:CANCELLED", "DTSTART;VALUE=DATE:20260501"]),
            event(&["SUMMARY:moment", "DTSTART:20260501T100000Z"]),
        ]
        .concat(),
    )
    .expect("reads");
    assert_eq!(on(&calendar, "2026-05-01T10:00:00Z"), ["day, one", "Standby"]);
    // A whole day is one of the calendar's zone.
    assert_eq!(on(&calendar, "2026-05-01T22:30:00Z"), ["Standby"]);
    let now = calendar.on_at(at("2026-05-01T23:00:00Z"));
    assert_eq!(now[0].attendees, ["vera.lund@skerrow.example"]);
}

#[test]
fn what_is_no_calendar_says_why() {
    let one = |lines: &[&str]| read(&event(lines)).expect_err("is none");
    let start = "DTSTART:20260501T100000Z";
    insta::assert_snapshot!(
        [
            Calendar::read("vera: monday", Tz::UTC).expect_err("is none"),
            Calendar::read(&"x".repeat(300_000), Tz::UTC).expect_err("is none"),
            one(&["SUMMARY:a"]),
            one(&["SUMMARY:a", "DTSTART:tomorrow"]),
            one(&["SUMMARY:a", "DTSTART;TZID=Skerrow/Pier:20260501T100000"]),
            one(&["SUMMARY:a", start, "DTEND:20260401T100000Z"]),
            one(&["SUMMARY:a", start, "DURATION:8 hours"]),
            one(&["SUMMARY:a", start, "RRULE:FREQ=SECONDLY"]),
            one(&["SUMMARY:a", start, "RRULE:FREQ=NEVER"]),
            one(&["SUMMARY:a", start, "RRULE:FREQ=DAILY;BYHOUR=1,2,3"]),
            one(&["SUMMARY:a", start, "RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=31"]),
            one(&["SUMMARY:a", "DTSTART;VALUE=DATE:19000101", "RRULE:FREQ=DAILY"]),
            read(&event(&["SUMMARY:a", start, "RRULE:FREQ=DAILY"]).repeat(51))
                .expect_err("is none"),
            read(&event(&["SUMMARY:a", start]).repeat(2001)).expect_err("is none"),
        ]
        .join("\n")
    );
}

#[test]
fn lengths_of_time() {
    for (text, seconds) in
        [("P1W", 604_800), ("P1DT12H", 129_600), ("PT1H30M5S", 5_405), ("+PT0S", 0)]
    {
        assert_eq!(duration(text), Some(TimeDelta::seconds(seconds)), "{text}");
    }
    for text in ["", "1D", "P1H", "PT1D", "P-1D", "PT9999999999999999999H", "PT5µ"] {
        assert_eq!(duration(text), None, "{text}");
    }
}

const OFFICE: &str = "connector: office
operations:
  calendar.read: { request: { method: GET, path: /harbour.ics }, repeat: safe }
  calendar.clear: { request: { method: POST, path: /clear } }
---
connection: office
connector: office
base: http://127.0.0.1:7401
";

fn problems(calendar: &str) -> String {
    let text = format!("{OFFICE}---\n{calendar}");
    let seen = crate::catalog::Observed::default();
    let checked = check_files([("all.yaml", text.as_str())], &[], &Catalog::default(), &seen);
    checked.problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
}

#[test]
fn a_calendar_is_read_by_an_operation_that_is_there_and_changes_nothing() {
    assert_eq!(problems("calendar: sailings\ncall: calendar.read\nvia: office\nevery: 5m\n"), "");
    insta::assert_snapshot!(
        problems("calendar: sailings\ncall: calendar.clear\nvia: office\nevery: 5s\n"),
        @r"
    all.yaml:13:8: is from 1m to 1d, not 5s
       13 | every: 5s
          |        ^^
    "
    );
    insta::assert_snapshot!(
        problems("calendar: sailings\ncall: calendar.raed\nvia: offic\ngive: { of: \"${result}\" }\ntext: rslt\n"),
        @r#"
    all.yaml:13:16: `result` is not known here; nothing is, write a plain value
       13 | give: { of: "${result}" }
          |                ^^^^^^
    all.yaml:14:7: `rslt` is not known here; known here: result
       14 | text: rslt
          |       ^^^^
    "#
    );
    insta::assert_snapshot!(
        problems("calendar: sailings\ncall: calendar.clear\nvia: office\n"),
        @r"
    all.yaml:11:7: a calendar is read again and again; call an operation that is `repeat: safe`
       11 | call: calendar.clear
          |       ^^^^^^^^^^^^^^
    "
    );
    insta::assert_snapshot!(problems("calendar: sailings\nvia: office\nevery: 5m\n"), @r"
    all.yaml:10:1: the key `events` is missing: iCalendar; or `events_from`, a file; or `call`, an operation that gives it
       10 | calendar: sailings
          | ^
    all.yaml:11:6: belongs to `call`, which is not there
       11 | via: office
          |      ^^^^^^
    all.yaml:12:8: belongs to `call`, which is not there
       12 | every: 5m
          |        ^^
    ");
    insta::assert_snapshot!(problems("calendar: sailings\ncall: calendar.read\n"), @r"
    all.yaml:10:1: the key `via` is missing here: through which connection is it called?
       10 | calendar: sailings
          | ^
    ");
    let both = "calendar: sailings\ncall: calendar.read\nvia: office\nevents: x\n";
    insta::assert_snapshot!(problems(both), @r"
    all.yaml:11:7: its events stand here already; leave one of the two out
       11 | call: calendar.read
          |       ^^^^^^^^^^^^^
    ");
}

#[test]
fn what_was_read_counts_from_then_on_and_before_it_nothing_is_known() {
    let text = format!(
        "{OFFICE}---\ncalendar: sailings\nzone: Europe/Oslo\ncall: calendar.read\nvia: office\n\
        text: result.ics\n---\nguard: at-sea\nfrozen: {{ during: sailings }}\n---\n\
        contact: vera\nhours: {{ during: sailings }}\n\
        ways: [ {{ call: calendar.read, via: office }} ]\n"
    );
    let seen = crate::catalog::Observed::default();
    let checked = check_files([("all.yaml", text.as_str())], &[], &Catalog::default(), &seen);
    assert_eq!(checked.problems, []);
    let unread = Catalog::new(checked.entries);
    let now = at("2026-06-05T12:00:00Z");
    let reached = |catalog: &Catalog, at: DateTime<Utc>| {
        let guards = catalog.guards(at);
        guards.get("at-sea").expect("a guard").frozen.as_ref().expect("times").reach(at)
    };
    assert!(!reached(&unread, now), "nothing begins before it is known what is on");
    let is_in = |catalog: &Catalog, at| {
        let (contact, _) = catalog.get::<Contact>("vera").expect("a contact");
        let Who::Person(person) = &contact.who else { panic!("a person") };
        person.hours.as_ref().expect("hours").hold(catalog, at)
    };
    assert!(is_in(&unread, now), "and nobody cannot be reached");

    let sailing = event(&["SUMMARY:Late sailing", "DTSTART:20260605T170000", "DURATION:PT2H"]);
    let ics = format!("BEGIN:VCALENDAR\r\n{sailing}END:VCALENDAR\r\n");
    let (named, _) = unread.get::<NamedCalendar>("sailings").expect("a calendar");
    let reading = named.reading.as_ref().expect("is read");
    assert_eq!(reading.text_of(&json!({ "ics": ics })), Ok(ics.clone()));
    insta::assert_snapshot!(reading.text_of(&json!({})).expect_err("is none"), @"`text`, which is result.ics: there is no field `ics`");
    insta::assert_snapshot!(reading.text_of(&json!({ "ics": 4 })).expect_err("is none"), @"`text`, which is result.ics, gives no text");

    let of = |text: &str, at| BTreeMap::from([("sailings".to_owned(), (text.to_owned(), at))]);
    let (read, faulty) = unread.with_calendars(&of(&ics, now));
    assert_eq!(faulty, Vec::<String>::new());
    assert!(reached(&read, now));
    assert!(!is_in(&read, now) && is_in(&read, at("2026-06-05T16:00:00Z")));
    // What cannot be read leaves what was read before.
    let later = at("2026-06-05T13:00:00Z");
    let (still, faulty) = read.with_calendars(&of("nothing", later));
    insta::assert_snapshot!(faulty.join("\n"), @"the events of calendar sailings: is no calendar: it is text that begins with BEGIN:VCALENDAR and ends with END:VCALENDAR (RFC 5545)");
    assert!(is_in(&still, at("2026-06-05T16:00:00Z")));
}
