//! Mutes as people use them: said, seen, lifted, over several nodes and whatever happens to these.

use crate::kit::{Browser, Said, Stage, until};
use reqwest::Method;
use serde_json::{Value, json};

const GROWS: &str = "
rule: grows
stance: act
listen: { kinds: disk.usage }
dispatch: { runbook: notes, inputs: { on: '${alert.resource}' } }
---
runbook: notes
inputs: { on: { type: string } }
target: '${inputs.on}'
steps: [ { id: fine, require: 'true' } ]
";

fn usage(resource: &str) -> Value {
    json!({ "kind": "disk.usage", "severity": "major", "resource": resource, "value": 91.0 })
}

fn begin(stage: &Stage, options: &[&str]) -> Said {
    let whole = [&["mute", "begin", "--reason", "a new disk goes in"], options].concat();
    stage.arvok(&whole)
}

#[test]
fn what_is_muted_is_kept_and_acted_on_when_the_mute_is_lifted() {
    let stage = Stage::with_demo();
    stage.publish(GROWS);
    let said = begin(&stage, &["--resource", "vm/quill-*", "--for", "2h"]);
    assert_eq!(said.code, 0, "{}", said.all());
    assert!(
        said.out.starts_with("Mute 1, standing\n  covers    resource vm/quill-*"),
        "{}",
        said.out
    );
    let alert = stage.send("yard-hypervisor", &usage("vm/quill-1"));
    let other = stage.send("yard-hypervisor", &usage("vm/brack-1"));
    let verdict = stage.verdict_is(alert, "grows", "muted");
    assert!(verdict["reason"].as_str().expect("words").ends_with(": a new disk goes in"));
    stage.verdict_is(other, "grows", "dispatched");
    let alarms = stage.get("/api/v1/alarms?resource=vm/quill-1");
    let alarm = alarms["items"][0]["id"].to_string();
    let shown = stage.arvok(&["alarm", "show", &alarm]).out;
    assert!(shown.contains("  muted     mute 1: resource vm/quill-*, until "), "{shown}");
    assert!(stage.arvok(&["status"]).out.contains("muted    mute 1: "), "seen until it ends");
    let why = stage.arvok(&["rule", "why", "grows", "--alert", &alert.to_string()]).out;
    assert!(why.contains("muted by admin until "), "{why}");
    let list = stage.arvok(&["alert", "list", "--verdict", "muted"]).out;
    assert!(list.contains("vm/quill-1") && !list.contains("vm/brack-1"), "{list}");

    assert_eq!(stage.arvok(&["mute", "lift", "1"]).code, 0);
    stage.verdict_is(alert, "grows", "dispatched");
    let again = stage.arvok(&["mute", "lift", "1"]);
    assert!(
        again.code != 0 && again.all().contains("mute 1 was lifted by admin"),
        "{}",
        again.all()
    );
    assert!(stage.arvok(&["mute", "list"]).out.contains("Nothing is muted."));
    assert!(stage.arvok(&["mute", "list", "--all"]).out.contains("lifted"));
    let audit = stage.arvok(&["audit", "list"]).out;
    assert!(
        audit.contains("mute.lifted") && audit.contains("mute 1: resource vm/quill-*"),
        "{audit}"
    );
}

#[test]
fn a_mute_ends_by_itself_and_names_the_jobs_that_it_does_not_stop() {
    let stage = Stage::with_demo();
    let waits = GROWS.replace("{ id: fine, require: 'true' }", "{ id: rest, pause: 1h }");
    stage.publish(&waits);
    let first = stage.send("yard-hypervisor", &usage("vm/quill-1"));
    let job = stage.verdict_is(first, "grows", "dispatched")["job"].to_string();
    let said = begin(&stage, &["--runbook", "note*", "--severity", "major..", "--for", "3s"]);
    assert!(
        said.out.contains(&format!("These jobs go on, since a mute stops none: {job}.")),
        "{}",
        said.all()
    );
    let alert = stage.send("yard-hypervisor", &usage("vm/quill-2"));
    stage.verdict_is(alert, "grows", "muted");
    let verdict = stage.verdict_is(alert, "grows", "dispatched");
    assert!(verdict["reason"].as_str().expect("words").starts_with("no longer muted and still"));
    assert!(stage.arvok(&["mute", "show", "1"]).out.starts_with("Mute 1, over"));
}

