//! A draft is a rule: it checks, and it matches the alert that it was made of.

use super::*;
use crate::matcher::{explain, shortfall};
use proptest::prelude::*;
use serde_json::json;

fn alerts() -> impl Strategy<Value = Alert> {
    let kind = "[A-Za-z0-9_-]{1,24}(\\.[A-Za-z0-9_-]{1,40}){0,2}";
    let resource = "[a-z]{1,9}/[A-Za-z0-9_.:-]{1,20}(/[a-z0-9-]{1,9})?";
    let labels = proptest::collection::btree_map("[ -~]{1,9}", "[ -~\n]{0,9}", 0..3);
    let severity = proptest::sample::select(Severity::ALL.to_vec());
    (
        kind,
        resource,
        labels,
        severity,
        "[ \
        -~\n\u{e9}]{0,40}",
        proptest::option::of(-1e9..1e9f64),
    )
        .prop_filter_map(
            "in the normal form",
            |(kind, resource, labels, severity, summary, value)| {
                let given = json!({ "kind": kind, "resource": resource, "labels": labels,
                "severity": severity,
                "summary": summary, "value": value });
                let new: NewAlert = serde_json::from_value(given).ok()?;
                let received = DateTime::UNIX_EPOCH;
                new.complete(Received { source: "pier-probes", received, fallback_id: "1" }).ok()
            },
        )
}

proptest! {
    #[test]
    fn a_draft_checks_and_matches_its_alert(alert in alerts()) {
        let text = draft(&alert, std::iter::empty());
        let rule = check(&text);
        let short = rule.as_ref().map(|rule| shortfall(&explain(rule, &alert)));
        prop_assert_eq!(short, Ok(0), "{}", text);
    }
}

#[test]
fn the_first_runbook_is_filled_in_where_it_must_be() {
    let runbook = "runbook: grow-disk\ninputs: { vm: { type: string }, by: { type: integer, \
        default: 4 } }\n\
                   target: '${inputs.vm}'\nsteps:\n  - id: a\n    require: 'true'\n    else: \
                   never\n";
    let documents = parse_file("r.yaml", runbook).expect("reads");
    let runbook = crate::runbook::Runbook::check(&documents[0]).expect("checks");
    let given = json!({ "kind": "disk.usage", "resource": "vm/quill-booking-db-1",
        "severity": "major", "value": 91.5,
        "summary": "/var/lib is 91.5 % full", "labels": { "site": "quill" } });
    let new: NewAlert = serde_json::from_value(given).expect("an alert");
    let delivery =
        Received { source: "yard-hypervisor", received: DateTime::UNIX_EPOCH, fallback_id: "1" };
    let text = draft(&new.complete(delivery).expect("whole"), [&runbook].into_iter());
    check(&text).expect("checks");
    insta::assert_snapshot!(text);
}

#[test]
fn an_example_is_read_as_it_was_written() {
    let text = "rule: a\ndispatch: { runbook: b }\nexamples:\n  - given:\n      - { at: 0s, value: \
        91.5 }\n\
                \x20     - { at: 5m, late: 1m, state: cleared, summary: 'no: \"it\" is over' }\n\
                \x20   of: { kind: disk.usage, resource: vm/quill-booking-db-1, severity: major }\n\
                \x20   expect:\n      - { at: 0s, verdict: dispatched, inputs: { vm: \
                vm/quill-booking-db-1, deep: { a: [1, ~] } } }\n";
    let example = check(text).expect("checks").examples.remove(0);
    let written = example.as_yaml("a");
    let again = check(&format!("rule: a\ndispatch: {{ runbook: b }}\n{written}"))
        .expect(&written)
        .examples
        .remove(0);
    assert_eq!(json!(again), json!(example), "{written}");
    insta::assert_snapshot!(written);
}
