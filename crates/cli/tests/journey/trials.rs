//! Trials: what somebody made up is marked wherever it is seen, looks, and changes nothing.

use crate::kit::{Browser, Peer, Stage, answer, until};
use reqwest::Method;
use serde_json::{Value, json};
use std::time::Duration;

/// A rule that acts at the first alert and no more often than once in an hour, and a runbook that
/// looks at a VM of the stand-in, asks, grows its disk and tells.
const GROWS: &str = r#"
rule: grows
stance: act
listen: { kinds: disk.usage }
settle: { cap: { jobs: 1, per: 1h } }
dispatch: { runbook: grows, inputs: { vm: "${alert.resource}" } }
---
rule: hears
stance: act
listen: { sources: arvok, kinds: job.succeeded, states: noted, labels: { runbook: grows } }
dispatch: { runbook: grows, inputs: { vm: "vm/quill-report-2" } }
---
runbook: grows
inputs: { vm: { type: string, format: resource } }
target: ${inputs.vm}
steps:
  - { id: look, call: vm.inspect, via: yard-hypervisor, give: { vm: "${inputs.vm}" } }
  - id: agree
    ask: { text: "Grow ${inputs.vm}?", choices: { go: Grow it, stay: Leave it }, within: 1h }
  - id: grow
    call: vm.grow_disk
    via: yard-hypervisor
    give: { vm: "${inputs.vm}", disk: "${steps.look.fullest.name}", by_gib: 4 }
  - { id: say, emit: disk.was_grown }
confirm: { alarm: cleared, within: 10m }
outputs: { was: "${steps.look.fullest.size_gib}", chose: "${steps.agree.choice}" }
"#;

const VM: &str = "vm/quill-booking-db-1";

fn stage() -> Stage {
    let stage = Stage::with_demo();
    stage.publish(GROWS);
    stage
}

/// What all disks of the VM hold together.
fn size(stage: &Stage) -> f64 {
    stage.harbour.yard.with(|yard| {
        let vm = yard.vms.get("quill-booking-db-1").expect("a VM");
        vm.disks.iter().map(|disk| disk.size_gib).sum()
    })
}

fn trial(stage: &Stage, more: &[&str]) -> Value {
    let set = [
        "trial",
        "yard-hypervisor",
        "--set",
        "kind=disk.usage",
        "--set",
        "resource=vm/quill-booking-db-1",
        "--set",
        "severity=major",
        "--json",
    ];
    let said = stage.arvok(&[&set[..], more].concat());
    assert_eq!(said.code, 0, "{}", said.all());
    serde_json::from_str(&said.out).expect("JSON")
}

fn count(stage: &Stage, what: &str) -> Value {
    stage.records().rows(&format!("SELECT count(*) AS n FROM {what}"))[0]["n"].clone()
}

#[test]
fn a_trial_walks_the_whole_chain_and_changes_nothing() {
    let stage = stage();
    let before = size(&stage);
    let went = trial(&stage, &[]);
    let (alert, job) = (&went["alerts"][0]["alert"], &went["alerts"][0]["jobs"][0]);
    assert_eq!((&alert["alert"]["trial"], &job["job"]["trial"]), (&json!("dry"), &json!("dry")));
    assert_eq!(job["job"]["state"], "succeeded", "{job:#}");
    assert_eq!(job["job"]["effect"], "not checked");
    assert_eq!(job["outputs"]["chose"], "go");
    assert!(job["outputs"]["was"].as_f64() > Some(1.0), "it looked for real: {job:#}");
    let request = |step: usize| job["steps"][step]["attempts"][0]["request"]["unsent"].clone();
    assert_eq!((request(0), request(2)), (Value::Null, json!(true)), "{job:#}");
    assert_eq!(size(&stage), before, "nothing was done");
    assert_eq!(stage.get("/api/v1/decisions")["items"], json!([]), "nobody was asked");
    assert_eq!(count(&stage, "alerts WHERE kind = 'disk.was_grown'"), 0, "nothing was emitted");
    // What rules make of its events is as dry.
    let heard = || {
        let jobs = stage.get("/api/v1/jobs?rule=hears");
        jobs["items"].as_array()?.first().filter(|job| job["state"] == "succeeded").cloned()
    };
    assert_eq!(until("the job of its event", heard)["trial"], "dry");
    // As people read it.
    stage.arvok(&["trial", "clear"]);
    let said = stage.arvok(&["trial", "yard-hypervisor", "--like", "1", "--set", "value=95"]).all();
    assert!(said.contains("there is no alert 1"), "{said}");
    let like = went["alerts"][0]["alert"]["alert"]["seq"].to_string();
    assert!(stage.arvok(&["alert", "show", &like]).all().contains("no alert"), "cleared away");
}

