//! Runners: calls that are made near the devices. What a runner that dies, freezes or lies leaves
//! behind, and what nodes see of it.

use crate::kit::{Browser, Peer, Runner, Stage, folder, until};
use arvok_standins::machine::Machine;
use nix::sys::signal::Signal;
use reqwest::Method;
use serde_json::{Value, json};
use std::{fs, os::unix::fs::PermissionsExt, time::Duration};

/// A peer that only runners of a site reach, as the documents say.
fn peer(stage: &Stage, timeout: &str, more: &str) -> Peer {
    let peer = Peer::start();
    stage.secret("peer", "pier-password", &["connection/pier"]);
    stage.publish(&format!(
        "connector: peer
operations:
  tell:
    takes: {{ what: {{ type: string }} }}
    request: {{ method: POST, path: /tell, body: {{ what: '${{give.what}}' }} }}
    repeat: never
---
connection: pier
connector: peer
base: {}
credential: {{ bearer: \"${{secret('peer')}}\" }}
through: {{ site: nessfold }}
timeout: {timeout}
{more}
---
runbook: tell
inputs: {{ what: {{ type: string }} }}
target: 'pier/${{inputs.what}}'
steps: [ {{ id: tell, call: tell, via: pier, give: {{ what: '${{inputs.what}}' }} }} ]
",
        peer.url
    ));
    peer
}

fn launch(stage: &Stage, what: &str) -> i64 {
    let asked = json!({ "runbook": "tell", "inputs": { "what": what } });
    let (status, made) = stage.call(Method::POST, "/api/v1/jobs", Some(&asked));
    assert_eq!(status, 201, "{made}");
    made["job"].as_i64().expect("a number")
}

fn is_there(stage: &Stage, name: &str) -> Value {
    until(&format!("runner {name} to be there"), || {
        let runners = stage.get("/api/v1/runners");
        let one = runners.as_array()?.iter().find(|one| one["name"] == name)?.clone();
        one["lag"].as_f64().is_some_and(|lag| lag < 30.0).then_some(one)
    })
}

#[test]
fn a_call_is_made_by_a_runner_near_where_it_goes_and_by_nobody_else() {
    let stage = Stage::bare();
    let second = stage.second_node();
    let peer = peer(&stage, "60s", "");
    let tested = stage.arvok(&["connection", "show", "pier"]);
    assert!(tested.out.contains("runners     site=nessfold"), "{}", tested.all());
    // It waits for its runner, whatever others there are.
    let other = Runner::start(&stage, "brack-1", "site=brack");
    is_there(&stage, "brack-1");
    let early = launch(&stage, "early");
    stage.job_in(early, &["running"]);
    let near = Runner::start(&stage, "nessfold-1", "site=nessfold,kind=pier");
    let done = stage.job_in(early, &["succeeded", "failed"]);
    assert_eq!(done["job"]["state"], "succeeded", "{done:#}");
    assert_eq!(peer.count("early"), 1);
    // A call that another node wants is made by the same runner.
    let asked = json!({ "runbook": "tell", "inputs": { "what": "second" } });
    let (_, made) = second.call(Method::POST, "/api/v1/jobs", Some(&asked));
    stage.job_in(made["job"].as_i64().expect("a number"), &["succeeded"]);
    let tried =
        second.arvok(&["connection", "try", "pier", "tell", "--give", "what=by hand", "--yes"]);
    assert_eq!(tried.code, 0, "{}", tried.all());
    assert_eq!(peer.count("by hand"), 1);

    let one = is_there(&stage, "nessfold-1");
    assert_eq!(one["connections"], json!(["pier"]));
    assert_eq!(one["build"], env!("CARGO_PKG_VERSION"));
    assert!(one["clock_offset"].as_f64().is_some_and(|offset| offset.abs() < 5.0), "{one}");
    let listed = stage.arvok(&["runner", "list"]);
    assert!(listed.out.contains("nessfold-1") && listed.out.contains("pier"), "{}", listed.all());
    assert!(listed.out.contains("site=brack"), "{}", listed.all());
    for log in [stage.log(), second.log(), near.log(), other.log(), listed.all()] {
        assert!(!log.contains("pier-password"), "{log}");
    }

    // Once it is known no more it ends, and what is asked for then says who is missing.
    let removed = stage.arvok(&["runner", "remove", "nessfold-1"]);
    assert_eq!(removed.code, 0, "{}", removed.all());
    until("the runner to end", || near.log().contains("is not known here").then_some(()));
    let (status, _) =
        stage.call_as(&near.token, Method::POST, "/runner/v1/begin", Some(&json!({ "calls": [] })));
    assert_eq!(status, 401);
    let audit = stage.get("/api/v1/audit?act=runner.removed");
    assert_eq!(audit["items"].as_array().map(Vec::len), Some(1), "{audit}");
}

#[test]
fn runners_are_seen_in_the_console_and_lead_to_their_connections() {
    let stage = Stage::bare();
    let _peer = peer(&stage, "20s", "");
    stage.arvok(&["runner", "add", "brack-1", "--labels", "site=brack"]);
    let runner = Runner::start(&stage, "nessfold-1", "site=nessfold");
    is_there(&stage, "nessfold-1");
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go("/system");
    for seen in ["2 runners", "nessfold-1", "site=nessfold", "there", "never heard of", "0 of 16"] {
        browser.see(seen);
    }
    browser.click("pier");
    browser.see("a look whether it answers");
    browser.see("site=nessfold");
    assert!(browser.violations().is_empty());
    // One that was there and is gone is missed until it comes back or is to be there no more.
    drop(runner);
    stage.records().run("UPDATE runner SET seen = seen - interval '1 minute'");
    let alarms = || stage.get("/api/v1/alarms?state=raised&source=arvok")["items"].clone();
    let alarm = until("the alarm about it", || alarms().as_array()?.first().cloned());
    let of = [&alarm["kind"], &alarm["resource"]];
    assert_eq!(of, ["runner.missing", "runner/nessfold-1"], "{alarm}");
    stage.arvok(&["runner", "remove", "nessfold-1"]);
    until("it to be over", || alarms().as_array()?.is_empty().then_some(()));
}

#[test]
fn what_no_runner_takes_was_not_sent_and_says_who_is_missing() {
    let stage = Stage::bare();
    let peer = peer(&stage, "1s", "");
    let tried = |part: &str| {
        let said = stage.arvok(&["connection", "try", "pier", "tell", "--give", "what=x", "--yes"]);
        assert!(said.code != 0 && said.all().contains(part), "{}", said.all());
        assert!(said.all().contains("not-sent"), "{}", said.all());
    };
    tried("no runner with site=nessfold is known; an admin makes one known with");
    let added = stage.arvok(&["runner", "add", "nessfold-1", "--labels", "site=nessfold"]);
    tried("nessfold-1 was never heard of");
    let again = stage.arvok(&["runner", "add", "nessfold-1", "--labels", "site=nessfold"]);
    assert!(again.code != 0 && again.all().contains("is taken"), "{}", again.all());
    let bad = stage.arvok(&["runner", "add", "b", "--labels", "site"]);
    assert!(bad.code == 2 && bad.all().contains("is no label"), "{}", bad.all());
    // A runner serves no labels but its own.
    let wider = Runner::with_token(&stage, added.out.trim(), &["--labels", "site=brack"]);
    until("it to be refused", || wider.log().contains("may serve site=nessfold").then_some(()));
    let unknown = Runner::with_token(&stage, "arvok_nobody", &[]);
    until("it to be refused", || unknown.log().contains("is not known here").then_some(()));
    assert_eq!(peer.told().len(), 0);
    assert_eq!(stage.records().rows("SELECT 1 AS n FROM runner_call").len(), 0, "nothing is left");
}

#[test]
fn of_a_runner_that_dies_or_freezes_a_call_is_unknown_and_nothing_comes_twice() {
    let mut stage = Stage::bare();
    let peer = peer(&stage, "60s", "");
    peer.delay(Duration::from_secs(600));
    let first = Runner::start(&stage, "nessfold-1", "site=nessfold");
    let died = launch(&stage, "died");
    until("it to be sent", || (peer.count("died") == 1).then_some(()));
    drop(first);
    let ended = stage.job_in(died, &["failed", "unsure"]);
    assert!(ended.to_string().contains("was not heard of any more"), "{ended:#}");

    // One that was frozen for longer than the node believes in it records nothing.
    peer.delay(Duration::from_secs(1));
    let second = Runner::start(&stage, "nessfold-2", "site=nessfold");
    is_there(&stage, "nessfold-2");
    let frozen = launch(&stage, "frozen");
    until("it to be sent", || (peer.count("frozen") == 1).then_some(()));
    second.signal(Signal::SIGSTOP);
    let ended = stage.job_in(frozen, &["failed", "unsure"]);
    assert!(ended.to_string().contains("was not heard of any more"), "{ended:#}");
    second.signal(Signal::SIGCONT);
    // It goes on with what comes then.
    let after = launch(&stage, "after");
    stage.job_in(after, &["succeeded"]);
    let still = stage.get(&format!("/api/v1/jobs/{frozen}"));
    assert_eq!(still["job"]["state"], ended["job"]["state"], "nothing was added: {still:#}");
    assert_eq!((peer.count("frozen"), peer.count("died")), (1, 1));

    // Of a node that dies nobody waits for the call any more, and it is broken off.
    peer.delay(Duration::from_secs(600));
    let left = launch(&stage, "left");
    until("it to be sent", || (peer.count("left") == 1).then_some(()));
    stage.kill_node();
    stage.start_node();
    until("it to be broken off", || second.log().contains("nobody waits for it").then_some(()));
    stage.job_in(left, &["failed", "unsure"]);
    peer.delay(Duration::ZERO);
    let done = launch(&stage, "done");
    stage.job_in(done, &["succeeded"]);
    assert_eq!(peer.count("left"), 1);
}

#[test]
fn a_runner_is_handed_the_secrets_of_that_connection_alone_by_which_a_call_goes() {
    let stage = Stage::bare();
    stage.secret("office", "office-password", &["connection/array"]);
    stage.secret("shell", "shell-password", &["connection/shell"]);
    stage.publish(
        "connector: array
operations:
  waiting: { command: { args: [date], looks: true } }
  flush: { request: { method: POST, path: /flush } }
---
connection: array
connector: array
base: http://127.0.0.1:9
credential: { bearer: \"${secret('office')}\" }
through: { site: nessfold }
also: [shell]
---
connector: any
operations: { about: { command: { args: [date], looks: true } } }
---
connection: shell
connector: any
base: ssh://127.0.0.1:9
credential: { basic: { user: pat, password: \"${secret('shell')}\" } }
through: { site: brack }
---
runbook: waiting
target: vm/array
steps: [ { id: waiting, call: waiting, via: array } ]
",
    );
    let asked = json!({ "name": "brack-1", "labels": { "site": "brack" } });
    let (_, made) = stage.call(Method::POST, "/api/v1/runners", Some(&asked));
    let token = made["token"].as_str().expect("a token");
    let (status, job) =
        stage.call(Method::POST, "/api/v1/jobs", Some(&json!({ "runbook": "waiting" })));
    assert_eq!(status, 201, "{job}");
    let claim = json!({ "protocol": 1, "build": "0.1.0", "at_once": 9, "room": 1,
        "wait_ms": 20_000, "at": "2026-11-25T12:00:00Z" });
    let (_, claimed) = stage.call_as(token, Method::POST, "/runner/v1/claim", Some(&claim));
    let work = &claimed["calls"][0]["work"];
    assert_eq!((&work["via"], &work["act"]["operation"]), (&json!("array"), &json!("waiting")));
    let opened = work["opened"].as_object().expect("what is opened");
    assert_eq!(opened.keys().collect::<Vec<_>>(), ["shell"], "{claimed}");
    assert_eq!(opened["shell"]["secrets"]["shell"], "shell-password");
    assert!(!claimed.to_string().contains("office-password"), "{claimed}");
}

#[test]
fn a_hostile_runner_answers_its_own_calls_alone() {
    let stage = Stage::bare();
    let peer = peer(&stage, "20s", "");
    let add = |name: &str, labels: Value| {
        let asked = json!({ "name": name, "labels": labels });
        let (status, made) = stage.call(Method::POST, "/api/v1/runners", Some(&asked));
        assert_eq!(status, 201, "{made}");
        made["token"].as_str().expect("a token").to_owned()
    };
    let (mine, theirs) =
        (add("mine", json!({ "site": "nessfold" })), add("theirs", json!({ "site": "brack" })));
    let say = |token: &str, what: &str, body: &Value| {
        stage.call_as(token, Method::POST, &format!("/runner/v1/{what}"), Some(body))
    };
    let claim = |room: u32| {
        json!({ "protocol": 1, "build": "0.1.0", "at_once": 9, "room": room, "wait_ms": 20_000,
            "at": "2026-11-25T12:00:00Z" })
    };
    // Without a call of its own it gets nothing, and cannot ask as a person.
    let (status, _) = stage.call_as(&mine, Method::GET, "/api/v1/jobs", None);
    assert_eq!(status, 401);
    let (status, _) = say(&stage.token, "claim", &claim(1));
    assert_eq!(status, 401, "nor a person as a runner");
    let old = json!({ "protocol": 9, "build": "x", "at_once": 1, "room": 1, "wait_ms": 0, "at": "2026-11-25T12:00:00Z" });
    let (status, problem) = say(&mine, "claim", &old);
    assert!(status == 400 && problem.to_string().contains("one version apart"), "{problem}");

    let job = launch(&stage, "hostile");
    let (status, claimed) = say(&mine, "claim", &claim(1));
    assert_eq!((status, claimed["calls"].as_array().map(Vec::len)), (200, Some(1)), "{claimed}");
    let call = &claimed["calls"][0];
    assert_eq!(call["work"]["opened"]["pier"]["secrets"]["peer"], "pier-password");
    let named = |claim: &str| json!({ "id": call["id"], "claim": claim });
    let right = call["claim"].as_str().expect("a claim").to_owned();
    let end =
        |claim: &str, result: Value| json!({ "id": call["id"], "claim": claim, "result": result });
    let output = json!({ "kind": "output", "output": { "stolen": true } });
    // Neither another runner nor another claim ends it, begins it, or keeps it.
    assert_eq!(say(&theirs, "end", &end(&right, output.clone())).0, 409);
    assert_eq!(say(&mine, "end", &end("guessed", output.clone())).0, 409);
    assert_eq!(say(&theirs, "begin", &json!({ "calls": [named(&right)] })).1["calls"], json!([]));
    let (_, over) = say(&theirs, "beat", &json!({ "calls": [named(&right)] }));
    assert_eq!(over["calls"], json!([call["id"]]));
    assert_eq!(
        say(&mine, "begin", &json!({ "calls": [named(&right)] })).1["calls"],
        json!([call["id"]])
    );
    // Lines are bounded, without secrets, and move no terminal.
    let lines = format!("{}\n\u{1b}[2Jpier-password\n", "x".repeat(200_000));
    let mut beat = named(&right);
    beat["lines"] = json!(lines);
    beat["line_count"] = json!(2);
    assert_eq!(say(&mine, "beat", &json!({ "calls": [beat] })).1["calls"], json!([]));
    let shown = stage.records().rows("SELECT lines FROM live_output");
    let text = shown[0]["lines"].as_str().expect("a text");
    assert!(text.len() < 10_000 && text.ends_with("[secret]"), "{text}");
    // What is too large or too deep is no output.
    let large = json!({ "kind": "output", "output": "x".repeat(1 << 20) });
    assert_eq!(say(&mine, "end", &end(&right, large)).0, 413);
    let mut deep = json!(1);
    for _ in 0..100 {
        deep = json!([deep]);
    }
    let deep = json!({ "kind": "output", "output": deep });
    assert_eq!(say(&mine, "end", &end(&right, deep)).0, 204);
    assert_eq!(say(&mine, "end", &end(&right, output)).0, 409, "once");
    let ended = stage.job_in(job, &["failed", "unsure"]);
    assert!(ended.to_string().contains("its runner made no output"), "{ended:#}");
    assert_eq!(peer.told().len(), 0);

    let many: Vec<Value> = (0..65).map(|n| json!({ "id": n, "claim": "x" })).collect();
    assert_eq!(say(&mine, "begin", &json!({ "calls": many })).0, 400);
}

#[test]
fn a_machine_is_trusted_looked_at_and_watched_through_its_runner_with_a_secret_of_its_own() {
    let stage = Stage::bare();
    let machine = Machine::scratch("runner").unwrap_or_else(|e| panic!("{e}"));
    let key = machine.key().expect("a key");
    stage.publish(&format!(
        "connector: linux
operations:
  talk:
    command: {{ shell: 'for n in 1 2 3 4 5 6; do echo \"line $n\"; sleep 0.5; done', looks: true }}
---
connection: quill
connector: linux
base: {base}
credential: {{ key: {{ user: {user}, private: \"${{secret('quill-key')}}\" }} }}
through: {{ site: nessfold }}
runner_secrets: [quill-key]
timeout: 20s
---
runbook: listen
target: vm/quill
steps: [ {{ id: talk, call: talk, via: quill }} ]
",
        base = machine.base(),
        user = machine.user(),
    ));
    let data = folder("own-secrets");
    let (file, kept) = (data.join("secrets.yaml"), data.join("key"));
    fs::write(&kept, &key).expect("a key");
    let secrets = |to: &str| {
        let text = format!("quill-key: {{ file: {}, to: ['{to}'] }}\n", kept.display());
        fs::write(&file, text).expect("secrets");
    };
    secrets("ssh://10.2.0.9:22");
    let added = stage.arvok(&["runner", "add", "nessfold-1", "--labels", "site=nessfold"]);
    let options = ["--labels", "site=nessfold", "--secrets", file.to_str().expect("a path")];
    let open = Runner::with_token(&stage, added.out.trim(), &options);
    until("it to be refused", || open.log().contains("others may read it").then_some(()));
    fs::set_permissions(&file, fs::Permissions::from_mode(0o600)).expect("a mode");
    let elsewhere = Runner::with_token(&stage, added.out.trim(), &options);
    is_there(&stage, "nessfold-1");
    let refused = stage.arvok(&["connection", "test", "quill"]);
    let why = "secret `quill-key` may not go to ssh://127.0.0.1";
    assert!(refused.code != 0 && refused.all().contains(why), "{}", refused.all());
    drop(elsewhere);

    secrets(machine.base().as_str());
    let runner = Runner::with_token(&stage, added.out.trim(), &options);
    // A connection that shows it is an admin's word, as with a secret that nodes keep.
    let asked = json!({ "name": "some-author", "role": "author" });
    let (_, made) = stage.call(Method::POST, "/api/v1/tokens", Some(&asked));
    let text = format!(
        "connection: mine\nconnector: linux\nbase: {}\ncredential: {{ key: {{ user: a, private: \
         \"${{secret('quill-key')}}\" }} }}\nthrough: {{ site: nessfold }}\nrunner_secrets: \
         [quill-key]\n",
        machine.base()
    );
    let body = json!({ "files": [{ "file": "mine.yaml", "text": text }] });
    let author = made["token"].as_str().expect("a token");
    let (status, problem) = stage.call_as(author, Method::POST, "/api/v1/publish", Some(&body));
    assert_eq!(status, 403, "{problem}");
    let fingerprint = machine.fingerprint().expect("a key");
    let unknown = stage.arvok(&["connection", "test", "quill"]);
    assert!(unknown.all().contains("nobody has trusted it yet"), "{}", unknown.all());
    let trusted = stage.arvok(&["connection", "trust", "quill", "--fingerprint", &fingerprint]);
    assert_eq!(trusted.code, 0, "{}", trusted.all());
    let tested = stage.arvok(&["connection", "test", "quill"]);
    assert_eq!(tested.code, 0, "{}", tested.all());
    let followed = stage.arvok(&["job", "launch", "listen", "--yes", "--follow"]);
    assert_eq!(followed.code, 0, "{}", followed.all());
    assert!(followed.out.contains("| line 2"), "{}", followed.out);
    assert_eq!(stage.records().rows("SELECT 1 AS n FROM live_output").len(), 0);
    let line = key.lines().nth(2).expect("a line of the key");
    for said in [followed.all(), stage.log(), runner.log()] {
        assert!(!said.contains(line));
    }
    // What is under way when it is asked to stop comes to its end.
    let last = stage.call(
        Method::POST,
        "/api/v1/jobs",
        Some(&json!({ "runbook": "listen", "inputs": {} })),
    );
    let last = last.1["job"].as_i64().expect("a number");
    until("it to talk", || {
        let begun = "SELECT 1 AS n FROM runner_call WHERE state = 'begun'";
        (!stage.records().rows(begun).is_empty()).then_some(())
    });
    runner.signal(Signal::SIGTERM);
    stage.job_in(last, &["succeeded"]);
    until("the runner to have ended", || {
        runner.log().contains("calls under way have a moment to end").then_some(())
    });
}
