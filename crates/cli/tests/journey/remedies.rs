//! Jobs when things go wrong: busy peers, lost answers, deadlines, doubts.

use crate::kit::{Stage, until};
use arvok_standins::Faults;
use reqwest::Method;
use serde_json::{Value, json};

/// A rule of its own over alerts that the test sends itself.
fn rule(name: &str, kind: &str, runbook: &str, more: &str) -> String {
    format!(
        "rule: {name}\nstance: act\nlisten: {{ kinds: {kind} }}\n\
         dispatch: {{ runbook: {runbook}, inputs: {{ vm: \"${{alert.resource}}\" }}{more} }}\n"
    )
}

fn raise(stage: &Stage, kind: &str, resource: &str) -> i64 {
    stage.send("yard-hypervisor", &json!({"kind": kind, "resource": resource, "severity": "major"}))
}

fn attempts(job: &Value, step: usize) -> Vec<&str> {
    let tries = job["steps"][step]["attempts"].as_array().expect("tries");
    tries.iter().map(|a| a["state"].as_str().expect("a state")).collect()
}

#[test]
fn a_busy_peer_is_asked_again_and_a_lost_answer_grows_the_disk_once() {
    let stage = Stage::with_demo();
    stage.publish(&rule("busy", "test.busy", "grow-disk", ""));
    stage.harbour.yard.set_faults(Faults { busy: 1, ..Faults::default() });
    raise(&stage, "test.busy", "vm/quill-booking-db-2");
    until("the first step to be done", || {
        (stage.get("/api/v1/jobs/1")["steps"][0]["state"] == "done").then_some(())
    });
    let job = stage.get("/api/v1/jobs/1");
    assert_eq!(attempts(&job, 0), ["failed", "done"]);
    assert_eq!(job["steps"][0]["attempts"][0]["error"], "answered 503: the office is busy");

    stage.publish(&rule("lost", "test.lost", "grow-disk", ""));
    stage.harbour.yard.set_faults(Faults { delay_ms: 300, ..Faults::default() });
    raise(&stage, "test.lost", "vm/quill-report-2");
    until("the second step", || {
        let job = stage.get("/api/v1/jobs/2");
        (job["steps"][0]["state"] == "done").then_some(())
    });
    stage.harbour.yard.set_faults(Faults { hang_up: 1, ..Faults::default() });
    let job = until("the disk to be grown", || {
        let job = stage.get("/api/v1/jobs/2");
        (job["steps"][2]["state"] == "done").then_some(job)
    });
    assert_eq!(stage.harbour.yard.with(|c| c.vms["quill-report-2"].grown), 1, "{job:#}");
}

#[test]
fn a_step_that_must_not_be_repeated_leaves_the_job_unsure_until_a_person_speaks() {
    let mut stage = Stage::with_demo();
    // The same operation without a key: now nobody knows whether a second time is harmless.
    let text = std::fs::read_to_string(format!(
        "{}/connections/yard-hypervisor.yaml",
        crate::kit::LIBRARY
    ))
    .expect("the demo");
    stage.publish(&text.replace("repeat: keyed", "repeat: never"));
    stage.publish(&rule("doubt", "test.doubt", "grow-disk", ""));
    stage.harbour.yard.set_faults(Faults { delay_ms: 4000, ..Faults::default() });
    let seq = raise(&stage, "test.doubt", "vm/quill-report-2");
    until("the call to be out", || {
        (stage.get("/api/v1/jobs/1")["steps"][2]["state"] == "running").then_some(())
    });
    stage.kill_node();
    stage.start_node();
    let job = stage.job_in(1, &["unsure"]);
    assert!(
        job["job"]["failure"].as_str().is_some_and(|f| f.contains("must not be done twice")),
        "{job:#}"
    );
    let needs = &stage.get("/api/v1/watch")["needs_you"];
    assert!(needs.as_array().is_some_and(|n| n.len() == 1), "{needs:#}");

    let said = stage.arvok(&["job", "resolve", "1", "--as", "done"]);
    assert_eq!(said.code, 0, "{}", said.all());
    // The output of a step that only a person vouches for is not known, and what needs it says so.
    let job = stage.job_in(1, &["failed"]);
    assert!(
        job["job"]["failure"].as_str().is_some_and(|f| f.contains("steps.grow.size_gib")),
        "{job:#}"
    );
    let said = stage.arvok(&["job", "resolve", "1", "--as", "failed"]);
    assert_eq!(said.code, 6, "{}", said.all());
    assert!(said.err.contains("job 1 is failed, not unsure"), "{}", said.err);
    assert!(stage.get(&format!("/api/v1/alerts/{seq}"))["verdicts"][0]["job"] == 1);
}