#[test]
fn what_is_real_goes_as_if_there_were_no_trials() {
    let stage = stage();
    trial(&stage, &[]);
    let alert = json!({ "kind": "disk.usage", "resource": VM, "severity": "major", "id": "x1" });
    let real = stage.send("yard-hypervisor", &alert);
    let job = stage.verdict_is(real, "grows", "dispatched")["job"].as_i64().expect("a job");
    assert_eq!(stage.get(&format!("/api/v1/jobs/{job}"))["job"]["trial"], Value::Null);
    // It waits for a person, who is really asked; and meanwhile a trial is in nobody's way.
    until("the question", || {
        stage.get("/api/v1/decisions")["items"].as_array().filter(|d| d.len() == 1).map(drop)
    });
    stage.arvok(&["trial", "clear"]);
    let went = trial(&stage, &["--set", "id=x1"]);
    let dry = &went["alerts"][0]["jobs"][0]["job"];
    assert_eq!((&dry["trial"], &dry["state"]), (&json!("dry"), &json!("succeeded")), "{dry:#}");
    // Two alarms of one name: the real one alone is counted.
    let alarms = |more: &str| stage.get(&format!("/api/v1/alarms?resource={VM}{more}"));
    assert_eq!(alarms("")["items"].as_array().map(Vec::len), Some(2));
    assert_eq!(alarms("&trial=true")["items"][0]["trial"], true);
    assert_eq!(alarms("&trial=false")["items"].as_array().map(Vec::len), Some(1));
    let watch = stage.get("/api/v1/watch");
    assert_eq!(watch["alarms_open"], 1, "{watch:#}");
    assert_eq!(watch["narrowing"]["dispatched"], 1);
    assert_eq!(watch["narrowing"]["distinct"], 1);
    // The trial's clearing is not that of the real alarm, on whose job it would be the proof.
    stage.arvok(&["decision", "take", "1", "go"]);
    trial(&stage, &["--set", "state=cleared"]);
    let shown = stage.get(&format!("/api/v1/jobs/{job}"));
    assert_ne!(shown["job"]["effect"], "confirmed", "{shown:#}");
    assert_eq!(alarms("&trial=false&state=raised")["items"].as_array().map(Vec::len), Some(1));
    // An id that a trial had is none that came before.
    let again = json!({ "kind": "disk.usage", "resource": "vm/a", "id": "x2" });
    trial(&stage, &["--set", "id=x2"]);
    stage.send("yard-hypervisor", &again);
}

