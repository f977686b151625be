//! The runbook document: what is refused, and what a job starts with.

mod references;
mod shared_steps;

use super::*;
use crate::{JobId, catalog::Catalog, document::parse_file, job::Facts};
use chrono::DateTime;
use serde_json::json;

/// What is known of a job with these inputs that somebody launched.
fn facts(inputs: Value) -> Facts {
    Facts {
        id: JobId(7),
        key: "quay-7".into(),
        inputs,
        target: "vm/quill-app-1".into(),
        alert: None,
        has_alarm: false,
        created: DateTime::UNIX_EPOCH,
        memory: Value::Null,
        memory_full: false,
        announce: None,
        dry: false,
    }
}

fn check(text: &str) -> Result<Runbook, String> {
    let docs = parse_file("grow.yaml", text).map_err(|p| p.to_string())?;
    Runbook::check(&docs[0])
        .map_err(|ps| ps.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))
}

const GROW: &str = "
runbook: grow-disk
inputs:
  vm: { type: string, format: resource }
  step_gib: { type: integer, minimum: 1, maximum: 16, default: 4 }
target: ${inputs.vm}
steps:
  - { id: look, call: vm.inspect, via: yard, give: { vm: \"${inputs.vm}\" } }
";

#[test]
fn inputs_are_completed_and_checked_before_anything_starts() {
    let grow = check(GROW).expect("checks");
    let others = Catalog::default();
    let prepare = |value: Value| grow.prepare(value.as_object().expect("a map").clone(), &others);
    let good = prepare(json!({"vm": "vm/quill-booking-db-1"})).expect("prepares");
    assert_eq!(good.target.as_str(), "vm/quill-booking-db-1");
    assert_eq!(good.inputs["step_gib"], 4);
    let wrong = [
        json!({}),
        json!({"vm": "quill"}),
        json!({"vm": "vm/a", "step_gib": 17}),
        json!({"vm": "vm/a", "step_gb": 1}),
    ];
    let said: Vec<_> =
        wrong.into_iter().map(|w| prepare(w).expect_err("refused").to_string()).collect();
    insta::assert_snapshot!(said.join("\n"), @r#"
    the input `vm` is missing
    the input `vm` is wrong: "quill" is not a "resource"
    the input `step_gib` is wrong: 17 is greater than the maximum of 16
    there is no input `step_gb`; did you mean `step_gib`?
    "#);
}

#[test]
fn diagnostics_point_at_the_step() {
    let bad = "
runbook: grow-disk
inputs: { vm: { type: strng } }
target: ${input.vm}
steps:
  - { id: Look, call: vm.inspect, via: yard }
  - { id: a, call: vm.inspect }
  - { id: a, require: 'true' }
  - { id: b }
  - { id: c, require: steps.look.size >, else: 'too big' }
  - { id: d, call: x, via: y, give: { vm: '${steps.look.' }, retry: { times: 99 } }
outputs: { size: '${stps.grow}' }
";
    insta::assert_snapshot!(check(bad).expect_err("refused"), @r#"
    grow.yaml:3:9: is not a JSON Schema (draft 2020-12): "strng" is not valid under any of the schemas listed in the 'anyOf' keyword
        3 | inputs: { vm: { type: strng } }
          |         ^^
    grow.yaml:4:11: `input` is not known here; did you mean `inputs`?
        4 | target: ${input.vm}
          |           ^^^^^
    grow.yaml:6:11: `Look` is not the name of a step; use lower case letters, digits and _, at most 40, a letter first
        6 |   - { id: Look, call: vm.inspect, via: yard }
          |           ^^^^
    grow.yaml:7:5: the key `via` is missing here: through which connection is it called?
        7 |   - { id: a, call: vm.inspect }
          |     ^^
    grow.yaml:8:11: another step is named `a` already; names are unique in the whole runbook
        8 |   - { id: a, require: 'true' }
          |           ^
    grow.yaml:9:5: the step does nothing; give it one of call, script, require, set, remember, check, choose, each, together, ask, await, pause, runbook, tell, emit, finish, use
        9 |   - { id: b }
          |     ^^
    grow.yaml:10:40: the expression ends here, and something more was expected
       10 |   - { id: c, require: steps.look.size >, else: 'too big' }
          |                                        ^
    grow.yaml:11:46: the closing } of ${ is missing
       11 |   - { id: d, call: x, via: y, give: { vm: '${steps.look.' }, retry: { times: 99 } }
          |                                              ^^^^^^^^^^^
    grow.yaml:11:78: at most 20 times
       11 |   - { id: d, call: x, via: y, give: { vm: '${steps.look.' }, retry: { times: 99 } }
          |                                                                              ^^
    grow.yaml:12:21: `stps` is not known here; did you mean `steps`?
       12 | outputs: { size: '${stps.grow}' }
          |                     ^^^^
    "#);
}

#[test]
fn whoever_only_reads_neither_launches_nor_decides() {
    let bad = "
runbook: grow-disk
inputs: {}
target: vm/quill-booking-db-1
launch: { role: viewer }
steps:
  - id: agree
    ask:
      text: 'Grow it?'
      to: { role: viewer }
      choices: { grow: Grow it, leave: Leave it }
      within: 5m
";
    insta::assert_snapshot!(check(bad).expect_err("refused"), @"
    grow.yaml:5:17: a viewer only reads; one of: responder, author, admin
        5 | launch: { role: viewer }
          |                 ^^^^^^
    grow.yaml:10:19: a viewer only reads; one of: responder, author, admin
       10 |       to: { role: viewer }
          |                   ^^^^^^
    ");
    for role in ["responder", "author", "admin"] {
        check(&bad.replace("viewer", role)).expect("checks");
    }
}

#[test]
fn waits_grow_and_end() {
    let hour = Period::from_secs(3600);
    let retry =
        Retry { times: 3, wait: Period::from_secs(2), factor: 2.0, ceiling: hour, jitter: 0.0 };
    let waits: Vec<_> = (1..=4).map(|n| retry.wait_after(n, 0.5).map(Period::millis)).collect();
    assert_eq!(waits, [Some(2000), Some(4000), Some(8000), None]);
}

#[test]
fn whoever_may_answer_by_mail_is_of_a_domain_that_is_written_out() {
    let ask = |from: &str| {
        let text = format!(
            "runbook: a\ntarget: vm/a\nsteps:\n  - id: q\n    ask: {{ text: On?, choices: {{ go: Go }}, \
             within: 5m, by_mail: ['{from}'] }}\n"
        );
        check(&text).map(|_| ())
    };
    for good in ["pat@skerrow.example", "*@skerrow.example", "night-*@pier-3.skerrow.example"] {
        assert_eq!(ask(good), Ok(()), "{good}");
    }
    for bad in ["pat", "*", "*@*", "*@*.example", "pat@", "@a", "a b@c", "a@b@c", "Pat <pat@a>"] {
        let said = ask(bad).expect_err(bad);
        assert!(said.contains("is an address such as pat@skerrow.example"), "{bad}: {said}");
    }
    let asks = "runbook: a\ntarget: vm/a\nsteps:\n  - id: q\n    ask: { text: On?, choices: { go: Go }, \
                within: 5m, tell: { call: mail.ask, via: m, give: { answer_to: '${decision.answer_to}' \
                } } }\n";
    let said = check(asks).expect_err("nobody may");
    assert!(said.contains("has `decision.answer_to`, and nobody may answer by mail"), "{said}");
}

#[test]
fn what_waits_for_something_outside_says_for_what_and_how_long() {
    let bad = "
runbook: hand-over
target: vm/a
timeout: 30m
steps:
  - id: none
    ask: { text: 'Go on?', choices: {}, within: 2h, unanswered: go }
  - id: odd
    ask: { text: '${steps.none.chosen}', choices: { Go: Go, stop: Stop, leave: 4 }, within: 5m, to: { role: responder, person: pat } }
  - id: told
    ask: { text: 'Go on?', choices: { go: Go on }, within: 0s }
  - id: tells
    ask: { text: 'Go on?', choices: { go: Go on }, within: 5m, tell: { call: chat.post, give: { text: '${decision.lnk}' } } }
  - { id: any, await: { labels: { site: brack } }, within: 5m }
  - { id: late, await: { kinds: [] }, within: 5h }
  - { id: read, await: { kinds: port.up, states: up, where: 'evnt.value > 5' }, within: 5m }
  - { id: says, emit: job.done }
  - { id: said, emit: done }
  - { id: other, runbook: x, give: { vm: '${steps.read.kind.x}' }, choices: {} }
";
    insta::assert_snapshot!(check(bad).expect_err("refused"), @"
    grow.yaml:7:37: give 1 to 10 choices
        7 |     ask: { text: 'Go on?', choices: {}, within: 2h, unanswered: go }
          |                                     ^
    grow.yaml:7:49: 2h is longer than all steps may take together; `timeout` is 30m
        7 |     ask: { text: 'Go on?', choices: {}, within: 2h, unanswered: go }
          |                                                 ^^
    grow.yaml:7:65: `go` is none of the choices; or it is `stop`
        7 |     ask: { text: 'Go on?', choices: {}, within: 2h, unanswered: go }
          |                                                                 ^^
    grow.yaml:9:57: `Go` is not the name of a choice; use lower case letters, digits and _, at most 40, a letter first
        9 |     ask: { text: '${steps.none.chosen}', choices: { Go: Go, stop: Stop, leave: 4 }, within: 5m, to: { role: responder, person: pat } }
          |                                                         ^^
    grow.yaml:9:67: `stop` is what `unanswered` calls a failure; call the choice otherwise
        9 |     ask: { text: '${steps.none.chosen}', choices: { Go: Go, stop: Stop, leave: 4 }, within: 5m, to: { role: responder, person: pat } }
          |                                                                   ^^^^
    grow.yaml:9:80: says what the choice means for people, such as `Restart it now`
        9 |     ask: { text: '${steps.none.chosen}', choices: { Go: Go, stop: Stop, leave: 4 }, within: 5m, to: { role: responder, person: pat } }
          |                                                                                ^
    grow.yaml:9:101: is a `role`, a `person`, a `contact` or a `team`, one of the four
        9 |     ask: { text: '${steps.none.chosen}', choices: { Go: Go, stop: Stop, leave: 4 }, within: 5m, to: { role: responder, person: pat } }
          |                                                                                                     ^^
    grow.yaml:10:9: `told` is reserved, as all of undo, probe, confirm, told, reached, announced are; call the step otherwise
       10 |   - id: told
          |         ^^^^
    grow.yaml:11:60: nobody can decide in no time
       11 |     ask: { text: 'Go on?', choices: { go: Go on }, within: 0s }
          |                                                            ^^
    grow.yaml:13:64: the key `via` is missing here
       13 |     ask: { text: 'Go on?', choices: { go: Go on }, within: 5m, tell: { call: chat.post, give: { text: '${decision.lnk}' } } }
          |                                                                ^^^^
    grow.yaml:14:23: says too little; name `sources`, `kinds` or a `resource`
       14 |   - { id: any, await: { labels: { site: brack } }, within: 5m }
          |                       ^^
    grow.yaml:15:33: is an empty list: nothing could ever come; leave the line out
       15 |   - { id: late, await: { kinds: [] }, within: 5h }
          |                                 ^
    grow.yaml:15:47: 5h is longer than all steps may take together; `timeout` is 30m
       15 |   - { id: late, await: { kinds: [] }, within: 5h }
          |                                               ^^
    grow.yaml:16:50: `up` is not raised, cleared or noted
       16 |   - { id: read, await: { kinds: port.up, states: up, where: 'evnt.value > 5' }, within: 5m }
          |                                                  ^^
    grow.yaml:16:62: `evnt` is not known here; did you mean `event`?
       16 |   - { id: read, await: { kinds: port.up, states: up, where: 'evnt.value > 5' }, within: 5m }
          |                                                              ^^^^
    grow.yaml:17:23: `job.…` are Arvok's own events; call it otherwise
       17 |   - { id: says, emit: job.done }
          |                       ^^^^^^^^
    grow.yaml:18:23: `done` is not a kind of event; use two or more words of lower case letters, digits, _ and -, with dots between, such as `import.done`
       18 |   - { id: said, emit: done }
          |                       ^^^^
    grow.yaml:19:68: unknown key `choices`; a step with `runbook` has id, summary, when, retry, timeout, on_error, undo, runbook, runbooks, give
       19 |   - { id: other, runbook: x, give: { vm: '${steps.read.kind.x}' }, choices: {} }
          |                                                                    ^^^^^^^
    ");
}

/// There is no other definition.
#[derive(Debug)]
struct Nobody;

impl Others for Nobody {
    fn definition(&self, _: Kind, _: &str) -> Option<&dyn Definition> {
        None
    }

    fn names(&self, _: Kind) -> Vec<&str> {
        Vec::new()
    }
}

#[test]
fn it_is_drawn_with_what_stands_within_and_what_steps_give() {
    let runbook = check(
        "
runbook: drawn
inputs: { vm: { type: string } }
target: ${inputs.vm}
steps:
  - { id: look, set: { load: 9, name: 'web' }, summary: Looks }
  - id: way
    choose:
      - { when: steps.look.load > 5, steps: [ { id: more, set: { a: 1 }, undo: { set: { b: 1 } } } ] }
      - { steps: [ { id: rest, pause: 1s } ] }
  - { id: all, each: '[1, 2]', as: n, on_error: continue, steps: [ { id: one, set: { n: '${n}' } } ] }
always:
  - { id: last, when: has(steps.look), set: { c: 1 } }
",
    )
    .expect("good");
    let drawn = runbook.outline(&Nobody);
    let line = |s: &OutlineStep| {
        format!("{} {} {} {}", s.pointer, s.kind, s.id, s.on_error.as_deref().unwrap_or("stop"))
    };
    let mut lines = Vec::new();
    fn walk(steps: &[OutlineStep], line: &dyn Fn(&OutlineStep) -> String, lines: &mut Vec<String>) {
        for step in steps {
            lines.push(line(step));
            for (label, within) in &step.parts {
                lines.push(format!("  {label}:"));
                walk(within, line, lines);
            }
        }
    }
    walk(&drawn.steps, &line, &mut lines);
    walk(&drawn.further[0].1, &line, &mut lines);
    insta::assert_snapshot!(lines.join("\n"), @r#"
    /steps/0 set look stop
    /steps/1 choose way stop
      steps.look.load > 5:
    /steps/1/choose/0/steps/0 set more stop
      undo:
    /steps/1/choose/0/steps/0/undo set undo stop
      else:
    /steps/1/choose/1/steps/0 pause rest stop
    /steps/2 each all continue
      each n:
    /steps/2/steps/0 set one stop
    /always/0 set last stop
    "#);
    insta::assert_snapshot!(drawn.known["steps"].as_fields(), @r#"
    {"all":"a list","look":{"load":"anything","name":"anything"},"more":{"a":"anything"},"rest":"anything","way":"anything"}
    "#);
    assert_eq!(drawn.known["inputs"].as_fields(), serde_json::json!({ "vm": "a string" }));
}

/// Where the words are exchanged: calls wherever they stand, and nothing else of the same name.
#[test]
fn a_copy_exchanges_names_at_their_places_and_leaves_the_rest_as_it_was_written() {
    let text = "# A page of instructions.
runbook: wake   # a word
inputs: { via: { type: string, default: yard } }
target: vm/a
steps:
  - { id: look, call: vm.inspect, via: yard, give: { via: yard }, undo: { call: vm.power, via: \"yard\", give: { on: 'no' } } }
  - id: agree
    ask:
      text: Wake it?
      choices: { yard: Yes, leave: No }
      within: 1m
      unanswered: leave
      tell: { call: chat.post, via: chat, give: { text: yard } }
  - id: both
    together:
      one: [ { id: on, call: vm.power, via: 'yard', probe: { call: vm.inspect, via: yard, done: \"true\" } } ]
      two: [ { id: kept, set: { via: yard, call: yard } } ]
confirm: { check: result.via == 'yard', call: vm.inspect, via: yard, within: 1m }
examples:
  - { answers: { look: { gives: { call: yard, via: yard } } }, expect: { state: succeeded } }
";
    let document = &parse_file("wake.yaml", text).expect("reads")[0];
    let instead = |pairs: &[(&str, &str)]| {
        pairs.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect()
    };
    let copied = copy(document, "wake-up", &instead(&[("yard", "null"), ("chat", "bridge")]))
        .expect("a copy");
    insta::assert_snapshot!(copied, @r#"
    # A page of instructions.
    runbook: wake-up   # a word
    copied_from: wake
    inputs: { via: { type: string, default: yard } }
    target: vm/a
    steps:
      - { id: look, call: vm.inspect, via: "null", give: { via: yard }, undo: { call: vm.power, via: "null", give: { on: 'no' } } }
      - id: agree
        ask:
          text: Wake it?
          choices: { yard: Yes, leave: No }
          within: 1m
          unanswered: leave
          tell: { call: chat.post, via: bridge, give: { text: yard } }
      - id: both
        together:
          one: [ { id: on, call: vm.power, via: "null", probe: { call: vm.inspect, via: "null", done: "true" } } ]
          two: [ { id: kept, set: { via: yard, call: yard } } ]
    confirm: { check: result.via == 'yard', call: vm.inspect, via: "null", within: 1m }
    examples:
      - { answers: { look: { gives: { call: yard, via: yard } } }, expect: { state: succeeded } }
    "#);
    assert_eq!(
        copy(document, "wake", &instead(&[])).expect("a copy").lines().count(),
        text.lines().count() + 1
    );
    let none =
        copy(document, "wake", &instead(&[("yarn", "x")])).expect_err("is not called").to_string();
    assert_eq!(none, "it does not call `yarn`; did you mean `yard`?");
    assert!(
        copy(document, "Wake!", &instead(&[])).is_err()
            && copy(document, "w", &instead(&[("yard", "")])).is_err()
    );
}

#[test]
fn an_announcement_says_how_long_before_and_to_whom() {
    let announced = |line: &str| {
        let text = format!(
            "runbook: grow\ntarget: vm/a\nannounce: {line}\nsteps: [ {{ id: a, set: {{ n: 1 }} }} ]\n"
        );
        check(&text).map(|runbook| runbook.announce.expect("announced").to_string())
    };
    assert_eq!(
        announced("{ before: 2m, to: { team: booking } }").expect("checks"),
        "2m before it changes anything, to booking"
    );
    assert_eq!(
        announced("{ before: 24h }").expect("checks"),
        "1d before it changes anything, to whoever is responder"
    );
    for (line, wrong) in [
        ("{ before: 0s }", "is more than no time, and at most 1d, not 0s"),
        ("{ before: 25h }", "is more than no time, and at most 1d, not 1d1h"),
        ("{}", "the key `before` is missing"),
        ("{ before: 2m, to: { role: viewer } }", "only reads"),
        ("{ before: 2m, to: { team: a, role: admin } }", "one of the four"),
        ("{ before: 2m, to: { person: '${steps.a.n}' } }", "`steps` is not known here"),
        ("{ before: 2m, text: Soon }", "unknown key `text`"),
    ] {
        let said = announced(line).expect_err(line);
        assert!(said.contains(wrong), "{line}: {said}");
    }
}

#[test]
fn waves_are_of_so_many_items_and_there_is_an_end_to_the_failures() {
    let list = |lines: &str| {
        check(&format!(
            "runbook: r\ntarget: vm/a\nsteps:\n  - id: all\n    each: '[1, 2]'\n    as: n\n{lines}    \
            steps: [ {{ id: one, set: {{ n: '${{n}}' }} }} ]\n"
        ))
    };
    let wrong = |lines: &str| {
        let said = list(lines).expect_err("refused");
        said.lines().filter(|line| line.starts_with("grow.yaml")).collect::<Vec<_>>().join("\n")
    };
    insta::assert_snapshot!(wrong("    waves: [0, 101%, many, 50%]\n"), @r"
    grow.yaml:7:13: is a number from 1, or a share of all items from 1% to 100%
    grow.yaml:7:16: is a number from 1, or a share of all items from 1% to 100%
    grow.yaml:7:22: is a number from 1, or a share of all items from 1% to 100%
    ");
    insta::assert_snapshot!(wrong("    between: 5m\n    stop_after: 2\n"), @r"
    grow.yaml:7:14: there are no `waves` to wait between
    grow.yaml:8:17: without `failures: report` the first failure stops the list already
    ");
    insta::assert_snapshot!(wrong("    waves: [1]\n    between: 2h\n    failures: report\n    stop_after: 0\n"), @r"
    grow.yaml:8:14: 2h is longer than all steps may take together; `timeout` is 1h
    grow.yaml:10:17: at least 1
    ");

    let begins = |waves: &str, of: usize| {
        let runbook = list(&format!("    waves: {waves}\n")).expect("checks");
        let Action::Each(each) = &runbook.steps[0].action else { panic!("is a list") };
        (0..of).filter(|item| each.waves.begins_with(*item, of)).collect::<Vec<_>>()
    };
    let none: [usize; 0] = [];
    assert_eq!(begins("[]", 9), none);
    assert_eq!(begins("[1, 3]", 9), [1, 4, 7]);
    assert_eq!(begins("[1, 25%]", 10), [1, 3, 5, 7, 9], "rounded down");
    assert_eq!(begins("[1%]", 3), [1, 2], "at least one");
    assert_eq!(begins("[100%]", 5), none);
    assert_eq!(begins("[7]", 5), none, "all are in the first");
    assert_eq!(begins("[1]", 0), none);
}
