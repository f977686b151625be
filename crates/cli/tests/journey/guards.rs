//! Guards as people meet them: what a storm may do over several nodes, what is held and overruled,
//! circuits that open, and where all of that is seen.

use crate::kit::{Browser, Stage, folder, until};
use reqwest::Method;
use serde_json::{Value, json};

const RESTARTS: &str = "
rule: web-down
stance: act
listen: { kinds: web.down }
dispatch: { runbook: restart-web, inputs: { vm: '${alert.resource}' } }
---
runbook: restart-web
inputs: { vm: { type: string } }
target: '${inputs.vm}'
steps: [ { id: rest, pause: PAUSE } ]
";

fn down(n: usize) -> Value {
    json!({ "kind": "web.down", "severity": "major", "resource": format!("vm/quill-web-{n}") })
}

/// Where nobody has begun anything that goes on for long.
fn restarts(pause: &str, guard: &str) -> String {
    RESTARTS.replace("PAUSE", pause) + "---\n" + guard
}

#[test]
fn a_storm_acts_on_a_share_of_a_group_over_three_nodes_and_a_death() {
    let mut first = Stage::with_demo();
    let names: Vec<String> = (1..=24).map(|n| format!("vm/quill-web-{n}")).collect();
    let group = format!("group: web\nresources: [{}]\n---\n", names.join(", "));
    let guard = "guard: web\nconcerns: { group: web }\nat_once: 13%\n";
    first.publish(&restarts("700ms", &(group + guard)));
    let second = first.second_node();
    let third = first.second_node();
    let records = first.records();
    for n in 1..=24 {
        first.send("yard-hypervisor", &down(n));
    }
    let mut most = 0;
    let mut killed = false;
    let stands =
        "SELECT count(DISTINCT target) FILTER (WHERE state IN ('running', 'waiting')) AS busy,
        count(*) FILTER (WHERE state = 'succeeded') AS done FROM job";
    until("all that were down are restarted", || {
        let now = &records.rows(stands)[0];
        let (busy, done) = (now["busy"].as_i64()?, now["done"].as_i64()?);
        assert!(busy <= 3, "{busy} of 24 are under way, and 13 % are three");
        most = most.max(busy);
        if done > 6 && !killed {
            first.kill_node();
            killed = true;
        }
        (done == 24).then_some(())
    });
    assert!(killed && most > 1, "{most} at once");
    drop((second, third));
}

