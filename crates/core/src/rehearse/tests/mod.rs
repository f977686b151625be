//! What a rehearsal tells, its bounds, examples made of what came, and alerts that are written
//! down.

use super::*;
use crate::{
    Catalog,
    catalog::{Observed, check_files},
    definition::Defined,
    document::parse_file,
};
use chrono::TimeDelta;
use serde_json::{Value, json};

fn rule(text: &str) -> Rule {
    Rule::check(&parse_file("r.yaml", text).expect("reads")[0]).expect("checks")
}

/// The runbooks of these rules; they take whatever they are given.
fn runbooks() -> Catalog {
    let text = "runbook: grow\ninputs: { vm: { default: null }, rack: { default: null }, log: { \
        default: null } }\ntarget: vm/a\n\
        steps: [{ id: ask, require: 'true' }]\n---\n\
        runbook: call\ninputs: { who: {}, what: {} }\ntarget: vm/a\nsteps: [{ id: ask, require: \
        'true' }]\n";
    let checked = check_files([("b.yaml", text)], &[], &Catalog::default(), &Observed::default());
    assert_eq!(checked.problems, []);
    Catalog::new(checked.entries)
}

fn alert(second: i64, fields: Value) -> Alert {
    let mut whole = json!({"source": "yard-hypervisor", "kind": "disk.usage", "resource": "vm/a",
        "severity": "major",
        "received": DateTime::UNIX_EPOCH + TimeDelta::seconds(second)});
    for (key, value) in fields.as_object().into_iter().flatten() {
        whole[key] = value.clone();
    }
    written_alert(&whole, usize::try_from(second).expect("a number")).expect("an alert")
}

fn play_all(rule: &Rule, alerts: Vec<Alert>, until: i64) -> Report {
    let known = runbooks();
    let mut rehearsal = Rehearsal::new(rule, &known);
    rehearsal.begin(DateTime::UNIX_EPOCH);
    for (i, alert) in alerts.into_iter().enumerate() {
        rehearsal.feed(AlertId(i as i64 + 1), alert).expect("within bounds");
    }
    rehearsal.finish(DateTime::UNIX_EPOCH + TimeDelta::seconds(until))
}

const DISKS: &str = "rule: disks\nlisten: { kinds: disk.usage }\ndispatch: { runbook: grow, \
    inputs: { vm: \"${alert.resource}\" } }\n";

#[test]
fn everything_is_counted_and_the_first_are_listed() {
    let disks = rule(DISKS);
    let many = (0..2_500).map(|i| alert(i, json!({ "resource": format!("vm/n{i}") }))).collect();
    let report = play_all(&disks, many, 10_000);
    assert_eq!(
        (report.alerts, report.matched, report.dispatches, report.cut),
        (2_500, 2_500, 2_500, true)
    );
    assert_eq!(
        (report.tallies.len(), report.dispatched.len(), report.decided.len()),
        (MAX_TALLIES, MAX_DISPATCHES, 2_500)
    );
    assert_eq!(report.verdicts.values().sum::<u64>(), 2_500);
}

#[test]
fn what_was_named_and_never_heard_of_is_told_without_an_alert() {
    let beat = rule(
        "rule: beat\nlisten: { sources: yard-hypervisor, kinds: backup.done, states: noted, \
        resource: [vm/a, vm/b] }\n\
         settle: { missing: 1h }\ndispatch: { runbook: call, inputs: { who: \"${alert.resource}\", \
         what: \"${alert.summary}\" } }\n",
    );
    let heard =
        alert(1_800, json!({ "kind": "backup.done", "resource": "vm/a", "state": "noted" }));
    let report = play_all(&beat, vec![heard], 6_000);
    let told: Vec<String> = report
        .dispatched
        .iter()
        .map(|p| format!("{} {}", p.at, Value::Object(p.inputs.clone())))
        .collect();
    assert_eq!(
        told,
        [
            r#"1970-01-01 01:00:00 UTC {"who":"vm/b","what":"nothing was ever heard of vm/b"}"#,
            r#"1970-01-01 01:30:00 UTC {"who":"vm/a","what":"backup.done on vm/a"}"#,
        ]
    );
    assert_eq!(report.decided.len(), 2, "only what came has verdicts: {:?}", report.decided);
}

