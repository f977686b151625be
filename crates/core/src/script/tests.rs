//! Scripts as they are written, and what their ends mean.

use super::{Script, ScriptEnd, ScriptLimit, ScriptResult};
use crate::{
    Period,
    connector::{CallEnd, Hiding, Repeat},
    definition::Defined,
    document::parse_file,
    runbook::Runbook,
};
use serde_json::{Map, Value, json};

/// The runbook of a step that begins so.
fn runbook(step: &str) -> Result<Runbook, String> {
    let text = format!(
        "runbook: r\ninputs: {{ n: {{ type: integer, default: 3 }} }}\ntarget: vm/x\nsteps:\n  - id: s\n{step}"
    );
    let document = parse_file("r.yaml", &text).map_err(|e| e.to_string())?.remove(0);
    Runbook::check(&document).map_err(|problems| {
        problems
            .iter()
            .map(|p| p.to_string().lines().next().unwrap_or_default().to_owned())
            .collect::<Vec<_>>()
            .join("\n")
    })
}

fn script(step: &str) -> Script {
    runbook(step).unwrap_or_else(|e| panic!("{e}")).scripts()[0].clone()
}

fn wrong(step: &str) -> String {
    runbook(step).expect_err("it is wrong")
}

#[test]
fn what_cannot_be_is_said_with_its_place() {
    let all = [
        "    script: /usr/bin/python3\n    code: x\n",
        "    script: sh\n",
        "    script: sh\n    code: x\n    file: a.sh\n",
        "    script: sh\n    code: '  '\n",
        "    script: sh\n    file: free.sh\nfiles: { freee.sh: x }\n",
        "    script: sh\n    code: x\n    files: [../a]\n",
        "    script: sh\n    code: x\nfiles: { ../a: x, .hidden: x, good.py: x }\n",
        "    script: sh\n    code: x\n    env: { 1A: x, ARVOK_OUTPUT: x }\n",
        "    script: sh\n    code: x\n    env: { A: '${inputs.m}' }\n    give: { a: '${inputs.m}' }\n",
        "    script: sh\n    code: x\n    refused: [0, 3, 130]\n    retry_on: [3]\n",
        "    script: sh\n    code: x\n    looks: true\n    repeat: never\n",
        "    script: sh\n    code: x\n    repeat: keyed\n",
        "    script: sh\n    code: x\n    limits: { memory_mib: 4, processes: 1, disk_mib: 0 }\n",
        "    script: sh\n    code: x\n    limits: { processor_time: 10ms, open_files: 1, output_kib: 0 }\n",
        "    script: sh\n    code: x\n    gives: { a: { type: whole } }\n",
        "    script: sh\n    code: x\n    probe: { call: vm.inspect, done: 'result.ok' }\n",
        "    script: sh\n    code: x\n    via: yard\n",
        "    script: sh\n    call: vm.inspect\n    code: x\n",
    ];
    insta::assert_snapshot!(all.map(wrong).join("\n--\n"), @r#"
    r.yaml:6:13: is the name of an interpreter, such as `sh` or `python3`, and no path: where it lies is up to the node
    --
    r.yaml:5:5: a script has its code either here, as `code`, or in a `file` beside the runbook
    --
    r.yaml:5:5: a script has its code either here, as `code`, or in a `file` beside the runbook
    --
    r.yaml:7:11: is empty
    --
    r.yaml:7:11: there is no file `free.sh` beside the runbook, nor under its `files`; did you mean `freee.sh`?
    --
    r.yaml:8:13: there is no file `../a` beside the runbook, nor under its `files`
    --
    r.yaml:8:10: is not the name of a file: letters, digits, `.`, `_`, `-`, `+`, 64 at most, a letter or a digit first, and no folder
    r.yaml:8:19: is not the name of a file: letters, digits, `.`, `_`, `-`, `+`, 64 at most, a letter or a digit first, and no folder
    --
    r.yaml:8:16: is not the name of a variable: letters, digits and `_`; those that begin with ARVOK_ are ours
    r.yaml:8:33: is not the name of a variable: letters, digits and `_`; those that begin with ARVOK_ are ours
    --
    r.yaml:8:18: there is no field `m`; did you mean `n`?
    r.yaml:9:19: there is no field `m`; did you mean `n`?
    --
    r.yaml:8:14: 3 stands in two of refused, retry_on, succeeds
    r.yaml:8:15: is success
    r.yaml:8:21: a script ends with 1 to 125: what is above says that it was ended by a signal, or could not be run
    r.yaml:9:15: 3 stands in two of refused, retry_on, succeeds
    --
    r.yaml:9:13: what only looks may be repeated
    --
    r.yaml:8:13: is one of safe, never: nobody knows a script by its key
    --
    r.yaml:8:27: is 16 to 8192
    r.yaml:8:41: is 2 to 1000
    r.yaml:8:54: is 1 to 2048
    --
    r.yaml:8:31: is one second at least
    r.yaml:8:49: is 16 to 10000
    r.yaml:8:64: is 1 to 65536
    --
    r.yaml:8:12: is not a JSON Schema (draft 2020-12): "whole" is not valid under any of the schemas listed in the 'anyOf' keyword
    --
    r.yaml:8:12: the key `via` is missing here: through which connection is it called?
    --
    r.yaml:8:5: `via` belongs to `call` and `check`, not to `script`
    --
    r.yaml:5:5: a step is of one kind; this one has `call` and `script`
    "#);
}

#[test]
fn a_script_is_told_by_its_file_or_its_first_telling_line() {
    let inline = "    script: python3\n    code: |\n      #!/usr/bin/python3\n      import json\n\n      print(json.dumps(3))\n";
    assert_eq!(script(inline).line(), "python3: print(json.dumps(3))");
    let file = "    script: sh\n    file: free.sh\nfiles: { free.sh: 'df /' }\n";
    assert_eq!(script(file).line(), "sh free.sh");
    let run = script(file).run(&Map::new()).expect("runs");
    assert_eq!(
        (run.name.as_str(), run.code.as_str(), run.input.as_str()),
        ("free.sh", "df /", "{}")
    );
}

#[test]
fn what_only_looks_may_be_repeated_and_nothing_else_unless_it_says_so() {
    let of = |further: &str| script(&format!("    script: sh\n    code: x\n{further}")).repeat();
    assert_eq!(of(""), Repeat::Never);
    assert_eq!(of("    looks: true\n"), Repeat::Safe);
    assert_eq!(of("    repeat: safe\n"), Repeat::Safe);
}

#[test]
fn what_is_too_long_or_no_text_of_an_environment_is_not_run() {
    let script = script("    script: sh\n    code: x\n");
    let of = |give: Value, env: Value| {
        let Value::Object(env) = env else { panic!("{env}") };
        script.run(&Script::call_input(give, env.into())).map_err(|e| e.to_string())
    };
    let env = of(json!({}), json!({ "A": "a b", "N": 3, "L": [1], "E": null })).expect("runs").env;
    let text = |(name, value): (String, String)| format!("{name}={value}");
    assert_eq!(env.into_iter().map(text).collect::<Vec<_>>(), ["A=a b", "N=3", "L=[1]", "E="]);
    assert!(
        of(json!("x".repeat(300 << 10)), json!({}))
            .is_err_and(|e| e.starts_with("give: has 307202 bytes"))
    );
    assert!(of(json!({}), json!({ "A": "a\0b" })).is_err_and(|e| e.contains("env A")));
}

/// What came of a script that ended so, and wrote this to its output, and to its standard output.
fn read(script: &Script, end: ScriptEnd, output: &str, stdout: &str) -> String {
    let result =
        ScriptResult { end, output: output.into(), stdout: stdout.into(), stderr: Vec::new() };
    match script.read(&result, Hiding(&|text| text.replace("sesame", "[secret]"))) {
        Ok(output) => output.to_string(),
        Err(failure) => {
            let lasting = if failure.lasting { ", for good" } else { "" };
            format!("{}{lasting}: {}", failure.end.as_str(), failure.message)
        }
    }
}

#[test]
fn what_its_end_means_depends_on_what_it_promised() {
    let plain = script(
        "    script: sh\n    code: x\n    refused: [3]\n    retry_on: [4]\n    succeeds: [5]\n",
    );
    let looks = script("    script: sh\n    code: x\n    looks: true\n");
    let gives = script(
        "    script: sh\n    code: x\n    gives: { n: { type: integer }, m: { default: 1 } }\n",
    );
    let status = ScriptEnd::Status;
    let over = |limit| ScriptEnd::Over(limit);
    let all = [
        read(&plain, status(0), "", "working\n{\"a\": 1}\n\n"),
        read(&plain, status(0), "[2]", "{\"a\": 1}\n"),
        read(&plain, status(0), "", "no json\n"),
        read(&plain, status(0), "no json", "1"),
        read(&plain, status(5), "", "7"),
        read(&plain, status(3), "", "no room for sesame"),
        read(&plain, status(4), "", ""),
        read(&plain, status(1), "", "what went wrong\n"),
        read(&looks, status(1), "", ""),
        read(&looks, ScriptEnd::Signal(9), "", ""),
        read(&plain, over(ScriptLimit::Time(Period::from_secs(60))), "", "half way"),
        read(&plain, over(ScriptLimit::Memory(256 << 20)), "{}", ""),
        read(&gives, status(0), "{\"n\": 1}", ""),
        read(&gives, status(0), "{\"n\": \"sesame\"}", ""),
        read(&gives, status(0), "{}", ""),
        read(&gives, status(0), "{\"n\": 1, \"k\": 2}", ""),
        read(&gives, status(0), "\"sesame\"", ""),
        read(&gives, status(0), "", ""),
        read(&plain, status(0), &format!("\"{}\"", "x".repeat(300 << 10)), ""),
        read(&plain, status(0), &format!("{}1{}", "[".repeat(80), "]".repeat(80)), ""),
    ];
    insta::assert_snapshot!(all.join("\n"), @r#"
    {"a":1}
    [2]
    null
    useless, for good: ended well, but what it gives is no JSON (expected ident at line 1 column 2): it writes one value to descriptor 3, or as its last line
    7
    refused, for good: ended with status 3: no room for [secret]
    refused: ended with status 4
    useless, for good: ended with status 1: what went wrong
    useless: ended with status 1
    unknown: was ended by signal 9
    unknown, for good: was ended: it ran for 1m, which is its time: half way
    unknown, for good: was ended: it used more than 256 MiB of memory
    {"n":1,"m":1}
    useless, for good: ended well, but what it gives is not what it should: the field `n` is wrong: "[secret]" is not of type "integer"
    useless, for good: ended well, but what it gives is not what it should: the field `n` is missing
    useless, for good: ended well, but what it gives is not what it should: there is no field `k`; did you mean `n`?
    useless, for good: ended well, but what it gives should have fields, and is "[secret]"
    useless, for good: ended well, but what it gives is no JSON (EOF while parsing a value at line 1 column 0): it writes one value to descriptor 3, or as its last line
    useless, for good: ended well, but its output has 307202 bytes; 262144 are allowed
    useless, for good: ended well, but its output is nested deeper than 64 levels
    "#);
    assert_eq!(CallEnd::Done.as_str(), "useless");
}

#[test]
fn what_it_changes_are_resources_and_what_only_looks_changes_none() {
    let given = |touches: Value| json!({ "touches": touches }).as_object().cloned().expect("a map");
    assert_eq!(Script::touches(&Map::new()), Ok(Vec::new()));
    let both = Script::touches(&given(json!(["vm/a", null, "host/b"])));
    assert_eq!(both, Ok(vec!["vm/a".to_owned(), "host/b".to_owned()]));
    let script = script("    script: sh\n    code: x\n    touches: ['vm/${inputs.n}']\n");
    let odd = script.run(&given(json!(["no resource"]))).expect_err("is not run").to_string();
    assert!(odd.starts_with("touches: `no resource` is not a resource path"), "{odd}");
    let looks = wrong("    script: sh\n    code: x\n    looks: true\n    touches: [vm/a]\n");
    assert!(looks.contains("belongs to what changes something; this only looks"), "{looks}");
    let unknown = wrong("    script: sh\n    code: x\n    touches: ['vm/${inputs.m}']\n");
    assert!(unknown.contains("there is no field `m`"), "{unknown}");
}
