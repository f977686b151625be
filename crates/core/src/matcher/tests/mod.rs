//! The cases of `listen`, asked of one rule each; the index against every rule in turn.

mod index;
mod why;

use super::{Match, test};
use crate::{NewAlert, alert::Received, definition::Defined, document::parse_file, rule::Rule};
use chrono::DateTime;
use serde_json::{Value, json};

fn alert(given: &Value) -> crate::Alert {
    let mut whole =
        json!({"kind": "disk.usage", "resource": "vm/quill-booking-db-1", "severity": "major"});
    for (key, value) in given.as_object().into_iter().flatten() {
        whole[key] = value.clone();
    }
    let source = whole.as_object_mut().and_then(|w| w.remove("source"));
    let source = source.as_ref().and_then(Value::as_str).unwrap_or("yard-hypervisor");
    let new: NewAlert = serde_json::from_value(whole).expect("an alert");
    let delivery = Received { source, received: DateTime::UNIX_EPOCH, fallback_id: "1" };
    new.complete(delivery).expect("the normal form")
}

fn rule(listen: &str) -> Result<Rule, String> {
    let text = format!("rule: r\nlisten: {listen}\ndispatch: {{ runbook: b }}\n");
    let document = parse_file("r.yaml", &text).map_err(|p| p.to_string())?.remove(0);
    Rule::check(&document)
        .map_err(|p| p.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))
}

#[test]
fn cases() {
    let cases =
        parse_file("listen.yaml", include_str!("../../../cases/listen.yaml")).expect("reads");
    assert!(cases.len() >= 12, "the case file lost its cases");
    for case in cases {
        let rule = rule(&case.value["listen"].to_string()).expect("checks");
        for (expected, key) in [(Match::Yes, "matches"), (Match::No, "misses")] {
            for given in case.value[key].as_array().into_iter().flatten() {
                assert_eq!(test(&rule, &alert(given)), expected, "{} {key} {given}", case.name);
            }
        }
    }
}