#[test]
fn inputs_that_cannot_be_made_and_rules_that_go_wrong_are_told() {
    let odd = rule(
        "rule: odd\ndispatch: { runbook: grow, inputs: { rack: \"${tally.gathered[0].body.rack}\" \
        } }\n",
    );
    let report = play_all(&odd, vec![alert(1, json!({}))], 10);
    assert!(
        report.dispatched[0]
            .error
            .as_deref()
            .is_some_and(|w| w.contains("there is no field `rack`")),
        "{:?}",
        report.dispatched
    );
    let odd =
        rule("rule: odd\ndispatch: { runbook: grow, inputs: { rack: \"${alert.body.rack}\" } }\n");
    let report = play_all(&odd, vec![alert(1, json!({}))], 10);
    let said = report
        .decided
        .iter()
        .map(|r| format!("{}: {}", r.verdict.as_str(), r.reason))
        .collect::<Vec<_>>();
    assert_eq!(
        said,
        ["broken: inputs of grow: ${alert.body.rack}: there is no field `rack` in null"]
    );
    assert!(report.dispatched.is_empty(), "nothing is dispatched that cannot be filled in");
    let broken =
        rule("rule: broken\nlisten: { where: alert.body.rack > 5 }\ndispatch: { runbook: grow }\n");
    let report = play_all(
        &broken,
        vec![
            alert(1, json!({ "body": { "rack": "r1" } })),
            alert(2, json!({ "body": { "rack": 6 } })),
        ],
        10,
    );
    assert_eq!((report.broken, report.matched), (1, 2));
    assert_eq!(
        report.broken_first.as_deref(),
        Some("where: cannot compare a string with a number")
    );
}

#[test]
fn two_versions_differ_by_the_dispatches_that_only_one_makes() {
    let alerts = || {
        vec![alert(1, json!({})), alert(2, json!({ "resource": "vm/b", "severity": "critical" }))]
    };
    let before = play_all(&rule(DISKS), alerts(), 10);
    let now =
        play_all(&rule(&DISKS.replace("kinds: disk.usage", "severity: critical")), alerts(), 10);
    let difference = now.against(&before);
    assert_eq!((difference.only_now, difference.only_before), (vec![], vec![JobId(1)]));
    assert_eq!(difference.verdicts, [(crate::Verdict::Dispatched, -1)].into());
    assert_eq!(before.against(&before), Difference::default());
}

#[test]
fn an_example_of_what_came_says_what_all_have_in_common_once() {
    let disks = rule(DISKS);
    let late = json!({ "state": "raised", "value": 91.5,
        "time": DateTime::UNIX_EPOCH + TimeDelta::seconds(200), "labels": { "tier": "gold" } });
    let alerts = [
        alert(100, json!({ "value": 90, "labels": { "tier": "gold" } })),
        alert(400, late),
        alert(500, json!({ "state": "cleared", "value": 60, "labels": { "tier": "gold" } })),
    ];
    let example = example_of(&disks, &alerts, &runbooks()).expect("an example");
    let shown = serde_json::to_value(&example).expect("JSON");
    assert_eq!(
        shown["of"],
        json!({ "source": "yard-hypervisor", "kind": "disk.usage", "severity": "major",
            "resource": "vm/a", "labels": { "tier": "gold" } })
    );
    assert_eq!(
        shown["given"],
        json!([{ "at": "0s", "value": 90 }, { "at": "5m", "late": "3m20s", "value": 91.5 },
            { "at": "6m40s", "state": "cleared", "value": 60 }])
    );
    assert_eq!(
        shown["expect"],
        json!([{ "at": "0s", "verdict": "dispatched", "inputs": { "vm": "vm/a" } }])
    );
    let whole = Rule { examples: vec![example], ..disks };
    assert_eq!(play(&whole, &runbooks()), []);
}

