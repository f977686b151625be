//! The halt of all jobs, those under way too: nothing new leaves from any node until it is lifted,
//! and then everything goes on as if nothing had been.

use crate::kit::{Peer, Stage, until};
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
