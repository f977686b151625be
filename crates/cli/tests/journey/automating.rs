//! The right to let something act by itself: an author without it publishes whatever asks people.

use crate::kit::{Browser, Stage};
use reqwest::Method;
use serde_json::{Value, json};

const YARD: &str = "
connector: yard
operations: { vm.wake: { request: { method: POST, path: /wake } } }
---
connection: quill-yard
connector: yard
base: http://127.0.0.1:9
---
connection: brack-yard
connector: yard
base: http://127.0.0.1:9
---
runbook: wake
inputs: { vm: { type: string, format: resource } }
target: ${inputs.vm}
steps: [ { id: wake, call: vm.wake, via: quill-yard } ]
---
rule: vm-asleep
stance: propose
listen: { kinds: vm.asleep }
dispatch: { runbook: wake, inputs: { vm: '${alert.resource}' } }
";

fn publish_as(stage: &Stage, token: &str, text: &str) -> (u16, Value) {
    let body = json!({ "files": [{ "file": "a.yaml", "text": text }], "dry_run": false });
    stage.call_as(token, Method::POST, "/api/v1/publish", Some(&body))
}

#[test]
fn an_author_lets_act_only_what_the_right_covers_by_rule_and_connection() {
    let stage = Stage::bare();
    let make = ["token", "make", "quay-ci", "--role", "author"];
    let author = stage.arvok(&make).out.trim().to_owned();
    let (status, said) = publish_as(&stage, &author, YARD);
    assert_eq!(status, 200, "what proposes acts not by itself: {said}");
    let refused = |text: &str| {
        let (status, said) = publish_as(&stage, &author, text);
        assert_eq!((status, &said["code"]), (403, &json!("may-not-automate")), "{said}");
        said["detail"].as_str().unwrap_or_default().to_owned()
    };
    let acting = YARD.replace("stance: propose", "stance: act");
    let said = refused(&acting);
    assert!(said.contains("rule `vm-asleep` acts by itself"), "{said}");
    assert!(said.contains("arvok token automate"), "{said}");

    let automate = |rules: &str, connections: &str| {
        let words =
            ["token", "automate", "quay-ci", "--rules", rules, "--connections", connections];
        let said = stage.arvok(&words);
        assert_eq!(said.code, 0, "{}", said.all());
    };
    automate("vm-*", "brack-*");
    let said = refused(&acting);
    assert!(said.contains("through `quill-yard`"), "{said}");
    automate("vm-*", "quill-*,brack-yard");
    let (status, said) = publish_as(&stage, &author, &acting);
    assert_eq!(status, 200, "{said}");
    let acts = &said["acts"][0];
    assert_eq!(
        (&acts["name"], &acts["connections"]),
        (&json!("vm-asleep"), &json!(["quill-yard"]))
    );

    // Whoever changes what belongs to it changes what acts.
    automate("disk-*", "*");
    let other = "runbook: wake\ninputs: { vm: { type: string, format: resource } }\n\
        target: '${inputs.vm}'\nsteps: [ { id: wake, call: vm.wake, via: brack-yard } ]\n";
    let said = refused(other);
    assert!(said.contains("runbook `wake` belongs to it"), "{said}");
    let address = "connection: quill-yard\nconnector: yard\nbase: http://127.0.0.1:99\n";
    assert!(refused(address).contains("connection `quill-yard` belongs to it"));
    // To stop something is everybody's who publishes.
    let (status, said) = publish_as(&stage, &author, YARD);
    assert_eq!((status, &said["acts"]), (200, &json!([])), "{said}");
    // A dry run says so beforehand, and the command stops there.
    let file = crate::kit::folder("automating").join("acting.yaml");
    std::fs::write(&file, &acting).expect("a file");
    let path = file.display().to_string();
    let said = stage.arvok_with(&["publish", &path, "--yes"], &[("ARVOK_TOKEN", &author)], "");
    assert_eq!(said.code, 1, "{}", said.all());
    assert!(said.out.contains("acts       rule vm-asleep through quill-yard"), "{}", said.out);
    assert!(said.err.contains("may not automate it; nothing was published"), "{}", said.err);

    let listed = stage.arvok(&["token", "list"]).out;
    assert!(listed.contains("rules disk-*; through *"), "{listed}");
    let taken = stage.arvok(&["token", "automate", "quay-ci"]);
    assert!(taken.out.contains("token quay-ci may automate nothing"), "{}", taken.all());
    let audited = stage.arvok(&["audit", "list", "--act", "token.automate"]).out;
    assert_eq!(audited.matches("quay-ci").count(), 4, "{audited}");
}

#[test]
fn odd_rights_are_refused_in_words() {
    let stage = Stage::bare();
    for (role, words) in
        [("responder", "a responder publishes nothing"), ("admin", "an admin may let anything act")]
    {
        let said = stage.arvok(&["token", "make", "x", "--role", role, "--rules", "*"]);
        assert!(said.code != 0 && said.err.contains(words), "{role}: {}", said.all());
    }
    let make = ["token", "make", "quay-ci", "--role", "author"];
    let author = stage.arvok(&make).out.trim().to_owned();
    let long = "x".repeat(600);
    let said = stage.arvok(&["token", "automate", "quay-ci", "--rules", &long]);
    assert!(said.code != 0 && said.err.contains("a name or glob has"), "{}", said.all());
    let said = stage.arvok(&["token", "automate", "nobody", "--rules", "*"]);
    assert!(said.code != 0 && said.err.contains("there is no token `nobody`"), "{}", said.all());
    let body = json!({ "rules": ["*"] });
    let path = "/api/v1/tokens/quay-ci/automate";
    let (status, _) = stage.call_as(&author, Method::PUT, path, Some(&body));
    assert_eq!(status, 403, "nobody gives it to himself");
}

#[test]
fn an_admin_gives_the_right_in_the_console_and_an_author_sees_what_is_lacking() {
    let stage = Stage::bare();
    let make = ["token", "make", "quay-ci", "--role", "author"];
    let author = stage.arvok(&make).out.trim().to_owned();
    stage.publish(YARD);
    let browser = Browser::open(&stage, false);
    browser.sign_in(&author);
    browser.see("Sign out");
    browser.go("/rules/vm-asleep");
    browser.see("stance: propose");
    browser.edit("stance: propose", "stance: act");
    browser.click("Publish version 2");
    browser.see("Acts by itself then");
    browser.see("rule vm-asleep through quill-yard");
    browser.see("this token may not automate it");

    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go("/access");
    browser.see("may automate nothing");
    browser.click("What it may automate…");
    browser.see("without anybody being asked");
    browser.fill("[role=dialog] label:nth-of-type(1) input", "vm-*");
    browser.fill("[role=dialog] label:nth-of-type(3) input", "quill-yard");
    browser.click("Set it");
    browser.see("may automate rules vm-*; through the connections quill-yard");
    let (status, said) =
        publish_as(&stage, &author, &YARD.replace("stance: propose", "stance: act"));
    assert_eq!(status, 200, "{said}");
}
