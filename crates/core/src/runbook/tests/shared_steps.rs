//! Shared steps: what is refused, that they do what they would do if they were written out, and
//! that runbooks are published anew with those that they use.

use super::*;
use crate::{
    Kind,
    automation::{Acting, acting_anew},
    catalog::{Catalog, Checked, Observed, check_files},
    definition::AnyDefinition,
    job::{self, Effect, Event, Facts, JobCommand, Machine, Place, Progress, Repeats, StepEvent},
};
use chrono::{DateTime, TimeDelta};

const YARD: &str = "
connector: yard
operations:
  vm.look: { takes: { vm: { type: string } }, gives: { cores: { type: integer } }, repeat: safe, request: { method: GET, path: /v1/vms/a } }
  vm.grow: { takes: { vm: { type: string }, gib: { type: integer } }, repeat: keyed, request: { method: POST, path: '/v1/vms/${give.vm}' } }
---
connection: yard
connector: yard
base: http://127.0.0.1:7401
---
connection: quill-yard
connector: yard
base: http://127.0.0.1:7402
";

const GROW: &str = "\
step: grow
summary: More disk, tried three times
inputs:
  vm: { type: string }
  gib: { type: integer, minimum: 1, maximum: 64, default: 4 }
does:
  call: vm.grow
  via: yard
  give: { vm: '${inputs.vm}', gib: '${inputs.gib}' }
  retry: { times: 3, wait: 2s }
  timeout: 20s
  undo: { call: vm.grow, give: { vm: '${inputs.vm}', gib: '${0 - inputs.gib}' } }
";

const USER: &str = "\
runbook: more-room
inputs: { name: { type: string } }
target: vm/${inputs.name}
steps:
  - { id: more, use: grow, give: { vm: '${inputs.name}' } }
  - { id: enough, require: steps.more.done == true }
";

fn checked(text: &str, published: &Catalog) -> Checked {
    check_files([("all.yaml", text)], &[], published, &Observed::default())
}

fn said(checked: &Checked) -> String {
    checked.problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
}

fn published(text: &str) -> Catalog {
    let checked = checked(&format!("{YARD}---\n{text}"), &Catalog::default());
    assert_eq!(said(&checked), "");
    Catalog::new(checked.entries)
}

