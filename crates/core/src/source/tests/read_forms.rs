//! The forms in which senders say when something happened, what was measured, and which labels it
//! has.

use super::*;
use chrono::TimeZone;

/// What a line of `read` makes of a body.
fn read_one(line: &str, body: &Value) -> Result<Alert, String> {
    let read = format!("read: {{ kind: '\"k\"', resource: '\"r/x\"', {line} }}");
    let source = source(&read).expect("is a source");
    let raw = body.to_string();
    let delivery = Delivery {
        raw: raw.as_bytes(),
        properties: &Map::new(),
        received: chrono::Utc.with_ymd_and_hms(2026, 1, 15, 12, 0, 0).single().expect("a time"),
        fallback_id: "d1",
        normal: false,
    };
    let outcome = source.read(&delivery);
    match outcome.alerts.into_iter().next() {
        Some(alert) => Ok(alert),
        None => Err(outcome.unreadable[0].reason.clone()),
    }
}

fn time_of(line: &str, at: &Value) -> String {
    match read_one(line, &json!({ "at": at })) {
        Ok(alert) => alert.time.format("%FT%T%.3fZ").to_string(),
        Err(why) => why,
    }
}

#[test]
fn times_come_in_the_usual_forms() {
    let said: Vec<String> = [
        json!("2026-01-15T11:58:02.5+01:00"),
        json!("2026-01-15 10:58:02.5Z"),
        json!("2026-01-15 10:58:02"),
        json!("2026-01-15T10:58:02.123456"),
        json!("Thu, 15 Jan 2026 10:58:02 +0000"),
        json!(1_768_474_682),
        json!(1_768_474_682.25),
        json!(1_768_474_682_250_i64),
        json!(1_768_474_682_250_000_i64),
        json!(1_768_474_682_250_000_000_i64),
        json!("1768474682250"),
        json!("nan"),
        json!("yesterday"),
        json!(true),
    ]
    .iter()
    .map(|at| format!("{at}  {}", time_of("time: body.at", at)))
    .collect();
    insta::assert_snapshot!(said.join("\n"), @r#"
    "2026-01-15T11:58:02.5+01:00"  2026-01-15T10:58:02.500Z
    "2026-01-15 10:58:02.5Z"  2026-01-15T10:58:02.500Z
    "2026-01-15 10:58:02"  2026-01-15T10:58:02.000Z
    "2026-01-15T10:58:02.123456"  2026-01-15T10:58:02.123Z
    "Thu, 15 Jan 2026 10:58:02 +0000"  2026-01-15T10:58:02.000Z
    1768474682  2026-01-15T10:58:02.000Z
    1768474682.25  2026-01-15T10:58:02.250Z
    1768474682250  2026-01-15T10:58:02.250Z
    1768474682250000  2026-01-15T10:58:02.250Z
    1768474682250000000  2026-01-15T10:58:02.250Z
    "1768474682250"  2026-01-15T10:58:02.250Z
    "nan"  `time`: is not an RFC 3339 time, nor seconds since 1970
    "yesterday"  `time`: is not an RFC 3339 time, nor seconds since 1970
    true  `time`: is not an RFC 3339 time, nor seconds since 1970
    "#);
}

#[test]
fn times_come_in_a_form_and_a_zone_of_the_senders_own() {
    let of = |form: &str, zone: &str, at: &str| {
        let line = format!("time: {{ of: body.at, as: '{form}', zone: {zone} }}");
        format!("{at} | {form} | {zone}  {}", time_of(&line, &json!(at)))
    };
    let said = [
        of("%d.%m.%Y %H:%M:%S", "Europe/London", "15.07.2025 10:58:02"),
        of("%d.%m.%Y %H:%M:%S", "UTC", "15.07.2025 10:58:02"),
        of("%d/%b/%Y:%H:%M:%S %z", "Europe/London", "15/Jul/2025:10:58:02 +0200"),
        of("%d.%m.%Y", "Europe/London", "15.07.2025"),
        // Without a year: the last twelve months, and tomorrow at the latest.
        of("%b %d %H:%M:%S", "UTC", "Jan 15 11:59:00"),
        of("%b %d %H:%M:%S", "UTC", "Dec 31 23:59:00"),
        of("%b %d %H:%M:%S", "UTC", "Jan 16 00:01:00"),
        of("%b %d %H:%M:%S", "UTC", "Feb 29 00:01:00"),
        of("%H:%M:%S", "UTC", "11:59:00"),
        // Clocks that are put back and put forward.
        of("%F %T", "Europe/London", "2025-10-26 01:30:00"),
        of("%F %T", "Europe/London", "2025-03-30 01:30:00"),
        of("%F %T", "UTC", "2025-02-30 01:30:00"),
        of("%F", "UTC", "2025-02-03 and more"),
    ];
    insta::assert_snapshot!(said.join("\n"), @r"
    15.07.2025 10:58:02 | %d.%m.%Y %H:%M:%S | Europe/London  2025-07-15T09:58:02.000Z
    15.07.2025 10:58:02 | %d.%m.%Y %H:%M:%S | UTC  2025-07-15T10:58:02.000Z
    15/Jul/2025:10:58:02 +0200 | %d/%b/%Y:%H:%M:%S %z | Europe/London  2025-07-15T08:58:02.000Z
    15.07.2025 | %d.%m.%Y | Europe/London  2025-07-14T23:00:00.000Z
    Jan 15 11:59:00 | %b %d %H:%M:%S | UTC  2026-01-15T11:59:00.000Z
    Dec 31 23:59:00 | %b %d %H:%M:%S | UTC  2025-12-31T23:59:00.000Z
    Jan 16 00:01:00 | %b %d %H:%M:%S | UTC  2026-01-16T00:01:00.000Z
    Feb 29 00:01:00 | %b %d %H:%M:%S | UTC  2024-02-29T00:01:00.000Z
    11:59:00 | %H:%M:%S | UTC  2026-01-15T11:59:00.000Z
    2025-10-26 01:30:00 | %F %T | Europe/London  2025-10-26T00:30:00.000Z
    2025-03-30 01:30:00 | %F %T | Europe/London  `time`: is no time of the form `%F %T`
    2025-02-30 01:30:00 | %F %T | UTC  `time`: is no time of the form `%F %T`
    2025-02-03 and more | %F | UTC  `time`: is no time of the form `%F`
    ");
    let zoned = "time: { of: body.at, zone: Europe/London }";
    insta::assert_snapshot!(time_of(zoned, &json!("2025-07-15 10:58:02")), @"2025-07-15T09:58:02.000Z");
    insta::assert_snapshot!(
        source("read: { kind: '\"k\"', resource: '\"r/x\"', time: { of: body.at, as: '%Q', zone: Mars } }")
            .expect_err("is wrong"),
        @r#"
        pier.yaml:3:66: is no form of a time, such as %d.%m.%Y %H:%M:%S
            3 | read: { kind: '"k"', resource: '"r/x"', time: { of: body.at, as: '%Q', zone: Mars } }
              |                                                                  ^^^^
        pier.yaml:3:78: is not a time zone, such as Europe/London
            3 | read: { kind: '"k"', resource: '"r/x"', time: { of: body.at, as: '%Q', zone: Mars } }
              |                                                                              ^^^^
        "#
    );
}

#[test]
fn what_was_measured_may_be_a_text_that_begins_with_a_number() {
    let value =
        |body: Value| read_one("value: body.v", &json!({ "v": body })).expect("is read").value;
    assert_eq!(value(json!("91.5 %")), Some(91.5));
    assert_eq!(value(json!(" -3ms")), Some(-3.0));
    assert_eq!(value(json!("1e3")), Some(1000.0));
    assert_eq!(value(json!("12")), Some(12.0));
    for none in ["", "%", "nan", "about 3", "3-4", "inf", "."] {
        assert_eq!(value(json!(none)), None, "{none}");
    }
}

#[test]
fn labels_come_as_a_map_as_pairs_or_as_named_values() {
    let labels = |all: Value| {
        let line = "labels: { site: '\"quill\"' }, labels_of: body.tags";
        match read_one(line, &json!({ "tags": all })) {
            Ok(alert) => format!("{:?}", alert.labels),
            Err(why) => why,
        }
    };
    let said = [
        labels(json!({ "tier": "gold", "site": "brack", "rack": 7, "none": null })),
        labels(json!(["tier=gold", "rack: 7"])),
        labels(json!([{ "name": "tier", "value": "gold" }, { "key": "rack", "value": 7 }])),
        labels(Value::Null),
        labels(json!("tier=gold")),
        labels(json!(["tier"])),
    ];
    insta::assert_snapshot!(said.join("\n"), @r#"
    {"rack": "7", "site": "quill", "tier": "gold"}
    {"rack": "7", "site": "quill", "tier": "gold"}
    {"rack": "7", "site": "quill", "tier": "gold"}
    {"site": "quill"}
    `labels_of`: is neither a map nor a list
    `labels_of`: is a list of what are no names with values
    "#);
}
