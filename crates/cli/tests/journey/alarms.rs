//! What people do about alarms: they see to them, say something, clear them by hand.

use crate::kit::{Browser, Stage, until};
use reqwest::Method;
use serde_json::{Value, json};

const LOOKS: &str = "
rule: looks
stance: act
listen: { kinds: disk.usage }
dispatch: { runbook: waits, inputs: { on: '${alert.resource}' } }
---
runbook: waits
inputs: { on: { type: string } }
target: '${inputs.on}'
steps: [ { id: fine, require: 'true' } ]
confirm: { alarm: cleared, within: 10m }
";

fn raise(stage: &Stage, severity: &str) -> (i64, i64) {
    let alert = json!({ "kind": "disk.usage", "severity": severity, "resource": "vm/quill-1",
        "labels": { "site": "quill" } });
    let alert = stage.send("yard-hypervisor", &alert);
    let found = stage.get("/api/v1/alarms?resource=vm/quill-1");
    (alert, found["items"][0]["id"].as_i64().expect("an alarm"))
}

fn alarm(stage: &Stage, id: i64) -> Value {
    stage.get(&format!("/api/v1/alarms/{id}"))
}

#[test]
fn an_alarm_is_seen_to_noted_and_cleared_by_hand_and_all_follows() {
    let stage = Stage::with_demo();
    stage.publish(LOOKS);
    let (alert, id) = raise(&stage, "major");
    let job = stage.verdict_is(alert, "looks", "dispatched")["job"].as_i64().expect("a job");
    let number = id.to_string();
    assert_eq!(stage.arvok(&["alarm", "acknowledge", &number]).code, 0);
    assert_eq!(stage.arvok(&["alarm", "note", &number, "the new disk is ordered"]).code, 0);
    assert_eq!(alarm(&stage, id)["alarm"]["acknowledged_by"], "token/admin");
    // What was raised before stays seen to while it stands, whatever becomes of its severity.
    raise(&stage, "critical");
    assert_eq!(alarm(&stage, id)["alarm"]["acknowledged_by"], "token/admin");
    let cleared = stage.arvok(&["alarm", "clear", &number, "--reason", "the sensor was taken out"]);
    assert_eq!(cleared.code, 0, "{}", cleared.all());
    let found = alarm(&stage, id);
    assert_eq!(found["alarm"]["state"], "cleared");
    let summary = found["alerts"][0]["summary"].as_str().expect("words");
    assert_eq!(summary, "cleared by admin: the sensor was taken out");
    assert_eq!(stage.job_in(job, &["succeeded"])["job"]["effect"], "confirmed");
    let shown = stage.arvok(&["alarm", "show", &number]).out;
    assert!(shown.contains(" admin noted: the new disk is ordered"), "{shown}");
    assert!(stage.arvok(&["audit", "list"]).out.contains("alarm.acknowledged"));
    let again = stage.arvok(&["alarm", "clear", &number, "--reason", "again"]);
    assert!(again.code != 0 && again.all().contains("does not stand"), "{}", again.all());
    // Raised anew it is nobody's, and what was said stays.
    raise(&stage, "major");
    let found = alarm(&stage, id);
    assert_eq!(found["alarm"]["acknowledged_by"], Value::Null);
    assert_eq!(found["acts"].as_array().expect("a list").len(), 3);
}

#[test]
fn what_cannot_be_done_about_an_alarm_is_said() {
    let stage = Stage::with_demo();
    stage.publish(LOOKS);
    let (_, id) = raise(&stage, "major");
    let path = format!("/api/v1/alarms/{id}/acts");
    let act = |body: &Value| stage.call(Method::POST, &path, Some(body)).0;
    assert_eq!(act(&json!({ "act": "noted", "text": " " })), 400);
    assert_eq!(act(&json!({ "act": "cleared" })), 400);
    assert_eq!(act(&json!({ "act": "noted", "text": "x".repeat(2_001) })), 400);
    assert_eq!(act(&json!({ "act": "forgotten", "text": "x" })), 400);
    assert_eq!(act(&json!({ "act": "noted", "text": "odd \u{0} one" })), 204);
    let body = json!({ "act": "acknowledged" });
    assert_eq!(stage.call(Method::POST, "/api/v1/alarms/999/acts", Some(&body)).0, 404);
    stage.records().run(&format!(
        "INSERT INTO alarm_act (alarm_id, by, act, text)
        SELECT {id}, 'token/pat', 'noted', 'n' FROM generate_series(1, 499)"
    ));
    assert_eq!(act(&json!({ "act": "noted", "text": "one more" })), 409);
}

#[test]
fn an_alarm_is_seen_to_and_cleared_from_its_page() {
    let stage = Stage::with_demo();
    stage.publish(LOOKS);
    let (_, id) = raise(&stage, "major");
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go(&format!("/alarms/{id}"));
    browser.click("I see to it");
    browser.see("admin acknowledged");
    browser.fill("#said", "the sensor was taken out");
    browser.click("Clear it");
    browser.see("admin cleared");
    until("the alarm to be over", || {
        (alarm(&stage, id)["alarm"]["state"] == "cleared").then_some(())
    });
    assert_eq!(browser.violations(), Vec::<String>::new());
}

#[test]
fn a_source_that_falls_silent_is_told_of_until_it_is_heard_again() {
    let mut stage = Stage::bare();
    stage.secret("yard", "yard", &["source/yard"]);
    let source = "source: yard\nsilent_after: 10s\nintake: { webhook: { credential: { bearer: \
                  \"${secret('yard')}\" } } }\n";
    stage.publish(source);
    let second = stage.second_node();
    let alarm = |state: &str| {
        let page = second.get("/api/v1/alarms?source=arvok&kind=source.silent");
        let found = page["items"].as_array().and_then(|all| all.first()).cloned();
        found.filter(|alarm| alarm["state"] == state)
    };
    let raised = until("its silence is told", || alarm("raised"));
    assert_eq!(raised["resource"], "source/yard");
    assert_eq!(raised["summary"], "source yard was not heard of within 10s");
    // What somebody makes up is not heard of it, and another node goes on.
    let alert = json!({ "kind": "disk.usage", "severity": "minor", "resource": "vm/a" });
    let (status, made_up) = stage.call(Method::POST, "/in/yard", Some(&alert));
    assert_eq!(status, 202, "{made_up}");
    let heard = "SELECT source FROM delivery_count WHERE source = 'yard'";
    assert_eq!(second.records().rows(heard).len(), 0);
    stage.kill_node();
    second.send("yard", &alert);
    until("that it is heard again", || alarm("cleared"));
    let raised = until("and silent again", || alarm("raised"));
    assert!(
        raised["summary"].as_str().is_some_and(|s| s.contains("10s at most is expected")),
        "{raised}"
    );
    let wrong = "source: odd\nsilent_after: 5s\nintake: { schedule: { cron: '0 * * * *' } }\n";
    let body = json!({ "files": [{ "file": "odd.yaml", "text": wrong }] });
    let (status, said) = second.call(Method::POST, "/api/v1/publish", Some(&body));
    assert_eq!(status, 422, "{said}");
    let said = said.to_string();
    assert!(said.contains("is from 10s to 30d, not 5s"), "{said}");
    assert!(said.contains("of a schedule are Arvok's own"), "{said}");
}
