//! Sources with a schedule: messages at their times, once over all nodes, and what becomes of times
//! that passed while no node ran.

use crate::kit::{Stage, until};
use reqwest::Method;
use serde_json::{Value, json};

fn schedule(stage: &Stage, name: &str, more: &str) {
    stage.publish(&format!(
        "source: {name}\nintake: {{ schedule: {{ cron: \"* * * * *\", zone: Europe/Paris{more} }} }}\n"
    ));
}

/// Lets the time of a source pass: as if it had come so many minutes ago, on the minute.
fn pass(stage: &Stage, name: &str, minutes: u32) {
    until("the timer to be set", || {
        (!stage.records().rows("SELECT key FROM timer").is_empty()).then_some(())
    });
    stage.records().run(&format!(
        "UPDATE timer SET due = date_trunc('minute', now()) - interval '{minutes} minutes'
        WHERE key = '{name}'"
    ));
    // Whatever is published wakes the nodes.
    stage.publish(&format!(
        "source: waker-{name}\nintake: {{ schedule: {{ cron: \"0 0 1 1 *\" }} }}\n"
    ));
}

fn alerts(stage: &Stage, source: &str) -> Vec<Value> {
    let (_, found) =
        stage.call(Method::GET, &format!("/api/v1/alerts?source={source}&limit=500"), None);
    found["items"].as_array().cloned().unwrap_or_default()
}

#[test]
fn a_schedule_sets_a_job_off_at_its_time_once_over_all_nodes() {
    let stage = Stage::with_demo();
    let _second = stage.second_node();
    let said = stage.arvok(&["source", "show", "quiet-hours"]);
    assert_ne!(said.code, 0);
    schedule(&stage, "quiet-hours", "");
    stage.publish(
        "rule: at-quiet-hours\nsummary: s\nstance: act\n\
        listen: { sources: [quiet-hours], states: [noted] }\n\
        dispatch: { runbook: look-around, inputs: { on: \"${alert.resource}\" } }\n---\n\
        runbook: look-around\nsummary: s\ninputs: { on: { type: string } }\n\
        target: ${inputs.on}\nsteps: [{ id: nap, pause: 1s }]\n",
    );
    let said = stage.arvok(&["source", "show", "quiet-hours"]);
    assert!(
        said.out.contains("Next due: ") && said.out.contains("schedule + \" \" + due"),
        "{}",
        said.out
    );
    pass(&stage, "quiet-hours", 0);
    let job = until("the job", || {
        stage.get("/api/v1/jobs?runbook=look-around")["items"].as_array()?.first().cloned()
    });
    assert_eq!(job["target"], "schedules/quiet-hours");
    let all = alerts(&stage, "quiet-hours");
    let on_time =
        |alert: &&Value| alert["summary"] == "quiet-hours is due" && alert["kind"] == "due";
    assert!(all.iter().all(|a| on_time(&a)), "{all:?}");
    let timers = stage
        .records()
        .rows("SELECT due > now() AS ahead, failures FROM timer WHERE key = 'quiet-hours'");
    assert_eq!(timers, [json!({ "ahead": true, "failures": 0 })]);
    // What is sent again, as by a node that takes up what a dead one held, changes nothing.
    let ids = |all: &[Value]| {
        let mut ids: Vec<_> = all.iter().map(|a| a["id"].to_string()).collect();
        ids.sort();
        ids
    };
    let before = ids(&all);
    stage.records().run("UPDATE timer SET due = date_trunc('minute', now()), held_until = now()");
    schedule(&stage, "other", "");
    until("it to go on", || {
        let sql = "SELECT key FROM timer WHERE key = 'quiet-hours' AND due > now()";
        (!stage.records().rows(sql).is_empty()).then_some(())
    });
    let mut after = ids(&alerts(&stage, "quiet-hours"));
    after.dedup();
    assert!(after.len() <= before.len() + 1, "{before:?} {after:?}");
    assert_eq!(after.len(), alerts(&stage, "quiet-hours").len());
}

#[test]
fn times_that_passed_while_no_node_ran_are_made_up_for_once_or_told() {
    let stage = Stage::with_demo();
    schedule(&stage, "made-up", "");
    schedule(&stage, "skipped", ", missed: skip");
    pass(&stage, "made-up", 10);
    let made = until("what is made up for", || alerts(&stage, "made-up").first().cloned());
    // The last of them is on time, unless the minute ends meanwhile.
    assert_eq!(made["summary"], "made-up is due; times missed: 10");
    // A whole hour ago, and hourly: nothing of it is on time.
    stage.publish("source: skipped\nintake: { schedule: { cron: \"0 0 1 1 *\", missed: skip } }\n");
    stage.records().run("UPDATE timer SET due = '2026-01-01T00:00:00Z' WHERE key = 'skipped'");
    schedule(&stage, "waker", "");
    let told = until("that it was missed", || {
        alerts(&stage, "arvok").into_iter().find(|a| a["kind"] == "schedule.missed")
    });
    assert_eq!(told["resource"], "source/skipped");
    assert_eq!(
        told["summary"],
        "1 time of source skipped passed while no node ran, the last at 2026-01-01T00:00:00Z, and \
        are not made up for"
    );
    assert!(alerts(&stage, "skipped").is_empty());
    let next = stage.get("/api/v1/definitions/source/skipped")["next_due"].clone();
    assert_eq!(next, "2027-01-01T00:00:00Z");
}

#[test]
fn a_schedule_is_written_changed_and_withdrawn_like_any_source() {
    let stage = Stage::with_demo();
    let said = stage.arvok_with(
        &["check", "-"],
        &[],
        "source: odd\nintake: { schedule: { cron: \"0 2 30 2 *\", zone: Brack } }\n",
    );
    assert_ne!(said.code, 0);
    insta::assert_snapshot!(said.err, @r#"
    standard input:2:29: names a time that never comes
        2 | intake: { schedule: { cron: "0 2 30 2 *", zone: Brack } }
          |                             ^^^^^^^^^^^^
    standard input:2:49: is not a time zone such as Europe/London
        2 | intake: { schedule: { cron: "0 2 30 2 *", zone: Brack } }
          |                                                 ^^^^^
    2 problems
    "#);
    schedule(&stage, "hourly", "");
    let (status, said) = stage.call(Method::POST, "/in/hourly", Some(&json!({})));
    assert_eq!((status, said["code"].as_str()), (400, Some("bad-request")), "{said}");
    stage.publish("source: hourly\nintake: { schedule: { cron: \"0 * * * *\" } }\n");
    let spec = || stage.records().rows("SELECT spec FROM timer WHERE key = 'hourly'");
    until("the new times", || (spec() == [json!({ "spec": "0 * * * * UTC" })]).then_some(()));
    assert_eq!(stage.arvok(&["withdraw", "source", "hourly", "--yes"]).code, 0);
    until("it to be gone", || spec().is_empty().then_some(()));
}
