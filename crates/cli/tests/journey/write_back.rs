//! What people do about alarms, done at their senders as well.

use crate::kit::{Peer, Stage, until};
use reqwest::Method;
use serde_json::{Value, json};
use std::time::Duration;

/// A monitor that is told, by an operation that is repeated as it says.
fn definitions(monitor: &Peer, repeat: &str) -> String {
    let operation = |name: &str, path: &str| {
        format!(
            "  {name}:\n    takes: {{ id: {{ type: string }}, who: {{ type: string }}, text: {{ type: \
            string, default: null }} }}\n    request: {{ method: POST, path: \"{path}\", body: {{ id: \
            \"${{give.id}}\", who: \"${{give.who}}\", text: \"${{give.text}}\", what: {name} }} }}\n    \
            repeat: {repeat}\n"
        )
    };
    let call = |name: &str| {
        format!(
            "{{ call: {name}, give: {{ id: \"${{alert.id}}\", who: \"${{by}}\", text: \"${{text}}\" }} }}"
        )
    };
    format!(
        "connector: monitor\noperations:\n{}{}---\nconnection: monitor\nconnector: monitor\nbase: \
        \"{}\"\n---\nsource: probes\nintake: {{ webhook: {{ credential: {{ bearer: \
        \"${{secret('probes')}}\" }} }} }}\nwrite_back:\n  via: monitor\n  acknowledge: {}\n  \
        clear: {}\n",
        operation("problem.acknowledge", "/acknowledge"),
        operation("problem.close", "/close"),
        monitor.url,
        call("problem.acknowledge"),
        call("problem.close"),
    )
}

fn raise(stage: &Stage, id: &str) -> i64 {
    let alert = json!({ "id": id, "kind": "disk.full", "resource": format!("vm/{id}"),
        "severity": "major" });
    stage.send("probes", &alert);
    alarm_of(stage, id, false)
}

fn alarm_of(stage: &Stage, id: &str, trial: bool) -> i64 {
    until("its alarm", || {
        let found = stage.get("/api/v1/alarms?source=probes&limit=200");
        let all = found["items"].as_array()?;
        let is_it = |a: &&Value| {
            a["resource"] == format!("vm/{id}") && a["trial"].as_bool().unwrap_or(false) == trial
        };
        all.iter().find(is_it)?["id"].as_i64()
    })
}

fn acts(stage: &Stage, alarm: i64) -> Vec<Value> {
    let found = stage.get(&format!("/api/v1/alarms/{alarm}"));
    found["acts"].as_array().cloned().unwrap_or_default()
}

/// How the newest act stands at the sender.
fn newest(stage: &Stage, alarm: i64) -> Value {
    acts(stage, alarm).first().map_or(Value::Null, |act| act["at_sender"].clone())
}

fn until_state(stage: &Stage, alarm: i64, state: &str) -> Value {
    until(state, || Some(newest(stage, alarm)).filter(|sent| sent["state"] == state))
}

/// Has what waits be tried at once, as if its time had come.
fn try_now(stage: &Stage) {
    stage.records().run("UPDATE alarm_act SET next_at = now() WHERE next_at IS NOT NULL");
}

fn body(peer: &Peer, n: usize) -> Value {
    serde_json::from_str(&peer.told()[n].body).expect("is JSON")
}

