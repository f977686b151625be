//! Senders that say that they are alive: missed when they do not, by whichever node is there.

use crate::kit::{Stage, answer, block, until};
use reqwest::Method;
use serde_json::{Value, json};

const NIGHTLY: &str = "
source: nightly
intake:
  heartbeat: { credential: { bearer: \"${secret('nightly')}\" }, after: 30s }
---
source: gate
intake:
  webhook: { credential: { bearer: \"${secret('nightly')}\" } }
";

fn stage() -> Stage {
    let stage = Stage::bare();
    stage.secret("nightly", "token-of-the-night", &["source/nightly", "source/gate"]);
    stage.publish(NIGHTLY);
    stage
}

fn beat(stage: &Stage, method: Method, path: &str) -> (u16, Value) {
    answer(stage.request(method, path).header("authorization", "Bearer token-of-the-night"))
}

/// The alarm of a sender, if it stands so.
fn alarm(stage: &Stage, resource: &str, state: &str) -> Option<Value> {
    let page = stage.get("/api/v1/alarms?source=nightly&kind=heartbeat.missing&limit=100");
    let found = page["items"].as_array()?.iter().find(|a| a["resource"] == resource)?.clone();
    (found["state"] == state).then_some(found)
}

/// Makes what was heard of a sender so many seconds older.
fn ages(stage: &Stage, name: &str, seconds: i64) {
    stage.records().run(&format!(
        "UPDATE heartbeat SET last_at = last_at - interval '{seconds} seconds' WHERE name = '{name}'"
    ));
}

#[test]
fn who_is_not_heard_of_is_missed_over_two_nodes_and_a_death_and_is_back_when_heard() {
    let mut stage = stage();
    for (method, path, name) in [
        (Method::GET, "/in/nightly/fares", "fares"),
        (Method::POST, "/in/nightly/crew", "crew"),
        (Method::POST, "/in/nightly", "nightly"),
    ] {
        let (status, said) = beat(&stage, method, path);
        assert_eq!((status, &said["name"]), (202, &json!(name)), "{said}");
        assert_eq!((&said["noted"], &said["was_missing"]), (&json!(true), &json!(false)));
    }
    let by_head = stage
        .request(Method::HEAD, "/in/nightly/tides")
        .header("authorization", "Bearer token-of-the-night");
    assert_eq!(block(by_head.send()).expect("an answer").status(), 202);
    assert_eq!(stage.records().rows("SELECT 1 AS n FROM heartbeat WHERE name = 'tides'").len(), 1);
    let by_head = stage
        .request(Method::HEAD, "/in/nightly")
        .header("authorization", "Bearer token-of-the-night");
    assert_eq!(block(by_head.send()).expect("an answer").status(), 202);
    let by_page = stage
        .request(Method::GET, "/in/nightly")
        .header("authorization", "Bearer token-of-the-night");
    assert_eq!(block(by_page.send()).expect("an answer").status(), 202);

    let second = stage.second_node();
    ages(&second, "fares", 31);
    for other in ["crew", "nightly", "tides"] {
        ages(&second, other, -3_600);
    }
    let raised =
        until("fares to be missed", || alarm(&second, "heartbeat/nightly/fares", "raised"));
    let words = raised["summary"].as_str().unwrap_or_default();
    assert!(words.starts_with("fares was not heard of for 30s, since "), "{words}");
    assert!(alarm(&second, "heartbeat/nightly/crew", "raised").is_none());
    let shown = second.arvok(&["source", "show", "nightly"]);
    assert!(shown.out.contains("missing") && shown.out.contains("alive"), "{}", shown.all());

    // One node dies when a sender was written down as missing, and not told of yet: the other
    // tells, once, and it comes back there.
    stage.kill_node();
    second.records().run("UPDATE heartbeat SET missing = true WHERE name = 'crew'");
    until("crew to be missed", || alarm(&second, "heartbeat/nightly/crew", "raised"));
    let (status, said) = beat(&second, Method::GET, "/in/nightly/crew");
    assert_eq!((status, &said["was_missing"]), (202, &json!(true)), "{said}");
    alarm(&second, "heartbeat/nightly/crew", "cleared").expect("it is back before it is answered");
    let (_, said) = beat(&second, Method::GET, "/in/nightly/fares");
    assert_eq!(said["was_missing"], true);
    alarm(&second, "heartbeat/nightly/fares", "cleared").expect("so is this one");
    let told = "SELECT count(*) AS n FROM alerts WHERE source = 'nightly'";
    assert_eq!(second.records().rows(told)[0]["n"], 4, "each was told once");
}

#[test]
fn what_is_no_heartbeat_is_refused_and_notes_nothing() {
    let stage = stage();
    let bare = |method: Method, path: &str| answer(stage.request(method, path));
    let (status, said) = bare(Method::POST, "/in/nightly/fares");
    assert_eq!((status, &said["code"]), (401, &json!("no-token")), "{said}");
    let (status, said) = beat(&stage, Method::POST, "/in/nightly/fa%20res");
    assert_eq!(status, 400, "{said}");
    let (status, said) = beat(&stage, Method::POST, &format!("/in/nightly/{}", "a".repeat(101)));
    assert_eq!(status, 400, "{said}");
    let (status, said) = beat(&stage, Method::GET, "/in/gate/fares");
    assert_eq!(status, 404, "{said}");
    assert!(said["detail"].as_str().is_some_and(|d| d.contains("takes no heartbeats")), "{said}");
    // A person's own is a trial, and wakes nobody.
    let (status, said) = stage.call(Method::POST, "/in/nightly/fares", None);
    assert_eq!((status, &said["noted"]), (202, &json!(false)), "{said}");
    assert!(stage.records().rows("SELECT name FROM heartbeat").is_empty());
    // There is an end to how many there are.
    stage.records().run(
        "INSERT INTO heartbeat (source, name, last_at)
        SELECT 'nightly', 'n' || n, now() FROM generate_series(1, 5000) n",
    );
    let (status, said) = beat(&stage, Method::POST, "/in/nightly/fares");
    assert_eq!(status, 409, "{said}");
    assert_eq!(
        beat(&stage, Method::POST, "/in/nightly/n1").0,
        202,
        "those that are known are heard"
    );
}
