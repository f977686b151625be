//! Whatever is killed: what was accepted is there, once, and led to one job.

use crate::kit::{Stage, block, spawn, until};
use reqwest::Method;
use serde_json::json;
use std::sync::{
    Arc,
    atomic::{AtomicBool, Ordering},
};

const RESOURCES: usize = 40;

/// Posts alerts, each id until it is accepted, over and over as a careless sender would; the ids
/// that were accepted.
async fn pour(http: reqwest::Client, door: String, token: String, lane: usize, stop: Arc<AtomicBool>) -> Vec<String> {
    let mut accepted = Vec::new();
    for n in 0.. {
        if stop.load(Ordering::Relaxed) || n >= 5000 {
            break;
        }
        let id = format!("{lane}-{n}");
        let alert =
            json!({"id": id, "kind": "test.load", "resource": format!("vm/n{}", n % RESOURCES), "severity": "major"});
        for _try in 0..200 {
            let request =
                http.post(&door).bearer_auth(&token).header("content-type", "application/vnd.arvok.alert+json");
            if request.body(alert.to_string()).send().await.is_ok_and(|r| r.status() == 202) {
                accepted.push(id);
                break;
            }
            tokio::time::sleep(std::time::Duration::from_millis(25)).await;
        }
    }
    accepted
}

#[test]
fn nothing_accepted_is_lost_and_nothing_is_dispatched_twice() {
    let mut stage = Stage::with_demo();
    stage.publish(
        "runbook: note\ninputs: { vm: { type: string } }\ntarget: ${inputs.vm}\nsteps: [ { id: seen, require: 'true' } ]\n---\n\
         rule: load\nstance: act\nlisten: { kinds: test.load }\ndispatch: { runbook: note, inputs: { vm: \"${alert.resource}\" } }\n",
    );
    let stop = Arc::new(AtomicBool::new(false));
    let http = reqwest::Client::builder().no_proxy().build().expect("a client");
    let door = format!("{}/in/yard-hypervisor", stage.address);
    let lane = |n| spawn(pour(http.clone(), door.clone(), stage.token.clone(), n, Arc::clone(&stop)));
    let lanes: Vec<_> = (0..8).map(lane).collect();
    for round in 1..=4 {
        let grown = 60 * round;
        until("more alerts", || (count(&stage) >= grown).then_some(()));
        stage.kill_node();
        stage.start_node();
    }
    until("alerts after the last death", || (count(&stage) >= 400).then_some(()));
    stop.store(true, Ordering::Relaxed);
    let accepted: Vec<String> = lanes.into_iter().flat_map(|l| block(l).expect("a lane")).collect();
    assert!(accepted.len() >= 300, "only {} were accepted", accepted.len());

    let mut kept = Vec::new();
    let mut after = String::new();
    loop {
        let page = stage.get(&format!("/api/v1/alerts?source=yard-hypervisor&kind=test.load&limit=500{after}"));
        kept.extend(page["items"].as_array().into_iter().flatten().filter_map(|a| a["id"].as_str().map(str::to_owned)));
        match page["next"].as_str() {
            Some(next) => after = format!("&after={next}"),
            None => break,
        }
    }
    let total = kept.len();
    kept.sort_unstable();
    kept.dedup();
    assert_eq!(kept.len(), total, "an id was recorded twice");
    let lost: Vec<&String> = accepted.iter().filter(|id| kept.binary_search(id).is_err()).collect();
    assert!(lost.is_empty(), "accepted and lost: {lost:?}");

    until("all jobs to end", || {
        let open = stage.get("/api/v1/jobs?state=queued,running,waiting");
        open["items"].as_array().is_some_and(Vec::is_empty).then_some(())
    });
    let jobs = stage.get("/api/v1/jobs?rule=load&limit=500");
    let mut targets: Vec<&str> =
        jobs["items"].as_array().into_iter().flatten().filter_map(|j| j["target"].as_str()).collect();
    assert_eq!(targets.len(), RESOURCES, "one job for each resource whose alarm was raised and never cleared");
    targets.sort_unstable();
    targets.dedup();
    assert_eq!(targets.len(), RESOURCES);
}

/// The clearing arrives at the very moment at which the job decides to wait for it, forty times.
#[test]
fn an_alarm_cleared_while_the_job_lies_down_to_wait_is_not_slept_through() {
    let stage = Stage::with_demo();
    stage.publish(
        "runbook: prove\ninputs: { vm: { type: string } }\ntarget: ${inputs.vm}\nsteps: [ { id: seen, require: 'true' } ]\n\
         confirm: { alarm: cleared, within: 10m }\n---\n\
         rule: prove\nstance: act\nlisten: { kinds: test.prove }\ndispatch: { runbook: prove, inputs: { vm: \"${alert.resource}\" } }\n",
    );
    for n in 0..40 {
        let alarm = |state: &str| json!({"kind": "test.prove", "resource": format!("vm/n{n}"), "state": state});
        stage.send("yard-hypervisor", &alarm("raised"));
        stage.send("yard-hypervisor", &alarm("cleared"));
    }
    until("every effect to be confirmed", || {
        let jobs = stage.get("/api/v1/jobs?effect=confirmed&limit=500");
        (jobs["items"].as_array()?.len() == 40).then_some(())
    });
}

fn count(stage: &Stage) -> usize {
    let (status, watch) = stage.call(Method::GET, "/api/v1/watch", None);
    if status == 200 { usize::try_from(watch["strait"]["distinct"].as_i64().unwrap_or(0)).unwrap_or(0) } else { 0 }
}