#[test]
fn what_people_do_is_done_at_the_sender_in_its_order_and_tried_until_it_is() {
    let stage = Stage::bare();
    let monitor = Peer::start();
    stage.secret("probes", "the probes' key", &["source/probes"]);
    stage.publish(&definitions(&monitor, "keyed"));
    let alarm = raise(&stage, "quill-1");
    let id = alarm.to_string();

    assert_eq!(stage.arvok(&["alarm", "acknowledge", &id, "--text", "on it"]).code, 0);
    until_state(&stage, alarm, "done");
    assert_eq!(
        body(&monitor, 0),
        json!({ "id": "quill-1", "who": acts(&stage, alarm)[0]["by"], "text": "on it",
            "what": "problem.acknowledge" })
    );
    let shown = stage.arvok(&["alarm", "show", &id]).out;
    assert!(shown.contains("on it\n              done at the sender as well"), "{shown}");
    // What its source does not name is done here alone.
    assert_eq!(stage.arvok(&["alarm", "note", &id, "ticket HD-7"]).code, 0);
    assert_eq!(newest(&stage, alarm), Value::Null);

    // A monitor that cannot now is told later, and what was done first is told first.
    monitor.answers(503);
    assert_eq!(stage.arvok(&["alarm", "acknowledge", &id, "--text", "still on it"]).code, 0);
    let waits = until_state(&stage, alarm, "waiting");
    let waits = if waits["tries"] == 0 { until_tried(&stage, alarm) } else { waits };
    assert!(waits["reason"].as_str().is_some_and(|why| why.contains("503")), "{waits}");
    assert!(waits["next_at"].is_string(), "{waits}");
    let shown = stage.arvok(&["alarm", "show", &id]).out;
    assert!(shown.contains("not yet done at the sender, tried again at"), "{shown}");
    assert_eq!(stage.arvok(&["alarm", "clear", &id, "--reason", "it has gone"]).code, 0);
    monitor.answers(200);
    // Whatever is published may have mended it.
    stage.publish("source: other\nintake: { schedule: { cron: \"0 0 1 1 *\" } }\n");
    until_state(&stage, alarm, "done");
    let told: Vec<Value> = (1..monitor.told().len()).map(|n| body(&monitor, n)).collect();
    let what: Vec<&str> = told.iter().filter_map(|body| body["what"].as_str()).collect();
    assert_eq!(what.last(), Some(&"problem.close"), "{what:?}");
    assert_eq!(what.iter().filter(|what| **what == "problem.close").count(), 1, "{what:?}");
    let keys: std::collections::BTreeSet<_> =
        monitor.told().into_iter().map(|told| told.key).collect();
    assert_eq!(keys.len(), 3, "each act has one key, however often it is tried: {keys:?}");

    // What it refuses is not tried again, and what is a trial is not told at all.
    let other = raise(&stage, "quill-2");
    monitor.answers(404);
    let before = monitor.told().len();
    assert_eq!(stage.arvok(&["alarm", "acknowledge", &other.to_string()]).code, 0);
    let failed = until_state(&stage, other, "failed");
    assert!(failed["reason"].as_str().is_some_and(|why| why.contains("404")), "{failed}");
    assert_eq!(monitor.told().len(), before + 1);
    let trial = json!({ "kind": "disk.full", "resource": "vm/quill-3", "severity": "major" });
    let sent = stage.request(Method::POST, "/in/probes").bearer_auth(&stage.token).json(&trial);
    assert_eq!(crate::kit::answer(sent).0, 202);
    let made_up = until("the trial's alarm", || {
        let sql = "SELECT id FROM alarm WHERE trial AND resource = 'vm/quill-3'";
        stage.records().rows(sql).first()?["id"].as_i64()
    });
    assert_eq!(stage.arvok(&["alarm", "acknowledge", &made_up.to_string()]).code, 0);
    assert_eq!(newest(&stage, made_up), Value::Null);
    assert_eq!(monitor.told().len(), before + 1);
}

fn until_tried(stage: &Stage, alarm: i64) -> Value {
    until("a try", || {
        Some(newest(stage, alarm))
            .filter(|sent| sent["state"] == "waiting" && sent["tries"].as_i64() > Some(0))
    })
}

#[test]
fn what_a_node_had_begun_that_died_is_done_again_only_where_twice_is_harmless() {
    let mut stage = Stage::bare();
    let second = stage.second_node();
    let monitor = Peer::start();
    stage.secret("probes", "the probes' key", &["source/probes"]);
    for (repeat, wanted) in [("never", "unknown"), ("keyed", "done")] {
        stage.publish(&definitions(&monitor, repeat));
        let alarm = raise(&second, repeat);
        let path = format!("/api/v1/alarms/{alarm}/acts");
        // The node that was asked waits for the monitor, and dies; the other comes after it.
        monitor.delay(Duration::from_secs(60));
        let before = monitor.told().len();
        let (status, said) =
            stage.call(Method::POST, &path, Some(&json!({ "act": "acknowledged", "text": "" })));
        assert_eq!(status, 204, "{said}");
        until("the monitor to be asked", || (monitor.told().len() > before).then_some(()));
        monitor.delay(Duration::ZERO);
        stage.kill_node();
        try_now(&second);
        let ended = until(wanted, || {
            second.records().run(
                "UPDATE alarm_act SET next_at = now() WHERE sending = 'waiting' AND tries > 0",
            );
            Some(newest(&second, alarm)).filter(|sent| sent["state"] == wanted)
        });
        let most = if repeat == "keyed" { 2 } else { 1 };
        assert!(monitor.told().len() <= before + most, "{ended}");
        if repeat == "never" {
            let why = ended["reason"].as_str().unwrap_or_default();
            assert!(why.contains("whether it was done is not known"), "{ended}");
        }
        let key = monitor.told()[before].key.clone();
        assert!(monitor.told()[before..].iter().all(|told| told.key == key));
        stage.start_node();
    }
}
