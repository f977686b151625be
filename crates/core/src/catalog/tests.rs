//! Definitions against each other.

use super::*;

const GOOD: &str = "
source: yard-hypervisor
intake: { webhook: { credential: { bearer: \"${secret('yard-hypervisor')}\" } } }
---
connector: yard
operations:
  vm.inspect: { takes: { vm: { type: string } }, request: { method: GET, path: /v1/vms/a } }
---
connection: yard-hypervisor
connector: yard
base: http://127.0.0.1:7401
---
runbook: look
inputs: { vm: { type: string } }
target: ${inputs.vm}
steps: [ { id: look, call: vm.inspect, via: yard-hypervisor, give: { vm: \"${inputs.vm}\" } } ]
---
rule: look-at-it
listen: { sources: yard-hypervisor }
dispatch: { runbook: look, inputs: { vm: \"${alert.resource}\" } }
";

fn problems(text: &str) -> String {
    let checked = check_files([("all.yaml", text)], &Catalog::default(), &Seen::default());
    checked.problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
}

#[test]
fn a_whole_set_is_good_and_counts_its_versions() {
    let first = check_files([("all.yaml", GOOD)], &Catalog::default(), &Seen::default());
    assert_eq!(first.problems, []);
    let published = Catalog::new(first.entries);
    let changed = GOOD.replace("target: ${inputs.vm}", "target: vm/${inputs.vm}");
    let second = check_files([("all.yaml", changed.as_str())], &published, &Seen::default());
    let versions: Vec<_> = second.entries.iter().map(|e| (e.name.as_str(), e.version)).collect();
    assert_eq!(versions, [("yard-hypervisor", 1), ("yard", 1), ("yard-hypervisor", 1), ("look", 2), ("look-at-it", 1)]);
}

#[test]
fn what_is_named_must_exist_and_fit() {
    let bad = GOOD
        .replace("runbook: look, inputs: { vm", "runbook: look, inputs: { vn")
        .replace("sources: yard-hypervisor", "sources: [yard-hypervizor, 'any-*']")
        .replace("call: vm.inspect, via", "call: vm.inspct, via")
        .replace("connector: yard\nbase", "connector: yrd\nbase");
    insta::assert_snapshot!(problems(&bad), @r#"
    all.yaml:10:12: there is no connector `yrd` (did you mean `yard`?)
       10 | connector: yrd
          |            ^^^
    all.yaml:16:28: there is no connector `yrd` (did you mean `yard`?)
       16 | steps: [ { id: look, call: vm.inspct, via: yard-hypervisor, give: { vm: "${inputs.vm}" } } ]
          |                            ^^^^^^^^^
    all.yaml:20:36: runbook `look`: there is no input `vn`; did you mean `vm`?
       20 | dispatch: { runbook: look, inputs: { vn: "${alert.resource}" } }
          |                                    ^^
    all.yaml:20:36: runbook `look`: the input `vm` is missing
       20 | dispatch: { runbook: look, inputs: { vn: "${alert.resource}" } }
          |                                    ^^
    all.yaml:19:21: there is no source `yard-hypervizor` (did you mean `yard-hypervisor`?)
       19 | listen: { sources: [yard-hypervizor, 'any-*'] }
          |                     ^^^^^^^^^^^^^^^
    "#);
    insta::assert_snapshot!(problems("rool: a\n---\nrule: b\ndispatch: { runbook: gone }\n---\nrule: b\ndispatch: { runbook: gone }\n"), @"
    all.yaml:1:1: `rool:` defines nothing; a definition begins with one of source:, rule:, runbook:, connector:, connection:
        1 | rool: a
          | ^^^^
    all.yaml:6:7: rule `b` is defined a second time; the first stands in all.yaml
        6 | rule: b
          |       ^
    ");
}
