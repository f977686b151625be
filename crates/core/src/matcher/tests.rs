//! The cases of `listen`, asked of one rule each.

use super::{Match, test};
use crate::{NewAlert, alert::Delivery, document::parse_file, rule::Rule};
use chrono::DateTime;
use serde_json::{Value, json};

fn alert(given: &Value) -> crate::Alert {
    let mut whole = json!({"kind": "disk.usage", "resource": "vm/quill-booking-db-1", "severity": "major"});
    for (key, value) in given.as_object().into_iter().flatten() {
        whole[key] = value.clone();
    }
    let new: NewAlert = serde_json::from_value(whole).expect("an alert");
    let delivery = Delivery { source: "yard-hypervisor", received: DateTime::UNIX_EPOCH, fallback_id: "1" };
    new.complete(delivery).expect("the normal form")
}

#[test]
fn cases() {
    let cases = parse_file("listen.yaml", include_str!("../../cases/listen.yaml")).expect("reads");
    assert!(cases.len() >= 12, "the case file lost its cases");
    for case in cases {
        let text = format!("rule: r\nlisten: {}\ndispatch: {{ runbook: b }}\n", case.value["listen"]);
        let rule = Rule::check(&parse_file("r.yaml", &text).expect("reads")[0]).expect("checks");
        for (expected, key) in [(Match::Yes, "matches"), (Match::No, "misses")] {
            for given in case.value[key].as_array().into_iter().flatten() {
                assert_eq!(test(&rule, &alert(given)), expected, "{} {key} {given}", case.name);
            }
        }
    }
}
