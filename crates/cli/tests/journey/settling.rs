//! Settling when it is live: due times, gatherings, silence, proposals, over a real database.

use crate::kit::{Stage, until};
use chrono::{DateTime, Utc};
use reqwest::Method;
use serde_json::{Value, json};

/// A runbook that only notes what it was given, and needs nobody.
const NOTE: &str = "runbook: note\ninputs: { what: { default: null }, hosts: { type: array, \
    default: [] } }\n\
    target: \"group/${size(inputs.hosts) > 0 ? 'many' : 'one'}\"\nsteps:\n  - { id: fine, require: \
    'true' }\noutputs: { hosts: \"${inputs.hosts}\" }\n---\n";

fn rule(name: &str, settle: &str, more: &str) -> String {
    format!(
        "{NOTE}rule: {name}\nstance: act\nlisten: {{ kinds: test.{name}{more} }}\nsettle: \
        {settle}\ndispatch: {{ runbook: note }}\n"
    )
}

fn send(stage: &Stage, rule: &str, resource: &str, state: &str) -> i64 {
    let alert = json!({"kind": format!("test.{rule}"), "resource": resource, "severity": "major",
        "state": state});
    stage.send("yard-hypervisor", &alert)
}

#[test]
fn time_alone_dispatches_for_what_stays_raised_and_clearing_cancels() {
    let stage = Stage::with_demo();
    stage.publish(&rule("stays", "{ still: 400ms }", ""));
    let first = send(&stage, "stays", "vm/a", "raised");
    let verdict = stage.verdict(first, "stays").expect("a verdict");
    assert_eq!(verdict["verdict"], "waiting", "{verdict}");
    let verdict = stage.verdict_is(first, "stays", "dispatched");
    assert_eq!(verdict["reason"], "still raised after 400ms: note dispatched as job 1");
    assert!(verdict["decided_at"].is_string(), "{verdict}");
    let job = stage.job_in(1, &["succeeded"]);
    assert_eq!(
        (&job["job"]["alert"], job["job"]["alarm"].is_number()),
        (&json!(first), true),
        "{job:#}"
    );

    stage.publish(&rule("gone", "{ still: 1h }", ""));
    let held = send(&stage, "gone", "vm/a", "raised");
    send(&stage, "gone", "vm/a", "cleared");
    let verdict = stage.verdict(held, "gone").expect("a verdict");
    assert!(
        verdict["reason"].as_str().is_some_and(|r| r.starts_with("cleared after")),
        "{verdict}"
    );
}

#[test]
fn what_waits_survives_the_death_of_the_node() {
    let mut stage = Stage::with_demo();
    stage.publish(&rule("outlives", "{ still: 1500ms }", ""));
    let alert = send(&stage, "outlives", "vm/a", "raised");
    stage.kill_node();
    stage.start_node();
    stage.verdict_is(alert, "outlives", "dispatched");
    stage.job_in(1, &["succeeded"]);
    assert_eq!(stage.get("/api/v1/jobs")["items"].as_array().map(Vec::len), Some(1));
}

#[test]
fn silence_fires_for_what_was_heard_and_for_what_never_was() {
    let stage = Stage::with_demo();
    stage.publish(&rule(
        "beat",
        "{ missing: 2s }",
        ", sources: yard-hypervisor, resource: vm/clock, states: noted",
    ));
    let job = stage.job_in(1, &["succeeded"]);
    assert_eq!(job["job"]["alert"], Value::Null, "{job:#}");
    assert!(
        job["reason"].as_str().is_some_and(|r| r.starts_with("nothing came for 2s")),
        "{job:#}"
    );
    let heard = send(&stage, "beat", "vm/clock", "noted");
    assert_eq!(stage.verdict(heard, "beat").expect("a verdict")["verdict"], "waiting");
    stage.verdict_is(heard, "beat", "dispatched");
    let job = stage.job_in(2, &["succeeded"]);
    assert_eq!(job["job"]["alert"], heard);
}

