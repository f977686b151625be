//! What people do with jobs: launch them by hand, hold them, stop them, over the command and the
//! API.

use crate::kit::{Peer, Stage, answer, until};
use reqwest::Method;
use serde_json::{Value, json};

/// Says something, waits, says something else; takes back what it said, and says goodbye in any
/// case.
const SLOW: &str = "
runbook: slow
inputs: { on: { type: string, format: resource }, times: { type: integer, default: 1 } }
target: ${inputs.on}
steps:
  - id: tell
    call: chat.post
    via: crew-chat
    give: { channel: yard, text: 'begun with ${inputs.on}' }
    undo: { call: chat.post, give: { channel: yard, text: 'never mind ${inputs.on}' } }
  - { id: nap, pause: 1h }
  - { id: more, call: chat.post, via: crew-chat, give: { channel: yard, text: 'went on' } }
always:
  - id: bye
    call: chat.post
    via: crew-chat
    give: { channel: yard, text: 'over with ${inputs.on}' }
    retry: { times: 5, wait: 1s }
";

fn said(stage: &Stage) -> Vec<String> {
    stage.harbour.chat.messages().into_iter().map(|m| m.text).collect()
}

fn launch(stage: &Stage, on: &str) -> i64 {
    let made =
        stage.arvok(&["job", "launch", "slow", "--input", &format!("on={on}"), "--yes", "--json"]);
    assert_eq!(made.code, 0, "{}", made.all());
    let made: Value = serde_json::from_str(&made.out).expect("JSON");
    made["job"].as_i64().expect("a number")
}

#[test]
fn a_runbook_is_launched_by_hand_and_what_it_would_do_is_shown_first() {
    let stage = Stage::with_demo();
    let vm = "vm=vm/quill-report-2";
    let missing = stage.arvok(&["job", "launch", "grow-disk", "--dry-run"]);
    assert_eq!(missing.code, 2, "{}", missing.all());
    assert!(
        missing.err.contains("the input `vm` is missing; give it with --input vm=..."),
        "{}",
        missing.err
    );
    let misspelt = stage.arvok(&[
        "job",
        "launch",
        "grow-disk",
        "--input",
        "vn=vm/quill-report-2",
        "--dry-run",
    ]);
    assert!(
        misspelt.err.contains("there is no input `vn`; did you mean `vm`?"),
        "{}",
        misspelt.all()
    );
    let twice = stage.arvok(&[
        "job",
        "launch",
        "grow-disk",
        "--input",
        vm,
        "--input",
        "vm=vm/quill-1",
        "--dry-run",
    ]);
    assert!(twice.code == 2 && twice.err.contains("--input vm is given twice"), "{}", twice.all());
    let wrong = stage.arvok(&[
        "job",
        "launch",
        "grow-disk",
        "--input",
        vm,
        "--input",
        "step_gib=99",
        "--dry-run",
    ]);
    assert!(
        wrong.code != 0 && wrong.err.contains("the input `step_gib` is wrong"),
        "{}",
        wrong.all()
    );
    let unknown = stage.arvok(&["job", "launch", "grow-disks", "--input", vm]);
    assert!(unknown.err.contains("there is no runbook `grow-disks`"), "{}", unknown.all());
    let nobody = stage.arvok(&["job", "launch", "grow-disk", "--input", vm]);
    assert!(nobody.code == 2 && nobody.err.contains("say --yes"), "{}", nobody.all());

    let dry = stage.arvok(&["job", "launch", "grow-disk", "--input", vm, "--dry-run"]);
    assert_eq!(dry.code, 0, "{}", dry.all());
    insta::assert_snapshot!("dry-run-grow-disk", dry.out);
    let dry = stage.arvok(&[
        "job",
        "launch",
        "relieve-host",
        "--input",
        "host=host/quill-hv-2",
        "--dry-run",
    ]);
    insta::assert_snapshot!("dry-run-relieve-host", dry.out);
    assert_eq!(stage.get("/api/v1/jobs")["items"], json!([]), "nothing was launched");

    let ask = [
        "job",
        "launch",
        "grow-disk",
        "--input",
        vm,
        "--yes",
        "--key",
        "night-1",
        "--why",
        "before the weekend",
    ];
    let made = stage.arvok(&ask);
    assert_eq!(
        made.out.trim(),
        "job 1 is launched; follow it with `arvok job follow 1`",
        "{}",
        made.all()
    );
    let job = stage.job_in(1, &["succeeded"]);
    assert_eq!(job["reason"], "launched by admin: before the weekend");
    assert_eq!(job["job"]["effect"], "not checked", "there is no alarm");
    assert!(
        stage.arvok(&ask).out.contains("job 1 was launched before"),
        "the same key, the same job"
    );
    let other = stage.arvok(&[
        "job",
        "launch",
        "grow-disk",
        "--input",
        "vm=vm/quill-mail-1",
        "--yes",
        "--key",
        "night-1",
    ]);
    assert!(
        other.code == 6 && other.err.contains("something else was launched under this"),
        "{}",
        other.all()
    );

    let again = stage.arvok(&["job", "again", "1", "--input", "step_gib=8", "--yes"]);
    assert_eq!(again.code, 0, "{}", again.all());
    let job = stage.job_in(2, &["succeeded", "failed"]);
    assert_eq!(job["inputs"]["step_gib"], 8, "the others as before: {}", job["inputs"]);
    assert_eq!(job["inputs"]["vm"], "vm/quill-report-2");
}