#[test]
fn what_is_no_step_for_many_is_refused_where_it_stands() {
    let refused = |does: &str| {
        let text = format!("step: odd\ninputs: {{ vm: {{ type: string }} }}\ndoes: {{ {does} }}\n");
        said(&checked(&text, &Catalog::default()))
    };
    let all = [
        "id: a, when: 'true', on_error: continue, require: 'true'",
        "use: other",
        "nothing: here",
        "require: inputs.vn == 'a'",
        "require: steps.look.cores > 1 && alarm.state == 'raised'",
        "remember: { a: 1 }",
        "finish: succeeded",
        "each: '[1]', as: n, steps: [ { id: a, require: n > 0 } ]",
        "call: vm.look, via: nowhere",
        "script: sh, code: 'true', secrets: { a: '${secret(\"a\")}' }",
        "require: 'true', undo: { call: vm.grow, via: yard, give: { vm: '${steps.a}' } }",
    ];
    let all: Vec<String> = all.into_iter().map(refused).collect();
    insta::assert_snapshot!(all.join("\n--\n"), @r#"
    all.yaml:3:13: the runbook that uses the step names it
        3 | does: { id: a, when: 'true', on_error: continue, require: 'true' }
          |             ^
    all.yaml:3:22: the runbook that uses the step says when
        3 | does: { id: a, when: 'true', on_error: continue, require: 'true' }
          |                      ^^^^^^
    all.yaml:3:40: the runbook that uses the step says what follows
        3 | does: { id: a, when: 'true', on_error: continue, require: 'true' }
          |                                        ^^^^^^^^
    --
    all.yaml:3:14: a shared step does not use another; write out what it does
        3 | does: { use: other }
          |              ^^^^^
    --
    all.yaml:3:7: the step does nothing; give it one of call, script, require, set, remember, check, choose, each, together, ask, await, pause, runbook, tell, emit, finish, use
        3 | does: { nothing: here }
          |       ^^
    --
    all.yaml:3:18: there is no field `vn`; did you mean `vm`?
        3 | does: { require: inputs.vn == 'a' }
          |                  ^^^^^^^^^
    --
    all.yaml:3:18: there is no field `look`; there are none here
        3 | does: { require: steps.look.cores > 1 && alarm.state == 'raised' }
          |                  ^^^^^^^^^^
    all.yaml:3:18: a shared step sees `inputs` and `job`; `steps` is given to it as an input
        3 | does: { require: steps.look.cores > 1 && alarm.state == 'raised' }
          |                  ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
    all.yaml:3:18: a shared step sees `inputs` and `job`; `alarm` is given to it as an input
        3 | does: { require: steps.look.cores > 1 && alarm.state == 'raised' }
          |                  ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
    --
    all.yaml:3:7: a shared step does not know what the runbook remembers; write this one into the runbook
        3 | does: { remember: { a: 1 } }
          |       ^^
    all.yaml:3:24: `memory` has no `a`; declare it there, with a default
        3 | does: { remember: { a: 1 } }
          |                        ^
    --
    all.yaml:3:7: a shared step does not end the job; write this one into the runbook
        3 | does: { finish: succeeded }
          |       ^^
    --
    all.yaml:3:7: a shared step is a single step, without others in it; write this one into the runbook
        3 | does: { each: '[1]', as: n, steps: [ { id: a, require: n > 0 } ] }
          |       ^^
    --
    all.yaml:3:29: there is no connection `nowhere`
        3 | does: { call: vm.look, via: nowhere }
          |                             ^^^^^^^
    --
    all.yaml:3:44: a secret is allowed to the script of one runbook; write this step into it
        3 | does: { script: sh, code: 'true', secrets: { a: '${secret("a")}' } }
          |                                            ^^
    --
    all.yaml:3:72: a shared step sees `inputs` and `job`; `steps` is given to it as an input
        3 | does: { require: 'true', undo: { call: vm.grow, via: yard, give: { vm: '${steps.a}' } } }
          |                                                                        ^^^^^^^^^^^^^
    all.yaml:3:75: there is no field `a`; known here: step
        3 | does: { require: 'true', undo: { call: vm.grow, via: yard, give: { vm: '${steps.a}' } } }
          |                                                                           ^^^^^^^
    "#);
}

#[test]
fn what_is_given_is_checked_where_it_is_given() {
    let catalog = published(GROW);
    let refused = |step: &str| {
        let text = format!(
            "runbook: more-room\ninputs: {{ name: {{ type: string }} }}\ntarget: vm/a\n\
            timeout: 10m\nsteps: [ {{ id: more, {step} }} ]\n"
        );
        said(&checked(&text, &catalog))
    };
    let all = [
        "use: grwo, give: { vm: a }",
        "use: grow",
        "use: grow, give: { vm: a, gb: 4 }",
        "use: grow, give: { vm: a, gib: 65 }",
        "use: grow, give: { vm: '${inputs.nam}' }",
        "use: grow, give: { vm: a }, retry: { times: 2 }",
        "use: grow, call: vm.grow, via: yard",
        "use: grow, give: { vm: a }, when: 1 + 1, on_error: elsewhere",
        "use: grow, give: { vm: a }, undo: { require: 'true' }",
        "use: [grow]",
    ];
    let all: Vec<String> = all.into_iter().map(refused).collect();
    insta::assert_snapshot!(all.join("\n--\n"), @r"
    all.yaml:5:27: there is no step `grwo` (did you mean `grow`?)
        5 | steps: [ { id: more, use: grwo, give: { vm: a } } ]
          |                           ^^^^
    --
    all.yaml:5:10: step `grow`: the input `vm` is missing
        5 | steps: [ { id: more, use: grow } ]
          |          ^^
    --
    all.yaml:5:39: step `grow`: there is no input `gb`; did you mean `gib`?
        5 | steps: [ { id: more, use: grow, give: { vm: a, gb: 4 } } ]
          |                                       ^^
    --
    all.yaml:5:53: step `grow`: the input `gib` is wrong: 65 is greater than the maximum of 64
        5 | steps: [ { id: more, use: grow, give: { vm: a, gib: 65 } } ]
          |                                                     ^^
    --
    all.yaml:5:48: there is no field `nam`; did you mean `name`?
        5 | steps: [ { id: more, use: grow, give: { vm: '${inputs.nam}' } } ]
          |                                                ^^^^^^^^^^
    --
    all.yaml:5:50: `retry` does not stand beside `use`, but in the shared step; here stand id, summary, when, use, give, on_error
        5 | steps: [ { id: more, use: grow, give: { vm: a }, retry: { times: 2 } } ]
          |                                                  ^^^^^
    --
    all.yaml:5:33: `call` does not stand beside `use`, but in the shared step; here stand id, summary, when, use, give, on_error
        5 | steps: [ { id: more, use: grow, call: vm.grow, via: yard } ]
          |                                 ^^^^
    --
    all.yaml:5:56: is a number, not true or false
        5 | steps: [ { id: more, use: grow, give: { vm: a }, when: 1 + 1, on_error: elsewhere } ]
          |                                                        ^^^^^
    all.yaml:5:73: `elsewhere`: it is `stop`, `continue`, or the `id` of a later step of the same list
        5 | steps: [ { id: more, use: grow, give: { vm: a }, when: 1 + 1, on_error: elsewhere } ]
          |                                                                         ^^^^^^^^^
    --
    all.yaml:5:50: `undo` does not stand beside `use`, but in the shared step; here stand id, summary, when, use, give, on_error
        5 | steps: [ { id: more, use: grow, give: { vm: a }, undo: { require: 'true' } } ]
          |                                                  ^^^^
    --
    all.yaml:5:27: is a list; a text was expected
        5 | steps: [ { id: more, use: [grow] } ]
          |                           ^
    ");
    let slow = "step: slow\ndoes: { check: result.cores > 1, call: vm.look, via: yard, give: { vm: a }, within: 20m }\n";
    let text = format!(
        "{slow}---\nrunbook: wait\ntarget: vm/a\ntimeout: 10m\nsteps: [ {{ id: more, use: slow }} ]\n"
    );
    insta::assert_snapshot!(said(&checked(&text, &catalog)), @r"
    all.yaml:7:27: step `slow` waits for 20m, longer than all steps may take together; `timeout` is 10m
        7 | steps: [ { id: more, use: slow } ]
          |                           ^^^^
    ");
}

/// A step of a kind, and what is given to it for `a`.
const KINDS: [&str; 9] = [
    "call: vm.grow, via: yard, give: { vm: '${inputs.a}', gib: 4 }, retry: { times: 2, wait: 1s }, undo: { call: vm.grow, give: { vm: '${inputs.a}', gib: 0 } }",
    "call: vm.grow, via: '${inputs.a}-yard', connections: ['*-yard'], give: { vm: a, gib: 4 }, probe: { call: vm.look, give: { vm: '${inputs.a}' }, done: 'result.cores > 1 && inputs.a != \"\"' }",
    "check: result.cores > 1 && inputs.a == 'quill', call: vm.look, via: yard, give: { vm: '${inputs.a}' }, within: 10s, every: 2s, else: 'not ${inputs.a}'",
    "require: inputs.a == 'quill', else: 'it is ${inputs.a}'",
    "set: { b: '${inputs.a + \"!\"}' }",
    "ask: { to: { role: responder }, text: 'Is it ${inputs.a}?', choices: { yes: 'Yes, ${inputs.a}' }, within: 1m }",
    "await: { resource: 'vm/${inputs.a}', where: 'event.summary == inputs.a' }, within: 1m, else: 'for ${inputs.a}'",
    "pause: '${inputs.a == \"quill\" ? \"3s\" : \"4s\"}'",
    "emit: disk.grown, say: '${inputs.a} of job ${job.id}', give: { a: '${inputs.a}' }",
];

/// What a job does with these events, the one after the other.
fn played(catalog: &Catalog, name: &str, inputs: &Value, dry: bool) -> Vec<String> {
    let (runbook, _) = catalog.runbook(name).expect("is there");
    let facts = Facts { dry, ..facts(inputs.clone()) };
    let repeats = Repeats::of(&runbook, catalog);
    let step = |what: StepEvent| Event::Step { place: Place::new("s"), attempt: 1, what };
    let passing = job::StepEvent::Broke {
        failure: crate::connector::Failure::new(crate::connector::CallEnd::NotSent, "busy"),
        repeat: crate::connector::Repeat::Keyed,
    };
    let returned = || StepEvent::Returned(json!({ "cores": 2 }));
    let events = [
        Event::Taken(repeats.clone(), Vec::new()),
        step(passing),
        Event::Tick,
        Event::Taken(repeats.clone(), Vec::new()),
        step(returned()),
        Event::Step { place: Place::new("s"), attempt: 2, what: returned() },
        Event::Tick,
        Event::Commanded(JobCommand::Cancel { undo: true, words: "stopped".to_owned() }),
        Event::Tick,
    ];
    let (mut progress, mut kept) = (Progress::default(), job::StepOutputs::default());
    let mut now = DateTime::UNIX_EPOCH;
    let mut all = Vec::new();
    for event in events {
        let mut machine = Machine::new(&runbook, &facts, progress, kept);
        machine.others = Some(catalog);
        let effects: Vec<Effect> = machine.handle(now, event);
        all.extend(effects.iter().map(|effect| format!("{effect:?}")));
        (progress, kept) = (machine.progress, machine.kept);
        all.push(format!("{progress:?} {kept:?}"));
        now += TimeDelta::seconds(2);
    }
    all
}

#[test]
fn a_shared_step_does_what_it_would_do_if_it_were_written_out() {
    let rest = "  - { id: rest, when: 'has(steps.s)', set: { got: '${steps.s}' } }\n  - { id: long, pause: 1h }\n";
    for (n, does) in KINDS.into_iter().enumerate() {
        let given = "inputs.b";
        let written = does.replace("inputs.a", given);
        let text = format!(
            "step: s{n}\ninputs: {{ a: {{ type: string }} }}\ndoes: {{ {does} }}\n---\n\
            runbook: one\ninputs: {{ a: {{ type: string }}, b: {{ type: string }} }}\ntarget: vm/a\nsteps:\n  \
            - {{ id: s, use: s{n}, give: {{ a: '${{{given}}}' }} }}\n{rest}---\n\
            runbook: two\ninputs: {{ a: {{ type: string }}, b: {{ type: string }} }}\ntarget: vm/a\nsteps:\n  \
            - {{ id: s, {written} }}\n{rest}"
        );
        let catalog = published(&text);
        for (value, dry) in [("quill", false), ("quill", true), ("strait", false)] {
            let inputs = json!({ "a": "another", "b": value });
            let names = |all: Vec<String>| {
                let one =
                    |line: String| line.replace("\"two\"", "\"one\"").replace(given, "inputs.a");
                all.into_iter().map(one).collect::<Vec<_>>()
            };
            let one = names(played(&catalog, "one", &inputs, dry));
            assert_eq!(one, names(played(&catalog, "two", &inputs, dry)), "{does}");
            let operations =
                |via: &str, op: &str| catalog.operation(via, op).ok().map(|(_, op)| op);
            let dry = |name: &str| {
                let (runbook, _) = catalog.runbook(name).expect("is there");
                let dry = job::dry_run(&runbook, &facts(inputs.clone()), None, &operations);
                names(dry.steps.iter().map(|step| format!("{step:?}")).collect())
            };
            assert_eq!(dry("one"), dry("two"), "{does}");
        }
    }
}

#[test]
fn what_does_not_fit_fails_the_step_and_its_undo_finds_what_it_was_given() {
    let catalog = published(
        &format!("{GROW}---\n{USER}")
            .replace("'${inputs.name}' }", "'${inputs.name}', gib: '${size(inputs.name)}' }"),
    );
    let done = |name: &str| {
        let (runbook, _) = catalog.runbook("more-room").expect("is there");
        let facts = facts(json!({ "name": name }));
        let mut machine =
            Machine::new(&runbook, &facts, Progress::default(), job::StepOutputs::default());
        let mut effects = machine.handle(
            DateTime::UNIX_EPOCH,
            Event::Taken(Repeats::of(&runbook, &catalog), Vec::new()),
        );
        let what = StepEvent::Returned(json!({ "done": false }));
        effects.extend(machine.handle(
            DateTime::UNIX_EPOCH,
            Event::Step { place: Place::new("more"), attempt: 1, what },
        ));
        let told = effects.into_iter().filter_map(|effect| match effect {
            Effect::Call(call) => {
                Some(format!("{}: {} {}", call.place, call.target, json!(call.give)))
            }
            Effect::Then(then) => Some(format!("{then:?}")),
            _ => None,
        });
        told.collect::<Vec<_>>().join("\n")
    };
    insta::assert_snapshot!(done("quill"), @r#"
    more: vm.grow via yard {"vm":"quill","gib":5}
    GoOn { until: Some(1970-01-01T01:00:00.001Z) }
    more.undo: vm.grow via yard {"vm":"quill","gib":-5}
    GoOn { until: Some(1970-01-01T01:00:00.001Z) }
    "#);
    insta::assert_snapshot!(done(&"q".repeat(65)), @r#"
    End { state: Failed, effect: NotChecked, failure: Some("step `grow`: the input `gib` is wrong: 65 is greater than the maximum of 64"), outputs: Null }
    "#);
}

#[test]
fn runbooks_are_published_anew_with_the_steps_that_they_use() {
    let rule = "\
rule: more
listen: { kinds: disk.full }
stance: act
dispatch: { runbook: more-room, inputs: { name: a } }
";
    let other = "runbook: other\ntarget: vm/a\nsteps: [ { id: a, require: 'true' } ]\n";
    let first = published(&format!("{GROW}---\n{USER}---\n{rule}---\n{other}"));
    let versions = |checked: &Checked| {
        let entries = checked.entries.iter();
        entries.map(|e| format!("{} {} {}", e.kind, e.name, e.version)).collect::<Vec<_>>()
    };
    // The same once more changes nothing.
    assert_eq!(versions(&checked(GROW, &first)), ["step grow 1"]);
    assert_eq!(versions(&checked(USER, &first)), ["runbook more-room 1"]);

    let more = GROW.replace("times: 3", "times: 5");
    let changed = checked(&more, &first);
    assert_eq!(
        (said(&changed), versions(&changed)),
        (String::new(), vec!["step grow 2".to_owned(), "runbook more-room 2".to_owned()])
    );
    let times = |entry: &AnyDefinition| {
        let runbook = crate::definition::as_kind::<Runbook>(&**entry).expect("a runbook");
        runbook.steps[0].retry.expect("is tried again").times
    };
    assert_eq!(
        (
            times(&changed.entries[1].definition),
            times(&first.entry(Kind::Runbook, "more-room").expect("stands").definition)
        ),
        (5, 3)
    );
    // Whoever changes it changes what acts.
    let second = first.with(changed.entries);
    let acts = acting_anew(&second, &first);
    let changes = [(Kind::Runbook, "more-room".to_owned()), (Kind::Step, "grow".to_owned())];
    assert!(
        matches!(&acts[..], [Acting { name, changed, .. }] if name == "more" && *changed == changes),
        "{acts:?}"
    );
    assert_eq!(second.used_by(Kind::Step, "grow"), [(Kind::Runbook, "more-room")]);
    // A runbook that is published beside it comes once.
    let both = checked(&format!("{GROW}---\n{USER}"), &second);
    assert_eq!(versions(&both), ["step grow 3", "runbook more-room 3"]);
}

#[test]
fn a_shared_step_that_no_longer_fits_its_users_or_is_gone_is_refused() {
    let example = "examples: [ { summary: it grows, inputs: { name: a }, answers: { more: { gives: { done: true } } }, expect: { state: succeeded } } ]\n";
    let first = published(&format!("{GROW}---\n{USER}{example}"));
    let changed = |from: &str, to: &str| said(&checked(&GROW.replace(from, to), &first));
    insta::assert_snapshot!([
        changed("default: 4", "description: How much"),
        changed("  vm: { type: string }", "  machine: { type: string }"),
        changed("timeout: 20s", "timeout: soon"),
        // It asks somebody, and the example gives no answer to that.
        said(&checked("step: grow\ninputs: { vm: { type: string } }\ndoes: { check: 1 > 2, within: 1s }\n", &first)),
    ].join("\n--\n"), @r"
    all.yaml:32:34: step `grow`: the input `gib` is missing; runbook `more-room` stands so in what is published
       32 |   - { id: more, use: grow, give: { vm: '${inputs.name}' } }
          |                                  ^^
    --
    all.yaml:9:18: there is no field `vm`; known here: gib, machine
        9 |   give: { vm: '${inputs.vm}', gib: '${inputs.gib}' }
          |                  ^^^^^^^^^
    all.yaml:32:22: step `grow` cannot be used: there is no field `vm`; known here: gib, machine; runbook `more-room` stands so in what is published
       32 |   - { id: more, use: grow, give: { vm: '${inputs.name}' } }
          |                      ^^^^
    --
    all.yaml:11:12: `soon` is not a length of time; write it like 90s, 15m, 1h30m or 2d
       11 |   timeout: soon
          |            ^^^^
    all.yaml:32:22: step `grow` cannot be used: `soon` is not a length of time; write it like 90s, 15m, 1h30m or 2d; runbook `more-room` stands so in what is published
       32 |   - { id: more, use: grow, give: { vm: '${inputs.name}' } }
          |                      ^^^^
    --
    all.yaml:33:28: there is no field `done` in true or false; runbook `more-room` stands so in what is published
       33 |   - { id: enough, require: steps.more.done == true }
          |                            ^^^^^^^^^^^^^^^
    ");
    let gone = [(Kind::Step, "grow".to_owned())];
    let without = check_files([], &gone, &first, &Observed::default());
    insta::assert_snapshot!(said(&without), @r"
    all.yaml:32:22: there is no step `grow`; runbook `more-room` stands so in what is published
       32 |   - { id: more, use: grow, give: { vm: '${inputs.name}' } }
          |                      ^^^^
    ");
    let both = [gone[0].clone(), (Kind::Runbook, "more-room".to_owned())];
    assert_eq!(said(&check_files([], &both, &first, &Observed::default())), "");
}

#[test]
fn what_many_use_is_bounded() {
    let pad = format!("# {}\n", "x".repeat(400_000));
    let steps: Vec<String> =
        (0..3).map(|n| format!("step: s{n}\n{pad}does: {{ require: 'true' }}\n")).collect();
    let uses = |n: usize| {
        let steps: String = (0..n).map(|i| format!("{{ id: a{i}, use: s{i} }}, ")).collect();
        format!("runbook: many\ntarget: vm/a\nsteps: [ {steps} ]\n")
    };
    let files = |uses: String| {
        let texts: Vec<String> = steps.iter().cloned().chain([uses]).collect();
        let files = texts.iter().map(|text| ("all.yaml", text.as_str()));
        said(&check_files(files, &[], &Catalog::default(), &Observed::default()))
    };
    assert_eq!(files(uses(2)), "");
    let refused = files(uses(3));
    assert!(
        refused.contains("the shared steps of a runbook have at most 1048576 bytes"),
        "{refused}"
    );
    // One that many use.
    let users: Vec<String> = (0..50)
        .map(|n| format!("runbook: r{n}\ntarget: vm/a\nsteps: [ {{ id: a, use: s0 }} ]\n"))
        .collect();
    let texts: Vec<&str> = steps.iter().chain(&users).map(String::as_str).collect();
    let all = check_files(
        texts.iter().map(|text| ("all.yaml", *text)),
        &[],
        &Catalog::default(),
        &Observed::default(),
    );
    let catalog = Catalog::new(all.entries);
    let refused = said(&checked(&steps[0].replace("'true'", "1 < 2"), &catalog));
    assert!(refused.contains("make more than 16 MiB"), "{refused}");
}
