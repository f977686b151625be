//! Connections over the real ways: tests, tries, calls that last, calls back, pages, tokens,
//! certificates, faults.

use crate::kit::{Peer, Stage, answer, block, folder, until};
use arvok_connect::signature;
use arvok_standins::{
    Faults,
    cloud::{self, RunningCloud},
    desk::{self, DeskOptions, RunningDesk},
    kiosks,
};
use reqwest::Method;
use serde_json::{Value, json};
use std::time::Duration;

const SOON: Duration = Duration::from_millis(300);

fn desk_of(stage: &Stage) -> RunningDesk {
    let options = DeskOptions { port: 0, token: "faults".into(), secret: "client-secret".into() };
    let desk = block(async { desk::start(options) }).expect("a desk");
    stage.secret("ticket-desk", "client-secret", &["connection/ticket-desk"]);
    let description = desk::DESCRIPTION.replace("http://127.0.0.1:7405", &desk.url());
    let file = folder("desk").join("description.yaml");
    std::fs::write(&file, description).expect("writes");
    let made = stage.arvok(&[
        "connection",
        "import",
        file.to_str().expect("a path"),
        "--name",
        "ticket-desk",
    ]);
    assert_eq!(made.code, 0, "{}", made.all());
    stage.publish(&made.out);
    desk
}

