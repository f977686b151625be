//! The cases of `core/cases/jobs` as examples of runbooks: what the core does, the command and the
//! API say as well.

use crate::kit::{Stage, arvok, folder};
use arvok_core::{
    definition::Defined,
    document::{Document, parse_file},
    runbook::Runbook,
};
use reqwest::Method;
use serde_json::{Map, Value, json};
use std::{collections::BTreeSet, fs, path::Path};

const CASES: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../core/cases/jobs");

fn documents(text: &str) -> Vec<Document> {
    parse_file("case.yaml", text).unwrap_or_else(|e| panic!("{e:?}"))
}

/// A case as an example of its runbook.
fn example(case: &Value) -> Value {
    let mut answers = Map::new();
    for (part, shape) in [
        ("answers", None),
        ("decides", Some("choice")),
        ("comes", Some("alert")),
        ("jobs", Some("outputs")),
    ] {
        for (place, given) in case[part].as_object().into_iter().flatten() {
            let answer = |a: &Value| match shape {
                None => a.clone(),
                Some("choice") => {
                    json!({ "after": a["after"], "gives": { "choice": a["choice"], "by": "pat",
                        "remark": a["remark"] } })
                }
                Some("alert") => {
                    let mut fields = a["alert"].clone();
                    fields["source"] = a["source"].clone();
                    json!({ "after": a["after"], "gives": fields })
                }
                Some(_) => {
                    let mut answer = json!({ "after": a["after"], "gives": a["outputs"] });
                    for (theirs, ours) in [("failed", "refused"), ("stops", "stops")] {
                        if !a[theirs].is_null() {
                            answer[ours] = a[theirs].clone();
                        }
                    }
                    answer
                }
            };
            let all = match given {
                Value::Array(all) => all.iter().map(answer).collect(),
                one => Value::from(vec![answer(one)]),
            };
            answers.insert(place.clone(), all);
        }
    }
    let last = case["expect"]
        .as_array()
        .and_then(|lines| lines.last())
        .and_then(Value::as_str)
        .expect("an end");
    // The story of the core has a target and a number of a job of its own.
    let last = last
        .replace(" vm/quill-booking-db-1", " vm/a")
        .replace("job 21 ", "job 2 ")
        .replace("pat (by link, not signed in)", "pat")
        .replace("example vm/a", "example vm/quill-booking-db-1");
    let end = last.split_once(' ').expect("a time").1;
    let expect = match end.split_once(": ") {
        Some(("unsure", why)) => json!({ "state": "unsure", "failure": why }),
        _ => {
            let (state, rest) = end.split_once(", ").expect("a state");
            let (effect, failure) =
                rest.split_once(": ").map_or((rest, Value::Null), |(e, f)| (e, f.into()));
            json!({ "state": state, "effect": effect, "failure": failure })
        }
    };
    let mut example = json!({ "inputs": case["inputs"], "alarm": case["alarm"], "answers": answers,
        "meanwhile": case["meanwhile"], "expect": expect });
    if !case["outputs"].is_null() {
        example["expect"]["outputs"] = case["outputs"].clone();
    }
    without_nulls(&mut example);
    example
}

fn without_nulls(value: &mut Value) {
    if let Value::Object(map) = value {
        map.retain(|_, v| !v.is_null());
        map.values_mut().for_each(without_nulls);
    }
    if let Value::Array(all) = value {
        all.iter_mut().for_each(without_nulls);
    }
}

/// The contacts of a case, under names that no other case has; its runbook and what it comes to
/// name them so as well.
fn contacts(case: &Value, number: usize, runbook: &mut Value) -> Vec<Value> {
    let Some(text) = case["contacts"].as_str() else { return Vec::new() };
    let rename = |name: &mut Value| {
        *name = json!(format!("{}-{number}", name.as_str().expect("a name")));
    };
    // What they call is made up for all cases.
    let contacts: Vec<Document> =
        documents(text).into_iter().filter(|document| document.kind == "contact").collect();
    if contacts.is_empty() {
        return Vec::new();
    }
    let all = contacts.into_iter().map(|document| {
        let mut contact = document.value;
        let members = contact.get_mut("members").and_then(Value::as_array_mut);
        members.into_iter().flatten().for_each(rename);
        rename(&mut contact["contact"]);
        contact
    });
    recipients(runbook, &rename);
    if let Some(failure) = runbook["examples"][0]["expect"].get_mut("failure") {
        let told = failure.as_str().unwrap_or_default();
        *failure = told.replace("`booking`", &format!("`booking-{number}`")).into();
    }
    all.collect()
}

/// Renames whom the steps of a runbook reach.
fn recipients(value: &mut Value, rename: &dyn Fn(&mut Value)) {
    if let Some(map) = value.as_object_mut() {
        let to = map.get_mut("to").and_then(Value::as_object_mut);
        let named = to.into_iter().flat_map(|to| to.iter_mut());
        named.filter(|(key, _)| ["team", "contact"].contains(&key.as_str())).for_each(
            |(_, name)| {
                rename(name);
            },
        );
        map.values_mut().for_each(|inner| recipients(inner, rename));
    }
    value.as_array_mut().into_iter().flatten().for_each(|inner| recipients(inner, rename));
}

