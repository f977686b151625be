//! The halt of all jobs, those under way too: nothing new leaves from any node until it is lifted,
//! and then everything goes on as if nothing had been.

use crate::kit::{Browser, Peer, Stage, until};
use reqwest::Method;
use serde_json::json;
use std::time::Duration;

/// Calls to each of which a job goes, one after another.
const CALLS: usize = 12;

const MANY: &str = "---
runbook: many
inputs: { what: { type: string } }
target: ${inputs.what}
steps:
  - id: all
    each: '[0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11]'
    as: n
    steps:
      - { id: tell, call: peer.tell, via: peer, give: { what: '${inputs.what} ${n}.' } }
      - { id: rest, pause: 50ms }
";

/// Jobs with a call out at nearly every moment.
fn with_jobs(stage: &Stage, peer: &Peer, jobs: usize) -> Vec<i64> {
    peer.delay(Duration::from_millis(500));
    stage.publish(&(peer.definitions("never") + MANY));
    (0..jobs).map(|n| launch(stage, &format!("vm/m{n}"))).collect()
}

fn launch(stage: &Stage, what: &str) -> i64 {
    let body = json!({ "runbook": "many", "inputs": { "what": what } });
    let (status, made) = stage.call(Method::POST, "/api/v1/jobs", Some(&body));
    assert_eq!(status, 201, "{made}");
    made["job"].as_i64().expect("a number")
}

fn halt(stage: &Stage) {
    let said = stage.arvok(&["halt", "begin", "--running", "--reason", "a wrong rule acts"]);
    assert_eq!(said.code, 0, "{}", said.all());
}

/// Those that wait are not taken up, and those that run are paused.
fn until_none_runs(stage: &Stage) {
    until("no job to run", || {
        let running = stage.get("/api/v1/jobs?state=running");
        running["items"].as_array()?.is_empty().then_some(())
    });
}

fn told_once(peer: &Peer, jobs: usize) {
    for n in 0..jobs {
        for call in 0..CALLS {
            let what = format!("vm/m{n} {call}.");
            assert_eq!(peer.count(&what), 1, "{what}");
        }
    }
}

#[test]
fn nothing_new_leaves_from_any_node_until_the_halt_is_lifted() {
    let peer = Peer::start();
    let stage = Stage::with_demo();
    let mut second = stage.second_node();
    let jobs = with_jobs(&stage, &peer, 4);
    until("all of them to be at work", || (peer.told().len() > 6).then_some(()));
    halt(&stage);
    until_none_runs(&stage);
    let gone = peer.told().len();
    assert!(gone < 4 * CALLS, "they were at work");
    let paused = stage.get("/api/v1/jobs?state=paused")["items"].to_string();
    assert!(paused.contains("halted by admin: a wrong rule acts"), "{paused}");
    assert!(
        stage.arvok(&["halt", "show"]).out.contains("Jobs are halted, those under way too, since")
    );
    let later = launch(&stage, "vm/m4");
    second.kill_node();
    second.start_node();
    let state = stage.get(&format!("/api/v1/jobs/{later}"));
    assert_eq!((&state["job"]["state"], peer.told().len()), (&json!("queued"), gone));

    assert_eq!(stage.arvok(&["halt", "lift"]).code, 0);
    for job in jobs.into_iter().chain([later]) {
        stage.job_in(job, &["succeeded"]);
    }
    told_once(&peer, 5);
}

#[test]
fn what_a_person_paused_stays_paused_and_a_halt_can_be_made_to_pause_as_well() {
    let peer = Peer::start();
    let stage = Stage::with_demo();
    let jobs = with_jobs(&stage, &peer, 2);
    until("them to be at work", || (peer.told().len() > 3).then_some(()));
    assert_eq!(stage.arvok(&["job", "pause", &jobs[0].to_string()]).code, 0);
    stage.job_in(jobs[0], &["paused"]);
    let begun = stage.arvok(&["halt", "begin", "--reason", "a look first"]);
    assert!(begun.out.contains("what is under way goes on"), "{}", begun.all());
    halt(&stage);
    let again = stage.arvok(&["halt", "begin", "--running", "--reason", "again"]);
    assert_ne!(again.code, 0, "{}", again.all());
    until_none_runs(&stage);
    for _ in 0..5 {
        assert_eq!(stage.arvok(&["halt", "lift"]).code, 0);
        halt(&stage);
    }
    assert_eq!(stage.arvok(&["halt", "lift"]).code, 0);
    stage.job_in(jobs[1], &["succeeded"]);
    stage.job_in(jobs[0], &["paused"]);
    assert_eq!(stage.arvok(&["job", "resume", &jobs[0].to_string()]).code, 0);
    stage.job_in(jobs[0], &["succeeded"]);
    told_once(&peer, 2);
}

