//! Definitions against each other.

mod unsent;

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
    let checked = check_files([("all.yaml", text)], &[], &Catalog::default(), &Observed::default());
    checked.problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
}

#[test]
fn a_whole_set_is_good_and_counts_its_versions() {
    let first = check_files([("all.yaml", GOOD)], &[], &Catalog::default(), &Observed::default());
    assert_eq!(first.problems, []);
    let published = Catalog::new(first.entries);
    let changed = GOOD.replace("target: ${inputs.vm}", "target: vm/${inputs.vm}");
    let second =
        check_files([("all.yaml", changed.as_str())], &[], &published, &Observed::default());
    let versions: Vec<_> = second.entries.iter().map(|e| (e.name.as_str(), e.version)).collect();
    assert_eq!(
        versions,
        [
            ("yard-hypervisor", 1),
            ("yard", 1),
            ("yard-hypervisor", 1),
            ("look", 2),
            ("look-at-it", 1)
        ]
    );
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
    insta::assert_snapshot!(problems("rool: a\n---\nrule: b\ndispatch: { runbook: gone }\n---\nrule: b\ndispatch: { runbook: gone }\n"), @r#"
    all.yaml:1:1: `rool:` defines nothing; a definition begins with one of source:, rule:, runbook:, step:, connector:, connection:, subscriber:, contact:, calendar:, group:, guard:, plan:
        1 | rool: a
          | ^^^^
    all.yaml:6:7: rule `b` is defined a second time; the first stands in all.yaml
        6 | rule: b
          |       ^
    "#);
}

const NOTE: &str = "runbook: note\ninputs: { what: { default: null } }\ntarget: group/all\nsteps: \
    [{ id: fine, require: 'true' }]\n---\n";

fn checked(rules: &str, seen: &Observed) -> String {
    let text = format!("{NOTE}{rules}");
    let checked = check_files([("all.yaml", text.as_str())], &[], &Catalog::default(), seen);
    let all = checked.problems.iter().chain(&checked.warnings).map(ToString::to_string);
    all.collect::<Vec<_>>().join("\n")
}

#[test]
fn an_example_that_does_not_hold_tells_the_story() {
    let rule = "rule: late\nlisten: { kinds: disk.usage, resource: vm/a }\nsettle: { still: 5m \
        }\ndispatch: { runbook: note, inputs: { what: \"${alert.value}\" } }\n\
        examples:\n  - given: [{ at: 0s, value: 91 }, { at: 2m, value: 92 }]\n    expect: [{ at: \
        0s, verdict: dispatched }]\n\
        \x20 - given: [{ at: 0s, value: 91 }]\n    expect: [{ at: 5m, verdict: dispatched, inputs: \
        { what: 90 } }]\n\
        \x20 - given: [{ at: 0s, value: 91 }, { at: 6m, value: 91 }]\n    expect: []\n\
        \x20 - given: [{ at: 0s, value: high }]\n    expect: []\n";
    insta::assert_snapshot!(checked(rule, &Observed::default()), @"
    all.yaml:12:14: example: expected a dispatch at 0s, but it was waiting then
                0s  waiting    must stay raised for 5m, until 1970-01-01T00:05:00Z
                2m  folded     alert 2 of an episode that has been waiting for 2 min 0 s, decided at 1970-01-01T00:05:00Z
       12 |     expect: [{ at: 0s, verdict: dispatched }]
          |              ^^
    all.yaml:14:14: example: at 5m the input `what` is 91, expected 90
                0s  waiting    must stay raised for 5m, until 1970-01-01T00:05:00Z
                5m  dispatched still raised after 5m: note dispatched as job 1 (came at 0s)
       14 |     expect: [{ at: 5m, verdict: dispatched, inputs: { what: 90 } }]
          |              ^^
    all.yaml:16:13: example: note was dispatched at 5m, which is not expected: still raised after 5m: note dispatched as job 1
                0s  waiting    must stay raised for 5m, until 1970-01-01T00:05:00Z
                5m  dispatched still raised after 5m: note dispatched as job 1 (came at 0s)
                6m  folded     alert 2 of an episode that dispatched job 1 1 min 0 s ago
       16 |     expect: []
          |             ^
    all.yaml:17:13: example: value: is the text `high`; a number was expected
       17 |   - given: [{ at: 0s, value: high }]
          |             ^^
    ");
}

#[test]
fn warnings_point_at_what_is_most_likely_not_meant() {
    let seen = Observed {
        sources: ["yard".to_owned()].into(),
        kinds: ["disk.usage".to_owned()].into(),
        resources: ["vm/quill-1".to_owned(), "vm/brack-2".to_owned()].into(),
        labels: [("tier".to_owned(), ["gold".to_owned()].into())].into(),
        repeats: vec![("yard".to_owned(), "disk.usage".to_owned(), crate::Period::from_secs(3600))],
        ..Observed::default()
    };
    let rules = "rule: never\nlisten: { kinds: disk.usage, where: \"alert.kind == 'disk.full' && \
        alert.value > 1\" }\ndispatch: { runbook: note }\n---\n\
        rule: narrow\nlisten: { where: alert.value > 5 && alert.value < 3 }\ndispatch: { runbook: \
        note }\n---\n\
        rule: short\nlisten: { kinds: disk.usage, resource: [vm/quil-1, \"vm/*\"] }\nsettle: { \
        rest: 10m }\ndispatch: { runbook: note }\n---\n\
        rule: shouts\nlisten: { kinds: other, labels: { tier: Gold } }\ndispatch: { runbook: note \
        }\n---\n\
        rule: rival\nlisten: { kinds: disk.usage, resource: vm/brack-*, where: alert.labels.tier \
        == 'GOLD' }\ndispatch: { runbook: note }\n---\n\
        rule: waits\nlisten: { resource: vm/quill-1, kinds: beat }\nsettle: { missing: 1h \
        }\ndispatch: { runbook: note }\n";
    insta::assert_snapshot!(checked(rules, &seen), @r#"
    all.yaml:7:37: warning (never-matches): the rule can never match: nothing meets all that is demanded of `alert.kind`
        7 | listen: { kinds: disk.usage, where: "alert.kind == 'disk.full' && alert.value > 1" }
          |                                     ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
    all.yaml:11:18: warning (never-matches): the rule can never match: no value meets all that is demanded of `alert.value`
       11 | listen: { where: alert.value > 5 && alert.value < 3 }
          |                  ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
    all.yaml:16:17: warning (short-rest): yard repeats disk.usage every 1h; a rest of 10m is over before the next alert comes
       16 | settle: { rest: 10m }
          |                 ^^^
    all.yaml:15:41: warning (unknown-resource): `vm/quil-1` fits none of the 2 resources known so far; did you mean `vm/quill-1`?
       15 | listen: { kinds: disk.usage, resource: [vm/quil-1, "vm/*"] }
          |                                         ^^^^^^^^^
    all.yaml:17:22: warning (same-runbook): rule `rival` dispatches `note` too, and an alert may match both; both would act on it
       17 | dispatch: { runbook: note }
          |                      ^^^^
    all.yaml:20:41: warning (other-case): `Gold` was never seen, but `gold` was: capital letters count
       20 | listen: { kinds: other, labels: { tier: Gold } }
          |                                         ^^^^
    all.yaml:24:59: warning (other-case): `GOLD` was never seen, but `gold` was: capital letters count
       24 | listen: { kinds: disk.usage, resource: vm/brack-*, where: alert.labels.tier == 'GOLD' }
          |                                                           ^^^^^^^^^^^^^^^^^^^^^^^^^^^
    all.yaml:25:22: warning (same-runbook): rule `short` dispatches `note` too, and an alert may match both; both would act on it
       25 | dispatch: { runbook: note }
          |                      ^^^^
    all.yaml:29:20: warning (not-awaited): a resource that was never heard of is waited for only where the rule names exactly one source and one kind
       29 | settle: { missing: 1h }
          |                    ^^
    "#);
}

#[test]
fn a_rule_far_from_another_is_no_rival() {
    let rules = "rule: one\nlisten: { kinds: disk.usage, resource: \"vm/*-booking-*\" }\ndispatch: \
        { runbook: note }\n---\n\
        rule: two\nlisten: { kinds: disk.usage, resource: \"vm/*-kiosk-*\" }\ndispatch: { runbook: \
        note }\n";
    assert_eq!(checked(rules, &Observed::default()), "");
    let known = Observed {
        resources: ["vm/quill-booking-kiosk-1".to_owned()].into(),
        ..Observed::default()
    };
    assert!(checked(rules, &known).contains("same-runbook"));
}

fn catalog(text: &str) -> Catalog {
    let checked = check_files([("all.yaml", text)], &[], &Catalog::default(), &Observed::default());
    assert!(checked.problems.is_empty(), "{:?}", checked.problems);
    Catalog::new(checked.entries)
}

const PAIR: &str = "runbook: note\ninputs: { vm: { type: string }, size: { type: integer } \
    }\ntarget: ${inputs.vm}\n\
    steps: [ { id: seen, require: 'true' } ]\n---\n\
    rule: noting\nlisten: { kinds: a.b }\ndispatch: { runbook: note, inputs: { vm: \
    '${alert.resource}', size: 4 } }\n";

#[test]
fn what_would_stand_after_a_publication_is_checked_whole() {
    let published = catalog(PAIR);
    let narrower = "runbook: note\ninputs: { vm: { type: string } }\ntarget: ${inputs.vm}\nsteps: \
        [ { id: seen, require: 'true' } ]\n";
    let said: Vec<String> =
        check_files([("note.yaml", narrower)], &[], &published, &Observed::default())
            .problems
            .into_iter()
            .map(|p| p.message)
            .collect();
    assert_eq!(said.len(), 1, "{said:?}");
    assert!(
        said[0].contains("size")
            && said[0].ends_with("rule `noting` stands so in what is published"),
        "{said:?}"
    );
}

#[test]
fn what_others_need_cannot_be_withdrawn() {
    let published = catalog(PAIR);
    let note = [(Kind::Runbook, "note".to_owned())];
    let said: Vec<String> = check_files([], &note, &published, &Observed::default())
        .problems
        .into_iter()
        .map(|p| p.message)
        .collect();
    assert_eq!(said, ["there is no runbook `note`; rule `noting` stands so in what is published"]);
    let both = [note[0].clone(), (Kind::Rule, "noting".to_owned())];
    assert_eq!(check_files([], &both, &published, &Observed::default()).problems, []);
    let after = published.without(&both).after([(note[0].clone(), 7)]);
    let again = check_files([("all.yaml", PAIR)], &[], &after, &Observed::default());
    assert_eq!(again.entries.iter().map(|e| e.version).collect::<Vec<_>>(), [8, 1]);
}

#[test]
fn a_secret_goes_only_where_it_may() {
    let connection = |name: &str, credential: &str| {
        format!(
            "connector: peer\noperations: {{}}\n---\nconnection: {name}\nconnector: peer\nbase: \
            http://127.0.0.1:1\ncredential: {{ bearer: \"{credential}\" }}\n"
        )
    };
    let secrets = [("yard-office".to_owned(), ["connection/yard".to_owned()].into())];
    let seen = Observed { secrets: Some(secrets.into()), ..Observed::default() };
    let said = |name: &str, credential: &str| {
        let text = connection(name, credential);
        let checked = check_files([("c.yaml", text.as_str())], &[], &Catalog::default(), &seen);
        checked.problems.into_iter().map(|p| p.message).collect::<Vec<_>>().join("; ")
    };
    assert_eq!(said("yard", "${secret('yard-office')}"), "");
    assert_eq!(
        said("elsewhere", "${secret('yard-office')}"),
        "secret `yard-office` may not be used here; an admin sets it with `arvok secret set \
        yard-office --for connection/elsewhere`"
    );
    assert_eq!(
        said("yard", "${secret('yard-ofice')}"),
        "there is no secret `yard-ofice` (did you mean `yard-office`?); an admin sets it with \
        `arvok secret set yard-ofice --for connection/yard`"
    );
    assert!(said("yard", "sesame").starts_with("a credential is not written out"));
    assert!(
        said("yard", "${secret('yard-' + 'office')}")
            .starts_with("the name of a secret is written out")
    );
}

#[test]
fn what_is_written_out_must_fit_the_schema_it_goes_to() {
    let bad = GOOD
        .replace(
            "inputs: { vm: { type: string } }\ntarget",
            "inputs: { vm: { type: string }, step: { type: integer, maximum: 16, default: 4 } \
            }\ntarget",
        )
        .replace("vm: \"${alert.resource}\"", "vm: \"${alert.resource}\", step: 400")
        .replace("give: { vm: \"${inputs.vm}\" }", "give: { vm: 5 }");
    insta::assert_snapshot!(problems(&bad), @r#"
    all.yaml:16:74: operation `vm.inspect`: the input `vm` is wrong: 5 is not of type "string"
       16 | steps: [ { id: look, call: vm.inspect, via: yard-hypervisor, give: { vm: 5 } } ]
          |                                                                          ^
    all.yaml:20:69: runbook `look`: the input `step` is wrong: 400 is greater than the maximum of 16
       20 | dispatch: { runbook: look, inputs: { vm: "${alert.resource}", step: 400 } }
          |                                                                     ^^^
    "#);
    let odd = GOOD.replace(
        "vm.inspect: { takes: { vm: { type: string } }",
        "vm.inspect: { takes: { vm: { type: string, minLenght: 3 } }",
    );
    insta::assert_snapshot!(problems(&odd), @r#"
    all.yaml:7:30: `minLenght` is no word of JSON Schema; did you mean `minLength`?
        7 |   vm.inspect: { takes: { vm: { type: string, minLenght: 3 } }, request: { method: GET, path: /v1/vms/a } }
          |                              ^^
    "#);
}

#[test]
fn an_example_fails_where_live_would_refuse_the_job_and_says_why_nothing_matches() {
    let with =
        |rule: &str| GOOD.replace("rule: look-at-it\n", &format!("rule: look-at-it\n{rule}"));
    let refused = with(
        "examples: [{ given: [{ at: 0s, kind: a, resource: vm/a }], expect: [{ at: 0s, verdict: \
        dispatched }] }]\n",
    )
    .replace("target: ${inputs.vm}", "target: ${inputs.vm.replace('/', '')}");
    let unmatched = with(
        "examples: [{ given: [{ at: 0s, kind: a, resource: vm/a, severity: minor \
        }], expect: [{ at: 0s, verdict: dispatched }] }]\n",
    )
    .replace(
        "listen: { sources: yard-hypervisor }",
        "listen: { sources: yard-hypervisor, \
            severity: major.., where: alert.value > 80 }",
    );
    insta::assert_snapshot!([problems(&refused), problems(&unmatched)].join("\n\n"), @r#"
    all.yaml:19:69: example: the job of look at 0s would be refused: target: `vma` is not a resource path; write class/name or class/name/part, for example vm/quill-booking-db-1
                0s  dispatched first alert of its episode: look dispatched as job 1
       19 | examples: [{ given: [{ at: 0s, kind: a, resource: vm/a }], expect: [{ at: 0s, verdict: dispatched }] }]
          |                                                                     ^^

    all.yaml:19:86: example: expected a dispatch at 0s, but nothing was decided then
            no alert of the example matches the rule
            `severity: major..critical` does not hold: alert.severity is minor
            `where: alert.value > 80` does not hold: there is no field `value`
       19 | examples: [{ given: [{ at: 0s, kind: a, resource: vm/a, severity: minor }], expect: [{ at: 0s, verdict: dispatched }] }]
          |                                                                                      ^^
    "#);
}

#[test]
fn patterns_that_are_none_here_and_names_without_a_class_are_warned_of() {
    let text = GOOD.replace(
        "listen: { sources: yard-hypervisor }",
        "listen: { sources: yard-hypervisor, resource: ['router/[ab]*', tern-1, 'vm/**'] }",
    );
    let checked =
        check_files([("all.yaml", text.as_str())], &[], &Catalog::default(), &Observed::default());
    let said: Vec<String> = checked.warnings.iter().map(ToString::to_string).collect();
    insta::assert_snapshot!(said.join("\n"), @r#"
    all.yaml:19:48: warning (no-glob): `router/[ab]*` has signs that mean themselves here: only `*`, `**` and `?` are wildcards; write a list of globs, or `matches` in `where`
       19 | listen: { sources: yard-hypervisor, resource: ['router/[ab]*', tern-1, 'vm/**'] }
          |                                                ^^^^^^^^^^^^^^
    all.yaml:19:64: warning (no-class): `tern-1` can match no resource: these are class/name, such as vm/tern-1 or */tern-1
       19 | listen: { sources: yard-hypervisor, resource: ['router/[ab]*', tern-1, 'vm/**'] }
          |                                                                ^^^^^^
    "#);
}

#[test]
fn written_integers_of_which_a_division_cuts_something_off_are_told() {
    let text = "rule: short\nlisten: { where: alert.value > 39 / 40 }\n\
        dispatch: { runbook: note, inputs: { what: 'about ${10 / 5} and ${[7 / 2]}' }, deadline: \
        '${1 / 3}s' }\n---\n\
        rule: known\nlisten: { where: alert.value > 39 / 40, kinds: b }\ndispatch: { runbook: \
        note, inputs: { what: a } }\n\
        knowingly: { cut-off: the desk counts whole ones, same-runbook: yes }\n---\n\
        runbook: note\ninputs: { what: {} }\ntarget: vm/a\nsteps:\n  - { id: a, set: { of: \
        '${3 / 4} of ${1.0 / 4}' } }\n";
    let checked = check_files([("all.yaml", text)], &[], &Catalog::default(), &Observed::default());
    assert_eq!(checked.problems, []);
    let told = checked.warnings.iter().filter(|w| w.warning.as_deref() == Some("cut-off"));
    let told: Vec<String> = told.map(ToString::to_string).collect();
    insta::assert_snapshot!(told.join("\n"), @"
    all.yaml:2:32: warning (cut-off): 39 / 40 is 0: of integers the rest is cut off; write 39.0 / 40 for a fraction
        2 | listen: { where: alert.value > 39 / 40 }
          |                                ^^^^^^^
    all.yaml:3:68: warning (cut-off): 7 / 2 is 3: of integers the rest is cut off; write 7.0 / 2 for a fraction
        3 | dispatch: { runbook: note, inputs: { what: 'about ${10 / 5} and ${[7 / 2]}' }, deadline: '${1 / 3}s' }
          |                                                                    ^^^^^
    all.yaml:3:93: warning (cut-off): 1 / 3 is 0: of integers the rest is cut off; write 1.0 / 3 for a fraction
        3 | dispatch: { runbook: note, inputs: { what: 'about ${10 / 5} and ${[7 / 2]}' }, deadline: '${1 / 3}s' }
          |                                                                                             ^^^^^
    all.yaml:14:28: warning (cut-off): 3 / 4 is 0: of integers the rest is cut off; write 3.0 / 4 for a fraction
       14 |   - { id: a, set: { of: '${3 / 4} of ${1.0 / 4}' } }
          |                            ^^^^^
    ");
}

#[test]
fn whoever_follows_rules_follows_some_that_there_are() {
    let text = "runbook: note\ntarget: vm/a\nsteps: [ { id: seen, require: 'true' } ]\n---\n\
        rule: disk-filling\nowner: storage\nlisten: { sources: arvok, kinds: disk }\n\
        dispatch: { runbook: note }\nknowingly: { same-runbook: it is a test }\n---\n\
        rule: told\nlisten: { sources: arvok, states: noted, labels: { rule: [disk-filing, 'disk-*'], \
        owner: storge } }\ndispatch: { runbook: note }\nknowingly: { same-runbook: it is a test }\n";
    let checked = check_files([("all.yaml", text)], &[], &Catalog::default(), &Observed::default());
    assert_eq!(checked.problems, []);
    let said: Vec<String> = checked.warnings.iter().map(ToString::to_string).collect();
    insta::assert_snapshot!(said.join("\n"), @r"
    all.yaml:12:59: warning (follows-nobody): no other rule is called `disk-filing`: there are no events of its jobs; did you mean `disk-filling`?
       12 | listen: { sources: arvok, states: noted, labels: { rule: [disk-filing, 'disk-*'], owner: storge } }
          |                                                           ^^^^^^^^^^^
    all.yaml:12:90: warning (follows-nobody): no other rule is owned by `storge`: there are no events of its jobs; did you mean `storage`?
       12 | listen: { sources: arvok, states: noted, labels: { rule: [disk-filing, 'disk-*'], owner: storge } }
          |                                                                                          ^^^^^^
    ");
    let mended = text.replace("disk-filing", "disk-filling").replace("storge", "storage");
    let catalog = catalog(&mended);
    let (rule, _) = catalog.get::<Rule>("disk-filling").expect("a rule");
    assert_eq!(catalog.followers(rule), [(Kind::Rule, "told")]);
}