#[test]
fn whoever_may_try_may_not_send_for_real() {
    let stage = stage();
    let token = |role: &str| {
        let said = stage.arvok(&["token", "make", role, "--role", role]);
        said.out.trim().to_owned()
    };
    let post = |token: &str, query: &str| {
        let body = json!({ "kind": "test.a", "resource": "vm/a" }).to_string();
        let request = stage
            .request(Method::POST, &format!("/in/yard-hypervisor{query}"))
            .bearer_auth(token)
            .header("content-type", "application/vnd.arvok.alert+json")
            .body(body);
        let (status, body) = answer(request);
        (status, body["alerts"][0]["trial"].clone())
    };
    let (viewer, responder, author) = (token("viewer"), token("responder"), token("author"));
    let monitor = "monitor-token";
    assert_eq!(post(&viewer, "").0, 403);
    assert_eq!(post(&responder, ""), (202, json!("dry")), "what a person sends is a trial");
    assert_eq!([post(&responder, "?trial=no").0, post(&responder, "?trial=acting").0], [403, 403]);
    assert_eq!(post(&author, "?trial=no"), (202, Value::Null));
    assert_eq!(post(&author, "?trial=acting"), (202, json!("acting")));
    assert_eq!(post(monitor, ""), (202, Value::Null), "what its sender sends is real");
    assert_eq!(post(monitor, "?trial=dry"), (202, json!("dry")));
    assert_eq!(post(monitor, "?trial=acting").0, 400);
    assert_eq!(post(&author, "?trial=maybe").0, 400);
    let made = |token: &str, body: Value| {
        stage.call_as(token, Method::POST, "/api/v1/trials", Some(&body)).0
    };
    let alert = json!({ "kind": "test.a", "resource": "vm/a" });
    let of = |more: Value| {
        let mut body = json!({ "source": "yard-hypervisor" });
        body.as_object_mut().expect("a map").extend(more.as_object().expect("a map").clone());
        body
    };
    assert_eq!(made(&viewer, of(json!({ "alert": alert }))), 403);
    assert_eq!(made(&responder, of(json!({ "alert": alert }))), 202);
    assert_eq!(made(&responder, of(json!({ "alert": alert, "acting": true }))), 403);
    assert_eq!(made(&author, of(json!({ "alert": alert, "acting": true }))), 202);
    assert_eq!(made(&author, of(json!({}))), 400);
    assert_eq!(made(&author, of(json!({ "alert": alert, "payload": {} }))), 400);
    assert_eq!(made(&author, of(json!({ "alert": { "kind": 7 } }))), 422);
    assert_eq!(made(&author, json!({ "source": "nowhere", "alert": alert })), 404);
    assert_eq!(post(&author, "?other=1"), (202, json!("dry")), "other names are the sender's own");
}

#[test]
fn a_trial_that_acts_acts_and_stays_marked() {
    let stage = stage();
    let before = size(&stage);
    let went = std::thread::scope(|scope| {
        let walk = scope.spawn(|| trial(&stage, &["--for-real"]));
        until("the question", || {
            stage.get("/api/v1/decisions")["items"].as_array().filter(|d| d.len() == 1).map(drop)
        });
        assert_eq!(stage.arvok(&["decision", "take", "1", "go"]).code, 0);
        until("the disk", || (size(&stage) > before + 3.9).then_some(()));
        // Its proof is the clearing of the trial's own alarm.
        trial(&stage, &["--set", "state=cleared"]);
        walk.join().expect("ends")
    });
    let job = &went["alerts"][0]["jobs"][0]["job"];
    assert_eq!((&job["trial"], &job["effect"]), (&json!("acting"), &json!("confirmed")), "{job:#}");
    let usage = stage.get("/api/v1/definitions/runbook/grows");
    assert!(!usage.to_string().contains("\"confirmed\":1"), "no trial counts: {usage:#}");
}