#[test]
fn what_a_guard_holds_is_seen_and_overruled_by_whoever_may_with_the_reason_on_the_record() {
    let stage = Stage::with_demo();
    let guard = "guard: one-web\nsummary: One web server at a time\n\
        concerns: { runbooks: restart-web }\nat_once: 1\n";
    stage.publish(&restarts("1h", guard));
    let jobs: Vec<i64> = (1..=3)
        .map(|n| {
            let alert = stage.send("yard-hypervisor", &down(n));
            let verdict = stage.verdict_is(alert, "web-down", "dispatched");
            verdict["job"].as_i64().expect("a job")
        })
        .collect();
    let held = until("two are held", || {
        let listed = stage.arvok(&["job", "list", "--held-by", "one-web"]).out;
        (listed.matches("held by guard one-web: 1 of 1 target").count() == 2).then_some(listed)
    });
    assert!(held.contains(&format!("vm/quill-web-1 (job {})", jobs[0])), "{held}");
    let shown = stage.arvok(&["job", "show", &jobs[1].to_string()]).out;
    assert!(shown.contains("  held        by guard one-web since "), "{shown}");
    let listed = stage.arvok(&["guard", "list"]).out;
    assert!(listed.contains("runbooks restart-web") && listed.contains("2 jobs"), "{listed}");
    let one = stage.arvok(&["guard", "show", "one-web"]).out;
    assert!(one.contains("It holds 2 jobs:") && one.contains("1 under way"), "{one}");

    let second = jobs[1].to_string();
    let overrule = |job: &str, guard: &str, reason: &str| {
        stage.arvok(&["job", "overrule", job, "--guard", guard, "--reason", reason])
    };
    insta::assert_snapshot!([
        overrule(&second, "one-web", " ").err,
        overrule(&second, "one-wed", "dark").err,
        overrule(&jobs[0].to_string(), "one-web", "dark").err,
        overrule("99", "one-web", "dark").err,
    ].concat(), @r"
        arvok: reason: say why, in 400 bytes at most
        arvok: there is no guard `one-wed`
        arvok: job 1: it is waiting
        arvok: there is no job 99
        ");
    let kim = stage.arvok(&["token", "make", "kim", "--role", "responder"]);
    let body = json!({ "guard": "one-web", "reason": "dark" });
    let path = format!("/api/v1/jobs/{second}/overrule");
    assert_eq!(stage.call_as(kim.out.trim(), Method::POST, &path, Some(&body)).0, 403);
    assert_eq!(overrule(&second, "one-web", "the pier is dark anyway").code, 0);
    stage.job_in(jobs[1], &["waiting"]);
    let shown = stage.arvok(&["job", "show", &second]).out;
    assert!(shown.contains("guard.overruled  by admin"), "{shown}");
    assert!(shown.contains("one-web: the pier is dark anyway"), "{shown}");

    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go("/safety");
    browser.see("holds 1 job");
    browser.see("2 under way");
    browser.go("/guards/one-web");
    browser.see("vm/quill-web-3");
    assert_eq!(browser.violations(), Vec::<String>::new());
    browser.go(&format!("/jobs/{}", jobs[2]));
    browser.see("Held since");
    browser.click("Overrule…");
    browser.fill("[role=alertdialog] input", "all of them are dark");
    browser.click("Let it begin");
    stage.job_in(jobs[2], &["waiting"]);
    browser.see("was overruled by admin");
    browser.go("/jobs?held_by=one-web");
    browser.see("No job is like that.");

    // What is queued behind a guard that is withdrawn begins.
    let alert = stage.send("yard-hypervisor", &down(4));
    let fourth = stage.verdict_is(alert, "web-down", "dispatched")["job"].as_i64().expect("a job");
    until("it is held", || {
        stage.get(&format!("/api/v1/jobs/{fourth}"))["job"].get("held").cloned()
    });
    assert_eq!(stage.arvok(&["withdraw", "guard", "one-web", "--yes"]).code, 0);
    stage.job_in(fourth, &["waiting"]);
}

#[test]
fn a_circuit_has_rules_propose_until_somebody_says_that_it_goes_on() {
    let stage = Stage::with_demo();
    let guard =
        "guard: restarts\ncircuit: { failures: 2, within: 1h }\noverrule: { role: responder }\n";
    let fails = restarts("1h", guard).replace(
        "{ id: rest, pause: 1h }",
        "{ id: look, require: 'inputs.vm == \"vm/quill-web-9\"' }",
    );
    stage.publish(&fails);
    let verdict = |n: usize| {
        let alert = stage.send("yard-hypervisor", &down(n));
        until("it is decided", || stage.verdict(alert, "web-down"))
    };
    for n in 1..=2 {
        let job = verdict(n)["job"].as_i64().expect("a job");
        stage.job_in(job, &["failed"]);
    }
    let item = until("the circuit opens", || {
        let item = stage.get("/api/v1/guards/restarts");
        (item["circuits"][0]["failures"] == 2).then_some(item)
    });
    assert_eq!(item["circuits"][0]["runbook"], "restart-web");
    let third = until("its rule proposes", || {
        let given = verdict(3);
        (given["verdict"] == "proposed").then_some(given)
    });
    let reason = third["reason"].as_str().expect("words");
    assert!(
        reason.contains("2 jobs of restart-web failed or did not help by ")
            && reason.ends_with("(arvok guard resume restarts)"),
        "{reason}"
    );
    // A person launches it all the same.
    let proposal = third["job"].to_string();
    let launched = stage.arvok(&["proposal", "launch", &proposal]);
    assert_eq!(launched.code, 0, "{}", launched.all());
    stage.job_in(proposal.parse().expect("a number"), &["failed"]);

    let shown = stage.arvok(&["guard", "show", "restarts"]).out;
    assert!(shown.contains("The circuit of restart-web is open since "), "{shown}");
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go("/safety");
    browser.see("and dispatch none");
    browser.click("Let it go on…");
    browser.fill("[role=alertdialog] input", "the image is mended");
    browser.click_last("Let it go on");
    until("it is closed", || {
        stage.get("/api/v1/guards/restarts")["circuits"].as_array()?.is_empty().then_some(())
    });
    let again = stage.arvok(&["guard", "resume", "restarts", "--reason", "twice"]);
    assert!(again.code != 0 && again.all().contains("no circuit of guard restarts is open"));
    let job = verdict(9)["job"].as_i64().expect("a job");
    stage.job_in(job, &["succeeded"]);
    let audit = stage.arvok(&["audit", "list"]).out;
    assert!(audit.contains("guard.resumed") && audit.contains("the image is mended"), "{audit}");
}

#[test]
fn a_calendar_takes_its_events_from_the_file_beside_it() {
    let stage = Stage::bare();
    let place = folder("calendar");
    let file = |name: &str, text: &str| std::fs::write(place.join(name), text).expect("a file");
    file("sailings.yaml", "calendar: sailings\nzone: Europe/Oslo\nevents_from: harbour.ics\n");
    let path = place.to_str().expect("a path");
    let alone = stage.arvok(&["check", path]);
    assert!(alone.code != 0 && alone.all().contains("there is no file `harbour.ics` here"));
    // As calendars export it: lines end in CR LF, and long ones are folded.
    let day = |days: i64| (chrono::Utc::now() + chrono::TimeDelta::days(days)).format("%Y%m%d");
    let exported = format!(
        "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nSUMMARY:Midsummer\r\n  freeze\r\n\
        DTSTART;VALUE=DATE:{}\r\nDTEND;VALUE=DATE:{}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
        day(-2),
        day(30)
    );
    file("harbour.ics", &exported);
    file(
        "guard.yaml",
        "guard: at-rest\nconcerns: { runbooks: '**' }\nfrozen: { during: sailings }\n",
    );
    let published = stage.arvok(&["publish", path, "--yes"]);
    assert_eq!(published.code, 0, "{}", published.all());
    let guard = stage.arvok(&["guard", "list"]);
    assert!(guard.out.contains("Midsummer freeze"), "{}", guard.out);
    let again = stage.arvok(&["publish", path, "--yes"]);
    assert!(again.all().contains("without a change"), "{}", again.all());
    file("harbour.ics", &exported.replace("Midsummer", "Autumn"));
    let changed = stage.arvok(&["publish", path, "--yes"]);
    assert!(changed.all().contains("Autumn"), "{}", changed.all());
}