#[test]
fn several_are_gathered_into_one_job_with_a_list() {
    let stage = Stage::with_demo();
    let dispatch =
        "dispatch: { runbook: note, inputs: { hosts: \"${tally.gathered.map(a, a.resource)}\" } }";
    stage.publish(
        &rule("many", "{ gather: { for: 700ms } }", "")
            .replace("dispatch: { runbook: note }", dispatch),
    );
    let alerts: Vec<i64> =
        ["vm/a", "vm/b", "vm/c"].iter().map(|vm| send(&stage, "many", vm, "raised")).collect();
    send(&stage, "many", "vm/b", "cleared");
    for alert in [alerts[0], alerts[2]] {
        let verdict = stage.verdict_is(alert, "many", "dispatched");
        assert_eq!(verdict["job"], 1, "{verdict}");
    }
    let job = stage.job_in(1, &["succeeded"]);
    assert_eq!(job["inputs"]["hosts"], json!(["vm/a", "vm/c"]));
    assert_eq!(stage.get("/api/v1/jobs")["items"].as_array().map(Vec::len), Some(1));
    // Both ways: the job names all its alerts, and each of their alarms names the job.
    let job = stage.get("/api/v1/jobs")["items"][0]["id"].clone();
    let shown = stage.get(&format!("/api/v1/jobs/{job}"));
    assert_eq!(shown["gathered"].as_array().map(Vec::len), Some(2), "{shown}");
    let listed = stage.arvok(&["job", "show", &job.to_string()]);
    assert_eq!(listed.out.matches("  and for ").count(), 1, "{}", listed.all());
    let alarms = stage.get("/api/v1/alarms");
    let alarms = alarms["items"].as_array().expect("alarms");
    let (cleared, standing): (Vec<_>, Vec<_>) =
        alarms.iter().partition(|alarm| alarm["resource"] == "vm/b");
    assert!(cleared[0]["job"].is_null(), "it had left the gathering");
    assert!(standing.len() == 2 && standing.iter().all(|alarm| alarm["job"] == job), "{alarms:?}");
    for alarm in standing {
        let of = stage.get(&format!("/api/v1/jobs?alarm={}", alarm["id"]));
        assert_eq!(of["items"][0]["id"], job);
    }
}

#[test]
fn the_effect_of_a_job_for_several_is_proved_when_all_of_their_alarms_are_cleared() {
    let stage = Stage::with_demo();
    stage.publish(
        "runbook: quiet\ninputs: {}\ntarget: vm/several\nsteps: [{ id: look, require: 'true' }]\n\
        confirm: { alarm: cleared, within: 1h }\n",
    );
    let gathers = rule("many", "{ gather: { for: 300ms } }", "");
    stage.publish(&gathers.replace("dispatch: { runbook: note }", "dispatch: { runbook: quiet }"));
    let alerts: Vec<i64> =
        ["vm/a", "vm/b", "vm/c"].iter().map(|vm| send(&stage, "many", vm, "raised")).collect();
    let job = stage.verdict_is(alerts[0], "many", "dispatched")["job"].as_i64().expect("a job");
    stage.job_in(job, &["waiting"]);
    for vm in ["vm/a", "vm/c"] {
        send(&stage, "many", vm, "cleared");
    }
    let last = send(&stage, "many", "vm/b", "cleared");
    let ended = stage.job_in(job, &["succeeded"]);
    assert_eq!(ended["job"]["effect"], "confirmed", "{ended}");
    let last = stage.get(&format!("/api/v1/alerts/{last}"));
    let time = |value: &Value| {
        value.as_str().and_then(|t| t.parse::<DateTime<Utc>>().ok()).expect("a time")
    };
    assert!(
        time(&ended["job"]["finished_at"]) >= time(&last["alert"]["received"]),
        "{ended} {last}"
    );
}

#[test]
fn a_cap_holds_for_all_tallies_and_frees_by_itself() {
    let stage = Stage::with_demo();
    stage.publish(&rule("capped", "{ cap: { jobs: 1, per: 1500ms, later: true } }", ""));
    let first = send(&stage, "capped", "vm/a", "raised");
    let second = send(&stage, "capped", "vm/b", "raised");
    assert_eq!(stage.verdict(first, "capped").expect("a verdict")["verdict"], "dispatched");
    assert_eq!(stage.verdict(second, "capped").expect("a verdict")["verdict"], "capped");
    let verdict = stage.verdict_is(second, "capped", "dispatched");
    assert!(
        verdict["reason"].as_str().is_some_and(|r| r.starts_with("the cap has room again")),
        "{verdict}"
    );
}