/// Jobs on some targets are halted, over two nodes and a third that comes while the halt stands.
#[test]
fn a_halt_of_some_holds_those_and_lets_all_others_go_on() {
    let peer = Peer::start();
    let stage = Stage::with_demo();
    let second = stage.second_node();
    let jobs = with_jobs(&stage, &peer, 3);
    until("all of them to be at work", || (peer.told().len() > 5).then_some(()));
    // However slow this machine is, they are still at work then.
    peer.delay(Duration::from_secs(5));
    let asked = ["halt", "begin", "--targets", "vm/m1,vm/later*", "--reason", "a look first"];
    let would = stage.arvok(&[&asked[..], &["--dry-run"]].concat());
    assert!(would.out.contains("it would concern"), "{}", would.all());
    assert_eq!(stage.get("/api/v1/halt")["some"], json!([]));
    let begun = stage.arvok(&[&asked[..], &["--running"]].concat());
    assert!(begun.out.contains("halt 1: none of these jobs is begun"), "{}", begun.all());
    stage.job_in(jobs[1], &["paused", "waiting"]);
    peer.delay(Duration::from_millis(50));
    let later = launch(&stage, "vm/later-1");
    let third = stage.second_node();
    // All others come to their end.
    stage.job_in(jobs[0], &["succeeded"]);
    stage.job_in(jobs[2], &["succeeded"]);
    let gone = peer.count("vm/m1 ");
    assert!(gone < CALLS, "it was at work");
    let shown = stage.get(&format!("/api/v1/jobs/{later}"));
    let doing = shown["job"]["doing"].as_str().unwrap_or_default();
    assert!(doing.contains("halted by admin: a look first (halt 1)"), "{shown:#}");
    let said = stage.arvok(&["halt", "show"]).out;
    assert!(said.contains("Jobs of targets vm/m1, vm/later* are halted, those under way too"));
    let alarms = until("the alarm of the halt", || {
        let alarms = stage.get("/api/v1/alarms?kind=jobs.halted")["items"].clone();
        (!alarms.as_array()?.is_empty()).then_some(alarms)
    });
    assert!(alarms.to_string().contains("arvok/halt-1"), "{alarms:#}");
    let waits = third.get(&format!("/api/v1/jobs/{later}"));
    assert_eq!(
        (&waits["job"]["state"], second.get("/api/v1/halt")["some"][0]["id"].as_i64()),
        (&json!("queued"), Some(1))
    );

    assert_eq!(stage.arvok(&["halt", "lift", "1"]).code, 0);
    stage.job_in(jobs[1], &["succeeded"]);
    stage.job_in(later, &["succeeded"]);
    told_once(&peer, 3);
    let again = stage.arvok(&["halt", "lift", "1"]);
    assert!(again.code != 0 && again.err.contains("there is no halt 1"), "{}", again.all());
}

#[test]
fn odd_halts_are_refused_in_words() {
    let stage = Stage::bare();
    for (words, said) in [
        (&["--rules", "no-such"][..], "there is no rule `no-such`"),
        (&["--runbooks", "no-such"], "there is no runbook `no-such`"),
        (&["--runbooks", "plan/no-such"], "there is no plan `no-such`"),
        (&["--targets", ""], "a name or glob has 1 to 512 bytes"),
        (&["--dry-run"], "name --runbooks, --rules or --targets"),
    ] {
        let begun = stage.arvok(&[&["halt", "begin", "--reason", "w"], words].concat());
        assert!(begun.code != 0 && begun.err.contains(said), "{words:?}: {}", begun.all());
    }
    let body = json!({ "covers": {}, "reason": "w" });
    let (status, said) = stage.call(Method::POST, "/api/v1/halts", Some(&body));
    assert!(status == 400 && said.to_string().contains("or halt all jobs"), "{said}");
    let body = json!({ "covers": { "rules": ["*"] }, "reason": " " });
    let (status, said) = stage.call(Method::POST, "/api/v1/halts", Some(&body));
    assert!(status == 400 && said.to_string().contains("reason: say why"), "{said}");
}

#[test]
fn some_jobs_are_halted_and_let_go_on_in_the_console() {
    let peer = Peer::start();
    let stage = Stage::bare();
    let jobs = with_jobs(&stage, &peer, 1);
    peer.delay(Duration::from_secs(5));
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go("/safety");
    browser.see("Jobs of all kinds are begun.");
    browser.fill("input[placeholder^='host/quill']", "vm/m*");
    browser.fill("form:has(input[placeholder^='host/quill']) input[maxlength='300']", "a look");
    let tick = "form:has(input[placeholder^='host/quill']) input[type=checkbox]";
    browser.run(&format!("document.querySelector(\"{tick}\").click()"));
    browser.click("Halt these jobs…");
    browser.see("are concerned now.");
    browser.click("Halt them");
    browser.see("targets vm/m*");
    browser.see("also those under way, since");
    stage.job_in(jobs[0], &["paused", "waiting"]);
    peer.delay(Duration::ZERO);
    browser.go("/");
    browser.see("one halt of some jobs");
    browser.go("/safety");
    browser.click("Lift…");
    browser.see("those that it paused go on");
    browser.click("Lift it");
    browser.see("Jobs of all kinds are begun.");
    stage.job_in(jobs[0], &["succeeded"]);
}