#[test]
fn what_cannot_be_muted_is_said_and_who_may_not() {
    let stage = Stage::with_demo();
    stage.publish(GROWS);
    let refused = |options: &[&str]| {
        let said = begin(&stage, options);
        assert_ne!(said.code, 0, "{}", said.all());
        said.err.trim().to_owned()
    };
    insta::assert_snapshot!([
        refused(&["--for", "2h"]),
        refused(&["--resource", "vm/*"]),
        refused(&["--resource", "vm/*", "--for", "soon"]),
        refused(&["--resource", "vm/*", "--for", "91d"]),
        refused(&["--resource", "vm/*", "--until", "2020-01-01T00:00:00Z"]),
        refused(&["--severity", "loud", "--for", "2h"]),
        refused(&["--label", "site", "--for", "2h"]),
        refused(&["--rule", "grow", "--for", "2h"]),
        refused(&["--resource", "vm/*", "--for", "1h", "--from", "2020-01-01T00:00:00Z"]),
    ].join("\n"), @r#"
    arvok: covers: says nothing that it covers; name rules, runbooks, sources, kinds, severity, resource or labels (`arvok halt` stops everything)
    error: the following required arguments were not provided:
      --for <PERIOD>

    Usage: arvok mute begin --reason <REASON> --resource <PATH> --server <URL> --token <TOKEN> --for <PERIOD>

    For more information, try '--help'.
    arvok: for: `soon` is not a length of time; write it like 90s, 15m, 1h30m or 2d
    arvok: a mute lasts 90 days at most; what is never to be acted on belongs in the rules
    arvok: until: 2020-01-01 00:00:00 UTC is over already
    arvok: covers: severity: `loud` is not a severity; the severities are indeterminate, warning, minor, major, critical
    arvok: --label `site`: write NAME=VALUE, such as site=quill
    arvok: covers: rules: there is no rule `grow` (did you mean `grows`?)
    arvok: from: 2020-01-01 00:00:00 UTC is over; what was decided then stays
    "#);
    let made = stage.arvok(&["token", "make", "kim", "--role", "viewer"]);
    let body = json!({ "covers": { "rules": ["*"] }, "reason": "w", "for": "1h" });
    let (status, _) = stage.call_as(made.out.trim(), Method::POST, "/api/v1/mutes", Some(&body));
    assert_eq!(status, 403);
    let odd = json!({ "covers": { "decks": ["x"] }, "reason": "w", "for": "1h" });
    let (status, answer) = stage.call(Method::POST, "/api/v1/mutes", Some(&odd));
    assert!(status == 400 && answer.to_string().contains("decks"), "{answer}");
    let none = json!({ "covers": { "rules": ["*"] }, "reason": " ", "for": "1h" });
    assert_eq!(stage.call(Method::POST, "/api/v1/mutes", Some(&none)).0, 400);
}

#[test]
fn all_nodes_know_at_once_and_a_death_behind_the_lifting_leaves_nothing_held() {
    let mut first = Stage::with_demo();
    first.publish(GROWS);
    let second = first.second_node();
    for n in 0..5 {
        let resource = format!("vm/quill-{n}");
        assert_eq!(begin(&first, &["--resource", &resource, "--for", "1h"]).code, 0);
        let alert = second.send("yard-hypervisor", &usage(&resource));
        second.verdict_is(alert, "grows", "muted");
    }
    // Said before it begins, and by the other.
    assert_eq!(begin(&second, &["--resource", "vm/quill-9", "--for", "1h"]).code, 0);
    let held = second.send("yard-hypervisor", &usage("vm/quill-9"));
    second.verdict_is(held, "grows", "muted");
    drop(second);
    let (status, _) = first.call(Method::DELETE, "/api/v1/mutes/6", None);
    assert_eq!(status, 204);
    first.kill_node();
    first.start_node();
    first.verdict_is(held, "grows", "dispatched");
    let standing = first.get("/api/v1/watch")["mutes"].as_array().expect("a list").len();
    assert_eq!(standing, 5);
}

#[test]
fn an_alarm_is_muted_from_its_page_and_the_mute_is_seen_until_it_is_lifted() {
    let stage = Stage::with_demo();
    stage.publish(&GROWS.replace("stance: act", "stance: watch"));
    stage.send("yard-hypervisor", &usage("vm/quill-1"));
    let alarms = stage.get("/api/v1/alarms?resource=vm/quill-1");
    let alarm = alarms["items"][0]["id"].to_string();
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go(&format!("/alarms/{alarm}"));
    browser.see("Mute it");
    browser.fill("#mute-reason", "a new disk goes in");
    browser.click_last("Mute");
    browser.see("resource vm/quill-1");
    browser.go("/");
    browser.see("a new disk goes in");
    browser.go("/safety");
    browser.see("standing");
    browser.fill("#mute-rules", "grows other*");
    browser.fill("#mute-reason", "too eager");
    browser.click_last("Mute");
    browser.see("rules grows, other*");
    browser.click("Lift…");
    browser.click("Lift it");
    until("one of them to be lifted", || {
        let all = stage.get("/api/v1/mutes");
        (all["items"].as_array()?.len() == 1).then_some(())
    });
    browser.click("Halt all jobs…");
    browser.see("No node begins a job or takes one up");
    assert_eq!(browser.violations(), Vec::<String>::new());
}
