//! What acts anew by a publication, and what a right to automate lacks.

use super::*;
use crate::{
    Catalog,
    catalog::{Observed, check_files},
};

const YARD: &str = "
connector: yard
operations:
  vm.look: { takes: { vm: { type: string } }, request: { method: GET, path: /v1/vms/a } }
  vm.wake: { takes: { vm: { type: string } }, request: { method: POST, path: /v1/vms/a } }
---
connection: quill-yard
connector: yard
base: http://127.0.0.1:7401
---
connection: brack-yard
connector: yard
base: http://127.0.0.1:7402
---
runbook: wake
inputs: { vm: { type: string } }
target: ${inputs.vm}
steps:
  - { id: wake, call: vm.wake, via: quill-yard, give: { vm: \"${inputs.vm}\" } }
---
runbook: wake-all
inputs: { vm: { type: string } }
target: yard/all
steps:
  - { id: wake, runbook: wake, give: { vm: \"${inputs.vm}\" } }
---
rule: asleep
stance: act
listen: { kinds: vm.asleep }
dispatch: { runbook: wake-all, inputs: { vm: \"${alert.resource}\" } }
---
plan: mornings
runbook: wake
give: { vm: vm/quill-app-1 }
at: { cron: '0 6 * * *', zone: Europe/Oslo }
";

fn published(text: &str) -> Catalog {
    let none = Catalog::default();
    let checked = check_files([("yard.yaml", text)], &[], &none, &Observed::default());
    assert_eq!(checked.problems, []);
    Catalog::new(checked.entries)
}

/// What acts anew once these changes are made in the text, one line each.
fn anew(changes: &[(&str, &str)]) -> Vec<String> {
    let before = published(YARD);
    let mut text = YARD.to_owned();
    for (from, to) in changes {
        assert!(text.contains(from), "{from}");
        text = text.replace(from, to);
    }
    let checked = check_files([("yard.yaml", &*text)], &[], &before, &Observed::default());
    assert_eq!(checked.problems, []);
    let whole = before.with(checked.entries);
    let line = |acting: Acting| {
        let via: Vec<String> = acting.connections.into_iter().collect();
        let changed = acting.changed.iter().map(|(kind, name)| format!("{kind}/{name}"));
        let changed = changed.collect::<Vec<_>>().join(" ");
        format!("{} {} through {}: {changed}", acting.kind, acting.name, via.join(" "))
    };
    acting_anew(&whole, &before).into_iter().map(line).collect()
}

#[test]
fn what_acts_anew_is_what_changes_wherever_it_stands() {
    assert_eq!(anew(&[]), Vec::<String>::new(), "nothing changes");
    assert_eq!(
        anew(&[("dispatch: {", "settle: { rest: 1m }\ndispatch: {")]),
        ["rule asleep through quill-yard: rule/asleep"]
    );
    let both = |changed: &str| {
        ["rule asleep", "plan mornings"].map(|what| format!("{what} through quill-yard: {changed}"))
    };
    let runbook = "target: ${inputs.vm}\nsteps";
    assert_eq!(
        anew(&[(runbook, "target: vm/a\nsteps")]),
        both("runbook/wake"),
        "a runbook below another as well"
    );
    assert_eq!(anew(&[(":7401", ":7409")]), both("connection/quill-yard"));
    assert_eq!(anew(&[("method: POST", "method: PUT")]), both("connector/yard"));
    assert_eq!(anew(&[(":7402", ":7409")]), Vec::<String>::new(), "nobody calls through it");
    assert_eq!(
        anew(&[("via: quill-yard", "via: brack-yard")]),
        both("runbook/wake connection/brack-yard")
            .map(|line| line.replace("quill-yard", "brack-yard"))
    );
    assert_eq!(anew(&[("stance: act", "stance: propose")]), Vec::<String>::new());
    assert_eq!(
        anew(&[("at: { cron: '0 6 * * *', zone: Europe/Oslo }\n", "")]),
        Vec::<String>::new()
    );
}

/// A way of a contact is a call of its author's choice.
#[test]
fn whom_a_job_sends_messages_to_belongs_to_what_acts() {
    let people = "
---
contact: maren
ways: [ { call: vm.look, via: quill-yard, give: { vm: '${message.text}' } } ]
---
contact: yard
members: [maren]
";
    let told = YARD.replace(
        "target: ${inputs.vm}\nsteps:\n",
        "target: ${inputs.vm}\nsteps:\n  - { id: word, tell: It sleeps, to: { team: yard } }\n",
    );
    let before = published(&format!("{told}{people}"));
    let other = people.replace("via: quill-yard", "via: brack-yard");
    let checked = check_files([("people.yaml", &*other)], &[], &before, &Observed::default());
    assert_eq!(checked.problems, []);
    let anew = acting_anew(&before.with(checked.entries), &before);
    let rule = anew.iter().find(|acting| acting.name == "asleep").expect("it acts otherwise");
    assert!(rule.connections.contains("brack-yard"), "{rule:?}");
    assert!(rule.changed.contains(&(Kind::Contact, "maren".to_owned())), "{rule:?}");
}

#[test]
fn a_rule_that_begins_to_act_acts_anew_with_all_that_it_reaches() {
    let before = published(&YARD.replace("stance: act", "stance: watch"));
    let whole = published(YARD);
    let anew = acting_anew(&whole, &before);
    let rule = anew.iter().find(|acting| acting.name == "asleep").expect("it acts");
    assert_eq!(rule.changed.len(), 5, "{rule:?}");
    assert_eq!(acting_anew(&whole, &whole), []);
    assert_eq!(acting_anew(&whole, &Catalog::default()).len(), 2, "all is new");
}

#[test]
fn a_connection_that_comes_under_a_list_changes_what_acts() {
    let listed = YARD
        .replace(
            "vm: { type: string } }\ntarget: ${inputs.vm}",
            "vm: { type: string }, site: { type: string, default: quill } }\ntarget: ${inputs.vm}",
        )
        .replace("via: quill-yard", "via: '${inputs.site}-yard', connections: ['*-yard']");
    let before = published(&listed);
    let late = "connection: hjelm-yard\nconnector: yard\nbase: http://127.0.0.1:7403\n";
    let checked = check_files([("late.yaml", late)], &[], &before, &Observed::default());
    assert_eq!(checked.problems, []);
    let anew = acting_anew(&before.with(checked.entries), &before);
    let names: Vec<&str> = anew.iter().map(|acting| acting.name.as_str()).collect();
    assert_eq!(names, ["asleep", "mornings"]);
    assert!(anew.iter().all(|acting| acting.connections.contains("hjelm-yard")), "{anew:?}");
}

#[test]
fn a_right_says_what_it_lacks() {
    let lines = |of: &[&str]| of.iter().map(|line| (*line).to_owned()).collect::<Vec<_>>();
    let right = |rules: &[&str], plans: &[&str], connections: &[&str]| {
        let right = Automation::of(&lines(rules), &lines(plans), &lines(connections));
        right.expect("are globs").unwrap_or_default()
    };
    let anew = acting_anew(&published(YARD), &Catalog::default());
    let said = |right: &Automation| {
        let said = anew.iter().map(|acting| right.lacks(acting).map(|l| l.to_string()));
        said.map(|said| said.unwrap_or_else(|| "may".to_owned())).collect::<Vec<_>>().join("\n")
    };
    insta::assert_snapshot!(said(&right(&[], &[], &[])), @r"
    rule `asleep` acts by itself, and this token may not automate it
    plan `mornings` acts by itself, and this token may not automate it
    ");
    insta::assert_snapshot!(said(&right(&["as*"], &["asleep"], &["quill-*"])), @r"
    may
    plan `mornings` acts by itself, and this token may not automate it
    ");
    insta::assert_snapshot!(said(&right(&["*"], &["*"], &["brack-*"])), @r"
    rule `asleep` acts by itself through `quill-yard`, and this token may not automate that connection
    plan `mornings` acts by itself through `quill-yard`, and this token may not automate that connection
    ");
    let many = vec!["x".to_owned(); 101];
    assert!(Automation::of(&many, &[], &[]).is_err());
    let wrong = Automation::of(&[], &lines(&["a", ""]), &[]).expect_err("is no glob").to_string();
    insta::assert_snapshot!(wrong, @"plans: ``: a name or glob has 1 to 512 bytes, not 0");
}

#[test]
fn a_connection_with_a_pulse_acts_by_itself() {
    let base = "base: http://127.0.0.1:7401";
    let pulse = format!("{base}\npulse: {{ call: vm.wake, give: {{ vm: vm/a }} }}");
    let (before, after) = (published(YARD), published(&YARD.replace(base, &pulse)));
    let acting = acting_anew(&after, &before).into_iter().find(|a| a.kind == Kind::Connection);
    let acting = acting.expect("acts");
    assert_eq!((acting.name.as_str(), acting.connections.len()), ("quill-yard", 1));
    let right = |lines: &[&str]| {
        let lines: Vec<_> = lines.iter().map(|line| (*line).to_owned()).collect();
        Automation::of(&["*".into()], &[], &lines).expect("globs").expect("a right")
    };
    assert_eq!(right(&["quill-*"]).lacks(&acting), None);
    let lacking = right(&["brack-*"]).lacks(&acting).expect("lacks it").to_string();
    assert!(lacking.starts_with("connection `quill-yard` acts by itself"), "{lacking}");
}
