//! What a job would do: every value that can be known beforehand, and of the rest what it depends
//! on.

use crate::{
    Catalog, JobId,
    catalog::{Observed, check_files},
    job::{DryPart, DryRun, DryStep, Facts, Preview, dry_run},
    runbook::Runbook,
};
use chrono::DateTime;
use serde_json::{Value, json};
use std::fmt::Write;

const CONNECTIONS: &str = "
connector: yard
operations:
  vm.inspect:
    takes: { vm: { type: string } }
    request: { method: GET, path: '/v1/vms/${give.vm}' }
    output: response.body
  vm.grow_disk:
    takes: { vm: { type: string }, by_gib: { type: integer } }
    request: { method: POST, path: '/v1/vms/${give.vm}/grow', body: { by_gib: '${give.by_gib}' } }
    output: response.body
    repeat: keyed
---
connection: yard
connector: yard
base: http://127.0.0.1:7401
---
runbook: child
inputs: { vm: { type: string } }
target: vm/a
steps: [ { id: fine, require: 'true' } ]
---
";

fn told(told: &Preview) -> String {
    match told {
        Preview::Known(value) => value.to_string(),
        Preview::Unknown(by) => format!("depends on {}", by.join(", ")),
        Preview::Wrong(why) => format!("wrong: {why}"),
    }
}

fn part(part: &DryPart, depth: usize, all: &mut String) {
    let taken = part.taken.map_or("", |taken| if taken { ", gone" } else { ", not gone" });
    writeln!(all, "{}{}{taken}:", "  ".repeat(depth), part.label).expect("writes");
    part.steps.iter().for_each(|s| step(s, depth + 1, all));
}

fn step(step: &DryStep, depth: usize, all: &mut String) {
    let indent = "  ".repeat(depth);
    let when = step.when.as_ref().map_or_else(String::new, |w| format!(", when {}", told(w)));
    writeln!(all, "{indent}{} {}{when}", step.kind, step.place).expect("writes");
    for (name, value) in &step.given {
        writeln!(all, "{indent}  {name} = {}", told(value)).expect("writes");
    }
    if let Some(request) = &step.request {
        let body = request.body.as_ref().map_or_else(String::new, |body| format!(" {body}"));
        writeln!(all, "{indent}  sends {} {}{body}", request.method, request.target)
            .expect("writes");
    }
    step.parts.iter().for_each(|p| part(p, depth + 1, all));
    if step.left_out > 0 {
        writeln!(all, "{indent}  and {} more", step.left_out).expect("writes");
    }
}

fn worked_out(text: &str, inputs: Value) -> DryRun {
    let text = format!("{CONNECTIONS}{text}");
    let checked =
        check_files([("all.yaml", text.as_str())], &[], &Catalog::default(), &Observed::default());
    assert_eq!(checked.problems, []);
    let catalog = Catalog::new(checked.entries);
    let (runbook, _) = catalog.get::<Runbook>("dry").expect("a runbook");
    let facts = Facts {
        id: JobId(0),
        key: "dry".into(),
        inputs,
        target: "vm/a".into(),
        alert: None,
        has_alarm: false,
        created: DateTime::UNIX_EPOCH,
        memory: Value::Null,
        memory_full: false,
        announce: None,
        dry: false,
    };
    let operations =
        |via: &str, name: &str| catalog.operation(via, name).ok().map(|(_, operation)| operation);
    dry_run(runbook, &facts, None, &operations)
}

fn shown(text: &str) -> String {
    let dry = worked_out(text, json!({ "vm": "vm/a", "hosts": ["a", "b"] }));
    let mut all = String::new();
    dry.steps.iter().for_each(|s| step(s, 0, &mut all));
    dry.further.iter().for_each(|p| part(p, 0, &mut all));
    all
}