#[test]
fn the_same_launch_sent_ten_times_at_once_is_one_job() {
    let stage = Stage::with_demo();
    let other = stage.second_node();
    let body = json!({ "runbook": "start-vm", "inputs": { "vm": "vm/brack-kiosk-3" } });
    let send = |node: &Stage| {
        let request = node.request(Method::POST, "/api/v1/jobs").bearer_auth(&node.token);
        answer(request.header("Idempotency-Key", "ten").json(&body))
    };
    let answers: Vec<(u16, Value)> = std::thread::scope(|s| {
        let sends: Vec<_> = (0..10).map(|n| s.spawn(move || (n, ()))).collect();
        sends
            .into_iter()
            .map(|t| t.join().expect("sends").0)
            .map(|n| send(if n % 2 == 0 { &stage } else { &other }))
            .collect()
    });
    assert_eq!(answers.iter().filter(|(status, _)| *status == 201).count(), 1, "{answers:?}");
    assert!(
        answers.iter().all(|(status, made)| [200, 201].contains(status) && made["job"] == 1),
        "{answers:?}"
    );
    assert_eq!(stage.get("/api/v1/jobs")["items"].as_array().map(Vec::len), Some(1));
}

#[test]
fn a_job_is_held_goes_on_and_is_stopped_with_what_it_did_taken_back() {
    let stage = Stage::with_demo();
    stage.publish(SLOW);
    let id = launch(&stage, "vm/a").to_string();
    stage.job_in(1, &["waiting"]);
    let held = stage.arvok(&["job", "pause", &id, "--why", "the yard is busy"]);
    assert_eq!(held.code, 0, "{}", held.all());
    let job = stage.job_in(1, &["paused"]);
    assert!(
        job["job"]["doing"]
            .as_str()
            .is_some_and(|d| d.contains("paused by admin: the yard is busy")),
        "{}",
        job["job"]
    );
    let twice = stage.arvok(&["job", "pause", &id]);
    assert!(
        twice.code == 6 && twice.err.contains("job 1 is paused, not running or waiting"),
        "{}",
        twice.all()
    );
    let waiting = launch(&stage, "vm/a");
    assert_eq!(stage.arvok(&["job", "resume", &id]).code, 0);
    stage.job_in(1, &["waiting"]);
    assert_eq!(
        stage.get(&format!("/api/v1/jobs/{waiting}"))["job"]["state"],
        "queued",
        "its target is taken"
    );

    let stopped = stage.arvok(&["job", "cancel", &id, "--undo", "--why", "the wrong machine"]);
    assert_eq!(stopped.code, 0, "{}", stopped.all());
    let job = stage.job_in(1, &["cancelled"]);
    assert_eq!(job["job"]["failure"], "cancelled by admin: the wrong machine");
    let acts: Vec<[&Value; 3]> = job["acts"]
        .as_array()
        .expect("acts")
        .iter()
        .map(|act| [&act["by"], &act["act"], &act["detail"]])
        .collect();
    assert_eq!(
        json!(acts[1..]),
        json!([
            ["token/admin", "job.paused", "the yard is busy"],
            ["token/admin", "job.resumed", null],
            ["token/admin", "job.cancelled", "the wrong machine"]
        ])
    );
    let recorded = stage.get("/api/v1/audit?act=job.cancelled");
    assert_eq!(recorded["items"][0]["what"], "job 1", "{recorded}");
    assert_eq!(said(&stage)[..3], ["begun with vm/a", "never mind vm/a", "over with vm/a"]);
    assert_eq!(job["steps"][1]["state"], "stopped");
    assert_eq!(job["steps"][2]["state"], "not run");
    assert_eq!(job["further"][0]["label"], "always");
    // The next on the target has its turn; it is stopped without taking anything back.
    stage.job_in(waiting, &["waiting"]);
    assert_eq!(stage.arvok(&["job", "cancel", &waiting.to_string()]).code, 0);
    stage.job_in(waiting, &["cancelled"]);
    assert_eq!(said(&stage)[3..], ["begun with vm/a", "over with vm/a"]);
    let over = stage.arvok(&["job", "cancel", &id]);
    assert!(over.code == 6 && over.err.contains("job 1 is cancelled, not"), "{}", over.all());
}

