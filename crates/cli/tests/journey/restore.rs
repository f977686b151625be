//! Backups that are read back, keys that are lost, and the halt.

use crate::kit::{Stage, answer, until};
use reqwest::Method;
use serde_json::{Value, json};

const NOTE: &str = "runbook: note\ntarget: group/one\nsteps: [ { id: fine, set: { it: 1 } } ]\n";
const ASKS: &str = "runbook: asks\ntarget: group/two\nsteps: [ { id: q, ask: { to: { role: \
    responder }, text: go on?,
    choices: { go: Go on }, within: 1h, unanswered: go } } ]\n";

fn launch(stage: &Stage, runbook: &str) -> i64 {
    let (status, made) = stage.call(
        Method::POST,
        "/api/v1/jobs",
        Some(&json!({ "runbook": runbook, "inputs": {} })),
    );
    assert_eq!(status, 201, "{made}");
    made["job"].as_i64().expect("a number")
}

fn state(stage: &Stage, job: i64) -> Value {
    stage.get(&format!("/api/v1/jobs/{job}"))["job"]["state"].clone()
}

/// Ends when the nodes have looked for due jobs a few times since.
fn looks_pass(stage: &Stage) {
    let claims =
        || stage.records().rows("SELECT last_value AS n FROM claim_number")[0]["n"].clone();
    let before = claims();
    std::thread::park_timeout(std::time::Duration::from_millis(1_500));
    assert_eq!(claims(), before, "nobody claims anything");
}

#[test]
fn after_a_restore_nothing_is_done_before_somebody_has_looked() {
    let mut stage = Stage::with_demo();
    stage.publish(&format!("{NOTE}---\n{ASKS}"));
    let asking = launch(&stage, "asks");
    stage.job_in(asking, &["waiting"]);
    assert_eq!(stage.arvok(&["halt", "begin", "--reason", "a backup is made"]).code, 0);
    let queued = launch(&stage, "note");
    stage.kill_node();
    stage.records().run("UPDATE node SET seen = now() - interval '1 minute'; DELETE FROM halt");

    let restored = stage.restored(true, &["--hold-jobs"]);
    restored.until_ready();
    assert!(restored.log().contains("arvok halt lift"), "{}", restored.log());
    let status = restored.arvok(&["status"]);
    assert!(
        status.out.contains("halted since") && status.out.contains("serve --hold-jobs"),
        "{}",
        status.all()
    );
    let nodes = restored.get("/api/v1/nodes");
    assert_eq!(
        nodes["nodes"].as_array().map(Vec::len),
        Some(1),
        "those of before are not missed: {nodes}"
    );
    looks_pass(&restored);
    assert_eq!(state(&restored, queued), "queued");
    // One can look, and resolve.
    assert_eq!(restored.arvok(&["job", "cancel", &queued.to_string()]).code, 0);
    let later = launch(&restored, "note");
    assert_eq!(state(&restored, later), "queued");
    let alarm = until("the alarm of the halt", || {
        let standing = restored.get("/api/v1/alarms?source=arvok&text=halted")["items"].clone();
        standing.as_array().filter(|all| !all.is_empty()).map(|all| all[0].clone())
    });
    assert_eq!(alarm["state"], "raised", "{alarm}");

    assert_eq!(restored.arvok(&["halt", "lift"]).code, 0);
    restored.job_in(later, &["succeeded"]);
    assert_eq!(state(&restored, queued), "cancelled");
    let audit = restored.arvok(&["audit", "list"]);
    assert!(audit.out.contains("halted") && audit.out.contains("halt.lifted"), "{}", audit.all());
    let none = restored.arvok(&["halt", "lift"]);
    assert!(none.code != 0 && none.err.contains("there is no halt"), "{}", none.all());
}

#[test]
fn jobs_are_halted_for_all_nodes_and_a_halt_that_stands_is_not_replaced() {
    let stage = Stage::bare();
    let other = stage.second_node();
    stage.publish(NOTE);
    assert_eq!(stage.arvok(&["halt", "begin", "--reason", " "]).code, 2);
    assert_eq!(stage.arvok(&["halt", "begin", "--reason", "storage is being moved"]).code, 0);
    let again = other.arvok(&["halt", "begin", "--reason", "me too"]);
    assert!(
        again.code != 0 && again.err.contains("halted already, by admin: storage is being moved"),
        "{}",
        again.all()
    );
    let jobs: Vec<i64> = [&stage, &other].into_iter().map(|node| launch(node, "note")).collect();
    looks_pass(&stage);
    for node in [&stage, &other] {
        assert_eq!(node.get("/api/v1/watch")["halt"]["reason"], "storage is being moved");
        jobs.iter().for_each(|job| assert_eq!(state(node, *job), "queued"));
    }
    assert_eq!(other.arvok(&["halt", "lift"]).code, 0);
    jobs.iter().for_each(|job| _ = stage.job_in(*job, &["succeeded"]));
    assert!(stage.arvok(&["halt", "show"]).out.contains("there is no halt"));
}

#[test]
fn a_restore_without_the_key_says_what_is_lost_and_fails_no_job() {
    let mut stage = Stage::with_demo();
    stage.publish(&format!("{NOTE}---\n{ASKS}"));
    let asking = launch(&stage, "asks");
    stage.job_in(asking, &["waiting"]);
    stage.kill_node();

    let mut restored = stage.restored(false, &[]);
    let said = until("the node to say so", || {
        let (status, said) = answer(restored.request(Method::GET, "/readyz"));
        (status == 503 && said["detail"].to_string().contains("secrets.key is missing"))
            .then(|| said["detail"].to_string())
    });
    for part in ["--new-key: jobs are halted then", "crew-chat", "1 open decisions"] {
        assert!(said.contains(part), "{part}: {said}");
    }
    let set = restored.arvok_with(
        &["secret", "set", "crew-chat", "--offline"],
        &restored.settings(),
        "a-new-chat-token",
    );
    assert!(set.code != 0 && set.err.contains("secrets.key is missing"), "{}", set.all());

    restored.restart_new_key();
    restored.until_ready();
    assert!(restored.log().contains("this is lost: the secrets"), "{}", restored.log());
    let job = launch(&restored, "note");
    looks_pass(&restored);
    assert_eq!(state(&restored, job), "queued");
    // The secrets are set again beside the node that runs, which learns of it.
    for (name, value, place) in stage.harbour.secrets() {
        let set = restored.arvok_with(
            &["secret", "set", name, "--for", place, "--offline"],
            &restored.settings(),
            value,
        );
        assert_eq!(set.code, 0, "{}", set.all());
    }
    until("the secrets to open", || {
        let listed = restored.arvok(&["secret", "list"]).out;
        (!listed.contains("cannot be opened")).then_some(())
    });
    assert_eq!(restored.arvok(&["halt", "lift"]).code, 0);
    restored.job_in(job, &["succeeded"]);
    assert_eq!(state(&restored, asking), "waiting", "it goes on");
}
