//! What mutes cover, and when.

use super::*;
use crate::{NewAlert, alert::Received, definition::Defined, document::parse_file};
use serde_json::{Value, json};

fn rule(name: &str, dispatch: &str) -> Rule {
    let text = format!("rule: {name}\ndispatch: {dispatch}\n");
    Rule::check(&parse_file("r.yaml", &text).expect("reads")[0]).expect("checks")
}

fn alert() -> Alert {
    let new: NewAlert = serde_json::from_value(json!({
        "kind": "disk.usage", "resource": "vm/quill-booking-db-1/disk", "severity": "major",
        "labels": { "site": "quill", "tier": "booking" },
    }))
    .expect("an alert");
    let received = DateTime::UNIX_EPOCH;
    new.complete(Received { source: "yard-hypervisor", received, fallback_id: "1" }).expect("whole")
}

fn covers(lines: Value, rule: &Rule, alert: Option<&Alert>) -> bool {
    let lines: MutedLines = serde_json::from_value(lines).expect("lines");
    let mute = Mute {
        id: 1,
        muted: Muted::check(&lines).expect("checks"),
        by: Principal::token("pat"),
        reason: "a new disk goes in".into(),
        from: DateTime::UNIX_EPOCH,
        until: DateTime::UNIX_EPOCH + TimeDelta::hours(1),
    };
    mute.covers(rule, alert)
}

#[test]
fn every_line_must_hold_and_of_one_line_any() {
    let (grow, alert) = (rule("grow", "{ runbook: grow-disk }"), alert());
    let cases = [
        (json!({ "resource": ["vm/quill-booking-db-1/disk"] }), true),
        (json!({ "resource": ["vm/quill-*"] }), false),
        (json!({ "resource": ["vm/quill-**"] }), true),
        (json!({ "resource": ["vm/brack-**", "vm/quill-**"] }), true),
        (json!({ "resource": ["vm/quill-**"], "kinds": ["port.*"] }), false),
        (json!({ "kinds": ["disk.*"], "sources": ["yard-*"] }), true),
        (json!({ "severity": ["..minor"] }), false),
        (json!({ "severity": ["..minor", "major"] }), true),
        (json!({ "labels": { "site": ["quill"], "tier": ["booking", "crew"] } }), true),
        (json!({ "labels": { "site": ["quill"], "deck": ["*"] } }), false),
        (json!({ "rules": ["grow"] }), true),
        (json!({ "rules": ["gro?"], "sources": ["pier"] }), false),
        (json!({ "runbooks": ["grow-*"] }), true),
        (json!({ "runbooks": ["grow-*"], "rules": ["start"] }), false),
        (json!({ "runbooks": ["start-vm"] }), false),
    ];
    for (lines, expected) in cases {
        assert_eq!(covers(lines.clone(), &grow, Some(&alert)), expected, "{lines}");
    }
}

#[test]
fn a_runbook_covers_every_rule_that_may_dispatch_it() {
    let both = rule("both", "[{ runbook: page-crew, when: 'false' }, { runbook: grow-disk }]");
    assert!(covers(json!({ "runbooks": ["page-crew"] }), &both, Some(&alert())));
}

#[test]
fn of_what_is_not_known_any_more_the_rule_alone_is_asked() {
    let grow = rule("grow", "{ runbook: grow-disk }");
    assert!(covers(json!({ "rules": ["grow"] }), &grow, None));
    assert!(!covers(json!({ "rules": ["grow"], "kinds": ["**"] }), &grow, None));
}

#[test]
fn what_cannot_be_read_is_said_with_its_line() {
    let error = |lines: Value| {
        let lines: MutedLines = serde_json::from_value(lines).expect("lines");
        Muted::check(&lines).map(drop).expect_err("refused").to_string()
    };
    insta::assert_snapshot!([
        json!({}),
        json!({ "rules": [] }),
        json!({ "severity": ["loud"] }),
        json!({ "resource": [""] }),
        json!({ "labels": { "site": ["x".repeat(600)] } }),
        json!({ "kinds": vec!["a"; 101] }),
        json!({ "labels": { "odd\u{0}": ["a"] } }),
        json!({ "rules": ["odd\u{0}"] }),
    ]
    .map(error)
    .join("\n"), @r#"
    says nothing that it covers; name rules, runbooks, sources, kinds, severity, resource or labels (`arvok halt` stops everything)
    says nothing that it covers; name rules, runbooks, sources, kinds, severity, resource or labels (`arvok halt` stops everything)
    severity: `loud` is not a severity; the severities are indeterminate, warning, minor, major, critical
    resource: a name or glob has 1 to 512 bytes, not 0
    labels.site: a name or glob has 1 to 512 bytes, not 600
    names 101 things; 100 are allowed in one mute
    labels.odd\0: holds a character that no name has
    rules: holds a character that no name has
    "#);
}

#[test]
fn of_several_the_longest_is_named_and_none_before_it_begins_or_after_it_ends() {
    let (grow, alert) = (rule("grow", "{ runbook: grow-disk }"), alert());
    let mute = |id, from, until| {
        let lines = MutedLines { rules: vec!["grow".into()], ..MutedLines::default() };
        let at = |minutes| DateTime::UNIX_EPOCH + TimeDelta::minutes(minutes);
        Mute {
            id,
            muted: Muted::check(&lines).expect("checks"),
            by: Principal::token("pat"),
            reason: String::new(),
            from: at(from),
            until: at(until),
        }
    };
    let mutes = [mute(1, 0, 10), mute(2, 5, 20)];
    let at = |minute| {
        let now = DateTime::UNIX_EPOCH + TimeDelta::minutes(minute);
        longest(&mutes, &grow, Some(&alert), now).map(|m| m.id)
    };
    assert_eq!([0, 4, 5, 10, 19, 20].map(at), [Some(1), Some(1), Some(2), Some(2), Some(2), None]);
}
