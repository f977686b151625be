//! The rule document: what is refused, and where the diagnostic points.

mod draft;

use super::*;
use crate::Catalog;
use serde_json::json;

fn check(text: &str) -> Result<Rule, String> {
    let docs = parse_file("disk.yaml", text).map_err(|p| p.to_string())?;
    Rule::check(&docs[0])
        .map_err(|ps| ps.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))
}

#[test]
fn the_least_rule_watches_every_raised_alert() {
    let rule = check("rule: all\ndispatch: { runbook: note }\n").expect("checks");
    assert_eq!(rule.stance, Stance::Watch);
    assert_eq!(rule.listen.states, [crate::AlertState::Raised]);
}

#[test]
fn diagnostics_are_given_together_and_point_at_the_place() {
    let text = "rule: Booking Disk\n\
                listen:\n\
                \x20 kinds: []\n\
                \x20 severity: [major, critical..minor]\n\
                \x20 resource: vm/**x\n\
                \x20 where: alert.value >= 87.5 && alrt.kind == 'a'\n\
                settle: { fold: [alert.resource, nope] }\n\
                dispatch: { runbook: grow-disk, inputs: { vm: \"the ${alert.resource} and \
                ${lert}\" } }\n";
    insta::assert_snapshot!(check(text).expect_err("refused"), @r#"
    disk.yaml:1:7: `Booking Disk` is not a name; use lower case letters, digits, - and _, at most 64, a letter or digit first
        1 | rule: Booking Disk
          |       ^^^^^^^^^^^^
    disk.yaml:3:10: is an empty list: no alert could ever match; leave the line out to match all
        3 |   kinds: []
          |          ^
    disk.yaml:4:21: the range critical..minor is upside down; write minor..critical
        4 |   severity: [major, critical..minor]
          |                     ^^^^^^^^^^^^^^^
    disk.yaml:7:34: `nope` is not known here; known here: alert
        7 | settle: { fold: [alert.resource, nope] }
          |                                  ^^^^
    disk.yaml:8:55: `lert` is not known here; did you mean `alert`?
        8 | dispatch: { runbook: grow-disk, inputs: { vm: "the ${alert.resource} and ${lert}" } }
          |                                                       ^^^^
    "#);
}

#[test]
fn a_deadline_may_be_made_of_the_alert() {
    let rule =
        check("rule: a\ndispatch: { runbook: b, deadline: '${alert.value}s' }\n").expect("checks");
    let tally = TallyView { alerts: 1, since: DateTime::UNIX_EPOCH, jobs: 0, gathered: Vec::new() };
    let deadline = |value: f64| {
        let given = json!({ "source": "yard", "kind": "disk.usage", "resource": "vm/a",
            "value": value, "received": DateTime::UNIX_EPOCH });
        let alert = crate::rehearse::written_alert(&given, 0).expect("an alert");
        rule.dispatch[0].deadline(&alert, &tally).map_err(|e| e.to_string())
    };
    assert_eq!(deadline(120.0), Ok(Some(crate::Period::from_secs(120))));
    assert_eq!(deadline(0.5), Ok(Some(crate::Period::from_millis(500))));
    assert_eq!(
        deadline(-1.0),
        Err("deadline: `-1s`: a length of time is from 0s to ten years here".into())
    );
    assert!(check("rule: a\ndispatch: { runbook: b, deadline: '${alrt.value}s' }\n").is_err());
    assert!(check("rule: a\ndispatch: { runbook: b, deadline: soon }\n").is_err());
}

#[test]
fn unknown_keys_and_wrong_types_are_named() {
    let bad = [
        "rule: a\ndispach: { runbook: b }\n",
        "rule: a\ndispatch: { runbook: b, urgency: hgih }\n",
        "rule: a\nstance: dispatch\ndispatch: { runbook: b }\n",
        "rule: a\nlisten: { sevrity: major }\ndispatch: { runbook: b }\n",
        "rule: a\nsettle: { rest: 5 }\ndispatch: { runbook: b }\n",
        "rule: a\nsettle: { rest: soon }\ndispatch: { runbook: b }\n",
        "rule: a\nlisten: { sources: 5 }\ndispatch: { runbook: b }\n",
        "rule: a\n",
    ];
    let said: Vec<String> = bad.iter().map(|b| check(b).expect_err("refused")).collect();
    insta::assert_snapshot!(said.join("\n"), @r#"
    disk.yaml:2:1: unknown key `dispach`; did you mean `dispatch`?
        2 | dispach: { runbook: b }
          | ^^^^^^^
    disk.yaml:2:34: unknown value `hgih`; did you mean `high`?
        2 | dispatch: { runbook: b, urgency: hgih }
          |                                  ^^^^
    disk.yaml:2:9: unknown value `dispatch`; known here: watch, propose, act
        2 | stance: dispatch
          |         ^^^^^^^^
    disk.yaml:2:11: unknown key `sevrity`; did you mean `severity`?
        2 | listen: { sevrity: major }
          |           ^^^^^^^
    disk.yaml:2:17: is `5`; a length of time such as 90s, 15m, 1h30m or 2d was expected
        2 | settle: { rest: 5 }
          |                 ^
    disk.yaml:2:17: `soon` is not a length of time; write it like 90s, 15m, 1h30m or 2d
        2 | settle: { rest: soon }
          |                 ^^^^
    disk.yaml:2:20: is `5`; a text or a list of texts was expected
        2 | listen: { sources: 5 }
          |                    ^
    disk.yaml:1:1: the key `dispatch` is missing here
        1 | rule: a
          | ^
    "#);
}

#[test]
fn lines_of_settle_that_make_no_sense_are_refused_together() {
    let text = "rule: a\n\
                listen: { states: [raised, noted] }\n\
                settle:\n\
                \x20 after: { alerts: 1, within: 0s }\n\
                \x20 still: 5m\n\
                \x20 missing: 10m\n\
                \x20 gather: { for: 1m, at_most: 5000 }\n\
                \x20 again: { at_most: 2 }\n\
                \x20 cap: { jobs: 0, per: 1h, by: [alert.sitee] }\n\
                dispatch: []\n\
                knowingly: { shrt-rest: because, never-matches: '' }\n\
                examples: [{ given: [], expect: [] }, { given: [{ at: 5s }, { at: 1s }], expect: \
                [] }]\n";
    insta::assert_snapshot!(check(text).expect_err("refused"), @"
    disk.yaml:4:10: `after` counts alerts and `missing` waits for their absence; make two rules of it
        4 |   after: { alerts: 1, within: 0s }
          |          ^^
    disk.yaml:4:20: is 1; 2 to 1000 are allowed
        4 |   after: { alerts: 1, within: 0s }
          |                    ^
    disk.yaml:4:31: is no time at all; leave the line out, or give it a time
        4 |   after: { alerts: 1, within: 0s }
          |                               ^^
    disk.yaml:5:10: `still` is about alarms that stay raised; let the rule listen to raised alerts only
        5 |   still: 5m
          |          ^^
    disk.yaml:5:10: `still` is about raised alarms and `missing` about silence; make two rules of it
        5 |   still: 5m
          |          ^^
    disk.yaml:7:31: is 5000; 2 to 1000 are allowed
        7 |   gather: { for: 1m, at_most: 5000 }
          |                               ^^^^
    disk.yaml:8:10: `again` is about alarms that stay raised; let the rule listen to raised alerts only
        8 |   again: { at_most: 2 }
          |          ^^
    disk.yaml:8:10: `again` is about raised alarms and `missing` about silence; make two rules of it
        8 |   again: { at_most: 2 }
          |          ^^
    disk.yaml:8:10: `again` is about one tally and `gather` about several; make two rules of it
        8 |   again: { at_most: 2 }
          |          ^^
    disk.yaml:8:10: says neither `every` nor `when_worse`, so that nothing would happen again
        8 |   again: { at_most: 2 }
          |          ^^
    disk.yaml:9:16: is 0; 1 to 1000 are allowed
        9 |   cap: { jobs: 0, per: 1h, by: [alert.sitee] }
          |                ^
    disk.yaml:9:33: there is no field `sitee`; known here: body, id, kind, labels, received, resource, severity, source, state, summary, time, trial, value
        9 |   cap: { jobs: 0, per: 1h, by: [alert.sitee] }
          |                                 ^^^^^^^^^^^
    disk.yaml:10:11: has 0 entries; 1 to 20 are allowed
       10 | dispatch: []
          |           ^
    disk.yaml:11:25: there is no warning `shrt-rest`; did you mean `short-rest`?
       11 | knowingly: { shrt-rest: because, never-matches: '' }
          |                         ^^^^^^^
    disk.yaml:11:49: says no reason; write down why it is so on purpose
       11 | knowingly: { shrt-rest: because, never-matches: '' }
          |                                                 ^^^
    disk.yaml:12:21: has 0 alerts; 1 to 1000 are allowed
       12 | examples: [{ given: [], expect: [] }, { given: [{ at: 5s }, { at: 1s }], expect: [] }]
          |                     ^
    disk.yaml:12:67: comes before the alert above it; write them in order
       12 | examples: [{ given: [], expect: [] }, { given: [{ at: 5s }, { at: 1s }], expect: [] }]
          |                                                                   ^^
    ");
}

#[test]
fn entries_of_a_dispatch_keep_their_places() {
    let text = "rule: a\ndispatch:\n  - { runbook: b, urgncy: high }\n  - { runbook: c, when: \
        alert.severity >= 3 }\n  - { runbook: d, inputs: { x: \"${tally.alert}\" } }\n";
    insta::assert_snapshot!(check(text).expect_err("refused"), @r#"
    disk.yaml:3:19: unknown key `urgncy`; did you mean `urgency`?
        3 |   - { runbook: b, urgncy: high }
          |                   ^^^^^^
    disk.yaml:4:25: cannot compare a severity with a number
        4 |   - { runbook: c, when: alert.severity >= 3 }
          |                         ^^^^^^^^^^^^^^^^^^^
    disk.yaml:5:35: there is no field `alert`; did you mean `alerts`?
        5 |   - { runbook: d, inputs: { x: "${tally.alert}" } }
          |                                   ^^^^^^^^^^^
    "#);
}

#[test]
fn all_mistakes_are_told_at_once() {
    let text = "rule: disks\n\
                lisen: { kinds: disk.usage }\n\
                settle: { after: 3, rest: soon, still: 5, again: { evry: 5m }, cap: { jobs: many, \
                per: 1h } }\n\
                dispatch:\n\
                \x20 - { runbook: grow, urgency: hgih, inputs: { vm: alert.resource } }\n\
                \x20 - { runbok: grow }\n\
                examples: [{ given: [{ at: noon }], expect: 5 }]\n";
    insta::assert_snapshot!(check(text).expect_err("refused"), @r#"
    disk.yaml:2:1: unknown key `lisen`; did you mean `listen`?
        2 | lisen: { kinds: disk.usage }
          | ^^^^^
    disk.yaml:3:18: is `3`; a map of keys and values was expected
        3 | settle: { after: 3, rest: soon, still: 5, again: { evry: 5m }, cap: { jobs: many, per: 1h } }
          |                  ^
    disk.yaml:3:27: `soon` is not a length of time; write it like 90s, 15m, 1h30m or 2d
        3 | settle: { after: 3, rest: soon, still: 5, again: { evry: 5m }, cap: { jobs: many, per: 1h } }
          |                           ^^^^
    disk.yaml:3:40: is `5`; a length of time such as 90s, 15m, 1h30m or 2d was expected
        3 | settle: { after: 3, rest: soon, still: 5, again: { evry: 5m }, cap: { jobs: many, per: 1h } }
          |                                        ^
    disk.yaml:3:52: unknown key `evry`; did you mean `every`?
        3 | settle: { after: 3, rest: soon, still: 5, again: { evry: 5m }, cap: { jobs: many, per: 1h } }
          |                                                    ^^^^
    disk.yaml:3:77: is the text `many`; a whole number that is not negative was expected
        3 | settle: { after: 3, rest: soon, still: 5, again: { evry: 5m }, cap: { jobs: many, per: 1h } }
          |                                                                             ^^^^
    disk.yaml:5:31: unknown value `hgih`; did you mean `high`?
        5 |   - { runbook: grow, urgency: hgih, inputs: { vm: alert.resource } }
          |                               ^^^^
    disk.yaml:5:51: is the plain text `alert.resource`; to fill in its value write `${alert.resource}`
        5 |   - { runbook: grow, urgency: hgih, inputs: { vm: alert.resource } }
          |                                                   ^^^^^^^^^^^^^^
    disk.yaml:6:7: unknown key `runbok`; did you mean `runbook`?
        6 |   - { runbok: grow }
          |       ^^^^^^
    disk.yaml:7:28: `noon` is not a length of time; write it like 90s, 15m, 1h30m or 2d
        7 | examples: [{ given: [{ at: noon }], expect: 5 }]
          |                            ^^^^
    disk.yaml:7:45: is `5`; a list was expected
        7 | examples: [{ given: [{ at: noon }], expect: 5 }]
          |                                             ^
    "#);
}

#[test]
fn one_expression_needs_no_list() {
    let text = "rule: r\nsettle: { fold: alert.labels.site, gather: { for: 1m, by: alert.kind }, \
        cap: { jobs: 1, per: 1h, by: alert.kind } }\n\
                dispatch: { runbook: b }\n";
    assert!(check(text).is_ok());
    let wrong =
        check(&text.replace("fold: alert.labels.site", "fold: alrt.kind")).expect_err("refused");
    assert!(wrong.starts_with("disk.yaml:2:17: `alrt` is not known here"), "{wrong}");
}

#[test]
fn what_a_dispatch_asks_of_a_field_that_is_missing_is_said_and_no_clearing_is_lost_for_it() {
    let text = "rule: a\ndispatch: { runbook: b, when: \"alert.labels.tier == 'gold'\", inputs: { \
        vm: \"${alert.labels.vm}\" } }\n";
    let rule = check(text).expect("a rule");
    let alert = |labels: serde_json::Value, state: &str| {
        let new = json!({ "kind": "k", "resource": "vm/a", "state": state, "labels": labels });
        let received = Received { source: "s", received: DateTime::UNIX_EPOCH, fallback_id: "1" };
        NewAlert::from_value(&new).expect("reads").complete(received).expect("an alert")
    };
    let why = |labels, state| {
        rule.place(&alert(labels, state)).map(|p| p.entries).map_err(|e| e.to_string())
    };
    assert!(why(json!({}), "raised").is_err_and(|e| e.starts_with("when of b: ")));
    assert!(
        why(json!({ "tier": "gold" }), "raised").is_err_and(|e| e.starts_with("inputs of b: "))
    );
    assert_eq!(why(json!({ "tier": "tin" }), "raised"), Ok(0));
    assert_eq!(why(json!({ "tier": "gold", "vm": "vm/a" }), "raised"), Ok(1));
    assert_eq!(why(json!({}), "cleared"), Ok(0));
    assert_eq!(why(json!({ "tier": "gold" }), "cleared"), Ok(1));
}

#[test]
fn more_dispatches_than_its_cap_lets_through_are_not_made() {
    let dispatch =
        "dispatch: [ { runbook: a }, { runbook: b }, { runbook: c, when: 'alert.value > 1.0' } ]";
    let rule = check(&format!("rule: a\nsettle: {{ cap: {{ jobs: 2, per: 1h }} }}\n{dispatch}\n"))
        .expect("a rule");
    let alert = |value: f64| {
        let new = json!({ "kind": "k", "resource": "vm/a", "value": value });
        let received = Received { source: "s", received: DateTime::UNIX_EPOCH, fallback_id: "1" };
        NewAlert::from_value(&new).expect("reads").complete(received).expect("an alert")
    };
    assert_eq!(rule.place(&alert(0.0)).map(|p| p.entries).map_err(|e| e.to_string()), Ok(2));
    let told = "3 dispatches apply, and `cap` lets 2 through at once; raise `jobs`, or make rules \
        of their own";
    assert_eq!(
        rule.place(&alert(2.0)).map(|p| p.entries).map_err(|e| e.to_string()),
        Err(told.into())
    );
}

#[test]
fn a_rule_announces_to_those_whom_it_knows() {
    let rule = |to: &str| {
        let text =
            format!("rule: r\nannounce: {{ before: 2m, to: {to} }}\ndispatch: {{ runbook: x }}\n");
        check(&text)
    };
    let announced = rule("{ contact: maren }").expect("checks");
    assert!(announced.uses().contains(&(Kind::Contact, "maren".to_owned())));
    let missing = announced.misfits(&Catalog::default());
    assert!(missing.iter().any(|m| m.pointer == "/announce/to/contact"), "{missing:?}");
    let said = rule("{ person: '${alert.labels.owner}' }").expect_err("knows no alert");
    assert!(said.contains("`alert` is not known here"), "{said}");
}

#[test]
fn labels_of_a_rule_are_few_plain_and_not_those_of_its_events() {
    let wrong = |labels: &str| {
        check(&format!("rule: a\nlabels: {labels}\ndispatch: {{ runbook: b }}\n"))
            .expect_err("is refused")
    };
    insta::assert_snapshot!(wrong("{ rule: other, crew: 'a b' }"), @r"
    disk.yaml:2:9: `crew=a b` is no label: name and value have letters, digits, - _ . and begin with one of the first two, 63 characters at most
        2 | labels: { rule: other, crew: 'a b' }
          |         ^^
    disk.yaml:2:17: events of proposals and jobs have this label already; take another name
        2 | labels: { rule: other, crew: 'a b' }
          |                 ^^^^^
    ");
    insta::assert_snapshot!(wrong("{}"), @r"
    disk.yaml:2:9: takes 1 to 8 labels, such as site=nessfold
        2 | labels: {}
          |         ^
    ");
    let marked = "rule: a\nowner: gates\nlabels: { crew: storage }\ndispatch: { runbook: b }\n";
    let labels = check(marked).expect("is a rule").event_labels();
    assert_eq!(json!(labels), json!({ "crew": "storage", "owner": "gates" }));
}

#[test]
fn a_rule_follows_those_whose_events_it_may_hear() {
    let of = check(
        "rule: disk-filling\nowner: gates\nlabels: { crew: storage }\n\
        dispatch: { runbook: b }\n",
    )
    .expect("is a rule");
    let follows = |listen: &str| {
        let text = format!("rule: told\nlisten: {{ {listen} }}\ndispatch: {{ runbook: b }}\n");
        check(&text).expect("is a rule").follows(&of)
    };
    for listen in [
        "sources: arvok, states: noted",
        "sources: arvok, states: noted, labels: { owner: gates }",
        "sources: arvok, states: noted, labels: { rule: 'disk-*', crew: storage }",
        "sources: arvok, states: noted, labels: { effect: unconfirmed }, kinds: job.succeeded",
        "sources: [arvok, yard], states: [noted, raised], kinds: 'proposal.*'",
    ] {
        assert!(follows(listen), "{listen}");
    }
    for listen in [
        "states: noted",
        "sources: arvok",
        "sources: arvok, states: noted, labels: { owner: storage }",
        "sources: arvok, states: noted, labels: { crew: gates }",
        "sources: arvok, states: noted, labels: { pier: brack }",
        "sources: arvok, states: noted, kinds: node.missed",
    ] {
        assert!(!follows(listen), "{listen}");
    }
    assert!(!of.follows(&of), "nor its own");
}
