//! Who holds a job: executions that are left behind, nodes that freeze, databases that go away.
//! What must not be done twice is not done twice, and nothing stands still for ever.

use crate::kit::{Peer, Stage, outage, until};
use nix::sys::signal::Signal;
use reqwest::Method;
use serde_json::{Value, json};
use std::time::Duration;

pub fn tell(stage: &Stage, resource: &str) -> i64 {
    stage.send(
        "yard-hypervisor",
        &json!({"kind": "test.tell", "resource": resource, "severity": "major"}),
    )
}

fn jobs(stage: &Stage, state: &str) -> Vec<Value> {
    let jobs = stage.get(&format!("/api/v1/jobs?limit=500&state={state}"));
    jobs["items"].as_array().expect("jobs").clone()
}

pub fn with(repeat: &str) -> (Stage, Peer) {
    let (stage, peer) = (Stage::with_demo(), Peer::start());
    stage.publish(&peer.definitions(repeat));
    (stage, peer)
}

/// A job whose alert cannot be read back ends its execution in an error, each time.
#[test]
fn an_execution_that_cannot_go_on_is_given_up_and_lets_its_target_go() {
    let (stage, peer) = with("safe");
    stage.publish(
        "runbook: tell\ninputs: { what: { type: string } }\ntarget: \
        ${inputs.what}\nsteps:\n  - { id: tell, call: peer.tell, via: peer, give: { \
        what: \"${inputs.what}\" } }\n  - { id: second, call: peer.tell, via: peer, give: { \
        what: \"${inputs.what}\" } }\n",
    );
    peer.delay(Duration::from_secs(1));
    let alert = tell(&stage, "vm/a");
    until("the call to be out", || (peer.count("vm/a") == 1).then_some(()));
    let deep = format!("{}{}", "[".repeat(300), "]".repeat(300));
    stage.records().run(&format!("UPDATE alerts SET body = '{deep}' WHERE seq = {alert}"));
    stage.records().run(
        "UPDATE job SET claim = nextval('claim_number'), claims = claims + 1,
            lease_until = now() WHERE id = 1",
    );
    let job = until("the job to be given up", || jobs(&stage, "failed").pop());
    assert!(
        job["failure"]
            .as_str()
            .is_some_and(|f| f.starts_with("given up: it was left behind 5 times")),
        "{job:#}"
    );
    peer.delay(Duration::ZERO);
    stage.send(
        "yard-hypervisor",
        &json!({"kind": "test.tell", "resource": "vm/a", "severity": "major", "state": "cleared"}),
    );
    tell(&stage, "vm/a");
    stage.job_in(2, &["succeeded"]);
}

#[test]
fn another_jobs_locked_row_keeps_no_claim_from_being_renewed() {
    let (stage, peer) = with("never");
    peer.delay(Duration::from_secs(14));
    tell(&stage, "vm/locked");
    tell(&stage, "vm/other");
    until("both calls to be out", || (peer.told().len() == 2).then_some(()));
    let locked = stage.get("/api/v1/jobs?target=vm/locked")["items"][0]["id"].clone();
    stage.records().run(&format!(
        "BEGIN; SELECT 1 FROM job WHERE id = {locked} FOR UPDATE; SELECT pg_sleep(12); COMMIT"
    ));
    until("both to end", || (jobs(&stage, "running").is_empty()).then_some(()));
    assert_eq!(peer.told().len(), 2, "nothing was told twice: {:?}", peer.told());
    assert_eq!(jobs(&stage, "succeeded").len(), 2, "{:#?}", jobs(&stage, "unsure"));
}

/// The node stands still beyond its lease while its call is out, and then goes on as if nothing had
/// been.
#[test]
fn a_frozen_node_can_record_nothing_when_it_thaws() {
    let (stage, peer) = with("never");
    peer.delay(Duration::from_secs(2));
    tell(&stage, "vm/a");
    until("the call to be out", || (peer.told().len() == 1).then_some(()));
    stage.signal(Signal::SIGSTOP);
    let other = stage.second_node();
    let job = other.job_in(1, &["unsure"]);
    stage.signal(Signal::SIGCONT);
    until("the claim to be lost", || {
        stage.log().contains("another claim has taken the job over").then_some(())
    });
    let (status, settled) =
        other.call(Method::POST, "/api/v1/jobs/1/resolve", Some(&json!({"as": "done"})));
    assert!(status < 300, "{settled}");
    other.job_in(1, &["succeeded"]);
    assert_eq!(peer.told().len(), 1, "{job:#}");
}

#[test]
fn a_death_while_a_doubt_is_resolved_leaves_the_doubt() {
    let (mut stage, peer) = with("never");
    peer.delay(Duration::from_secs(2));
    tell(&stage, "vm/a");
    until("the call to be out", || (peer.told().len() == 1).then_some(()));
    stage.kill_node();
    stage.start_node();
    stage.job_in(1, &["unsure"]);
    // As a node leaves it that has taken the job for a person's word and dies before its record.
    let sql = "UPDATE job SET state = 'running', claim = nextval('claim_number'),
        claims = claims + 1, lease_until = now() WHERE id = 1";
    stage.records().run(sql);
    stage.job_in(1, &["unsure"]);
    let said = stage.arvok(&["job", "resolve", "1", "--as", "done"]);
    assert_eq!(said.code, 0, "{}", said.all());
    stage.job_in(1, &["succeeded"]);
    assert_eq!(peer.told().len(), 1);
}

