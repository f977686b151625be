//! Calendars as programs write them: repeated, with exceptions, moved, across changes of clocks,
//! and what is none.

use super::{Calendar, duration};
use chrono::{DateTime, TimeDelta, Utc};
use chrono_tz::Tz;

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