fn cloud_of(stage: &Stage) -> RunningCloud {
    let cloud = block(async { cloud::start(0, "cloud-token".into(), SOON) }).expect("a cloud");
    stage.secret("cloud", "cloud-token", &["connection/cloud"]);
    stage.publish(&format!(
        "connector: cloud
test: about
operations:
  about: {{ request: {{ method: GET, path: /about }} }}
  instance.show:
    takes: {{ name: {{ type: string }} }}
    request: {{ method: GET, path: '/instances/${{give.name}}' }}
  instance.make:
    takes: {{ name: {{ type: string }}, preemptible: {{ type: boolean, default: false }} }}
    request: {{ method: POST, path: /instances, body: {{ name: '${{give.name}}', preemptible: '${{give.preemptible}}' }} }}
    until:
      look: {{ method: GET, path: '/operations/${{first.body.operation}}' }}
      done: response.body.state == 'done'
      every: 100ms
      within: 5s
    output: '{{\"instance\": response.body.instance}}'
    probe: {{ call: instance.show, give: {{ name: '${{give.name}}' }}, done: result.state != 'gone' }}
  instance.save:
    takes: {{ name: {{ type: string }} }}
    request: {{ method: POST, path: '/instances/${{give.name}}/save', body: {{ call_back: '${{callback}}' }} }}
    callback: {{ within: 10s, failed: called.body.ok == false, output: '{{\"saved_as\": called.body.saved_as}}' }}
---
connection: cloud
connector: cloud
base: {}
credential: {{ bearer: \"${{secret('cloud')}}\" }}
timeout: 2s
",
        cloud.url()
    ));
    cloud
}

/// Launches a runbook of one call; the job as it ended.
fn called(stage: &Stage, name: &str, step: &str) -> Value {
    stage
        .publish(&format!("runbook: {name}\ninputs: {{}}\ntarget: vm/{name}\nsteps: [ {step} ]\n"));
    let (status, made) =
        stage.call(Method::POST, "/api/v1/jobs", Some(&json!({ "runbook": name, "inputs": {} })));
    assert_eq!(status, 201, "{made}");
    stage.job_in(made["job"].as_i64().expect("a number"), &["succeeded", "failed", "unsure"])
}

/// What its step gave at its last try.
fn output(job: &Value) -> &Value {
    let tries = job["steps"][0]["attempts"].as_array().expect("tries");
    &tries.last().expect("one")["output"]
}

#[test]
fn a_description_becomes_a_connection_that_is_tested_tried_and_looked_at() {
    let stage = Stage::bare();
    let desk = desk_of(&stage);
    let tested = stage.arvok(&["connection", "test", "ticket-desk"]);
    assert_eq!(tested.code, 0, "{}", tested.all());
    assert!(
        tested.out.contains("well in") && tested.out.contains("(called about)"),
        "{}",
        tested.out
    );

    let give = ["--give", "title=Gate 3 is dark", "--give", "about=vm/brack-kiosk-3"];
    let unasked =
        stage.arvok(&[&["connection", "try", "ticket-desk", "openTicket"][..], &give].concat());
    assert_eq!(unasked.code, 2, "nobody can be asked: {}", unasked.all());
    assert!(unasked.out.contains("POST /tickets"), "{}", unasked.out);
    let dry = stage.arvok(
        &[&["connection", "try", "ticket-desk", "openTicket", "--dry-run"][..], &give].concat(),
    );
    assert_eq!((dry.code, desk.with(|d| d.tickets.len())), (0, 0), "{}", dry.all());
    let opened = stage
        .arvok(&[&["connection", "try", "ticket-desk", "openTicket", "--yes"][..], &give].concat());
    assert_eq!((opened.code, desk.with(|d| d.tickets.len())), (0, 1), "{}", opened.all());
    let wrong = stage.arvok(&[
        "connection",
        "try",
        "ticket-desk",
        "openTicket",
        "--give",
        "title=",
        "--yes",
    ]);
    assert!(wrong.err.contains("the input `title` is wrong"), "{}", wrong.all());
    let unknown = stage.arvok(&["connection", "try", "ticket-desk", "openTicet"]);
    assert!(unknown.err.contains("did you mean `openTicket`?"), "{}", unknown.all());

    // Who may only look calls nothing that changes something.
    let made = stage
        .call(Method::POST, "/api/v1/tokens", Some(&json!({ "name": "pat", "role": "responder" })))
        .1;
    let responder = made["token"].as_str().expect("a token").to_owned();
    let try_it = |token: &str, operation: &str, give: Value| {
        let path = format!("/api/v1/connections/ticket-desk/operations/{operation}/try");
        answer(stage.request(Method::POST, &path).bearer_auth(token).json(&json!({ "give": give })))
            .0
    };
    assert_eq!(try_it(&responder, "openTicket", json!({ "title": "x" })), 403);
    assert_eq!(try_it(&responder, "listTickets", json!({})), 200);

    let calls = until("the calls to be written", || {
        let page = stage.get("/api/v1/connections/ticket-desk/calls");
        (page["items"].as_array().expect("a list").len() >= 3).then_some(page)
    });
    let by: Vec<&str> = calls["items"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|c| c["by"].as_str())
        .collect();
    assert!(by.contains(&"token/pat"), "{calls}");
    let shown = stage.arvok(&["connection", "show", "ticket-desk"]);
    for part in [
        "Connection ticket-desk, well",
        "secret      ticket-desk",
        "openTicket",
        "keyed",
        "POST /tickets",
    ] {
        assert!(shown.out.contains(part), "{part}: {}", shown.out);
    }
    assert!(!shown.out.contains("client-secret"));
    assert!(stage.arvok(&["connection", "list"]).out.contains("ticket-desk"));
    // One token does for all of them; one that is taken back is fetched anew at once.
    assert_eq!(desk.with(|d| d.tokens_given()), 1);
    desk.with(|d| d.take_back_tokens());
    assert_eq!(stage.arvok(&["connection", "test", "ticket-desk"]).code, 0);
    assert_eq!(desk.with(|d| d.tokens_given()), 2);
    // With a secret that is not known there it is refused before anything is sent.
    stage.secret("ticket-desk", "another", &["connection/ticket-desk"]);
    desk.with(|d| d.take_back_tokens());
    let refused = stage.arvok(&["connection", "test", "ticket-desk"]);
    assert_eq!(refused.code, 1, "{}", refused.all());
    assert!(
        refused.out.contains("not-sent") && refused.out.contains("this client is not known here"),
        "{}",
        refused.out
    );
}

#[test]
fn a_list_in_pages_is_one_list_and_a_key_opens_once() {
    let stage = Stage::bare();
    let desk = desk_of(&stage);
    desk.set_faults(Faults { hang_up: 1, ..Faults::default() });
    let step = "{ id: open, call: openTicket, via: ticket-desk, give: { title: once }, retry: { \
        times: 3, wait: 50ms } }";
    let job = called(&stage, "opens", step);
    assert_eq!(
        (job["job"]["state"].as_str(), desk.with(|d| d.tickets.len())),
        (Some("succeeded"), 1),
        "{job:#}"
    );

    let register =
        block(async { kiosks::start(0, "kiosk-token".into(), SOON) }).expect("a register");
    stage.secret("kiosks", "kiosk-token", &["connection/kiosks"]);
    stage.publish(&format!(
        "connector: kiosks
operations:
  list:
    takes: {{ terminal: {{ type: string, default: null }} }}
    request: {{ method: GET, path: /kiosks, query: {{ terminal: '${{give.terminal}}' }} }}
    pages: {{ list: response.body, next: {{ link: next }} }}
    output: '{{\"kiosks\": list}}'
---
connection: kiosks
connector: kiosks
base: {}
credential: {{ bearer: \"${{secret('kiosks')}}\" }}
",
        register.url()
    ));
    let job = called(&stage, "lists", "{ id: list, call: list, via: kiosks }");
    assert_eq!(output(&job)["kiosks"].as_array().expect("a list").len(), 8, "{job:#}");
    // A page in the middle that fails is no shorter list.
    register.set_faults(Faults { garbled: 1, ..Faults::default() });
    let job = called(&stage, "garbled", "{ id: list, call: list, via: kiosks }");
    assert_eq!(job["job"]["state"], "failed", "{job:#}");
}

#[test]
fn what_is_done_later_is_waited_for_looked_at_or_called_back_once() {
    let stage = Stage::bare();
    let cloud = cloud_of(&stage);
    let make = |name: &str| {
        format!("{{ id: make, call: instance.make, via: cloud, give: {{ name: {name} }} }}")
    };
    let job = called(&stage, "makes", &make("worker-8"));
    assert_eq!(output(&job), &json!({ "instance": "worker-8" }), "{job:#}");
    // It was begun, and nobody knows more: the operation's own probe tells.
    cloud.set_faults(Faults { hang_up: 1, ..Faults::default() });
    let job = called(&stage, "probes", &make("worker-9"));
    assert_eq!(job["job"]["state"], "succeeded", "{job:#}");
    assert_eq!(output(&job)["state"], "starting", "what the probe saw: {job:#}");

    // A page that calls back twice is one answer.
    cloud.set_faults(Faults { twice: true, ..Faults::default() });
    let save = "{ id: save, call: instance.save, via: cloud, give: { name: timetable-worker-7 } }";
    let job = called(&stage, "saves", save);
    assert_eq!(job["job"]["state"], "succeeded", "{job:#}");
    assert!(
        output(&job)["saved_as"]
            .as_str()
            .is_some_and(|at| at.starts_with("store/timetable-worker-7/")),
        "{job:#}"
    );
    let sent = &job["steps"][0]["attempts"][0]["request"]["body"]["call_back"];
    assert_eq!(sent, "[callback]", "no record has the address: {job:#}");
    let told =
        stage.records().rows("SELECT count(*) AS n FROM alerts WHERE kind = 'call.answered'");
    assert_eq!(told[0]["n"], 1);
    // What is no address of ours says so, and so does one that nobody waits for any more.
    let post =
        |path: &str| answer(stage.request(Method::POST, path).json(&json!({ "ok": true }))).0;
    assert_eq!(post("/callback/abc"), 404);
}

#[test]
fn a_call_back_is_believed_only_with_the_key_of_its_call_where_the_other_side_signs() {
    let stage = Stage::bare();
    let peer = Peer::start();
    stage.publish(&format!(
        "connector: signs\noperations:\n  save:\n    request: {{ method: POST, path: /x, body: {{ \
        at: '${{callback}}', key: '${{callback_key}}' }} }}\n    \
        callback: {{ within: 30s, signed: {{ hmac_sha256: X-Signature }} }}\n---\nconnection: \
        signs\nconnector: signs\nbase: {}\n---\n\
        runbook: saves\ninputs: {{}}\ntarget: vm/a\nsteps: [ {{ id: save, call: save, via: signs \
        }} ]\n",
        peer.url
    ));
    let (_, made) = stage.call(
        Method::POST,
        "/api/v1/jobs",
        Some(&json!({ "runbook": "saves", "inputs": {} })),
    );
    let job = made["job"].as_i64().expect("a number");
    stage.job_in(job, &["waiting"]);
    let sent: Value = serde_json::from_str(&peer.told()[0].body).expect("JSON");
    let (at, key) =
        (sent["at"].as_str().expect("an address"), sent["key"].as_str().expect("a key"));
    let path = &at[at.find("/callback/").expect("a path")..];
    let body = "{\"size\":7}";
    let post = |signature: Option<String>, body: &str| {
        let request = stage
            .request(Method::POST, path)
            .header("content-type", "application/json")
            .body(body.to_owned());
        answer(match signature {
            Some(signature) => request.header("x-signature", signature),
            None => request,
        })
    };
    let (status, problem) = post(None, body);
    assert_eq!((status, &problem["code"]), (401, &json!("not-signed")), "{problem}");
    assert_eq!(post(Some(signature("another key", body.as_bytes())), body).0, 401);
    assert_eq!(
        post(Some(signature(key, body.as_bytes())), "{\"size\":8}").0,
        401,
        "of another body"
    );
    stage.job_in(job, &["waiting"]);
    assert_eq!(post(Some(format!("sha256={}", signature(key, body.as_bytes()))), body).0, 202);
    let done = stage.job_in(job, &["succeeded"]);
    assert_eq!(output(&done), &json!({ "size": 7 }));
    assert_eq!(post(Some(signature(key, body.as_bytes())), body).0, 409, "it is good once");
    let shown = stage.arvok(&["job", "show", &job.to_string()]).out;
    let told = format!("{done} {} {shown}", stage.log());
    assert!(!told.contains(key) && told.contains("[callback key]"), "{told}");
}

#[test]
fn a_call_back_is_heard_though_the_node_that_called_is_gone() {
    let mut stage = Stage::bare();
    let cloud = block(async { cloud::start(0, "cloud-token".into(), Duration::from_secs(2)) })
        .expect("a cloud");
    stage.secret("cloud", "cloud-token", &["connection/cloud"]);
    stage.publish(&format!(
        "connector: cloud\noperations:\n  save:\n    request: {{ method: POST, path: \
        /instances/timetable-worker-7/save, body: {{ call_back: '${{callback}}' }} }}\n    \
        callback: {{ within: 30s }}\n---\nconnection: cloud\nconnector: cloud\nbase: \
        {}\ncredential: {{ bearer: \"${{secret('cloud')}}\" }}\n---\nrunbook: saves\ninputs: \
        {{}}\ntarget: vm/a\nsteps: [ {{ id: save, call: save, via: cloud }} ]\n",
        cloud.url()
    ));
    let (_, made) = stage.call(
        Method::POST,
        "/api/v1/jobs",
        Some(&json!({ "runbook": "saves", "inputs": {} })),
    );
    let job = made["job"].as_i64().expect("a number");
    stage.job_in(job, &["waiting"]);
    stage.kill_node();
    stage.start_node();
    let ended = stage.job_in(job, &["succeeded", "failed"]);
    assert_eq!(output(&ended)["ok"], true, "{ended:#}");
}

/// What an operation is given in the test below: for each of its inputs something that is there.
fn something(takes: &Value) -> Value {
    let value = |name: &str, schema: &Value| match name {
        "vm" => json!("vm/quill-report-2"),
        "to" if schema["format"] == "resource" => json!("host/quill-hv-4"),
        "to" | "answer_to" => json!("ops@skerrow.example"),
        "disk" => json!("scratch"),
        "service" => json!("service/booking-web"),
        "version" => json!("5.1.3"),
        "kiosk" => json!("kiosk/brack-kiosk-1"),
        "feature" => json!("feature/new-fares"),
        "instance" => json!("instance/timetable-worker-7"),
        "page" => json!("page/sailings"),
        "port" => json!("ge-0/0/7"),
        "number" => json!(1),
        _ if schema["type"] == "integer" => json!(1),
        _ if schema["type"] == "boolean" => json!(true),
        _ => json!("words"),
    };
    let needed = takes
        .as_object()
        .into_iter()
        .flatten()
        .filter(|(_, schema)| schema.get("default").is_none());
    Value::Object(needed.map(|(name, schema)| (name.clone(), value(name, schema))).collect())
}

/// Whatever goes wrong at the other side, each call of the library ends in one of the known ways,
/// and soon.
#[test]
fn under_every_fault_every_operation_of_the_library_ends_as_what_it_is() {
    let stage = Stage::with_demo();
    stage.harbour.desk.with(|desk| desk.tickets.clear());
    let mut operations = Vec::new();
    for connection in stage.get("/api/v1/connections")["items"].as_array().expect("a list") {
        let name = connection["name"].as_str().expect("a name");
        // Machines and devices have faults of other layers, and tests of their own; so has what
        // the harbour does not have, and Arvok's own records have no other side. The switch of
        // pier 3 is reached by a runner there, and is the one of `pier-switch-web`.
        let elsewhere = [
            "yard-machines",
            "yard-hosts",
            "pier-switches",
            "yard-controllers",
            "pier-3",
            "own-records",
        ];
        if elsewhere.contains(&name) {
            continue;
        }
        let detail = stage.get(&format!("/api/v1/connections/{name}"));
        let all = detail["operations"]
            .as_array()
            .expect("a list")
            .iter()
            .filter(|o| o["follows"] != "callback");
        operations.extend(all.map(|o| {
            (
                name.to_owned(),
                o["name"].as_str().expect("a name").to_owned(),
                something(&o["takes"]),
            )
        }));
    }
    assert!(operations.len() > 40, "{}", operations.len());
    // What may become of a call: of those that are told of as done some were refused there for
    // their own reasons.
    let faults = [
        ("well", Faults::default(), &["done", "refused"][..]),
        ("slow", Faults { delay_ms: 11_000, ..Faults::default() }, &["unknown"]),
        ("busy", Faults { busy: 1_000, ..Faults::default() }, &["unknown"]),
        ("elsewhere", Faults { elsewhere: 1_000, ..Faults::default() }, &["refused"]),
        ("lost", Faults { hang_up: 1_000, ..Faults::default() }, &["unknown"]),
        ("endless", Faults { endless: 1_000, ..Faults::default() }, &["useless", "refused"]),
        (
            "garbled",
            Faults { garbled: 1_000, ..Faults::default() },
            &["useless", "refused", "done"],
        ),
    ];
    for (fault, faults, may) in faults {
        stage.harbour.set_faults(&faults);
        let asked = operations.iter().map(|(connection, operation, give)| {
            let path = format!("/api/v1/connections/{connection}/operations/{operation}/try");
            let request = stage
                .request(Method::POST, &path)
                .bearer_auth(&stage.token)
                .json(&json!({ "give": give }));
            async move {
                let answer = request.send().await.expect("an answer");
                let (status, tried) =
                    (answer.status().as_u16(), answer.json::<Value>().await.expect("JSON"));
                let state = tried["state"].as_str().unwrap_or_default();
                // A mail server says what is wrong by replies of its own: not now, or nothing that
                // tells.
                let mail =
                    tried["request"]["method"] == "MAIL" && ["refused", "unknown"].contains(&state);
                // What is wrong with a page is what a visit to it tells.
                let visit = tried["request"]["method"] == "VISIT" && state == "done";
                // An answer without a body (204) has none that could go wrong.
                let empty = tried["answer"]["status"] == 204 && state == "done";
                assert!(
                    status == 200 && (may.contains(&state) || mail || visit || empty),
                    "{fault}: {connection} {operation}: {tried}"
                );
            }
        });
        block(futures_util::future::join_all(asked));
    }

    // What calls back is called by a job, which ends as well.
    let steps = [
        (
            "asks",
            "call: chat.ask, via: crew-chat, give: { channel: yard, text: Well?, buttons: { yes: \
            Well } }",
        ),
        (
            "saves",
            "call: instance.save, via: cloud, give: { instance: instance/timetable-worker-7 }",
        ),
    ];
    let mut lines = Vec::new();
    for (fault, faults) in [
        ("lost", Faults { hang_up: 1_000, ..Faults::default() }),
        ("busy", Faults { busy: 1_000, ..Faults::default() }),
        ("endless", Faults { endless: 1_000, ..Faults::default() }),
        ("garbled", Faults { garbled: 1_000, ..Faults::default() }),
        ("elsewhere", Faults { elsewhere: 1_000, ..Faults::default() }),
    ] {
        stage.harbour.set_faults(&faults);
        for (name, step) in steps {
            let job = called(&stage, name, &format!("{{ id: it, {step}, timeout: 3s }}"));
            lines.push(format!(
                "{fault} {name}: {}",
                job["job"]["state"].as_str().expect("a state")
            ));
        }
    }
    insta::assert_snapshot!("called-back", lines.join("\n"));
}