#[test]
fn a_sender_may_mark_its_own_test_and_what_cannot_be_read_stays_a_trial() {
    let stage = Stage::with_demo();
    stage.secret("pier", "pier", &["source/pier-probes"]);
    stage.publish(
        "source: pier-probes\nintake: { webhook: { credential: { bearer: \"${secret('pier')}\" } } }\nread:\n  \
         kind: body.what\n  resource: body.on\n  trial: body.drill == true\n",
    );
    let post = |token: &str, query: &str, body: Value| {
        answer(
            stage
                .request(Method::POST, &format!("/in/pier-probes{query}"))
                .bearer_auth(token)
                .json(&body),
        )
    };
    let (_, drill) = post("pier", "", json!({ "what": "a", "on": "vm/a", "drill": true }));
    assert_eq!(drill["alerts"][0]["trial"], "dry");
    let (_, again) = post("pier", "", json!({ "what": "a", "on": "vm/a", "drill": false }));
    assert_eq!(again["alerts"][0]["trial"], Value::Null);
    let (status, _) = post("pier", "", json!({ "what": "a", "on": "vm/a" }));
    assert_eq!(status, 422, "a source that asks for the field needs it");
    let (status, _) = post(&stage.token, "", json!({ "what": "b", "on": "vm/a" }));
    assert_eq!(status, 422);
    stage.publish(
        "source: pier-probes\nintake: { webhook: { credential: { bearer: \"${secret('pier')}\" } } }\nread:\n  \
         kind: body.what\n  resource: body.on\n",
    );
    let source = json!({ "source": "pier-probes" });
    let (status, retried) = stage.call(Method::POST, "/api/v1/unreadable/retry", Some(&source));
    assert_eq!(status, 200, "{retried:#}");
    let marks = |kind: &str| stage.get(&format!("/api/v1/alerts?kind={kind}"))["items"].clone();
    assert_eq!(marks("b")[0]["trial"], "dry", "what a person sent stays what it was");
    assert_eq!(marks("a")[0]["trial"], Value::Null);
}

#[test]
fn an_alert_is_tried_in_the_console_and_all_trials_are_cleared_away_there() {
    let stage = stage();
    let real = json!({ "kind": "disk.usage", "resource": VM, "severity": "minor" });
    let like = stage.send("yard-hypervisor", &real);
    stage.arvok(&["decision", "take", "1", "stay"]);
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go(&format!("/alerts/{like}"));
    browser.click("Try one like it");
    browser.see("An alert in the normal form");
    browser.see("\"disk.usage\"");
    browser.click("Try it");
    browser.click("What came of alert");
    browser.see("trial");
    browser.see("grows");
    let trials = || stage.get("/api/v1/alerts?trial=true&kind=disk.usage")["items"].clone();
    assert_eq!(trials().as_array().map(Vec::len), Some(1));
    // What is no alert is said where it was written.
    browser.go("/sources/yard-hypervisor");
    browser.fill("textarea", "{");
    browser.click("Try it");
    browser.see("this is not JSON");
    until("the trial's job", || {
        let jobs = stage.get("/api/v1/jobs?trial=true");
        let all = jobs["items"].as_array()?;
        let over = |job: &Value| job["state"] == "succeeded" || job["state"] == "failed";
        (!all.is_empty() && all.iter().all(over)).then_some(())
    });
    browser.go("/safety");
    browser.click("Clear all trials away");
    browser.see("are gone");
    until("nothing to be left", || (trials() == json!([])).then_some(()));
    assert_eq!(stage.get("/api/v1/alerts?kind=disk.usage")["items"][0]["seq"], like);
}