/// The calls under a value, each with its connection.
fn calls_within(value: &Value, calls: &mut BTreeSet<(String, String)>) {
    if let (Some(via), Some(call)) = (value["via"].as_str(), value["call"].as_str()) {
        calls.insert((via.to_owned(), call.to_owned()));
    }
    let inner = value.as_object().into_iter().flat_map(Map::values);
    inner.chain(value.as_array().into_iter().flatten()).for_each(|v| calls_within(v, calls));
}

/// All cases as runbooks with an example each, and what these call; how many there are.
fn definitions() -> (String, usize) {
    let mut files: Vec<_> = fs::read_dir(Path::new(CASES))
        .expect("a folder")
        .map(|f| f.expect("a file").path())
        .collect();
    files.sort();
    let (mut all, mut calls, mut given) = (Vec::new(), BTreeSet::new(), BTreeSet::new());
    let mut reached = Vec::new();
    for file in files {
        for text in fs::read_to_string(&file).expect("reads").split("\n---\n") {
            let case = documents(text)[0].value.clone();
            // What names nobody is refused before a job could find out.
            if case["expect"].to_string().contains("there is no contact") {
                continue;
            }
            let text = case["runbook"].as_str().expect("a runbook");
            let document = &documents(text)[0];
            let runbook = Runbook::check(document).unwrap_or_else(|e| panic!("{e:?}"));
            calls.extend(
                runbook
                    .calls()
                    .into_iter()
                    .filter_map(|(via, operation)| Some((via.written()?, operation)))
                    .map(|(via, operation)| (via.to_owned(), operation.to_owned())),
            );
            names_given(&document.value, &mut given);
            let mut runbook = document.value.clone();
            runbook["runbook"] = format!("case-{}", all.len() + 1).into();
            runbook["summary"] = case["case"].clone();
            runbook["examples"] = json!([example(&case)]);
            let contacts = contacts(&case, all.len() + 1, &mut runbook);
            for contact in &contacts {
                names_given(contact, &mut given);
                calls_within(contact, &mut calls);
            }
            reached.extend(contacts);
            all.push(runbook);
        }
    }
    let count = all.len();
    all.extend(reached);
    let takes: Map<String, Value> =
        given.into_iter().map(|name| (name, json!({ "default": null }))).collect();
    let connections: BTreeSet<&String> = calls.iter().map(|(via, _)| via).collect();
    for via in connections {
        let operations: Map<String, Value> = calls
            .iter()
            .filter(|(v, _)| v == via)
            .map(|(_, operation)| {
                let repeat = operation
                    .split('.')
                    .next()
                    .filter(|r| ["safe", "keyed"].contains(r))
                    .unwrap_or("never");
                // What is safe only looks.
                let method = if repeat == "safe" { "GET" } else { "POST" };
                let request = json!({ "method": method, "path": "/" });
                let described = json!({ "takes": takes, "request": request, "repeat": repeat });
                (operation.clone(), described)
            })
            .collect();
        all.push(json!({ "connector": via, "operations": operations }));
        all.push(json!({ "connection": via, "connector": via, "base": "http://127.0.0.1:9" }));
    }
    all.push(json!({ "runbook": "hand-over", "inputs": { "about": { "default": null } },
        "target": "group/crew",
        "steps": [{ "id": "fine", "require": "true" }] }));
    (all.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n---\n"), count)
}

/// The names under every `give`.
fn names_given(value: &Value, names: &mut BTreeSet<String>) {
    if let Some(map) = value.as_object() {
        names.extend(
            map.get("give")
                .and_then(Value::as_object)
                .into_iter()
                .flat_map(|give| give.keys().cloned()),
        );
        map.values().for_each(|v| names_given(v, names));
    }
    value.as_array().into_iter().flatten().for_each(|v| names_given(v, names));
}

#[test]
fn what_jobs_do_in_the_core_they_do_in_the_command_and_the_api() {
    let (text, count) = definitions();
    assert!(count >= 60, "only {count} cases");
    let file = folder("job-cases").join("cases.yaml");
    fs::write(&file, &text).expect("writes");
    let said = arvok(&["check", file.to_str().expect("a path")], &[], "");
    assert_eq!(said.code, 0, "{}", said.all());
    assert!(said.out.contains(&format!("; {count} examples hold")), "{}", said.out);

    let stage = Stage::bare();
    let ask = |text: &str| {
        let body = json!({ "files": [{ "file": "cases.yaml", "text": text }], "dry_run": true });
        stage.call(Method::POST, "/api/v1/publish", Some(&body))
    };
    let (status, answer) = ask(&text);
    assert_eq!(status, 200, "{answer:#}");
    // An example that does not hold is told where it stands, with what happened instead.
    let (status, answer) =
        ask(&text.replacen("\"state\":\"succeeded\"", "\"state\":\"failed\"", 1));
    assert_eq!((status, &answer["published"]), (200, &json!(false)), "{answer:#}");
    let told = serde_json::to_string(&answer["problems"]).expect("JSON");
    assert!(told.contains("example: the job ends succeeded"), "{answer:#}");
}
