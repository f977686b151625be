//! Times of cron expressions: when a message is due, and what becomes of those that were missed.

use super::*;
use crate::{schedule::Schedule, source::schedule_message};
use chrono::{DateTime, TimeDelta, Utc};

fn schedule(text: &str) -> Schedule {
    match of_format(text).expect("checks").intake {
        Intake::Schedule(schedule) => schedule,
        other => panic!("is {}", other.word()),
    }
}

fn at(text: &str) -> DateTime<Utc> {
    DateTime::parse_from_rfc3339(text).expect(text).to_utc()
}

#[test]
fn times_come_in_the_zone_of_the_source() {
    let nightly = "{ schedule: { cron: '30 2 * * *', zone: Europe/London } }";
    for (text, after, times) in [
        // 02:30 is skipped on the night when the clocks go forward: it comes as soon as it can.
        (
            nightly,
            "2026-03-28T00:00:00Z",
            ["2026-03-28T02:30:00Z", "2026-03-29T01:30:00Z", "2026-03-30T01:30:00Z"],
        ),
        (
            nightly,
            "2026-10-24T12:00:00Z",
            ["2026-10-25T02:30:00Z", "2026-10-26T02:30:00Z", "2026-10-27T02:30:00Z"],
        ),
        // A time that comes twice when the clocks go back has one message.
        (
            "{ schedule: { cron: '30 1 * * *', zone: Europe/London } }",
            "2026-10-24T12:00:00Z",
            ["2026-10-25T00:30:00Z", "2026-10-26T01:30:00Z", "2026-10-27T01:30:00Z"],
        ),
        (
            "{ schedule: { cron: '*/20 6 * * MON-FRI' } }",
            "2026-11-27T06:10:00Z",
            ["2026-11-27T06:20:00Z", "2026-11-27T06:40:00Z", "2026-11-30T06:00:00Z"],
        ),
        (
            "{ schedule: { cron: '0 8 29 2 *' } }",
            "2026-11-27T06:10:00Z",
            ["2028-02-29T08:00:00Z", "2032-02-29T08:00:00Z", "2036-02-29T08:00:00Z"],
        ),
    ] {
        let schedule = schedule(text);
        let mut last = at(after);
        for time in times {
            last = schedule.next(last).expect("a time");
            assert_eq!(last, at(time), "{text}");
        }
    }
}

#[test]
fn missed_times_are_made_up_for_once_or_skipped() {
    let due = |policy: &str, first: &str, now: &str| {
        let text = format!("{{ schedule: {{ cron: '0 * * * *', missed: {policy} }} }}");
        let found = schedule(&text).occurrence(at(first), at(now))?;
        let sends = if found.sends { "sends" } else { "skips" };
        let (due, next) = (found.due.format("%H:%M"), found.next.format("%H:%M"));
        Some(format!("{due} {sends}, {} missed, next {next}", found.missed))
    };
    let first = "2026-11-28T02:00:00Z";
    for (now, once, skip) in [
        ("2026-11-28T01:59:59Z", None, None),
        (
            first,
            Some("02:00 sends, 0 missed, next 03:00"),
            Some("02:00 sends, 0 missed, next 03:00"),
        ),
        (
            "2026-11-28T02:01:00Z",
            Some("02:00 sends, 0 missed, next 03:00"),
            Some("02:00 sends, 0 missed, next 03:00"),
        ),
        (
            "2026-11-28T02:01:01Z",
            Some("02:00 sends, 0 missed, next 03:00"),
            Some("02:00 skips, 1 missed, next 03:00"),
        ),
        (
            "2026-11-28T05:00:10Z",
            Some("05:00 sends, 3 missed, next 06:00"),
            Some("05:00 sends, 3 missed, next 06:00"),
        ),
        (
            "2026-11-28T05:30:00Z",
            Some("05:00 sends, 3 missed, next 06:00"),
            Some("05:00 skips, 4 missed, next 06:00"),
        ),
        // So many that they are not counted.
        (
            "2027-11-28T05:30:00Z",
            Some("05:00 sends, 999 missed, next 06:00"),
            Some("05:00 skips, 1000 missed, next 06:00"),
        ),
    ] {
        assert_eq!(due("once", first, now).as_deref(), once, "{now}");
        assert_eq!(due("skip", first, now).as_deref(), skip, "{now}");
    }
}

#[test]
fn a_message_is_read_by_the_lines_of_its_kind() {
    let source =
        of_format("{ schedule: { cron: '0 2 * * *', zone: Europe/Paris } }").expect("checks");
    let Intake::Schedule(schedule) = &source.intake else { panic!("is a schedule") };
    let now = at("2026-11-28T01:00:01Z");
    let occurrence = schedule.occurrence(now - TimeDelta::days(1), now);
    let mut occurrence = occurrence.expect("is due");
    occurrence.due = at("2026-11-28T01:00:00Z");
    let message = schedule_message(schedule, "patch-night", &occurrence).to_string();
    let outcome = source.read(&Delivery {
        raw: message.as_bytes(),
        properties: &Map::new(),
        received: now,
        fallback_id: "d1",
        normal: false,
    });
    assert_eq!(
        lines(&outcome),
        [
            "due schedules/patch-night indeterminate noted 2026-11-28T01:00:00Z | patch-night is due; \
          times missed: 1 |"
        ]
    );
    assert_eq!(outcome.alerts[0].id, "patch-night 2026-11-28T02:00:00+01:00");
}

#[test]
fn what_is_no_schedule_is_refused() {
    let said = |text: &str| of_format(text).expect_err("refused").lines().next().map(str::to_owned);
    let cases = [
        "{ schedule: { cron: '0 2 * *' } }",
        "{ schedule: { cron: '@daily' } }",
        "{ schedule: { cron: '0 0 2 * * *' } }",
        "{ schedule: { cron: '61 2 * * *' } }",
        "{ schedule: { cron: '0 2 30 2 *' } }",
        "{ schedule: { cron: '0 2 * * *', zone: London } }",
        "{ schedule: { cron: '0 2 * * *', missed: all } }",
        "{ schedule: {} }",
    ];
    let told: Vec<String> = cases.iter().filter_map(|case| said(case)).collect();
    insta::assert_snapshot!(told.join("\n"), @"
    pier.yaml:2:29: is not minute, hour, day of the month, month and day of the week, such as `30 2 * * 1-5`
    pier.yaml:2:29: is not minute, hour, day of the month, month and day of the week, such as `30 2 * * 1-5`
    pier.yaml:2:29: is not minute, hour, day of the month, month and day of the week, such as `30 2 * * 1-5`
    pier.yaml:2:29: is not a cron expression: Component error: Number out of bounds.
    pier.yaml:2:29: names a time that never comes
    pier.yaml:2:48: is not a time zone such as Europe/London
    pier.yaml:2:50: unknown value `all`; known here: once, skip
    pier.yaml:2:9: is a map; map with a single key was expected
    ");
}