#[test]
fn one_step_is_tried_by_itself_while_it_is_written() {
    let stage = Stage::with_demo();
    let before = size(&stage);
    let text = format!(
        "{}steps:\n  - {{ id: look, call: vm.inspect, via: yard-hypervisor, give: {{ vm: '${{inputs.vm}}' }} }}\n  \
         - id: each\n    each: '[4, 8]'\n    as: by\n    steps:\n      - id: grow\n        call: vm.grow_disk\n        \
         via: yard-hypervisor\n        give: {{ vm: '${{inputs.vm}}', disk: '${{steps.look.fullest.name}}', \
         by_gib: '${{by}}' }}\n  - id: grown\n    check: result.fullest.size_gib > 1000.0\n    call: vm.inspect\n    \
         via: yard-hypervisor\n    give: {{ vm: '${{inputs.vm}}' }}\n    every: 5s\n    within: 1m\n",
        "runbook: mine\ninputs: { vm: { type: string, format: resource } }\ntarget: ${inputs.vm}\n"
    );
    let try_it = |token: &str, step: &str, outputs: Value| {
        let body =
            json!({ "text": text, "step": step, "inputs": { "vm": VM }, "outputs": outputs });
        stage.call_as(token, Method::POST, "/api/v1/runbooks/try", Some(&body))
    };
    let token = stage.token.clone();
    let (status, looked) = try_it(&token, "look", json!({}));
    assert_eq!((status, &looked["sent"]), (200, &json!(true)), "{looked:#}");
    let found = looked["output"].clone();
    assert_eq!(looked["answer"]["status"], 200);
    let (_, grown) = try_it(&token, "grown", json!({}));
    assert_eq!((&grown["sent"], &grown["holds"]), (&json!(true), &json!(false)), "{grown:#}");
    // What changes something is shown, as far as it is known.
    let (_, unknown) = try_it(&token, "grow", json!({}));
    assert_eq!((&unknown["sent"], &unknown["step"]["request"]), (&json!(false), &Value::Null));
    let (_, known) = try_it(&token, "grow", json!({ "look": found, "by": 4 }));
    assert_eq!(known["sent"], false);
    assert_eq!(known["step"]["request"]["body"]["by_gib"], 4, "{known:#}");
    assert_eq!(size(&stage), before, "nothing was done");
    // Whoever only reads has nothing called, and what is wrong is said.
    let viewer = stage.arvok(&["token", "make", "vi", "--role", "viewer"]).out.trim().to_owned();
    assert_eq!(try_it(&viewer, "look", json!({})).0, 403);
    assert_eq!(try_it(&token, "nothing", json!({})).0, 404);
    let body = json!({ "text": "runbook: [", "step": "look" });
    assert_eq!(stage.call(Method::POST, "/api/v1/runbooks/try", Some(&body)).0, 422);
    let body = json!({ "text": text, "step": "look" });
    assert_eq!(stage.call(Method::POST, "/api/v1/runbooks/try", Some(&body)).0, 400);
    // And in the console.
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go("/runbooks/grow-disk");
    browser.see("Try a step");
    browser.fill("form textarea", &json!({ "vm": VM }).to_string());
    browser.click("Try it");
    browser.see("was done: it only looks");
}