#[test]
fn one_job_at_a_time_on_a_target_and_the_late_one_expires() {
    let stage = Stage::with_demo();
    stage.publish(&rule("first", "test.first", "grow-disk", ""));
    stage.publish(&rule("second", "test.second", "grow-disk", ", deadline: 1s, urgency: urgent"));
    stage.harbour.yard.set_faults(Faults { delay_ms: 1500, ..Faults::default() });
    raise(&stage, "test.first", "vm/quill-report-2");
    stage.job_in(1, &["running"]);
    raise(&stage, "test.second", "vm/quill-report-2");
    assert_eq!(stage.get("/api/v1/jobs/2")["job"]["state"], "queued");
    let late = stage.job_in(2, &["expired"]);
    assert_eq!(late["job"]["failure"], "not started before its deadline");
    assert_eq!(late["job"]["started_at"], Value::Null);
}

#[test]
fn a_requirement_and_unacceptable_inputs_end_in_words() {
    let stage = Stage::with_demo();
    stage.publish(&rule("full", "test.full", "grow-disk", ""));
    stage
        .harbour
        .yard
        .with(|c| c.vms.get_mut("quill-report-2").expect("a VM").disks[1].size_gib = 64.0);
    stage.harbour.yard.with(|c| c.fill("quill-report-2", "scratch", 80.0, 0.0));
    raise(&stage, "test.full", "vm/quill-report-2");
    let job = stage.job_in(1, &["failed"]);
    assert_eq!(job["job"]["failure"], "Disk scratch is at its ceiling of 64 GiB");
    let said = stage.arvok(&["job", "follow", "1"]);
    assert_eq!(said.code, 1, "{}", said.all());

    stage.publish(
        "rule: odd\nstance: act\nlisten: { kinds: test.odd }\n\
         dispatch: { runbook: grow-disk, inputs: { vm: \"${alert.resource}\", \
         step_gib: \"${alert.value}\" } }\n",
    );
    stage.send("yard-hypervisor", &json!({"kind": "test.odd", "resource": "vm/a", "value": 99}));
    let job = stage.get("/api/v1/jobs/2");
    assert_eq!(job["job"]["state"], "refused");
    assert_eq!(
        job["job"]["failure"],
        "the input `step_gib` is wrong: 99 is greater than the maximum of 16"
    );
}

#[test]
fn an_effect_that_does_not_come_is_said_to_be_unconfirmed() {
    let stage = Stage::with_demo();
    let text = std::fs::read_to_string(format!("{}/runbooks/grow-disk.yaml", crate::kit::LIBRARY))
        .expect("the demo");
    stage.publish(
        &text
            .replace("within: 5m", "within: 500ms")
            .replace("effect: confirmed", "effect: unconfirmed"),
    );
    stage.publish(&rule("stays", "test.stays", "grow-disk", ""));
    raise(&stage, "test.stays", "vm/quill-report-2");
    let job = stage.job_in(1, &["succeeded"]);
    assert_eq!(job["job"]["effect"], "unconfirmed");
    let watch = stage.get("/api/v1/watch");
    assert_eq!(watch["needs_you"][0]["id"], 1);
    assert_eq!(watch["narrowing"]["unproved"], 1);
}

#[test]
fn a_watching_rule_acts_on_nothing_and_a_resting_one_waits() {
    let stage = Stage::with_demo();
    stage.publish(
        "rule: looks\nlisten: { kinds: test.look }\ndispatch: { runbook: grow-disk, \
        inputs: { vm: \"${alert.resource}\" } }\n",
    );
    let seq = raise(&stage, "test.look", "vm/quill-report-2");
    let alert = stage.get(&format!("/api/v1/alerts/{seq}"));
    assert_eq!(alert["verdicts"][0]["verdict"], "watched");
    assert_eq!(stage.get("/api/v1/jobs")["items"], json!([]));

    stage.publish(
        "rule: rests\nstance: act\nlisten: { kinds: test.rest }\nsettle: { rest: 1h \
        }\ndispatch: { runbook: grow-disk, inputs: { vm: \"${alert.resource}\" } }\n",
    );
    raise(&stage, "test.rest", "vm/quill-report-2");
    stage.send(
        "yard-hypervisor",
        &json!({"kind": "test.rest", "resource": "vm/quill-report-2", "state": "cleared"}),
    );
    let seq = raise(&stage, "test.rest", "vm/quill-report-2");
    let verdict = stage.get(&format!("/api/v1/alerts/{seq}"))["verdicts"][0].clone();
    assert_eq!(verdict["verdict"], "resting");
    assert!(verdict["reason"].as_str().is_some_and(|r| r.contains("rest is 1h")), "{verdict}");
    let narrowing = stage.get("/api/v1/watch")["narrowing"].clone();
    let n = |k: &str| narrowing[k].as_i64().expect("a number");
    assert_eq!(
        (n("watched"), n("held"), n("dispatched"), n("unmatched")),
        (1, 1, 1, 1),
        "{narrowing}"
    );
    assert_eq!(n("received"), n("repeated") + n("distinct"), "{narrowing}");
    assert_eq!(n("distinct"), n("unmatched") + n("matched"), "{narrowing}");
    assert_eq!(
        n("matched"),
        n("dispatched") + n("proposed") + n("watched") + n("folded") + n("held"),
        "{narrowing}"
    );
    assert_eq!(
        n("dispatched"),
        n("confirmed") + n("under_way") + n("unproved") + n("failed"),
        "{narrowing}"
    );
}

