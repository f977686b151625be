//! Steps that runbooks share: published with those that use them, kept by jobs that run.

use crate::kit::{Browser, Peer, Stage, until};
use reqwest::Method;
use serde_json::{Value, json};

const STEP: &str = "\
step: tell
summary: Tell the office
inputs: { text: { type: string }, from: { type: string, default: the pier } }
does:
  call: peer.tell
  via: peer
  give: { what: '${inputs.text}, says ${inputs.from}' }
  undo: { call: peer.tell, give: { what: 'not so: ${inputs.text}' } }
";

const USERS: &str = "\
runbook: report
inputs: { vm: { type: string }, wait: { type: string, default: 0s } }
target: ${inputs.vm}
steps:
  - { id: wait, pause: '${inputs.wait}' }
  - { id: said, use: tell, give: { text: '${inputs.vm} is there' } }
---
runbook: fail
inputs: { vm: { type: string } }
target: ${inputs.vm}
steps:
  - id: all
    each: '[1, 2]'
    as: n
    steps: [ { id: said, use: tell, give: { text: '${inputs.vm} number ${n}', from: '${inputs.vm}' } } ]
  - { id: no, require: 'false', else: no more }
";

fn published(peer: &Peer) -> Stage {
    let stage = Stage::bare();
    stage.publish(&format!("{}---\n{STEP}---\n{USERS}", peer.definitions("never")));
    stage
}

fn file(text: &str) -> String {
    let file = crate::kit::folder("shared-steps").join("tell.yaml");
    std::fs::write(&file, text).expect("a file");
    file.display().to_string()
}

fn launch(stage: &Stage, runbook: &str, inputs: &Value) -> i64 {
    let body = json!({ "runbook": runbook, "inputs": inputs });
    let (status, made) = stage.call(Method::POST, "/api/v1/jobs", Some(&body));
    assert_eq!(status, 201, "{made:#}");
    made["job"].as_i64().expect("a job")
}