#[test]
fn a_job_at_work_on_another_node_hears_what_is_said_here() {
    let mut stage = Stage::with_demo();
    let other = stage.second_node();
    stage.publish(SLOW);
    // One peer for both nodes, so that it does not matter which of them executes the job.
    let peer = Peer::start();
    peer.delay(std::time::Duration::from_secs(8));
    stage.publish(&peer.definitions("safe"));
    let text = SLOW.replace("runbook: slow", "runbook: look").replace(
        "  - { id: nap, pause: 1h }",
        "  - { id: nap, call: peer.tell, via: peer, give: { what: x }, timeout: 9s }",
    );
    stage.publish(&text);
    let body = json!({ "runbook": "look", "inputs": { "on": "vm/b" } });
    let (status, made) = stage.call(Method::POST, "/api/v1/jobs", Some(&body));
    assert_eq!(status, 201, "{made}");
    until("the call to be out", || {
        (stage.get("/api/v1/jobs/1")["steps"][1]["state"] == "running").then_some(())
    });
    // Whichever node executes it: both are told, and one of them is not the one that executes.
    let (status, told) =
        other.call(Method::POST, "/api/v1/jobs/1/cancel", Some(&json!({ "why": "enough" })));
    assert_eq!(status, 202, "{told}");
    // Once the cancellation is heard the job can be paused all the same, and goes on to its end when
    // it is resumed; before, the pause is refused.
    let (paused, told) = stage.call(Method::POST, "/api/v1/jobs/1/pause", Some(&json!({})));
    assert!(paused == 202 || paused == 409, "{told}");
    stage.kill_node();
    stage.start_node();
    if paused == 202 {
        stage.job_in(1, &["paused"]);
        let (status, told) = other.call(Method::POST, "/api/v1/jobs/1/resume", Some(&json!({})));
        assert_eq!(status, 202, "{told}");
    }
    let job = stage.job_in(1, &["cancelled"]);
    assert!(
        job["job"]["failure"].as_str().is_some_and(|f| f.contains("cancelled by admin: enough")),
        "{}",
        job["job"]
    );
    // Each node of these tests has a chat of its own, so it is asked of the record what was done.
    let always = &job["further"][0]["steps"][0];
    assert!(always["attempts"].as_array().is_some_and(|a| !a.is_empty()), "{job:#}");
    assert_eq!(job["steps"][2]["state"], "not run", "{job:#}");
}