/// The other way would keep the question from people for an hour.
#[test]
fn what_became_of_a_step_is_said_though_another_of_its_job_waits() {
    let (stage, peer) = (Stage::with_demo(), Peer::start());
    let ways = "  - id: both\n    together:\n      rest: [ { id: rest, pause: 1h } ]\n      say:\n        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        \
        - { id: tell,";
    stage.publish(
        &peer
            .definitions("never")
            .replace("timeout: 60s", "timeout: 300ms")
            .replace("  - { id: tell,", ways),
    );
    peer.delay(Duration::from_secs(2));
    tell(&stage, "vm/a");
    until("the call to be unsure", || {
        let job = stage.get("/api/v1/jobs?target=vm/a")["items"][0]["id"].as_i64()?;
        let steps = stage.get(&format!("/api/v1/jobs/{job}"))["steps"].to_string();
        steps.contains("\"unsure\"").then_some(())
    });
    stage.job_in(1, &["waiting"]);
    let resolve = |body: &Value| {
        let (status, said) = stage.call(Method::POST, "/api/v1/jobs/1/resolve", Some(body));
        (status, said["detail"].as_str().unwrap_or_default().to_owned())
    };
    let other = resolve(&json!({"step": "both.rest", "as": "done"}));
    assert_eq!(other, (409, "step `both.rest` of job 1 is not unsure; unsure is both.tell".into()));
    assert_eq!(resolve(&json!({"as": "failed"})).0, 202);
    let job = stage.job_in(1, &["failed"])["job"].clone();
    assert!(
        job["failure"].as_str().is_some_and(|f| f.contains("a person said that the unsure step")),
        "{job:#}"
    );
    assert_eq!(resolve(&json!({"as": "done"})), (409, "job 1 is failed, not unsure".into()));
    assert_eq!(peer.told().len(), 1);
}

#[test]
fn jobs_outlive_a_database_that_goes_away() {
    std::thread::scope(|s| {
        for seconds in [1, 3, 6, 15] {
            s.spawn(move || {
                let (stage, peer) = with("keyed");
                peer.delay(Duration::from_millis(400));
                for n in 0..6 {
                    tell(&stage, &format!("vm/n{n}"));
                }
                until("calls to be out", || (peer.told().len() >= 4).then_some(()));
                outage(&stage.database, Duration::from_secs(seconds));
                until(&format!("all jobs to end after {seconds} s without a database"), || {
                    let (status, jobs) =
                        stage.call(Method::GET, "/api/v1/jobs?state=succeeded", None);
                    (status == 200 && jobs["items"].as_array()?.len() == 6).then_some(())
                });
                for n in 0..6 {
                    let resource = format!("\"vm/n{n}\"");
                    let told: Vec<_> =
                        peer.told().into_iter().filter(|t| t.body.contains(&resource)).collect();
                    assert!(
                        told.iter().all(|t| t.key.is_some() && t.key == told[0].key),
                        "{told:?}"
                    );
                }
                tell(&stage, "vm/after");
                until("a job after it", || (peer.count("vm/after") == 1).then_some(()));
            });
        }
    });
}

#[test]
fn what_must_not_be_repeated_is_told_once_over_an_outage() {
    let (stage, peer) = with("never");
    peer.delay(Duration::from_millis(700));
    for n in 0..6 {
        tell(&stage, &format!("vm/n{n}"));
    }
    until("calls to be out", || (peer.told().len() == 6).then_some(()));
    outage(&stage.database, Duration::from_secs(3));
    until("all jobs to end", || {
        let (status, jobs) = stage.call(Method::GET, "/api/v1/jobs?state=succeeded,unsure", None);
        (status == 200 && jobs["items"].as_array()?.len() == 6).then_some(())
    });
    assert_eq!(peer.told().len(), 6);
}

#[test]
fn what_a_call_answered_during_an_outage_is_kept_though_the_job_reads_its_alarm() {
    let (stage, peer) = with("never");
    stage.publish(
        "runbook: tell\ninputs: { what: { type: string } }\ntarget: ${inputs.what}\nsteps:\n  \
         - { id: tell, call: peer.tell, via: peer, give: { what: \"${inputs.what}\" } }\n  \
         - { id: still, require: alarm.state == \"raised\" }\n",
    );
    peer.delay(Duration::from_millis(700));
    for n in 0..4 {
        tell(&stage, &format!("vm/n{n}"));
    }
    until("calls to be out", || (peer.told().len() == 4).then_some(()));
    outage(&stage.database, Duration::from_secs(3));
    until("all jobs to succeed", || {
        let (status, jobs) = stage.call(Method::GET, "/api/v1/jobs?state=succeeded", None);
        (status == 200 && jobs["items"].as_array()?.len() == 4).then_some(())
    });
    assert_eq!(peer.told().len(), 4);
}