#[test]
fn calls_and_values_are_shown_as_far_as_they_are_known() {
    insta::assert_snapshot!(shown("
runbook: dry
inputs: { vm: { type: string }, hosts: { type: array } }
target: ${inputs.vm}
steps:
  - { id: look, call: vm.inspect, via: yard, give: { vm: '${inputs.vm}' } }
  - { id: grow, call: vm.grow_disk, via: yard, give: { vm: '${inputs.vm}', by_gib: '${steps.look.step}' }, undo: { call: vm.inspect, give: { vm: b } } }
  - { id: sum, set: { twice: '${1 + 1}', name: '${inputs.vm}' } }
  - { id: use, call: vm.grow_disk, via: yard, give: { vm: '${steps.sum.name}', by_gib: '${steps.sum.twice}' } }
  - { id: half, set: { known: 1, unknown: '${steps.look.step}' } }
  - { id: after, set: { a: '${steps.half.known}' } }
  - { id: need, require: inputs.vm == 'vm/a' }
  - { id: maybe, when: steps.look.on, set: { b: 2 } }
  - { id: never, when: 1 > 2, set: { c: 3 } }
  - { id: bad, set: { d: '${1 / 0}' } }
  - { id: wait, check: result.on, call: vm.inspect, via: yard, give: { vm: c }, within: 1m }
always:
  - { id: tell, set: { why: '${string(job.failure)}' } }
"), @r#"
    call look
      vm = "vm/a"
      sends GET /v1/vms/vm%2Fa
    call grow
      vm = "vm/a"
      by_gib = depends on steps.look
      undo:
        call grow.undo
          vm = "b"
          sends GET /v1/vms/b
    set sum
      twice = 2
      name = "vm/a"
    call use
      vm = "vm/a"
      by_gib = 2
      sends POST /v1/vms/vm%2Fa/grow {"by_gib":2}
    set half
      known = 1
      unknown = depends on steps.look
    set after
      a = depends on steps.half
    require need
      require = true
    set maybe, when depends on steps.look
      b = 2
    set never, when false
    set bad
      d = wrong: ${1 / 0}: division by zero
    check wait
      vm = "c"
      sends GET /v1/vms/c
    always:
      set tell
        why = depends on job
    "#);
}

#[test]
fn branches_items_and_ways_are_shown_as_far_as_it_is_known_which_are_gone() {
    insta::assert_snapshot!(shown("
runbook: dry
inputs: { vm: { type: string }, hosts: { type: array } }
target: ${inputs.vm}
steps:
  - { id: look, call: vm.inspect, via: yard, give: { vm: '${inputs.vm}' } }
  - id: known
    choose:
      - { when: inputs.vm == 'vm/b', steps: [ { id: k1, set: { a: 1 } } ] }
      - { when: inputs.vm == 'vm/a', steps: [ { id: k2, set: { a: 2 } } ] }
      - { steps: [ { id: k3, set: { a: 3 } } ] }
  - id: open
    choose:
      - { when: steps.look.on, steps: [ { id: o1, set: { a: 1 } } ] }
      - { when: 1 > 2, steps: [ { id: o2, set: { a: 2 } } ] }
      - { steps: [ { id: o3, set: { a: 3 } } ] }
  - id: hosts
    each: inputs.hosts
    as: host
    steps: [ { id: h, set: { is: '${host}' } } ]
  - id: disks
    each: steps.look.disks
    as: disk
    steps: [ { id: d, set: { is: '${disk}', vm: '${inputs.vm}' } } ]
  - id: both
    together: { a: [ { id: wa, pause: 5s } ], b: [ { id: wb, set: { b: 1 } } ] }
  - { id: agree, ask: { text: 'Go on with ${inputs.vm}?', choices: { go: 'Go on to ${steps.look.host}', stay: Stay }, within: 5m } }
  - { id: up, await: { kinds: port.up, resource: '${inputs.vm}', labels: { site: '${steps.look.site}' }, where: event.value > 5.0 }, within: 5m }
  - { id: below, runbook: child, give: { vm: '${inputs.vm}' } }
  - { id: said, emit: import.done, say: 'with ${inputs.vm}', give: { n: '${steps.look.n}' } }
  - { id: end, finish: succeeded, because: 'done with ${inputs.vm}' }
"), @r#"
    call look
      vm = "vm/a"
      sends GET /v1/vms/vm%2Fa
    choose known
      inputs.vm == 'vm/b', not gone:
        set known.k1
      inputs.vm == 'vm/a', gone:
        set known.k2
          a = 2
      else, not gone:
        set known.k3
    choose open
      steps.look.on:
        set open.o1
          a = 1
      1 > 2, not gone:
        set open.o2
      else:
        set open.o3
          a = 3
    each hosts
      each = ["a","b"]
      1: a, gone:
        set hosts[0].h
          is = "a"
      2: b, gone:
        set hosts[1].h
          is = "b"
    each disks
      each = depends on steps.look
      disk:
        set disks[0].d
          is = depends on disk
          vm = "vm/a"
    together both
      a, gone:
        pause both.wa
          pause = "5s"
      b, gone:
        set both.wb
          b = 1
    ask agree
      ask = "Go on with vm/a?"
      go = depends on steps.look
      stay = "Stay"
    await up
      kinds = "port.up"
      resource = "vm/a"
      labels/site = depends on steps.look
      where = "event.value > 5.0"
    runbook below
      vm = "vm/a"
    emit said
      say = "with vm/a"
      give = depends on steps.look
    finish end
      because = "done with vm/a"
    "#);
}

#[test]
fn what_a_way_gives_that_is_gone_or_not_for_certain_is_known_behind_it() {
    let told = shown(
        "
runbook: dry
inputs: { vm: { type: string }, hosts: { type: array } }
target: ${inputs.vm}
steps:
  - id: way
    choose:
      - { when: inputs.vm == 'vm/a', steps: [ { id: x, set: { n: 1 } } ] }
      - { steps: [ { id: z, set: { n: 2 } } ] }
  - { id: y, when: has(steps.x), set: { m: '${steps.x.n + 1}' } }
  - { id: w, when: has(steps.z), set: { m: '${steps.z.n + 1}' } }
  - { id: v, set: { m: '${has(steps.z) ? steps.z.n : 0}' } }
",
    );
    insta::assert_snapshot!(told, @r#"
    choose way
      inputs.vm == 'vm/a', gone:
        set way.x
          n = 1
      else, not gone:
        set way.z
    set y, when true
      m = 2
    set w, when false
    set v
      m = 0
    "#);
}

#[test]
fn of_a_long_list_the_beginning_is_shown_and_the_rest_counted() {
    let hosts: Vec<_> = (0..1_000).collect();
    let text = "
runbook: dry
inputs: { hosts: { type: array } }
target: group/hosts
steps: [ { id: all, each: inputs.hosts, as: h, steps: [ { id: a, set: { h: '${h}' } } ] } ]
";
    let dry = worked_out(text, json!({ "hosts": hosts }));
    assert_eq!((dry.steps[0].parts.len(), dry.steps[0].left_out), (100, 900));
    assert_eq!(dry.steps[0].parts[99].label, "100: 99");
}

#[test]
fn lists_within_lists_and_large_values_at_many_places_come_to_an_end() {
    fn steps_of(steps: &[DryStep]) -> usize {
        steps.iter().map(|s| 1 + s.parts.iter().map(|p| steps_of(&p.steps)).sum::<usize>()).sum()
    }
    let within = |steps: String, id: usize| {
        format!("[ {{ id: s{id}, each: inputs.hosts, as: h{id}, steps: {steps} }} ]")
    };
    let inner = "[ { id: a, set: { v: '${inputs.big}' } }, { id: b, set: { n: 1 } } ]".to_owned();
    let text = format!(
        "\nrunbook: dry\ninputs: {{ hosts: {{ type: array }}, big: {{ type: string }} }}\ntarget: \
        group/hosts\nsteps: {}\n",
        (0..6).fold(inner, within)
    );
    let hosts: Vec<_> = (0..100).collect();
    let dry = worked_out(&text, json!({ "hosts": hosts, "big": "x" }));
    assert!(steps_of(&dry.steps) < 10_000, "{}", steps_of(&dry.steps));
    assert_eq!(dry.steps[0].left_out, 99, "nothing is left for a second one");
    let large = worked_out(&text, json!({ "hosts": hosts, "big": "x".repeat(900_000) }));
    assert!(steps_of(&large.steps) < 100, "{}", steps_of(&large.steps));
}