#[test]
fn of_a_long_list_the_items_that_tell_something_are_shown_and_the_others_counted() {
    let stage = Stage::bare();
    stage.publish(
        "runbook: long\ntarget: group/long\ninputs: { n: { type: array } }\nsteps:\n  - id: pool\n    \
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
        each: inputs.n\n    \
         as: n\n    at_once: 50\n    failures: report\n    steps:\n      - { id: small, require: n \
         != 121 }\n      \
         - { id: rests, when: n == 126, pause: 10m }\n",
    );
    let body = json!({ "runbook": "long", "inputs": { "n": (1..=130).collect::<Vec<_>>() } });
    let job =
        stage.call(Method::POST, "/api/v1/jobs", Some(&body)).1["job"].as_i64().expect("a number");
    stage.job_in(job, &["waiting"]);
    let shown = stage.arvok(&["job", "show", &job.to_string()]).out;
    let named = |n: usize| shown.contains(&format!("    {n}: {n}:\n"));
    assert!(named(100) && !named(101) && named(121) && named(126) && !named(130), "{shown}");
    assert!(shown.contains("\n    28 more, none of them open or failed\n"), "{shown}");
}

/// Tells two peers of something, the second within a short time.
const FRAGILE: &str = "
runbook: fragile
target: vm/f
steps:
  - { id: begin, call: chat.post, via: crew-chat, give: { channel: yard, text: begun } }
  - { id: size, set: { gib: 40 } }
  - { id: tell, timeout: 2s, call: peer.tell, via: peer, give: { what: 'size ${steps.size.gib}' } }
outputs: { gib: '${steps.size.gib}' }
";

#[test]
fn a_job_goes_on_from_where_another_failed() {
    let stage = Stage::with_demo();
    let peer = Peer::start();
    stage.publish(&peer.definitions("safe"));
    stage.publish(FRAGILE);
    peer.delay(std::time::Duration::from_secs(6));
    let made = stage.arvok(&["job", "launch", "fragile", "--yes"]);
    assert_eq!(made.code, 0, "{}", made.all());
    stage.job_in(1, &["failed"]);
    peer.delay(std::time::Duration::ZERO);
    let would = stage.arvok(&["job", "again", "1", "--from-failed", "--dry-run"]);
    assert_eq!(
        would.out,
        "  ■ begin stands\n  ■ size stands\n  ▶ tell is where it begins\n",
        "{}",
        would.all()
    );
    let made =
        stage.arvok(&["job", "again", "1", "--from-failed", "--why", "the peer is back", "--yes"]);
    assert!(made.out.starts_with("job 2 goes on from `tell`"), "{}", made.all());
    let done = stage.job_in(2, &["succeeded"]);
    assert_eq!(done["outputs"], json!({ "gib": 40 }));
    assert_eq!(
        done["reason"],
        "launched by admin, from `tell` on, where job 1 ended: the peer is back"
    );
    assert_eq!(done["steps"][0]["attempts"][0]["attempt"], 0, "taken over");
    assert_eq!(said(&stage), ["begun"], "once");
    assert!(peer.told().last().is_some_and(|told| told.body.contains("size 40")));
    let over = stage.arvok(&["job", "again", "2", "--from-failed", "--yes"]);
    assert!(
        over.code == 6 && over.err.contains("it is succeeded; only a job that failed"),
        "{}",
        over.all()
    );
    // Of a step of which nobody knows a person says what it gave.
    stage.publish(&peer.definitions("never"));
    peer.delay(std::time::Duration::from_secs(6));
    assert_eq!(stage.arvok(&["job", "launch", "fragile", "--yes"]).code, 0);
    stage.job_in(3, &["unsure"]);
    let wrong = stage.arvok(&["job", "resolve", "3", "--as", "failed", "--output", "{}"]);
    assert!(
        wrong.code == 2 && wrong.err.contains("only what was done gave something"),
        "{}",
        wrong.all()
    );
    let output = "{\"id\": 7}";
    assert_eq!(stage.arvok(&["job", "resolve", "3", "--as", "done", "--output", output]).code, 0);
    let done = stage.job_in(3, &["succeeded"]);
    assert_eq!(done["steps"][2]["attempts"][0]["output"], json!({ "id": 7 }));
}

/// The jobs that need a person, and how many before each for the same cause.
fn needing(stage: &Stage) -> Vec<(i64, i64)> {
    let watch = stage.get("/api/v1/watch");
    let all = watch["needs_you"].as_array().expect("a list");
    all.iter()
        .map(|job| (job["id"].as_i64().expect("a number"), job["earlier"].as_i64().unwrap_or(0)))
        .collect()
}