#[test]
fn secrets_never_come_out() {
    let stage = Stage::with_demo();
    // A peer that sends its caller's token back, in an answer and in an error.
    stage.secret("crew-chat", "crew-token", &["connection/crew-chat", "connection/echo"]);
    stage.publish(
        "connector: echo\noperations:\n  say: { takes: { text: { type: string } }, \
         request: { method: POST, path: /channels/echo/messages, body: { text: \"${give.text}\" } \
         }, repeat: safe }\n---\n\
         connection: echo\nconnector: echo\nbase: \"${setting('crew-chat')}\"\ncredential: { \
         bearer: \"${secret('crew-chat')}\" }\n---\n\
         runbook: echo\ninputs: { vm: { type: string } }\ntarget: ${inputs.vm}\nsteps:\n  \
         - { id: say, call: say, via: echo, give: { text: \"my token is crew-token\" } }\n",
    );
    stage.publish(&rule("echo", "test.echo", "echo", ""));
    raise(&stage, "test.echo", "vm/a");
    let job = stage.job_in(1, &["succeeded"]);
    assert_eq!(
        stage.harbour.chat.messages()[0].text,
        "my token is crew-token",
        "the peer itself got it"
    );
    assert_eq!(job["steps"][0]["attempts"][0]["output"]["text"], "my token is [secret]");
    let sent = json!({ "method": "POST", "target": "/channels/echo/messages",
        "body": { "text": "my token is [secret]" }, "via": "echo" });
    assert_eq!(
        job["steps"][0]["attempts"][0]["request"], sent,
        "what was sent is kept, but for the secret"
    );
    let shown = stage.arvok(&["job", "show", "1"]);
    assert!(shown.out.contains("sent   POST /channels/echo/messages"), "{}", shown.all());
    assert!(!job.to_string().contains("crew-token"), "{job:#}");
    // Nor as it stands in a path, nor where it is cut.
    stage.secret("crew-chat", "crew token/ä", &["connection/crew-chat", "connection/echo"]);
    stage.publish(
        "connector: rooms\noperations:\n  say: { takes: { text: { type: string }, room: { type: \
        string } }, \
         request: { method: POST, path: '/channels/${give.room}/messages', body: { \
         text: \"${give.text}\" } }, repeat: safe }\n---\n\
         connection: rooms\nconnector: rooms\nbase: \"${setting('crew-chat')}\"\n---\n\
         runbook: leaks\ninputs: { pad: { type: string } }\ntarget: vm/b\nsteps:\n  \
         - { id: say, call: say, via: rooms, give: { room: 'crew token/ä', text: \
         '${inputs.pad}crew token/ä' } }\n",
    );
    let body = json!({ "runbook": "leaks", "inputs": { "pad": "x".repeat(16_384 - 14) } });
    let (status, made) = stage.call(Method::POST, "/api/v1/jobs", Some(&body));
    assert_eq!(status, 201, "{made}");
    let leaks = stage.job_in(made["job"].as_i64().expect("a number"), &["succeeded", "failed"]);
    let request = &leaks["steps"][0]["attempts"][0]["request"];
    assert_eq!(request["target"], "/channels/[secret]/messages", "{request}");
    for part in ["crew token", "crew%20token"] {
        assert!(!leaks.to_string().contains(part), "{request}");
    }
    assert!(!stage.log().contains("crew-token"));
    let (_, secrets) = stage.call(Method::GET, "/api/v1/secrets", None);
    assert!(!secrets.to_string().contains("crew-token"));
}
