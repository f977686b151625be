//! Shapes: what they keep, in which bounds, and that joining them loses nothing.

use super::*;
use crate::{NewAlert, alert::Received};
use chrono::TimeDelta;
use serde_json::json;

fn at(seconds: i64) -> DateTime<Utc> {
    DateTime::UNIX_EPOCH + TimeDelta::seconds(seconds)
}

fn alert(seconds: i64, value: Option<f64>, body: Value) -> Alert {
    let mut new = json!({ "kind": "disk.usage", "severity": "major", "resource": "vm/quill-db-1",
        "labels": { "site": "brack" }, "body": body });
    if let Some(value) = value {
        new["value"] = value.into();
    }
    let new = NewAlert::from_value(&new).expect("is in the normal form");
    let received = Received { source: "yard", received: at(seconds), fallback_id: "1" };
    new.complete(received).expect("is complete")
}

fn shape_of(bodies: &[Value]) -> Shape {
    let mut shape = Shape::new(at(0));
    for (n, body) in bodies.iter().enumerate() {
        shape.note_payload(body, at(n as i64), &Masks::default());
    }
    shape
}

#[test]
fn fields_are_kept_with_types_share_examples_and_bounds() {
    let mut shape = Shape::new(at(10));
    let masks = Masks::default();
    shape.note_alert(&alert(10, Some(88.0), json!({ "disk": "sda", "free": 3 })), &masks);
    shape.note_alert(&alert(20, None, json!({ "disk": "sdb", "free": "4 GiB" })), &masks);
    shape.note_alert(&alert(40, Some(91.5), json!({ "disk": "sda" })), &masks);
    assert_eq!((shape.count, shape.profiled), (3, 3));
    assert_eq!(shape.severities, BTreeMap::from([(Severity::Major, 3)]));
    assert_eq!((shape.first, shape.last, shape.every_seconds()), (at(10), at(40), Some(15.0)));
    let disk = &shape.fields["body.disk"];
    assert_eq!((disk.present, disk.distinct(), shape.share(disk)), (3, 2, 1.0));
    assert_eq!(disk.examples, ["sda", "sdb"], "the latest first, each once");
    let free = &shape.fields["body.free"];
    assert_eq!(free.types, BTreeMap::from([(FieldType::Number, 1), (FieldType::Text, 1)]));
    assert_eq!((free.first, free.last), (at(10), at(20)));
    let value = &shape.fields["value"];
    assert_eq!((value.present, value.least, value.most), (2, Some(88.0), Some(91.5)));
    assert_eq!(shape.fields["labels.site"].examples, ["brack"]);
    assert_eq!(shape.fields["resource"].examples, ["vm/quill-db-1"]);
}

#[test]
fn elements_of_lists_count_once_for_each_payload() {
    let one = json!({ "disks": [{ "name": "sda" }, { "name": "sdb" }, { "full": true }] });
    let shape = shape_of(&[one, json!({ "disks": [] })]);
    assert_eq!(shape.fields["body.disks"].present, 2);
    let name = &shape.fields["body.disks[].name"];
    assert_eq!((name.present, name.types[&FieldType::Text]), (1, 2));
    assert_eq!(shape.fields["body.disks[]"].present, 1);
}