#[test]
fn a_job_goes_on_with_the_step_it_was_begun_with_over_a_change_and_a_death() {
    let peer = Peer::start();
    let mut stage = published(&peer);
    let second = stage.second_node();
    let before = launch(&second, "report", &json!({ "vm": "vm/a", "wait": "6s" }));
    stage.job_in(before, &["waiting", "running"]);
    let file = file(&STEP.replace("the pier", "the quay"));
    let said = stage.arvok(&["publish", &file, "--dry-run"]);
    insta::assert_snapshot!(said.out, @r"
    changed    step tell, version 2
        - inputs: { text: { type: string }, from: { type: string, default: the pier } }
        + inputs: { text: { type: string }, from: { type: string, default: the quay } }
    changed    runbook fail, version 2, with what changes of step tell
    changed    runbook report, version 2, with what changes of step tell
    ");
    assert_eq!(stage.arvok(&["publish", &file, "--yes"]).code, 0);
    let after = launch(&stage, "report", &json!({ "vm": "vm/b" }));
    second.job_in(after, &["succeeded"]);
    stage.kill_node();
    stage.start_node();
    assert_eq!(second.job_in(before, &["succeeded"])["job"]["runbook_version"], 1);
    assert_eq!(second.get(&format!("/api/v1/jobs/{after}"))["job"]["runbook_version"], 2);
    assert_eq!(peer.count("vm/a is there, says the pier"), 1);
    assert_eq!(peer.count("vm/b is there, says the quay"), 1);
    let versions = second.get("/api/v1/definitions/runbook/report/versions");
    assert_eq!(versions["items"][0]["steps"], json!({ "tell": 2 }));
    assert_eq!(versions["items"][1]["steps"], json!({ "tell": 1 }));
    let said = stage.arvok(&["runbook", "versions", "report"]);
    assert!(said.out.contains("with the shared steps tell version 2"), "{}", said.all());
}

#[test]
fn what_it_was_given_is_taken_back_item_by_item() {
    let peer = Peer::start();
    let stage = published(&peer);
    let job = launch(&stage, "fail", &json!({ "vm": "vm/a" }));
    let failed = stage.job_in(job, &["failed"]);
    assert_eq!(failed["job"]["failure"], "no more");
    for n in [1, 2] {
        assert_eq!(peer.count(&format!("\"vm/a number {n}, says vm/a\"")), 1);
        assert_eq!(peer.count(&format!("\"not so: vm/a number {n}\"")), 1);
    }
}

#[test]
fn a_change_that_breaks_a_runbook_is_refused_and_two_authors_do_not_mix() {
    let peer = Peer::start();
    let stage = published(&peer);
    let broken = file(&STEP.replace("default: the pier", "minLength: 1"));
    let said = stage.arvok(&["publish", &broken, "--yes"]);
    assert_eq!(said.code, 1);
    assert!(
        said.err.contains("the input `from` is missing; runbook `report` stands so"),
        "{}",
        said.err
    );
    let gone = stage.arvok(&["withdraw", "step", "tell", "--yes"]);
    assert_eq!(gone.code, 1);
    assert!(gone.err.contains("there is no step `tell`"), "{}", gone.err);
    assert_eq!(stage.get("/api/v1/definitions/step/tell")["item"]["version"], 1);

    // At one moment one changes the step and another a runbook that uses it: neither is lost, and
    // the runbook ends with both.
    let second = stage.second_node();
    let runbook = USERS.split("---\n").next().expect("a runbook");
    for turn in 0..8 {
        let step = STEP.replace("the pier", &format!("pier {turn}"));
        let runbook = runbook.replace("is there", &format!("is there {turn}"));
        let publish = |at: &Stage, text: String| {
            let body = json!({ "files": [{ "file": "a.yaml", "text": text }], "withdraw": [], "dry_run": false });
            let sent = || at.call(Method::POST, "/api/v1/publish", Some(&body)).0;
            until("it is published", || match sent() {
                200 => Some(()),
                409 => None,
                other => panic!("{other}"),
            });
        };
        std::thread::scope(|scope| {
            scope.spawn(|| publish(&stage, step));
            scope.spawn(|| publish(&second, runbook));
        });
        let stands = stage.get("/api/v1/definitions/runbook/report/versions");
        let last = &stands["items"][0];
        let of_step = stage.get("/api/v1/definitions/step/tell")["item"]["version"].clone();
        assert_eq!(last["steps"]["tell"], of_step, "{turn}");
        assert!(last["text"].as_str().is_some_and(|t| t.contains(&format!("is there {turn}"))));
    }
}

#[test]
fn shared_definitions_are_listed_and_each_says_who_uses_it() {
    let peer = Peer::start();
    let stage = published(&peer);
    stage.publish(
        "group: piers\nresources: [vm/a, vm/b]\n---\ncalendar: sailings\nevents: |\n  BEGIN:VCALENDAR\n  BEGIN:VEVENT\n  SUMMARY:Sailing\n  DTSTART:20200101T000000Z\n  DTEND:20201231T000000Z\n  RRULE:FREQ=YEARLY\n  END:VEVENT\n  END:VCALENDAR\n---\n\
        guard: at-sea\nfrozen: { during: sailings }\nconcerns: { runbooks: fail }\n",
    );
    let said = stage.arvok(&["step", "show", "tell"]);
    assert!(said.out.contains("runbook report"), "{}", said.all());
    assert!(stage.arvok(&["step", "list"]).out.contains("Tell the office"));
    let browser = Browser::open(&stage, true);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go("/shared");
    for name in ["tell", "piers", "sailings", "Tell the office", "3 published"] {
        browser.see(name);
    }
    assert_eq!(browser.violations(), Vec::<String>::new());
    browser.go("/steps/tell");
    browser.see("report");
    browser.see("says ${inputs.from}");
    assert_eq!(browser.violations(), Vec::<String>::new());
    browser.go("/calendars/sailings");
    for words in ["Sailing", "at-sea"] {
        browser.see(words);
    }
    browser.go("/groups/piers");
    browser.see("No guard and no plan names it.");
    browser.go("/runbooks/report");
    browser.see("the shared step tell");
    browser.size(390, 800);
    browser.go("/shared");
    browser.see("sailings");
    assert_eq!(browser.violations(), Vec::<String>::new());
}