#[test]
fn a_raise_that_comes_after_its_clearing_raises_nothing() {
    let stage = Stage::with_demo();
    stage.publish(&rule("late", "{}", ""));
    let at = |t: &str, state: &str| {
        let alert = json!({"kind": "test.late", "resource": "vm/a", "severity": "major",
            "state": state, "time": t});
        stage.send("yard-hypervisor", &alert)
    };
    at("2026-02-01T02:10:00Z", "cleared");
    let late = at("2026-02-01T02:05:00Z", "raised");
    let verdict = stage.verdict(late, "late").expect("a verdict");
    assert_eq!(verdict["verdict"], "folded", "{verdict}");
    assert_eq!(stage.get("/api/v1/alarms?state=raised")["items"], json!([]));
    let anew = at("2026-02-01T02:15:00Z", "raised");
    assert_eq!(stage.verdict(anew, "late").expect("a verdict")["verdict"], "dispatched");
}

#[test]
fn a_proposal_is_launched_dismissed_or_withdrawn() {
    let stage = Stage::with_demo();
    stage.publish(&rule("asks", "{}", "").replace("stance: act", "stance: propose"));
    let alert = send(&stage, "asks", "vm/a", "raised");
    let verdict = stage.verdict(alert, "asks").expect("a verdict");
    assert_eq!((&verdict["verdict"], &verdict["job"]), (&json!("proposed"), &json!(1)));
    assert_eq!(stage.get("/api/v1/jobs")["items"], json!([]));
    assert_eq!(stage.get("/api/v1/watch")["proposals"][0]["id"], 1);
    assert_eq!(stage.get("/api/v1/watch")["narrowing"]["proposed"], 1);

    let (status, made) = stage.call(
        Method::POST,
        "/api/v1/tokens",
        Some(&json!({"name": "looks", "role": "viewer"})),
    );
    assert_eq!(status, 201, "{made}");
    let viewer = made["token"].as_str().expect("a token").to_owned();
    let request = stage
        .request(Method::POST, "/api/v1/proposals/1/launch")
        .bearer_auth(viewer)
        .json(&json!({}));
    assert_eq!(crate::kit::answer(request).0, 403);

    let said = stage.arvok(&["proposal", "launch", "1"]);
    assert_eq!(
        (said.code, said.out.as_str()),
        (0, "launched as job 1: note on group/one\n"),
        "{}",
        said.all()
    );
    let job = stage.job_in(1, &["succeeded"]);
    assert!(job["reason"].as_str().is_some_and(|r| r.ends_with("launched by admin")), "{job:#}");
    let said = stage.arvok(&["proposal", "dismiss", "1", "--note", "too late"]);
    assert_eq!(said.code, 6, "{}", said.all());
    assert!(said.err.contains("proposal 1 is launched by admin already, not open"), "{}", said.err);

    send(&stage, "asks", "vm/b", "raised");
    let (status, refused) =
        stage.call(Method::POST, "/api/v1/proposals/2/dismiss", Some(&json!({"note": " "})));
    assert_eq!(status, 400, "{refused}");
    let said = stage.arvok(&["proposal", "dismiss", "2", "--note", "the disk is replaced tonight"]);
    assert_eq!(said.code, 0, "{}", said.all());
    let said = stage.arvok(&["proposal", "show", "2"]);
    assert!(said.out.contains("the disk is replaced tonight"), "{}", said.out);

    send(&stage, "asks", "vm/c", "raised");
    send(&stage, "asks", "vm/c", "cleared");
    let gone = stage.get("/api/v1/proposals/3");
    assert_eq!(
        (&gone["state"], &gone["note"]),
        (&json!("withdrawn"), &json!("its alarm was cleared"))
    );
    let said = stage.arvok(&["proposal", "list"]);
    assert_eq!(said.out, "Nothing is proposed.\n");
    let states: Vec<_> = stage.get("/api/v1/proposals")["items"]
        .as_array()
        .expect("items")
        .iter()
        .map(|p| p["state"].clone())
        .collect();
    assert_eq!(states, ["withdrawn", "dismissed", "launched"]);
}