#[test]
fn what_has_names_without_end_stays_within_bounds() {
    let bodies: Vec<Value> =
        (0..500).map(|n| json!({ "hosts": { format!("kiosk-{n}"): n } })).collect();
    let shape = shape_of(&bodies);
    assert!(shape.fields.contains_key("body.hosts.*"), "further names are counted together");
    assert!(shape.fields.len() <= MAX_SIBLINGS + 2, "{}", shape.fields.len());

    let wide: serde_json::Map<String, Value> = (0..MAX_SIBLINGS)
        .map(|n| (format!("m{n}"), json!({ "a": 1, "b": 2, "c": 3, "d": 4 })))
        .collect();
    let shape = shape_of(&[Value::Object(wide)]);
    assert_eq!((shape.fields.len(), shape.has_more), (MAX_FIELDS, true));

    let many: serde_json::Map<String, Value> =
        (0..100_000).map(|n| (format!("k{n}"), json!(n))).collect();
    let shape = shape_of(&[Value::Object(many)]);
    assert!(shape.has_more, "of one payload so many values are looked at, and no more");
    assert_eq!(
        shape.fields["body.*"].types[&FieldType::Number],
        (MAX_VALUES - 1 - MAX_SIBLINGS) as u64
    );

    let deep = (0..30).fold(json!("end"), |inner, _| json!({ "in": inner }));
    let shape = shape_of(&[deep]);
    assert!(shape.fields.len() <= MAX_DEPTH, "{:?}", shape.fields.keys());

    let long = json!({ "text": "x".repeat(100_000), "n".repeat(5_000): 1 });
    let kept = serde_json::to_string(&shape_of(&[long])).expect("is JSON");
    assert!(kept.len() < 2_000, "{} bytes", kept.len());
}

#[test]
fn of_many_some_are_looked_at_and_all_are_counted() {
    let bodies: Vec<Value> = (0..1_800).map(|n| json!({ "n": n })).collect();
    let shape = shape_of(&bodies);
    assert_eq!((shape.count, shape.profiled), (1_800, ALL_OF_FIRST + 1_600 / THEN_EVERY));
    assert_eq!(shape.share(&shape.fields["body.n"]), 1.0);
}

#[test]
fn different_values_are_estimated() {
    for many in [0, 1, 2, 5, 10, 20, 40] {
        let bodies: Vec<Value> =
            (0..many * 3).map(|n| json!({ "host": format!("kiosk-{}", n % many) })).collect();
        let shape = shape_of(&bodies);
        let distinct = shape.fields.get("body.host").map_or(0, FieldShape::distinct);
        assert!(distinct.abs_diff(many) <= many / 8, "{many} are taken for {distinct}");
    }
    let mut sketch = distinct::DistinctSketch::default();
    for n in 0..100_000 {
        sketch.add(format!("alert {n}").as_bytes());
    }
    let estimate = sketch.estimate() as f64;
    assert!((60_000.0..140_000.0).contains(&estimate), "{estimate}");
}

#[test]
fn joining_gives_what_one_alone_would_have_seen() {
    let bodies: Vec<Value> = (0..150)
        .map(|n| match n % 3 {
            0 => json!({ "host": format!("kiosk-{n}"), "load": n }),
            1 => json!({ "host": format!("kiosk-{n}"), "note": null }),
            _ => json!({ "host": n, "tags": ["a", "b"] }),
        })
        .collect();
    let whole = shape_of(&bodies);
    let mut joined = shape_of(&bodies[..0]);
    joined.merge(shape_of(&bodies[..70]));
    let mut second = Shape::new(at(70));
    for (n, body) in bodies.iter().enumerate().skip(70) {
        second.note_payload(body, at(n as i64), &Masks::default());
    }
    joined.merge(second);
    assert_eq!(joined, whole);
    let text = serde_json::to_string(&whole).expect("is JSON");
    assert_eq!(serde_json::from_str::<Shape>(&text).expect("is read again"), whole);
}

#[test]
fn masked_values_are_not_kept_and_forgotten_where_they_were() {
    let body = json!({ "customer": { "name": "Ada Skerrow" }, "auth": { "apiToken": "t-1" },
        "DB_PASSWORD": "hunter2", "host": "kiosk-1" });
    let mut shape = shape_of(std::slice::from_ref(&body));
    let text = serde_json::to_string(&shape).expect("is JSON");
    assert!(!text.contains("hunter2") && !text.contains("t-1"), "{text}");
    assert!(text.contains("Ada Skerrow"));

    let mut later = Shape::new(at(5));
    later.note_payload(&body, at(5), &Masks::new(vec!["body.customer".into()]));
    shape.merge(later);
    let text = serde_json::to_string(&shape).expect("is JSON");
    assert!(!text.contains("Ada") && text.contains("kiosk-1"), "{text}");
    let name = &shape.fields["body.customer.name"];
    assert!(name.masked && name.present == 2 && name.distinct() == 0, "{name:?}");
}
