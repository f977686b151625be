//! Connections and runbooks that are worked out: what is checked when they are published, at the
//! launch, and while the job runs.

use super::*;
use crate::{
    Kind,
    catalog::{Catalog, Observed, check_files},
    connector::Repeat,
    job::{self, Effect, Event, Machine, Progress, Repeats, StepOutputs},
};
use chrono::{DateTime, TimeDelta};

const SITES: &str = "
connector: yard
operations:
  vm.look: { takes: { vm: { type: string } }, gives: { cores: { type: integer } }, request: { method: GET, path: /v1/vms/a } }
  vm.grow: { takes: { vm: { type: string } }, repeat: keyed, request: { method: POST, path: /v1/vms/a } }
---
connection: quill-yard
connector: yard
base: http://127.0.0.1:7401
---
connection: strait-yard
connector: yard
base: http://127.0.0.1:7402
---
connection: quill-chat
connector: yard
base: http://127.0.0.1:7403
";

const GROW: &str = "
runbook: grow
inputs: { site: { type: string }, vm: { type: string } }
target: ${inputs.vm}
connections: ['*-yard']
steps:
  - id: look
    call: vm.look
    via: ${inputs.site}-yard
    give: { vm: '${inputs.vm}' }
  - id: grow
    call: vm.grow
    via: ${inputs.site}-yard
    connections: [quill-yard, strait-yard]
    give: { vm: '${inputs.vm}' }
    probe: { call: vm.look, give: { vm: '${inputs.vm}' }, done: result.cores > 1 }
    undo: { call: vm.grow, give: { vm: '${inputs.vm}' } }
  - { id: rest, check: result.cores > 1, call: vm.look, via: '${inputs.site}-yard', give: { vm: '${inputs.vm}' }, within: 10s }
";

fn whole(text: &str) -> (Catalog, String) {
    let text = format!("{SITES}---{text}");
    let none = Catalog::default();
    let checked = check_files([("all.yaml", text.as_str())], &[], &none, &Observed::default());
    let said = checked.problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n");
    (Catalog::new(checked.entries), said)
}

fn grow(site: &str) -> (Catalog, Result<Prepared, String>) {
    let (catalog, said) = whole(GROW);
    assert_eq!(said, "");
    let given = json!({ "site": site, "vm": "vm/quill-app-1" });
    let (runbook, _) = catalog.runbook("grow").expect("is there");
    let prepared = runbook.prepare(given.as_object().expect("a map").clone(), &catalog);
    (catalog, prepared.map_err(|e| e.to_string()))
}