#[test]
fn a_rule_that_may_do_more_goes_on_from_what_it_only_watched() {
    let stage = Stage::with_demo();
    let watching = rule("trusted", "{ rest: 1h }", "").replace("stance: act", "stance: watch");
    stage.publish(&watching);
    let first = send(&stage, "trusted", "vm/a", "raised");
    assert_eq!(stage.verdict(first, "trusted").expect("a verdict")["verdict"], "watched");
    stage.publish(&watching.replace("stance: watch", "stance: act"));
    let second = send(&stage, "trusted", "vm/a", "raised");
    assert_eq!(stage.verdict(second, "trusted").expect("a verdict")["verdict"], "dispatched");
    assert_eq!(stage.get("/api/v1/definitions/rule/trusted")["item"]["used"]["jobs"], 1);
}

#[test]
fn publishing_under_load_gives_every_alert_one_verdict() {
    let stage = Stage::with_demo();
    let text = |i: usize| {
        rule("swapped", &format!("{{ rest: {i}s }}"), "").replace("stance: act", "stance: watch")
    };
    stage.publish(&text(1));
    let sent: Vec<i64> = std::thread::scope(|s| {
        let senders: Vec<_> = (0..4)
            .map(|k| {
                let stage = &stage;
                s.spawn(move || {
                    (0..60)
                        .map(|i| send(stage, "swapped", &format!("vm/n{k}-{i}"), "raised"))
                        .collect::<Vec<_>>()
                })
            })
            .collect();
        for i in 2..10 {
            stage.publish(&text(i));
        }
        senders.into_iter().flat_map(|t| t.join().expect("a sender")).collect()
    });
    let counts = until("the counts", || {
        let verdicts = stage.get("/api/v1/definitions/rule/swapped")["verdicts"].clone();
        (verdicts[0]["count"] == 240).then_some(verdicts)
    });
    assert_eq!((sent.len(), counts), (240, json!([{"verdict": "watched", "count": 240}])));
}

/// Withdrawals locked pools before tallies, against the order of intake, and were lost to
/// deadlocks.
#[test]
fn rules_are_withdrawn_and_published_under_load_and_no_delivery_is_refused() {
    let stage = Stage::with_demo();
    let gathers = rule("busy", "{ gather: { for: 300ms, at_most: 5 } }", "")
        .replace("stance: act", "stance: watch");
    let stays = rule("still", "{ still: 200ms }", "").replace("stance: act", "stance: watch");
    let both = format!("{gathers}---\n{}", stays.trim_start_matches(NOTE))
        .replace("test.still", "test.busy");
    let done = std::sync::atomic::AtomicBool::new(false);
    let sent: usize = std::thread::scope(|s| {
        let sender = |k: usize| {
            let (stage, done) = (&stage, &done);
            move || {
                let more = |n: &usize| {
                    *n < 20 || (*n < 400 && !done.load(std::sync::atomic::Ordering::Relaxed))
                };
                let one = |n: usize| {
                    send(
                        stage,
                        "busy",
                        &format!("vm/n{}", (k * 7 + n) % 40),
                        ["raised", "cleared"][n % 2],
                    )
                };
                (0..).take_while(more).map(one).count()
            }
        };
        let senders: Vec<_> = (0..16).map(|k| s.spawn(sender(k))).collect();
        for _ in 0..8 {
            stage.publish(&both);
            let gone = stage.arvok(&["withdraw", "rule", "busy", "still", "--yes"]);
            assert_eq!(gone.code, 0, "{}", gone.all());
        }
        done.store(true, std::sync::atomic::Ordering::Relaxed);
        senders.into_iter().map(|t| t.join().expect("every delivery was taken")).sum()
    });
    assert!(sent >= 320, "{sent}");
}