#[test]
fn one_cause_needs_a_person_once_until_somebody_has_seen_it() {
    let stage = Stage::bare();
    stage.publish(
        "runbook: shut\ninputs: {}\ntarget: door/a\nsteps: [{ id: no, require: 'false', else: it \
        is locked }]\n---\n\
        runbook: above\ninputs: {}\ntarget: door/b\nsteps: [{ id: below, runbook: shut }]\n",
    );
    let launch = |runbook: &str| {
        let body = json!({ "runbook": runbook });
        let job = stage.call(Method::POST, "/api/v1/jobs", Some(&body)).1["job"]
            .as_i64()
            .expect("a number");
        stage.job_in(job, &["failed"]);
        job
    };
    let (_, second) = (launch("shut"), launch("shut"));
    assert_eq!(needing(&stage), [(second, 1)], "of two that failed alike the last");
    let above = launch("above");
    assert_eq!(
        needing(&stage),
        [(above, 0), (second, 1)],
        "what failed within another is told with that"
    );
    let seen = stage.arvok(&["job", "seen", &second.to_string(), &above.to_string()]);
    assert_eq!(
        seen.out,
        format!("job {second} is set aside as seen\njob {above} is set aside as seen\n"),
        "{}",
        seen.all()
    );
    assert_eq!(needing(&stage), []);
    let shown = stage.arvok(&["job", "show", &second.to_string()]).out;
    assert!(shown.contains("\n  seen        by admin, "), "{shown}");
    let third = launch("shut");
    assert_eq!(
        needing(&stage),
        [(third, 0)],
        "the next one needs a person again, without those that were seen"
    );
    let back = stage.arvok(&["job", "seen", &second.to_string(), "--undo"]);
    assert_eq!(back.out, format!("job {second} needs a person again\n"), "{}", back.all());
    assert_eq!(needing(&stage), [(third, 2)]);
    let well = stage.arvok(&["job", "seen", "999"]);
    assert_eq!(well.code, 5, "{}", well.all());
}

#[test]
fn several_who_go_on_from_one_job_at_once_make_one_job() {
    let stage = Stage::with_demo();
    let peer = Peer::start();
    stage.publish(&peer.definitions("safe"));
    let naps = "  - { id: tell, timeout: 2s, call: peer.tell, via: peer, give: { what: a } }\n  - \
        { id: nap, pause: 1h }\n";
    stage.publish(&format!(
        "runbook: naps\ntarget: vm/n\nsteps:\n  - {{ id: size, set: {{ gib: 40 }} \
        }}\n{naps}timeout: 2h\n"
    ));
    peer.delay(std::time::Duration::from_secs(6));
    let made = stage.call(Method::POST, "/api/v1/jobs", Some(&json!({ "runbook": "naps" })));
    let job = made.1["job"].as_i64().expect("a number");
    stage.job_in(job, &["failed"]);
    peer.delay(std::time::Duration::ZERO);
    let path = format!("/api/v1/jobs/{job}/go-on");
    let ask = || stage.call(Method::POST, &path, Some(&json!({})));
    let mut said: Vec<(u16, i64)> = std::thread::scope(|scope| {
        let all: Vec<_> = (0..6).map(|_| scope.spawn(ask)).collect();
        all.into_iter()
            .map(|one| one.join().expect("answers"))
            .map(|(s, b)| (s, b["job"].as_i64().unwrap_or(0)))
            .collect()
    });
    said.sort_unstable();
    let other = said[0].1;
    assert_eq!(
        said,
        [(200, other), (200, other), (200, other), (200, other), (200, other), (201, other)]
    );
    assert_eq!(stage.get(&format!("/api/v1/jobs/{job}"))["goes_on_as"], other);
    // Once that one is over, it may be gone on from anew.
    stage.job_in(other, &["waiting"]);
    assert_eq!(stage.arvok(&["job", "cancel", &other.to_string()]).code, 0);
    stage.job_in(other, &["cancelled"]);
    let again = ask();
    assert!(
        again.0 == 201 && again.1["job"].as_i64().is_some_and(|made| made > other),
        "{again:?}"
    );
}
