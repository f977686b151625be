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
async fn pour(
    http: reqwest::Client,
    door: String,
    token: String,
    lane: usize,
    stop: Arc<AtomicBool>,
) -> Vec<String> {
    let mut accepted = Vec::new();
    for n in 0.. {
        if stop.load(Ordering::Relaxed) || n >= 5000 {
            break;
        }
        let id = format!("{lane}-{n}");
        let alert = json!({"id": id, "kind": "test.load", "resource": format!("vm/n{}",
            n % RESOURCES), "severity": "major"});
        for _try in 0..200 {
            let request = http
                .post(&door)
                .bearer_auth(&token)
                .header("content-type", "application/vnd.arvok.alert+json");
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
        "runbook: note\ninputs: { vm: { type: string } }\ntarget: ${inputs.vm}\nsteps: [ { id: \
        seen, require: 'true' } ]\n---\n\
         rule: load\nstance: act\nlisten: { kinds: test.load }\ndispatch: { runbook: note, inputs: \
         { vm: \"${alert.resource}\" } }\n",
    );
    let stop = Arc::new(AtomicBool::new(false));
    let http = arvok_connect::http_client().build().expect("a client");
    let door = format!("{}/in/yard-hypervisor?trial=no", stage.address);
    let lane =
        |n| spawn(pour(http.clone(), door.clone(), stage.token.clone(), n, Arc::clone(&stop)));
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
        let page = stage
            .get(&format!("/api/v1/alerts?source=yard-hypervisor&kind=test.load&limit=500{after}"));
        kept.extend(
            page["items"]
                .as_array()
                .into_iter()
                .flatten()
                .filter_map(|a| a["id"].as_str().map(str::to_owned)),
        );
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
    let mut targets: Vec<&str> = jobs["items"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|j| j["target"].as_str())
        .collect();
    assert_eq!(
        targets.len(),
        RESOURCES,
        "one job for each resource whose alarm was raised and never cleared"
    );
    targets.sort_unstable();
    targets.dedup();
    assert_eq!(targets.len(), RESOURCES);
}

/// The clearing arrives at the very moment at which the job decides to wait for it, forty times.
#[test]
fn an_alarm_cleared_while_the_job_lies_down_to_wait_is_not_slept_through() {
    let stage = Stage::with_demo();
    stage.publish(
        "runbook: prove\ninputs: { vm: { type: string } }\ntarget: ${inputs.vm}\nsteps: [ { id: \
        seen, require: 'true' } ]\n\
         confirm: { alarm: cleared, within: 10m }\n---\n\
         rule: prove\nstance: act\nlisten: { kinds: test.prove }\ndispatch: { runbook: prove, \
         inputs: { vm: \"${alert.resource}\" } }\n",
    );
    for n in 0..40 {
        let alarm = |state: &str| {
            json!({"kind": "test.prove", "resource": format!("vm/n{n}"),
            "state": state})
        };
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
    if status == 200 {
        usize::try_from(watch["narrowing"]["distinct"].as_i64().unwrap_or(0)).unwrap_or(0)
    } else {
        0
    }
}

#[test]
fn what_cannot_be_delivered_waits_in_a_spool_and_goes_later_in_order_and_once() {
    let mut stage = Stage::with_demo();
    let spool = crate::kit::folder("spool").join("yard");
    let file = spool.to_str().expect("a path").to_owned();
    let send = |stage: &Stage, vm: &str| {
        let resource = format!("vm/{vm}");
        stage.arvok(&[
            "send",
            "yard-hypervisor",
            "--kind",
            "test.spool",
            "--resource",
            &resource,
            "--for-real",
            "--spool",
            &file,
        ])
    };
    stage.kill_node();
    for (n, vm) in ["a", "b", "c"].iter().enumerate() {
        let said = send(&stage, vm);
        assert_eq!(said.code, 0, "{}", said.all());
        assert!(
            said.err.contains(&format!("{} payload", n + 1))
                && said.err.contains("does not answer"),
            "{}",
            said.err
        );
    }
    let kept = std::fs::read_to_string(&spool).expect("the spool");
    stage.start_node();
    let said = send(&stage, "d");
    assert_eq!((said.code, said.out.lines().count()), (0, 4), "{}", said.all());
    let order = || -> Vec<String> {
        let page = stage.get("/api/v1/alerts?kind=test.spool");
        page["items"]
            .as_array()
            .expect("alerts")
            .iter()
            .map(|a| a["resource"].to_string())
            .collect()
    };
    assert_eq!(order(), ["\"vm/d\"", "\"vm/c\"", "\"vm/b\"", "\"vm/a\""]);
    assert_eq!(std::fs::read_to_string(&spool).expect("the spool"), "");

    // As after a death between the delivery and the note of it, with something poisonous among it.
    let poison =
        r#"{"source":"yard-hypervisor","content_type":"application/json","key":"k","body":"{"}"#;
    std::fs::write(&spool, format!("{kept}{poison}\n")).expect("writes");
    let said = stage.arvok(&["send", "yard-hypervisor", "--spool", &file]);
    assert_eq!(said.code, 6, "{}", said.all());
    assert_eq!(said.out.matches("had come before").count(), 3, "{}", said.all());
    assert!(
        said.err.contains("refused, and not kept") && said.err.contains("is not JSON"),
        "{}",
        said.err
    );
    assert_eq!(order().len(), 4);
    let said = stage.arvok_with(
        &["send", "nowhere", "--kind", "a", "--resource", "vm/a", "--spool", &file],
        &[],
        "",
    );
    assert_eq!(said.code, 6, "{}", said.all());
    assert!(
        said.err.contains("put aside into") && said.err.contains("there is no source `nowhere`"),
        "{}",
        said.err
    );
    // What was cut, or is for a source that is not there, holds up nothing behind it.
    std::fs::write(&spool, format!("{}\n{kept}", &poison[..40])).expect("writes");
    let said = stage.arvok(&["send", "yard-hypervisor", "--spool", &file]);
    assert_eq!((said.code, said.out.matches("had come before").count()), (6, 3), "{}", said.all());
    assert!(said.err.contains("line 1 is no payload that was kept"), "{}", said.err);
    let aside =
        std::fs::read_to_string(spool.with_added_extension("aside")).expect("what is aside");
    assert!(
        aside.lines().count() == 2 && aside.contains(&poison[..40]) && aside.contains("nowhere"),
        "{aside}"
    );
    assert_eq!(std::fs::read_to_string(&spool).expect("the spool"), "");
    // A proxy that answers in the server's place has taken nothing.
    for (status, page) in [
        ("403 Forbidden", "<html>no</html>"),
        ("429 Too Many", "{}"),
        ("404 Not Found", "{\"detail\":\"x\"}"),
    ] {
        let address = crate::kit::answers_with(status, page);
        let args =
            ["send", "yard-hypervisor", "--kind", "a", "--resource", "vm/a", "--spool", &file];
        let said = stage.arvok_with(&args, &[("ARVOK_SERVER", &address)], "");
        assert_eq!(said.code, 0, "{}", said.all());
        assert!(
            said.err.contains("answered in its place") && said.err.contains("wait"),
            "{}",
            said.err
        );
    }
    assert_eq!(std::fs::read_to_string(&spool).expect("the spool").lines().count(), 3);
}

/// As the guide says: dump, restore into an empty database, start over it.
#[test]
fn a_backup_is_restored_and_goes_on() {
    let (stage, peer) = (Stage::with_demo(), crate::kit::Peer::start());
    stage.publish(&peer.definitions("keyed"));
    let told = |stage: &Stage, vm: &str| {
        stage.send(
            "yard-hypervisor",
            &json!({"kind": "test.tell", "resource": vm, "severity": "major"}),
        );
    };
    told(&stage, "vm/before");
    stage.job_in(1, &["succeeded"]);
    let run = |program: &str, args: &[&str]| {
        let bin = arvok_postgres::binaries().expect("the programs").join(program);
        let said = std::process::Command::new(bin).args(args).output().expect("runs");
        assert!(said.status.success(), "{}", String::from_utf8_lossy(&said.stderr));
    };
    let dump = crate::kit::folder("backup").join("arvok.dump");
    let dump = dump.to_str().expect("a path");
    run("pg_dump", &["--format=custom", "--file", dump, &stage.database]);
    told(&stage, "vm/lost");
    stage.job_in(2, &["succeeded"]);

    let anew = crate::kit::database();
    run("pg_restore", &["--dbname", &anew, "--no-owner", dump]);
    let other = stage.second_node_over(anew);
    assert_eq!(other.get("/api/v1/jobs")["items"].as_array().map(Vec::len), Some(1));
    told(&other, "vm/after");
    other.job_in(2, &["succeeded"]);
    let keys: Vec<_> = peer.told().into_iter().map(|t| t.key.expect("a key")).collect();
    assert_eq!(keys.len(), 3, "the secrets open, and the calls go out");
    assert!(
        keys[0] != keys[1] && keys[1] != keys[2],
        "job 2 of now is not job 2 of then: {keys:?}"
    );
}
