//! The explanation says what the test says, and shows what was seen.

use super::{alert, rule};
use crate::matcher::{Match, explain, near, shortfall, test};
use serde_json::json;

#[test]
fn clause_by_clause() {
    let rule = rule(
        "{ sources: 'yard-*', kinds: disk.usage, severity: major.., labels: { tier: gold }, \
         where: \"alert.value >= 87.5 && (alert.labels.site == 'quill' || alert.value > 99) && \
         alert.body.free < 10\" }",
    )
    .expect("checks");
    let alert = alert(&json!({ "value": 88, "labels": { "site": "brack" }, "severity": "minor" }));
    let shown: Vec<String> = explain(&rule, &alert)
        .iter()
        .map(|c| {
            let saw: Vec<String> = c
                .saw
                .iter()
                .map(|(f, v)| format!("{f} = {}", v.as_deref().unwrap_or("missing")))
                .collect();
            format!(
                "{:9} {:?} {}  [{}] {}",
                c.line,
                c.holds,
                c.text,
                saw.join(", "),
                c.error.clone().unwrap_or_default()
            )
        })
        .collect();
    insta::assert_snapshot!(shown.join("\n"), @r#"
    states    Some(true) raised  [alert.state = raised] 
    sources   Some(true) yard-*  [alert.source = yard-hypervisor] 
    kinds     Some(true) disk.usage  [alert.kind = disk.usage] 
    severity  Some(false) major..critical  [alert.severity = minor] 
    labels    Some(false) tier: gold  [alert.labels.tier = missing] 
    where     Some(true) alert.value >= 87.5  [alert.value = 88] 
    where     Some(false) (alert.labels.site == 'quill' || alert.value > 99)  [alert.labels.site = "brack", alert.value = 88] 
    where     Some(false) alert.body.free < 10  [alert.body.free = missing] there is no field `free` in null
    "#);
}

#[test]
fn near_misses_are_one_clause_short() {
    let rule = rule("{ kinds: disk.usage, where: 'alert.value >= 90' }").expect("checks");
    let close = alert(&json!({ "value": 89 }));
    assert_eq!(shortfall(&near(&rule, &close).expect("near")), 1);
    assert_eq!(near(&rule, &alert(&json!({ "value": 91 }))), None, "it matches");
    assert_eq!(
        near(&rule, &alert(&json!({ "value": 1, "kind": "port.down" }))),
        None,
        "it is two short"
    );
    let by_kind =
        near(&rule, &alert(&json!({ "value": 91, "kind": "port.down" }))).expect("near, by a line");
    assert_eq!(by_kind.iter().find(|c| c.holds != Some(true)).map(|c| c.line), Some("kinds"));
    // That its state holds, which nearly every alert's does, makes no alert near.
    let rule = super::rule("{ kinds: disk.usage }").expect("checks");
    assert_eq!(
        near(&rule, &alert(&json!({ "kind": "port.down" }))),
        None,
        "nothing but the state holds"
    );
    assert!(
        near(&rule, &alert(&json!({ "state": "cleared" }))).is_some(),
        "all but the state holds"
    );
}

#[test]
fn it_agrees_with_the_test() {
    for condition in
        ["alert.value > 5", "alert.body.x", "alert.body.x == 1 && true", "has(alert.body.x)"]
    {
        let rule = rule(&format!("{{ where: {condition:?} }}")).expect("checks");
        for given in [
            json!({}),
            json!({ "value": 6, "body": { "x": 1 } }),
            json!({ "body": { "x": "text" } }),
        ] {
            let alert = alert(&given);
            let all = shortfall(&explain(&rule, &alert)) == 0;
            assert_eq!(all, test(&rule, &alert) == Match::Yes, "{condition} over {given}");
        }
    }
}