#[test]
fn what_is_listed_is_what_a_step_may_name() {
    let check = |from: &str, to: &str| check(&GROW.replace(from, to)).expect_err("is refused");
    let own = "    connections: [quill-yard, strait-yard]\n";
    let said = [
        check("connections: ['*-yard']\n", ""),
        check("via: ${inputs.site}-yard\n    connections", "via: quill-yard\n    connections"),
        check("via: ${inputs.site}-yard", "via: ${inputs.sight}-yard"),
        check("via: ${inputs.site}-yard", "via: ${alarm.state}"),
        check(own, "    connections: ['']\n"),
        check(own, &format!("    connections: [{}x]\n", "x, ".repeat(50))),
    ];
    insta::assert_snapshot!(said.join("\n--\n"), @r"
    grow.yaml:8:10: `via` is worked out here; add `connections`, the names and globs of all connections that it may give
        8 |     via: ${inputs.site}-yard
          |          ^^^^^^^^^^^^^^^^^^^
    grow.yaml:17:62: `via` is worked out here; add `connections`, the names and globs of all connections that it may give
       17 |   - { id: rest, check: result.cores > 1, call: vm.look, via: '${inputs.site}-yard', give: { vm: '${inputs.vm}' }, within: 10s }
          |                                                              ^^^^^^^^^^^^^^^^^^^^^
    --
    grow.yaml:14:18: `connections` belongs to a `via` that is worked out, as in `${inputs.site}`
       14 |     connections: [quill-yard, strait-yard]
          |                  ^
    --
    grow.yaml:9:12: there is no field `sight`; known here: site, vm
        9 |     via: ${inputs.sight}-yard
          |            ^^^^^^^^^^^^
    grow.yaml:13:12: there is no field `sight`; known here: site, vm
       13 |     via: ${inputs.sight}-yard
          |            ^^^^^^^^^^^^
    --
    grow.yaml:9:12: `alarm` is not known here; known here: inputs, steps, alert
        9 |     via: ${alarm.state}
          |            ^^^^^
    grow.yaml:13:12: `alarm` is not known here; known here: inputs, steps, alert
       13 |     via: ${alarm.state}
          |            ^^^^^
    --
    grow.yaml:14:19: a name or glob has 1 to 512 bytes, not 0
       14 |     connections: ['']
          |                   ^^
    --
    grow.yaml:14:18: lists at most 50 names and globs
       14 |     connections: [x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x, x
          |                  ^
    ");
}

#[test]
fn every_connection_that_may_be_named_is_checked_when_it_is_published() {
    let wide = GROW.replace("'*-yard'", "'quill-*', 'hjelm-*'");
    let other = "
---
connector: chat
operations:
  vm.look: { takes: { vm: { type: integer }, room: { type: string } }, request: { method: POST, path: /a } }
";
    let (_, said) = whole(&format!("{wide}{other}"));
    let chat = format!("{wide}{other}");
    insta::assert_snapshot!(said, @r"
    all.yaml:22:26: there is no connection `hjelm-*`
       22 | connections: ['quill-*', 'hjelm-*']
          |                          ^^^^^^^^^
    ");
    let text = format!("{SITES}---{chat}")
        .replace("quill-chat\nconnector: yard", "quill-chat\nconnector: chat");
    let none = Catalog::default();
    let checked = check_files([("all.yaml", text.as_str())], &[], &none, &Observed::default());
    let said = checked.problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n");
    insta::assert_snapshot!(said, @r"
    all.yaml:22:26: there is no connection `hjelm-*`
       22 | connections: ['quill-*', 'hjelm-*']
          |                          ^^^^^^^^^
    all.yaml:27:11: connection `quill-chat`: operation `vm.look`: the input `room` is missing
       27 |     give: { vm: '${inputs.vm}' }
          |           ^^
    all.yaml:35:91: connection `quill-chat`: operation `vm.look`: the input `room` is missing
       35 |   - { id: rest, check: result.cores > 1, call: vm.look, via: '${inputs.site}-yard', give: { vm: '${inputs.vm}' }, within: 10s }
          |                                                                                           ^^
    all.yaml:35:48: connection `quill-chat`: a check only looks, but doing `vm.look` twice is not harmless; call one that is `repeat: safe`
       35 |   - { id: rest, check: result.cores > 1, call: vm.look, via: '${inputs.site}-yard', give: { vm: '${inputs.vm}' }, within: 10s }
          |                                                ^^^^^^^
    ");
}

#[test]
fn a_list_matches_no_more_than_so_many() {
    let one = |n| format!("---\nconnection: m{n}-yard\nconnector: yard\nbase: http://a\n");
    let many: String = (0..199).map(one).collect();
    let (_, said) = whole(&format!("{GROW}{many}"));
    assert!(said.contains("matches 201 connections; 200 are allowed"), "{said}");
}

#[test]
fn one_that_is_published_later_is_checked_with_those_that_list_it() {
    let (catalog, _) = whole(GROW);
    let text = "
connector: bare
operations: { vm.nothing: { request: { method: GET, path: /a } } }
---
connection: hjelm-yard
connector: bare
base: http://127.0.0.1:7409
";
    let said = |text: &str| {
        let checked = check_files([("late.yaml", text)], &[], &catalog, &Observed::default());
        checked.problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
    };
    insta::assert_snapshot!(said(text), @r"
    all.yaml:25:11: there is no operation `vm.look` of connector `bare`, which is that of connection `hjelm-yard`; runbook `grow` stands so in what is published
       25 |     call: vm.look
          |           ^^^^^^^
    all.yaml:35:48: there is no operation `vm.look` of connector `bare`, which is that of connection `hjelm-yard`; runbook `grow` stands so in what is published
       35 |   - { id: rest, check: result.cores > 1, call: vm.look, via: '${inputs.site}-yard', give: { vm: '${inputs.vm}' }, within: 10s }
          |                                                ^^^^^^^
    ");
    assert_eq!(said(&text.replace("hjelm-yard", "hjelm-shore")), "", "nobody lists it");
    assert_eq!(catalog.used_by(Kind::Connection, "strait-yard"), [(Kind::Runbook, "grow")]);
    assert_eq!(catalog.used_by(Kind::Connection, "quill-chat"), []);
}

#[test]
fn a_job_is_refused_that_would_go_where_nothing_is_listed_or_stands() {
    let refused = |site: &str| grow(site).1.expect_err("is refused");
    insta::assert_snapshot!(refused("quill-chat?"), @"step `look`: there is no connection `quill-chat?-yard`");
    insta::assert_snapshot!(refused("quil"), @"step `look`: there is no connection `quil-yard` (did you mean `quill-yard`?)");
    assert!(grow("strait").1.is_ok());
    let when = GROW.replace(
        "call: vm.look\n    via",
        "when: inputs.site != 'none'\n    call: vm.look\n    via",
    );
    let when = when.replace(
        "    connections: [quill-yard, strait-yard]\n",
        "    when: inputs.site != 'none'\n",
    );
    let when = when.replace("id: rest, check", "id: rest, when: inputs.site != 'none', check");
    let (catalog, said) = whole(&when);
    assert_eq!(said, "");
    let given = json!({ "site": "none", "vm": "vm/quill-app-1" });
    let (runbook, _) = catalog.runbook("grow").expect("is there");
    let prepared = runbook.prepare(given.as_object().expect("a map").clone(), &catalog);
    assert!(prepared.is_ok(), "steps that may be passed over are no reason to refuse it");
}

#[test]
fn a_call_goes_where_its_inputs_say_and_again_the_same_way_after_a_death() {
    let (catalog, prepared) = grow("strait");
    let (runbook, _) = catalog.runbook("grow").expect("is there");
    let facts = facts(Value::Object(prepared.expect("fits").inputs));
    let repeats = Repeats::of(&runbook, &catalog);
    let key = |via: &str| ((via.to_owned(), "vm.grow".to_owned()), Repeat::Keyed);
    for (key, repeat) in [key("quill-yard"), key("strait-yard")] {
        assert_eq!(repeats.0.get(&key), Some(&repeat));
    }
    assert!(!repeats.0.keys().any(|(via, _)| via == "quill-chat"), "{repeats:?}");
    let (mut progress, mut kept) = (Progress::default(), StepOutputs::default());
    let mut now = DateTime::UNIX_EPOCH;
    let mut sent = Vec::new();
    let looked = Event::Step {
        place: job::Place::new("look"),
        attempt: 2,
        what: job::StepEvent::Returned(json!({ "cores": 2 })),
    };
    let taken = || Event::Taken(repeats.clone(), Vec::new());
    for event in [taken(), taken(), looked, taken()] {
        let mut machine = Machine::new(&runbook, &facts, progress, kept);
        let effects = machine.handle(now, event);
        sent.extend(effects.iter().filter_map(|effect| match effect {
            Effect::Call(call) => Some(format!("{} {} {}", call.place, call.attempt, call.target)),
            _ => None,
        }));
        (progress, kept) = (machine.progress, machine.kept);
        now += TimeDelta::seconds(1);
    }
    insta::assert_snapshot!(sent.join("\n"), @r"
    look 1 vm.look via strait-yard
    look 2 vm.look via strait-yard
    grow 1 vm.grow via strait-yard
    grow 2 vm.grow via strait-yard
    ");
}

#[test]
fn a_dry_run_shows_the_connection_or_what_it_depends_on() {
    let later = GROW.replace(
        "  - id: grow\n    call: vm.grow\n    via: ${inputs.site}-yard",
        "  - id: grow\n    call: vm.grow\n    via: '${steps.look.cores > 1 ? \"quill\" : \"strait\"}-yard'",
    );
    let (catalog, said) = whole(&later);
    assert_eq!(said, "");
    let (runbook, _) = catalog.runbook("grow").expect("is there");
    let facts = facts(json!({ "site": "strait", "vm": "vm/quill-app-1" }));
    let operations =
        |via: &str, operation: &str| catalog.operation(via, operation).ok().map(|(_, op)| op);
    let dry = job::dry_run(&runbook, &facts, None, &operations);
    let lines: Vec<String> = dry
        .steps
        .iter()
        .map(|step| {
            format!("{}: {} {:?} {}", step.id, step.does, step.given, step.request.is_some())
        })
        .collect();
    insta::assert_snapshot!(lines.join("\n"), @r#"
    look: vm.look via strait-yard [("vm", Known(String("vm/quill-app-1")))] true
    grow: vm.grow via ${steps.look.cores > 1 ? "quill" : "strait"}-yard, one of quill-yard, strait-yard [("vm", Known(String("vm/quill-app-1"))), ("via", Unknown(["steps.look"]))] false
    rest: result.cores > 1 by vm.look via strait-yard, within 10s [("vm", Known(String("vm/quill-app-1")))] true
    "#);
}

const ANY: &str = "
runbook: restart-vm
inputs: { vm: { type: string } }
target: ${inputs.vm}
steps: [ { id: enough, require: 1 < 2 } ]
---
runbook: restart-host
inputs: { vm: { type: string }, host: { type: string } }
target: ${inputs.vm}
steps: [ { id: enough, require: 1 < 2 } ]
---
runbook: remedy
inputs: { which: { type: string }, vm: { type: string } }
target: chain/${inputs.vm}
steps: [ { id: mend, runbook: '${inputs.which}', runbooks: [restart-vm], give: { vm: '${inputs.vm}' } } ]
examples:
  - summary: what was chosen is done
    inputs: { which: restart-vm, vm: quill-app-1 }
    answers: { mend: { gives: {} } }
    expect: { state: succeeded }
";

#[test]
fn a_step_has_any_runbook_done_that_it_lists() {
    assert_eq!(whole(ANY).1, "");
    insta::assert_snapshot!(whole(&ANY.replace("[restart-vm]", "['restart-*']")).1, @r"
    all.yaml:32:81: runbook `restart-host`: the input `host` is missing
       32 | steps: [ { id: mend, runbook: '${inputs.which}', runbooks: ['restart-*'], give: { vm: '${inputs.vm}' } } ]
          |                                                                                 ^^
    ");
    insta::assert_snapshot!(whole(&ANY.replace("[restart-vm]", "['re*-vm', remedy]")).1, @r"
    all.yaml:32:86: runbook `remedy`: the input `which` is missing
       32 | steps: [ { id: mend, runbook: '${inputs.which}', runbooks: ['re*-vm', remedy], give: { vm: '${inputs.vm}' } } ]
          |                                                                                      ^^
    all.yaml:32:31: runbook `remedy`: jobs would stand more than 5 deep below each other, or without end
       32 | steps: [ { id: mend, runbook: '${inputs.which}', runbooks: ['re*-vm', remedy], give: { vm: '${inputs.vm}' } } ]
          |                               ^^^^^^^^^^^^^^^^^
    ");
    let (catalog, _) = whole(ANY);
    let (runbook, _) = catalog.runbook("remedy").expect("is there");
    let prepare = |which: &str| {
        let given = json!({ "which": which, "vm": "quill-app-1" });
        runbook.prepare(given.as_object().expect("a map").clone(), &catalog)
    };
    assert!(prepare("restart-vm").is_ok());
    insta::assert_snapshot!(prepare("restart-host").expect_err("is refused").to_string(), @"step `mend`: runbook `restart-host` is none of `restart-vm`");
}

#[test]
fn lists_of_each_other_are_counted_and_not_gone_through_without_end() {
    let one = |n: usize| {
        format!(
            "
runbook: all-{n}
inputs: {{ which: {{ type: string }} }}
target: vm/a
steps: [ {{ id: next, runbook: '${{inputs.which}}', runbooks: ['all-*'], give: {{ which: all-1 }} }} ]
"
        )
    };
    let text = (0..60).map(one).collect::<Vec<_>>().join("---");
    let said = whole(&text).1;
    assert!(said.contains("more than 5 deep"), "{said}");
}

#[test]
fn what_may_be_chosen_is_offered_as_far_as_every_step_has_it() {
    let (catalog, _) = whole(GROW);
    let (runbook, _) = catalog.runbook("grow").expect("is there");
    assert_eq!(
        runbook.choices(&catalog),
        [("site".to_owned(), vec!["quill".into(), "strait".into()])].into()
    );
    let own = "    connections: [quill-yard, strait-yard]\n";
    let (catalog, _) = whole(&GROW.replace(own, "    connections: [strait-yard]\n"));
    let (runbook, _) = catalog.runbook("grow").expect("is there");
    assert_eq!(runbook.choices(&catalog)["site"], ["strait"], "in all of them");
    let worked_out = GROW.replace("${inputs.site}-yard", "${inputs.site.lowerAscii()}-yard");
    let (catalog, _) = whole(&worked_out);
    let (runbook, _) = catalog.runbook("grow").expect("is there");
    assert_eq!(runbook.choices(&catalog), BTreeMap::new(), "what is made of it nobody can say");
}