/// Everything that a runbook can do: looks, calls in lists and side by side, with retries and undos,
/// questions with messages, jobs of steps, and what follows a failure.
fn of_all_kinds(peer: &Peer) -> String {
    format!(
        "
source: tests
intake: {{ webhook: {{ credential: {{ bearer: \"${{secret('tests')}}\" }} }} }}
---
connector: peer
operations:
  peer.look: {{ request: {{ method: GET, path: /look }}, repeat: safe }}
  peer.never:
    takes: {{ what: {{ type: string }} }}
    request: {{ method: POST, path: /tell, body: {{ what: '${{give.what}}' }} }}
  peer.keyed:
    takes: {{ what: {{ type: string }} }}
    request: {{ method: POST, path: /tell, body: {{ what: '${{give.what}}' }} }}
    repeat: keyed
---
connection: peer
connector: peer
base: '{}'
---
runbook: below
inputs: {{ vm: {{ type: string }} }}
target: below/${{inputs.vm}}
steps:
  - {{ id: look, call: peer.look, via: peer }}
  - {{ id: tell, call: peer.keyed, via: peer, give: {{ what: '${{inputs.vm}} below' }} }}
---
runbook: all-kinds
inputs: {{ vm: {{ type: string, format: resource }}, fails: {{ type: boolean }} }}
target: ${{inputs.vm}}
memory: {{ runs: {{ type: integer, default: 0 }} }}
steps:
  - {{ id: look, call: peer.look, via: peer }}
  - id: all
    each: '[1, 2, 3]'
    as: n
    at_once: 2
    steps:
      - id: tell
        call: peer.never
        via: peer
        give: {{ what: '${{inputs.vm}} ${{n}}' }}
        retry: {{ times: 3, wait: 10ms }}
        undo: {{ call: peer.keyed, give: {{ what: '${{inputs.vm}} back' }} }}
  - id: both
    together:
      left: [ {{ id: left, call: peer.keyed, via: peer, give: {{ what: '${{inputs.vm}} left' }} }} ]
      right: [ {{ id: right, check: 'true', call: peer.look, via: peer, within: 5s }} ]
  - id: agree
    ask:
      text: Go on?
      choices: {{ go: Go on }}
      within: 1h
      tell: {{ call: peer.never, via: peer, give: {{ what: '${{decision.text}}' }} }}
  - {{ id: rest, pause: 200ms }}
  - {{ id: child, runbook: below, give: {{ vm: '${{inputs.vm}}' }} }}
  - {{ id: kept, remember: {{ runs: '${{memory.runs + 1}}' }} }}
  - {{ id: holds, require: '!inputs.fails', else: as it should }}
confirm: {{ check: 'true', call: peer.look, via: peer, within: 5s }}
recover: [ {{ id: note, call: peer.never, via: peer, give: {{ what: '${{job.failure}}' }} }} ]
always: [ {{ id: end, call: peer.keyed, via: peer, give: {{ what: the end }} }} ]
---
rule: all-kinds
stance: act
listen: {{ kinds: test.all }}
dispatch: {{ runbook: all-kinds, inputs: {{ vm: '${{alert.resource}}', fails: '${{alert.severity == major}}' }} }}
",
        peer.url
    )
}

/// Over three nodes that die at random, no call of a trial leaves that changes anything.
#[test]
fn no_call_of_a_trial_leaves_from_any_node_whatever_dies() {
    const TRIALS: usize = 24;
    let peer = Peer::start();
    let stage = Stage::bare();
    stage.secret("tests", "skerrow", &["source/tests"]);
    stage.publish(&of_all_kinds(&peer));
    let mut nodes = [stage.second_node(), stage.second_node(), stage];
    let send = |node: &Stage, vm: &str, severity: &str, trial: &str| {
        let alert = json!({ "kind": "test.all", "resource": vm, "severity": severity });
        let door = node.request(Method::POST, &format!("/in/tests{trial}"));
        let (status, said) = answer(door.bearer_auth(&node.token).json(&alert));
        assert_eq!(status, 202, "{said}");
    };
    let mut seed = 7_u64;
    let mut draw = |below: u64| {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from((seed >> 33) % below).expect("small")
    };
    peer.delay(Duration::from_millis(60));
    for n in 0..TRIALS {
        let severity = if n % 3 == 0 { "major" } else { "minor" };
        send(&nodes[draw(3)], &format!("vm/t{n}"), severity, "");
        if n % 4 == 3 {
            let dies = draw(3);
            nodes[dies].kill_node();
            nodes[dies].start_node();
        }
    }
    let last = &nodes[2];
    let tried = "state IN ('succeeded', 'failed') AND trial = 'dry' AND parent IS NULL";
    until("all trials to have ended", || {
        (count(last, &format!("job WHERE {tried}")) == TRIALS).then_some(())
    });
    let ended = count(last, "job WHERE state = 'succeeded' AND parent IS NULL AND trial = 'dry'");
    assert_eq!(ended, TRIALS - TRIALS / 3, "the others fail as they should");
    assert_eq!(count(last, "job WHERE runbook = 'below' AND trial = 'dry'"), TRIALS);
    let told = peer.told();
    assert!(told.len() >= TRIALS * 3, "they look: {}", told.len());
    let changes: Vec<_> = told.iter().filter(|told| !told.body.is_empty()).collect();
    assert!(changes.is_empty(), "{changes:?}");
    assert_eq!(count(last, "memory"), 0, "and remember nothing");
    // What is real tells: it is the same runbook.
    send(last, "vm/real", "major", "?trial=no");
    until("a real job to tell", || (peer.count("vm/real 1") == 1).then_some(()));
}
