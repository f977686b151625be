//! Rules that ask for what their senders never sent.

use super::*;
use crate::{
    NewAlert,
    alert::Received,
    shape::{Masks, Shape},
};
use chrono::DateTime;
use serde_json::{Value, json};

/// What came of one kind: so many alerts with this severity and these bodies in turn.
fn sent(observed: &mut Observed, kind: &str, severity: &str, bodies: &[Value]) {
    let mut shape = Shape::new(DateTime::UNIX_EPOCH);
    for body in bodies.iter().cycle().take(20) {
        let new = json!({ "kind": kind, "severity": severity, "resource": "vm/quill-1",
            "value": 91, "labels": { "site": "brack" }, "body": body });
        let received =
            Received { source: "yard", received: DateTime::UNIX_EPOCH, fallback_id: "1" };
        let alert = NewAlert::from_value(&new).expect("is in form").complete(received);
        shape.note_alert(&alert.expect("is complete"), &Masks::default());
    }
    observed.shapes.insert(("yard".to_owned(), kind.to_owned()), shape);
}

fn yard() -> Observed {
    let mut observed = Observed::default();
    let usage = json!({ "disk": { "name": "sda", "pct": 91 }, "level": "hard", "used": "91 %" });
    sent(&mut observed, "disk.usage", "major", &[usage]);
    let inode = json!({ "disk": { "name": "sda" }, "free": 12 });
    let bare = json!({ "disk": { "name": "sda" } });
    sent(&mut observed, "disk.inode", "minor", &[inode.clone(), inode, bare]);
    observed
}

const SOURCE: &str = "source: yard\nintake: { webhook: { credential: { bearer: \
    \"${secret('yard')}\" } } }\n---\n";

fn told(rules: &str, observed: &Observed) -> String {
    checked(&format!("{SOURCE}{rules}"), observed)
}

#[test]
fn kinds_severities_and_fields_that_were_never_sent_are_named() {
    let rules = "rule: kind\nlisten: { sources: yard, kinds: [disk.usge, disk.inode] }\ndispatch: \
        { runbook: note }\n---\n\
        rule: severity\nlisten: { sources: yard, kinds: disk.usage, severity: critical }\n\
        dispatch: { runbook: note }\n---\n\
        rule: field\nlisten: { sources: yard, kinds: disk.usage, where: alert.body.disk.pctt > 90 \
        }\ndispatch: { runbook: note, inputs: { what: \"of ${alert.body.dsik.name}\" } }\n---\n\
        rule: group\nlisten: { sources: yard, kinds: disk.*, where: alert.body.disk.pct > 90 }\n\
        dispatch: { runbook: note }\n---\n\
        rule: sometimes\nlisten: { sources: yard, kinds: disk.inode }\nsettle: { fold: \
        [alert.body.free] }\ndispatch: { runbook: note, inputs: { what: \"${alert.body.free}\" } }\n";
    insta::assert_snapshot!(told(rules, &yard()));
}

#[test]
fn what_is_compared_must_have_the_type_of_what_came() {
    let rules = "rule: text\nlisten: { sources: yard, kinds: disk.usage, where: alert.body.used > \
        90 }\ndispatch: { runbook: note }\n---\n\
        rule: number\nlisten: { sources: yard, kinds: disk.usage, where: \"alert.body.disk.pct == \
        '91'\" }\ndispatch: { runbook: note }\n---\n\
        rule: list\nlisten: { sources: yard, kinds: disk.usage, where: 'alert.body.level in [1, 2] \
        || glob(alert.labels.site, \"b*\")' }\ndispatch: { runbook: note }\n";
    insta::assert_snapshot!(told(rules, &yard()));
}

#[test]
fn what_fits_what_is_asked_for_and_what_little_came_of_is_not_spoken_of() {
    let rules = "rule: fits\nlisten: { sources: yard, kinds: disk.usage, severity: major.., where: \
        'alert.body.disk.pct > 90 && alert.value > 1 && alert.labels[\"site\"] == \"brack\"' }\n\
        dispatch: { runbook: note, inputs: { what: \"${alert.body.disk.name}\" } }\n---\n\
        rule: asks\nlisten: { sources: yard, kinds: disk.inode, where: \
        'has(alert.body.gone) && alert.body.gone > 1 || true' }\n\
        dispatch: { runbook: note, inputs: { what: \"${has(alert.body.free) ? alert.body.free : \
        0}\" } }\n---\n\
        rule: anywhere\nlisten: { kinds: link.down }\ndispatch: { runbook: note }\n---\n\
        rule: knows\nknowingly: { unsent-kind: comes with the next release }\nlisten: { sources: \
        yard, kinds: disk.gone }\ndispatch: { runbook: note }\n";
    assert_eq!(told(rules, &yard()), "");

    let asks = "rule: early\nlisten: { sources: yard, kinds: disk.usge, severity: critical, where: \
        alert.body.no > 1 }\ndispatch: { runbook: note }\n";
    let mut little = yard();
    little.shapes.values_mut().for_each(|shape| (shape.count, shape.profiled) = (4, 4));
    assert_eq!(told(asks, &little), "");
    assert_eq!(told(asks, &Observed::default()), "");

    let mut open = yard();
    open.shapes.values_mut().for_each(|shape| shape.has_more = true);
    let fields = asks.replace("disk.usge, severity: critical", "disk.usage");
    assert_eq!(told(&fields, &open), "", "it may be one of those that are not kept");
}

#[test]
fn macros_look_at_elements() {
    let mut observed = Observed::default();
    let body = json!({ "disks": [{ "name": "sda", "pct": 91 }], "by": { "a": 1 } });
    sent(&mut observed, "disk.usage", "major", &[body]);
    let rule = |condition: &str| {
        let rule = format!(
            "rule: each\nlisten: {{ sources: yard, kinds: disk.usage, where: '{condition}' \
            }}\ndispatch: {{ runbook: note }}\n"
        );
        told(&rule, &observed)
    };
    assert_eq!(rule("alert.body.disks.exists(d, d.pct > 90 && d.name == \"sda\")"), "");
    assert_eq!(rule("alert.body.disks[0].pct > 90"), "");
    assert_eq!(rule("alert.body.by.exists(k, k == \"a\")"), "");
    let wrong = rule("alert.body.disks.exists(d, d.used > 90)");
    assert!(wrong.contains("ever had `alert.body.disks[].used`"), "{wrong}");
}
