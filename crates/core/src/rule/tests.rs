//! The rule document: what is refused, and where the complaint points.

use super::*;
use crate::document::parse_file;

fn check(text: &str) -> Result<Rule, String> {
    let docs = parse_file("disk.yaml", text).map_err(|p| p.to_string())?;
    Rule::check(&docs[0]).map_err(|ps| ps.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))
}

#[test]
fn the_least_rule_watches_every_raised_alert() {
    let rule = check("rule: all\ndispatch: { runbook: note }\n").expect("checks");
    assert_eq!(rule.stance, Stance::Watch);
    assert_eq!(rule.listen.states, [crate::AlertState::Raised]);
}

#[test]
fn complaints_are_given_together_and_point_at_the_place() {
    let text = "rule: Booking Disk\n\
                listen:\n\
                \x20 kinds: []\n\
                \x20 severity: [major, critical..minor]\n\
                \x20 resource: vm/**x\n\
                \x20 where: alert.value >= 87.5 && alrt.kind == 'a'\n\
                settle: { fold: [alert.resource, nope] }\n\
                dispatch: { runbook: grow-disk, inputs: { vm: \"the ${alert.resource} and ${lert}\" } }\n";
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
          |                                  ^^^
    disk.yaml:8:55: `lert` is not known here; did you mean `alert`?
        8 | dispatch: { runbook: grow-disk, inputs: { vm: "the ${alert.resource} and ${lert}" } }
          |                                                       ^^^
    "#);
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
    insta::assert_snapshot!(said.join("\n"), @"
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
    disk.yaml:2:17: invalid type: integer `5`, expected a string
        2 | settle: { rest: 5 }
          |                 ^
    disk.yaml:2:17: `soon` is not a length of time; write it like 90s, 15m, 1h30m or 2d
        2 | settle: { rest: soon }
          |                 ^^^^
    disk.yaml:2:20: invalid type: integer `5`, expected a string or a list of strings
        2 | listen: { sources: 5 }
          |                    ^
    disk.yaml:1:1: the key `dispatch` is missing here
        1 | rule: a
          | ^
    ");
}