#[test]
fn an_example_says_also_of_the_first_alert_that_it_came_late() {
    let disks = rule(DISKS);
    let late = json!({ "value": 90, "time": DateTime::UNIX_EPOCH + TimeDelta::seconds(100),
        "labels": { "tier": "gold" } });
    let alerts =
        [alert(400, late), alert(430, json!({ "value": 95, "labels": { "tier": "gold" } }))];
    let example = example_of(&disks, &alerts, &runbooks()).expect("an example");
    let given = serde_json::to_value(&example.given).expect("JSON");
    assert_eq!(
        given,
        json!([{ "at": "5m", "late": "5m", "value": 90 }, { "at": "5m30s", "value": 95 }])
    );
    let whole = Rule { examples: vec![example], ..disks };
    assert_eq!(play(&whole, &runbooks()), []);
}

#[test]
fn a_written_alert_that_is_none_says_what_is_wrong() {
    let cases = [
        json!(5),
        json!({ "kind": "a", "resource": "vm/a" }),
        json!({ "source": "s", "kind": "a", "resource": "vm/a" }),
        json!({ "source": "s", "kind": "a", "resource": "vm/a", "received": "noon" }),
        json!({ "source": "s", "kind": "a", "resource": "vm/a", "received": 5 }),
        json!({ "source": "s", "kind": "a", "resource": "vm", "received": "2026-02-01T02:00:00Z" }),
        json!({ "source": "s", "kind": "a", "resource": "vm/a", "received": "2026-02-01T02:00:00Z",
            "colour": "red" }),
    ];
    let said: Vec<String> =
        cases.iter().map(|c| written_alert(c, 1).expect_err("refused").to_string()).collect();
    insta::assert_snapshot!(said.join("\n"), @"
    is not an object; an alert in the normal form was expected
    has no `source`; write the name of the source
    has neither `received` nor `time`
    received: `noon` is not an RFC 3339 time
    received: `5` is not an RFC 3339 time
    resource: `vm` is not a resource path; write class/name or class/name/part, for example vm/quill-booking-db-1
    colour: is no field of an alert; known here: id, kind, severity, state, resource, time, summary, value, labels, body, trial
    ");
    // What the list of alerts gives is taken as it is.
    let listed = json!({ "seq": 4, "id": "x", "source": "s", "kind": "a", "severity": "major",
        "state": "raised", "resource": "vm/a",
        "time": "2026-02-01T02:00:00Z", "received": "2026-02-01T02:00:01Z", "summary": "s",
            "value": null, "labels": {}, "verdicts": [] });
    assert_eq!(written_alert(&listed, 1).expect("an alert").id, "x");
}

#[test]
fn payloads_that_wait_and_inputs_that_are_shown_have_bounds() {
    let large = |i: i64| {
        alert(i, json!({ "resource": format!("vm/n{i}"), "body": { "log": "x".repeat(1 << 20) } }))
    };
    let waits = rule("rule: waits\nsettle: { still: 1h }\ndispatch: { runbook: grow }\n");
    let known = runbooks();
    let mut rehearsal = Rehearsal::new(&waits, &known);
    let went = (1..200).try_for_each(|i| rehearsal.feed(AlertId(i), large(i)));
    assert_eq!(went, Err(RehearsalError::TooLarge));
    // What is over is let go, and makes room.
    let mut rehearsal = Rehearsal::new(&waits, &known);
    for i in (1..400).step_by(2) {
        rehearsal.feed(AlertId(i), large(i)).expect("there is room");
        let cleared = json!({ "resource": format!("vm/n{i}"), "state": "cleared" });
        rehearsal.feed(AlertId(i + 1), alert(i + 1, cleared)).expect("there is room");
    }
    assert_eq!(rehearsal.payloads, 0);
    let copies =
        rule("rule: copies\ndispatch: { runbook: grow, inputs: { log: \"${alert.body.log}\" } }\n");
    let report = play_all(&copies, (1..40).map(large).collect(), 100);
    assert_eq!((report.dispatches, report.cut), (39, true));
    assert!(report.dispatched.len() < 16, "{}", report.dispatched.len());
}
