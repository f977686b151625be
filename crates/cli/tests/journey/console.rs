//! The console in a real browser: the journey, and every view as axe-core sees it.

use crate::kit::{Browser, Stage, answer, block, until};
use arvok_standins::{
    Faults,
    desk::{self, DeskOptions},
};
use reqwest::Method;
use serde_json::json;

/// A stage on which one disk has filled and been grown, one stands at its ceiling, and one fills
/// that no rule concerns.
fn played() -> Stage {
    let stage = Stage::with_demo();
    stage.harbour.yard.set_faults(Faults { delay_ms: 150, ..Faults::default() });
    stage.harbour.yard.with(|c| c.fill("quill-booking-db-1", "data", 88.0, 0.0));
    stage.job_in(1, &["succeeded"]);
    stage
        .harbour
        .yard
        .with(|c| c.vms.get_mut("quill-booking-db-2").expect("a VM").disks[1].size_gib = 62.0);
    stage.harbour.yard.with(|c| c.fill("quill-booking-db-2", "data", 90.0, 0.0));
    stage.job_in(2, &["failed"]);
    stage.harbour.yard.with(|c| c.fill("brack-kiosk-3", "system", 98.0, 0.0));
    until("a proposal", || stage.get("/api/v1/proposals")["items"].get(0).map(|_| ()));
    stage
}

#[test]
fn sign_in_see_the_alert_arrive_open_the_job_read_the_effect() {
    let stage = Stage::with_demo();
    let browser = Browser::open(&stage, true);
    browser.see("Sign in");
    browser.sign_in("arvok_wrong");
    browser.see("this token is not known here");
    browser.run("document.getElementById('token').value = ''");
    browser.go("/");
    browser.see("Sign in");
    browser.sign_in(&stage.token);
    browser.see("No alert came in this time.");

    // Nothing is reloaded from here on: what comes, comes by the stream.
    stage.harbour.yard.set_faults(Faults { delay_ms: 400, ..Faults::default() });
    stage.harbour.yard.with(|c| c.fill("quill-booking-db-1", "data", 88.0, 0.0));
    browser.see("vm/quill-booking-db-1");
    browser.click("grow-disk");
    browser.see("Steps");
    browser.see("alarm cleared within 5m");
    browser.see("confirmed");
    let text = browser.text();
    for part in [
        "Find the fullest disk",
        "Tell the storage crew",
        "booking-disk-filling",
        "first alert of its episode",
    ] {
        assert!(text.contains(part), "{part} in {text}");
    }
    browser.click("booking-disk-filling");
    browser.see("Results");
    browser.click("Sign out");
    browser.see("Sign in");
}

#[test]
fn what_ended_badly_is_set_aside_where_it_is_seen_and_comes_back() {
    let stage = Stage::with_demo();
    stage.publish(
        "runbook: shut\ninputs: {}\ntarget: door/a\nsteps: [{ id: no, require: 'false', else: it \
        is locked }]\n",
    );
    let mut last = 0;
    for _ in 0..2 {
        let made = stage.call(Method::POST, "/api/v1/jobs", Some(&json!({ "runbook": "shut" })));
        last = made.1["job"].as_i64().expect("a job");
        stage.job_in(last, &["failed"]);
    }
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("it is locked");
    browser.see("and 1 before it");
    browser.see("One thing needs you.");
    browser.click("Seen");
    browser.see("Nothing needs you.");
    browser.go(&format!("/jobs/{last}"));
    browser.see("Seen by admin");
    browser.click("Not seen");
    until("it to be told", || (!browser.text().contains("Seen by")).then_some(()));
    browser.go("/");
    browser.see("One thing needs you.");
}

#[test]
fn a_stretch_of_time_is_chosen_with_the_keys_and_stands_in_the_address() {
    let stage = Stage::with_demo();
    for i in 0..3 {
        stage.send(
            "yard-hypervisor",
            &json!({"kind": "disk.usage", "resource": format!("vm/n{i}"), "value": 40 + i}),
        );
    }
    let browser = Browser::open(&stage, true);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go("/alerts");
    browser.see("vm/n2");
    browser.see("yard-hypervisor");
    until("all three to be counted", || {
        let told = browser.run(
            "return document.querySelector('[aria-label=\"Alerts over time\"] \
                svg')?.getAttribute('aria-label')",
        );
        told.as_str().is_some_and(|t| t.starts_with("3 alerts since ")).then_some(())
    });
    let address = || browser.run("return location.search").as_str().unwrap_or_default().to_owned();
    // The newest minute is left out: then nothing came.
    browser.press("[aria-label=Until]", thirtyfour::Key::Left);
    until("the end in the address", || address().contains("until=").then_some(()));
    browser.press("[aria-label=Until]", thirtyfour::Key::Left);
    browser.see("No alert is like that.");
    browser.go(&format!("/alerts{}", address()));
    browser.see("No alert is like that.");
    browser.click_last("Whole hour");
    browser.see("vm/n2");
    assert_eq!(address(), "");
}

#[test]
fn jobs_stand_over_time_and_of_a_rule_only_its_own() {
    let stage = played();
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    let label = |of: &str| {
        let asked = format!(
            "return document.querySelector('[aria-label=\"{of} over time\"] \
            svg')?.getAttribute('aria-label')"
        );
        browser.run(&asked).as_str().unwrap_or_default().to_owned()
    };
    browser.go("/jobs");
    browser.see("failed or unsure");
    // Two that act, and one that tells the crew of a proposal.
    until("all jobs to be counted", || label("Jobs").starts_with("3 jobs since ").then_some(()));
    browser.press("[aria-label=Until]", thirtyfour::Key::Left);
    browser.press("[aria-label=Until]", thirtyfour::Key::Left);
    browser.see("No job is like that.");
    browser.click_last("Whole hour");
    browser.see("vm/quill-booking-db-1");
    browser.go("/alerts?rule=booking-disk-filling&window=day");
    browser.see("rule booking-disk-filling");
    until("what the rule decided", || {
        let told = label("Alerts");
        let number: u64 = told.split(' ').next()?.parse().ok()?;
        (number > 0).then_some(())
    });
}

#[test]
fn nobody_is_offered_what_the_role_does_not_allow() {
    let stage = played();
    let token = |role: &str| {
        let made = stage.call(
            reqwest::Method::POST,
            "/api/v1/tokens",
            Some(&json!({ "name": role, "role": role })),
        );
        assert_eq!(made.0, 201, "{}", made.1);
        made.1["token"].as_str().expect("a token").to_owned()
    };
    let (viewer, responder) = (token("viewer"), token("responder"));
    let browser = Browser::open(&stage, false);
    browser.sign_in(&viewer);
    browser.see("viewer, viewer");
    for (path, sign, offered) in [
        (
            "/proposals/3",
            "Launching or dismissing it needs the role responder or a higher one.",
            "Launch",
        ),
        (
            "/rules/booking-disk-filling",
            "Publishing needs the role author or a higher one.",
            "Publish version",
        ),
    ] {
        browser.go(path);
        browser.see(sign);
        let buttons =
            "return [...document.querySelectorAll('button')].map((b) => b.textContent).join('|')";
        let buttons = browser.run(buttons).as_str().unwrap_or_default().to_owned();
        assert!(!buttons.contains(offered), "{path}: {buttons}");
        assert_eq!(browser.violations(), Vec::<String>::new(), "{path}");
    }
    browser.click("Sign out");
    browser.sign_in(&responder);
    browser.see("responder, responder");
    browser.go("/proposals/3");
    browser.see("Launch");
    browser.go("/rules/booking-disk-filling");
    browser.see("Publishing needs the role author or a higher one.");
}

/// A release fails, and its job asks what to do; the job's number and the address of the page
/// behind the link.
fn asked(stage: &Stage) -> (i64, String) {
    stage.harbour.releases.with("booking-web", |s| {
        s.before = Some(std::mem::replace(&mut s.version, "5.2.0".into()))
    });
    let link = until("the crew to be asked", || {
        let said = stage.harbour.chat.messages();
        said.iter().find_map(|m| Some(m.text.split_once("/decide#")?.1.trim().to_owned()))
    });
    let job = stage.get("/api/v1/decisions")["items"][0]["job"].as_i64().expect("a job");
    (job, format!("/decide#{link}"))
}

#[test]
fn a_decision_is_taken_where_it_is_seen_and_by_whoever_has_its_link() {
    let stage = Stage::with_demo();
    let (job, link) = asked(&stage);
    let browser = Browser::open(&stage, false);
    browser.go(&link);
    browser.see("A decision is asked of you");
    browser.see("Go back to 5.1.3?");
    browser.see("still stands");
    browser.click("Leave 5.2.0 where it is");
    browser.fill("input[autocomplete=name]", "Maren");
    browser.click("Decide");
    browser.see("This was asked");
    browser.see("Maren (by link, not signed in)");
    stage.job_in(job, &["succeeded"]);
    assert_eq!(
        stage.harbour.releases.with("booking-web", |s| s.version.clone()).as_deref(),
        Some("5.2.0")
    );

    // A question that does not say that the link is enough asks for signing in.
    stage.publish(
        "runbook: asks-crew\ntarget: vm/b\nsteps: [ { id: agree, ask: { text: 'Is the ramp free?', \
        choices: { free: It is free, wait: Wait }, \
         within: 5m, tell: { call: chat.post, via: crew-chat, give: { channel: yard, text: 'Ramp: \
         ${decision.link}' } } } } ]\n",
    );
    let body = json!({ "runbook": "asks-crew", "inputs": {} });
    let job = stage.call(reqwest::Method::POST, "/api/v1/jobs", Some(&body)).1["job"]
        .as_i64()
        .expect("a job");
    let link = until("the crew to be asked", || {
        let said = stage.harbour.chat.messages();
        said.iter().find_map(|m| {
            Some(m.text.strip_prefix("Ramp: ")?.split_once("/decide#")?.1.trim().to_owned())
        })
    });
    browser.go("/");
    browser.go(&format!("/decide#{link}"));
    browser.see("A decision is asked of you. Sign in to see it.");
    assert_eq!(browser.violations(), Vec::<String>::new());
    browser.sign_in(&stage.token);
    browser.see("Is the ramp free?");
    browser.see("You decide as admin.");
    browser.click("It is free");
    browser.click("Decide");
    browser.see("admin (console)");
    stage.job_in(job, &["succeeded"]);
    browser.go("/");
    browser.click("Sign out");

    stage.publish(
        "runbook: asks\ntarget: vm/a\nsteps: [ { id: agree, ask: { text: 'Is it calm?', choices: { \
        calm: Calm, rough: Rough }, within: 5m } } ]\n",
    );
    let body = json!({ "runbook": "asks", "inputs": {} });
    let job = stage.call(reqwest::Method::POST, "/api/v1/jobs", Some(&body)).1["job"]
        .as_i64()
        .expect("a job");
    browser.go("/");
    browser.sign_in(&stage.token);
    browser.see("One thing needs you.");
    browser.click("Is it calm?");
    browser.see("Waits for your decision");
    browser.click("Calm");
    browser.click("Decide");
    stage.job_in(job, &["succeeded"]);
    browser.see("admin (console)");
}

/// Some five hundred steps, when it is launched with 120 numbers.
const MANY: &str = "
runbook: many
target: group/many
inputs: { n: { type: array } }
steps:
  - id: pool
    each: inputs.n
    as: n
    at_once: 50
    steps:
      - { id: a, set: { x: '${n}' } }
      - { id: b, set: { x: 1 } }
      - { id: c, require: 'n > 0' }
      - { id: d, set: { y: 2 } }
      - { id: e, set: { y: 3 } }
";

#[test]
fn every_view_in_light_and_dark_wide_and_narrow() {
    let stage = played();
    // Some five hundred steps on one page.
    stage.publish(MANY);
    let body = json!({ "runbook": "many", "inputs": { "n": (1..=120).collect::<Vec<_>>() } });
    let many = stage.call(reqwest::Method::POST, "/api/v1/jobs", Some(&body)).1;
    let many = many["job"].as_i64().expect("a job");
    stage.job_in(many, &["succeeded"]);
    let many = format!("/jobs/{many}");
    let (asks, link) = asked(&stage);
    let asks = format!("/jobs/{asks}");
    let browser = Browser::open(&stage, false);
    assert_eq!(browser.violations(), Vec::<String>::new(), "sign-in");
    browser.sign_in(&stage.token);
    browser.see("Watch");
    let views = [
        ("/", "From alerts to effects"),
        ("/alerts", "disk.usage"),
        ("/alerts/1", "One clause short"),
        ("/alarms", "vm/quill-booking-db-2"),
        ("/alarms/1", "What can be done"),
        ("/jobs", "grow-disk"),
        ("/jobs/1", "Steps"),
        ("/jobs/2", "at its ceiling"),
        ("/rules", "booking-disk-filling"),
        ("/rules/booking-disk-filling", "Results"),
        ("/rules/new?alert=1", "edited, not published"),
        ("/proposals", "vm/brack-kiosk-3"),
        ("/proposals/3", "What would be done"),
        ("/runbooks", "grow-disk"),
        ("/runbooks/grow-disk", "Needs, and who uses it"),
        ("/runbooks/new", "as the text stands"),
        ("/library", "ready-made runbooks"),
        ("/library/register-machine", "with changes of its own"),
        ("/connections", "yard-hypervisor"),
        ("/connections/yard-hypervisor", "What it offers"),
        ("/connections/nothing", "there is no connection"),
        ("/connections/import", "The description"),
        ("/subscribers", "harbour-board"),
        ("/subscribers/harbour-board", "job.succeeded"),
        ("/subscribers/nobody", "there is no subscriber"),
        ("/runbooks/grow-disk/launch", "What it would do"),
        (&many, "20 more, none of them open or failed"),
        (&asks, "Waits for your decision"),
        (&link, "What is known"),
        ("/sources", "yard-hypervisor"),
        ("/sources/yard-hypervisor", "Everything that came could be read."),
        ("/sources/new", "edited, not published"),
        ("/system", "For how long"),
        ("/access", "Name of a new token"),
        ("/record", "job.launched"),
        ("/keys", "In an editor"),
        ("/nowhere", "There is nothing at this address."),
        ("/jobs/99", "there is no job 99"),
    ];
    let mut wrong = Vec::new();
    for dark in [false, true] {
        browser.theme(dark);
        for (view, sign) in views {
            browser.go(view);
            browser.see(sign);
            let place = if dark { "dark" } else { "light" };
            wrong.extend(browser.violations().into_iter().map(|v| format!("{view} {place}: {v}")));
        }
    }
    // A narrow screen, and the usual one when everything on it is twice as large.
    for (width, height) in [(390, 800), (640, 400)] {
        browser.size(width, height);
        // At twice the size, and by axe, one view of each form.
        let forms = [
            "/",
            "/alarms/1",
            "/jobs",
            "/jobs/1",
            "/rules/booking-disk-filling",
            "/proposals/3",
            "/system",
            "/access",
        ];
        let is_shown = |(view, sign): &&(&str, &str)| {
            *sign != "disk.usage" && (width == 390 || forms.contains(view))
        };
        for (view, sign) in views.iter().filter(is_shown) {
            browser.go(view);
            browser.see(sign);
            let over = browser
                .run("return document.documentElement.scrollWidth - innerWidth")
                .as_i64()
                .unwrap_or(0);
            if over > 0 {
                wrong.push(format!("{view} is {over} pixels too wide for a screen of {width}"));
            }
            if width == 390 && forms.contains(view) {
                wrong.extend(
                    browser.violations().into_iter().map(|v| format!("{view} narrow: {v}")),
                );
            }
        }
    }
    assert_eq!(wrong, Vec::<String>::new());
}

#[test]
fn a_runbook_is_launched_from_its_form_held_and_stopped() {
    let stage = Stage::with_demo();
    stage.publish(
        "runbook: slow\nsummary: Waits for an hour\ninputs: { on: { type: string, format: resource \
        }, by: { type: integer, default: 4 } }\n\
         target: '${inputs.on}'\nsteps:\n  - { id: sum, set: { double: '${inputs.by * 2}' } }\n  - \
         { id: nap, pause: 1h }\n",
    );
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Watch");
    browser.go("/runbooks/slow");
    browser.click("Launch…");
    browser.see("Still missing: on");
    browser.fill("#input-on", "vm/quill-report-2");
    browser.fill("#input-by", "8");
    browser.click("Show what it would do");
    browser.see("on vm/quill-report-2; nothing is done by looking.");
    browser.see("16");
    assert_eq!(browser.violations(), Vec::<String>::new(), "the dry run");
    assert_eq!(stage.get("/api/v1/jobs")["items"], json!([]), "nothing was done");
    browser.click_last("Launch");
    browser.see("Steps");
    stage.job_in(1, &["waiting"]);
    browser.click("Pause");
    browser.see("paused by admin");
    browser.click("Resume");
    stage.job_in(1, &["waiting"]);
    browser.see("Pause");
    browser.click("Cancel…");
    browser.fill("input[aria-label='Why it is cancelled']", "the wrong machine");
    browser.click("Cancel the job");
    browser.see("cancelled by admin: the wrong machine");
    assert_eq!(browser.violations(), Vec::<String>::new(), "a job that was stopped");
    browser.click("Again…");
    browser.see("Launch slow");
    until("what it had stands in the form", || {
        (browser.run("return document.querySelector('#input-by')?.value") == json!("8"))
            .then_some(())
    });
}

#[test]
fn a_runbook_is_written_with_its_steps_drawn_and_words_completed() {
    let stage = Stage::with_demo();
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Watch");
    browser.go("/runbooks/grow-disk");
    browser.see("used by");
    browser.see("booking-disk-filling");
    let undo = || {
        browser.click("Undo all");
        until("the text as published", || {
            (!browser.text().contains("edited, not published")).then_some(())
        });
    };
    // What is drawn follows the text, and leads to its line.
    browser.edit("runbook: grow-disk", "runbook: grow-more");
    browser.see("edited, not published");
    undo();
    browser.click("Find the fullest disk");
    let line = "return document.querySelector('.cm-activeLine')?.textContent";
    until("the line of the step", || {
        browser.run(line).as_str().is_some_and(|l| l.contains("look")).then_some(())
    });
    browser.edit("call: vm.inspect", "call: vm.inspct");
    browser.see("did you mean `vm.inspect`?");
    browser.see("not published");
    undo();
    browser.edit("summary: Find the", "summry: Find the");
    browser.see("as the text was when it was good");
    undo();
    browser.edit("call: vm.inspect", "call: ");
    browser.offers("vm.grow_disk");
    undo();
    browser.edit("steps.look.fullest.size_gib +", "steps.look.fullest.");
    browser.offers("size_gib");
    undo();
    browser.edit("summary: Grow a VM", "summary: Make a VM");
    browser.click("Publish version 2");
    browser.see("These lines change");
    browser.click_last("Publish");
    browser.see("version 2");
    browser.see("version 1");
    assert_eq!(browser.violations(), Vec::<String>::new());
}

#[test]
fn one_goes_anywhere_by_a_few_letters() {
    let stage = Stage::with_demo();
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Watch");
    browser.run("dispatchEvent(new KeyboardEvent('keydown', { key: 'k', ctrlKey: true }))");
    browser.see("view");
    assert_eq!(browser.violations(), Vec::<String>::new(), "the list of goals");
    browser.fill("input[role=combobox]", "launch grow");
    browser.press("input[role=combobox]", thirtyfour::Key::Enter);
    browser.see("Launch grow-disk");
    browser.click("Go to…");
    browser.fill("input[role=combobox]", "job 77");
    browser.press("input[role=combobox]", thirtyfour::Key::Enter);
    browser.see("there is no job 77");
}

#[test]
fn all_tabs_of_a_browser_follow_by_one_stream_and_none_is_left_behind() {
    let stage = Stage::with_demo();
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("live");
    let followers = || {
        let (_, metrics) = answer(stage.request(Method::GET, "/metrics"));
        let line = metrics.as_str().and_then(|m| {
            m.lines().find_map(|l| l.strip_prefix("arvok_streams ")).map(str::to_owned)
        });
        line.and_then(|n| n.parse::<i64>().ok()).expect("how many follow")
    };
    until("the first to follow", || (followers() == 1).then_some(()));
    let tabs: Vec<_> = (0..4).map(|_| browser.tab("/alerts")).collect();
    browser.see("live");
    assert_eq!(followers(), 1, "one stream for all");
    stage.send(
        "yard-hypervisor",
        &json!({ "kind": "quay.light", "resource": "quay/one", "severity": "minor" }),
    );
    for tab in &tabs {
        browser.turn_to(tab);
        browser.see("quay/one");
    }
    // The tab that followed goes; another takes its place.
    browser.close_first();
    browser.turn_to(&tabs[3]);
    until("another to follow", || (followers() == 1).then_some(()));
    stage.send(
        "yard-hypervisor",
        &json!({ "kind": "quay.light", "resource": "quay/two", "severity": "minor" }),
    );
    for tab in &tabs {
        browser.turn_to(tab);
        browser.see("quay/two");
    }
}

#[test]
fn fifty_thousand_alerts_scroll_and_the_address_keeps_the_filter() {
    let stage = Stage::with_demo();
    for batch in 0..50 {
        let alerts: Vec<_> = (0..1000)
            .map(|i| {
                json!({"kind": "a", "resource": format!("vm/n{i}"),
                "severity": if batch == 0 { "critical" } else { "minor" }})
            })
            .collect();
        let request = stage
            .request(reqwest::Method::POST, "/in/yard-hypervisor?trial=no")
            .bearer_auth(&stage.token)
            .header("content-type", "application/vnd.arvok.alert+json")
            .body(serde_json::Value::Array(alerts).to_string());
        assert_eq!(crate::kit::answer(request).0, 202);
    }
    let browser = Browser::open(&stage, true);
    browser.sign_in(&stage.token);
    browser.see("Watch");
    browser.go("/alerts");
    browser.see("vm/n999");
    let rows = browser
        .run("return document.querySelectorAll('[role=rowgroup] [role=row]').length")
        .as_i64()
        .unwrap_or(0);
    assert!(rows < 75, "only what is seen is drawn, not {rows} rows");
    until("the list to reach far down", || {
        let seen = browser.run(
            "const s = document.querySelector('[role=table] [role=rowgroup]'); s.scrollTop = \
            s.scrollHeight; return s.scrollHeight / 18",
        );
        (seen.as_f64()? > 2000.0).then_some(())
    });
    until("the rows there to be drawn", || {
        let drawn = browser
            .run("return document.querySelectorAll('[role=rowgroup] [role=row]').length")
            .as_i64()?;
        (drawn > 10).then_some(())
    });
    browser.go("/alerts?severity=critical&text=n7");
    browser.see("vm/n7");
    assert!(
        browser.text().contains("critical"),
        "the filter stands in the address: {}",
        browser.text()
    );
    stage.send("yard-hypervisor", &json!({"kind": "b", "resource": "vm/one-more"}));
    stage.send("yard-hypervisor", &json!({"kind": "b", "resource": "vm/two-more"}));
    browser.go("/alerts?text=two-more");
    browser.see("These are all so far. Older ones have not been looked through.");
    browser.click("Look further back");
    until("the end to be reached", || {
        (!browser.text().contains("Look further back")).then_some(())
    });
}

/// The pictures of the README; `make screenshots` makes them anew.
#[test]
#[ignore = "writes docs/screenshots"]
fn screenshots() {
    let stage = played();
    let folder =
        std::path::PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/screenshots"));
    std::fs::create_dir_all(&folder).expect("a folder");
    let inputs = json!({ "host": "host/quill-hv-2", "full_from": 0.5 });
    let relieve = json!({ "runbook": "relieve-host", "inputs": inputs });
    let branches = stage.call(reqwest::Method::POST, "/api/v1/jobs", Some(&relieve)).1;
    let branches = branches["job"].as_i64().expect("a job");
    stage.job_in(branches, &["succeeded"]);
    let branches = format!("/jobs/{branches}");
    stage.harbour.yard.set_faults(Faults { delay_ms: 6000, ..Faults::default() });
    stage.send(
        "yard-hypervisor",
        &json!({"kind": "disk.usage", "resource": "vm/nessfold-booking-db-1",
            "severity": "critical", "value": 98.2,
        "labels": {"tier": "gold"}, "summary": "disk data of nessfold-booking-db-1 is 98.2 % \
        full"}),
    );
    for (covers, reason) in [
        (["--resource", "vm/oldhithe-kiosk-1"], "a new disk goes in"),
        (["--kind", "kiosk.paper"], "the crew fills paper on its round"),
    ] {
        let begin = ["mute", "begin", "--for", "4h", "--reason", reason];
        assert_eq!(stage.arvok(&[&begin[..], &covers].concat()).code, 0);
    }
    stage.publish(
        "guard: booking-disks\nconcerns: { runbooks: grow-disk, targets: vm/*-booking-db-* }\n\
        at_once: 2\nceiling: { input: step_gib, most: 64, within: 1d }\n---\n\
        guard: moves-that-help\nconcerns: { runbooks: relieve-* }\n\
        circuit: { failures: 3, within: 1h }\nafter_failure: 10m\n",
    );
    planned(&stage);
    let (_, link) = asked(&stage);
    let browser = Browser::open(&stage, true);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    let shots = [
        ("watch-dark", "/", "From alerts to effects", true, 1280),
        ("alerts", "/alerts", "Received", true, 1280),
        ("alert", "/alerts/1", "Normal form", false, 1280),
        ("jobs", "/jobs", "grow-disk", true, 1280),
        ("job-confirmed", "/jobs/1", "Steps", true, 1280),
        ("job-failed", "/jobs/2", "at its ceiling", false, 1280),
        ("job-branches", &branches, "not taken", false, 1280),
        ("alarm", "/alarms/1", "What can be done", true, 1280),
        ("rule-from-alert", "/rules/new?alert=1", "summary: ", false, 1280),
        ("proposal", "/proposals/3", "What would be done", true, 1280),
        ("runbook", "/runbooks/relieve-host", "Needs, and who uses it", false, 1280),
        ("library", "/library/register-machine", "with changes of its own", false, 1280),
        ("connection", "/connections/yard-hypervisor", "What it offers", true, 1280),
        ("subscriber", "/subscribers/harbour-board", "job.succeeded", true, 1280),
        ("safety", "/safety", "a new disk goes in", false, 1280),
        ("plans", "/plans", "weekly-versions", false, 1280),
        ("decide", &link, "What is known", false, 1280),
    ];
    let shoot = |name: &str| {
        browser.run("return document.fonts.ready.then(() => true)");
        browser.picture(&folder.join(format!("{name}.png")));
    };
    for (name, view, sign, dark, width) in shots {
        let is_safety = name == "safety";
        if is_safety {
            let begin = ["halt", "begin", "--targets", "host/brack-*", "--reason"];
            let begun = stage.arvok(&[&begin[..], &["the pier's power is cut over"]].concat());
            assert_eq!(begun.code, 0, "{}", begun.all());
        }
        browser.size(width, 800);
        browser.theme(dark);
        browser.go(view);
        browser.see(sign);
        shoot(name);
        if is_safety {
            assert_eq!(stage.arvok(&["halt", "lift", "1"]).code, 0);
        }
    }
    browser.size(1280, 800);
    browser.theme(false);
    browser.go("/runbooks/relieve-host/launch?like=4");
    browser.click("Show what it would do");
    browser.see("nothing is done by looking");
    shoot("runbook-launch");
    night_of_alerts(&stage);
    browser.size(1280, 800);
    browser.theme(false);
    browser.go("/rules/booking-disk-filling");
    browser.edit("cap: { jobs: 10, per: 1h }", "cap: { jobs: 2, per: 1h, later: true }");
    browser.click("Rehearse");
    browser.see("than live");
    shoot("rule-rehearsal");
}

/// Plans with a run, a time that is skipped, and a freeze.
fn planned(stage: &Stage) {
    let in_days = |days: i64| {
        (chrono::Utc::now() + chrono::TimeDelta::days(days)).format("%Y%m%d").to_string()
    };
    stage.publish(&format!(
        "calendar: harbour\nevents: |\n  BEGIN:VCALENDAR\n  BEGIN:VEVENT\n  SUMMARY:Stocktaking\n  \
        DTSTART;VALUE=DATE:{}\n  DTEND;VALUE=DATE:{}\n  END:VEVENT\n  END:VCALENDAR\n---\n\
        guard: quiet-stocktaking\nsummary: Nothing runs by itself while the stock is counted\n\
        concerns: {{ launched_by: plans }}\nfrozen: {{ during: harbour }}\n---\n\
        plan: tend-fares\nsummary: The database of the fares, each working night\n\
        runbook: tend-database\nat: {{ cron: \"40 1 * * 1-5\", zone: Europe/London }}\n",
        in_days(7),
        in_days(10)
    ));
    let run = stage.arvok(&["plan", "run", "weekly-versions", "--yes", "--follow"]);
    assert_eq!(run.code, 0, "{}", run.all());
    let skip = ["plan", "skip", "tend-fares", "--reason", "the fares are counted by hand"];
    assert_eq!(stage.arvok(&skip).code, 0);
}

/// Alerts of the last hours, as a sender with a backlog delivers them.
fn night_of_alerts(stage: &Stage) {
    let now = chrono::Utc::now();
    for (i, vm) in
        ["nessfold-booking-db-1", "oldhithe-booking-db-1", "brack-booking-db-1"].iter().enumerate()
    {
        for burst in 0..4 {
            for n in 0..(1 + (burst + i) % 3 * 2) {
                let time = now - chrono::TimeDelta::minutes(50 - 12 * burst as i64)
                    + chrono::TimeDelta::seconds(20 * n as i64);
                let state = |state: &str| {
                    json!({"kind": "disk.usage", "resource": format!("vm/{vm}"),
                        "severity": "major",
                    "state": state, "value": 90, "time": time, "labels": {"tier": "gold"}})
                };
                stage.send("yard-hypervisor", &state("raised"));
            }
            stage.send(
                "yard-hypervisor",
                &json!({"kind": "disk.usage", "resource": format!("vm/{vm}"), "state": "cleared",
                    "value": 60}),
            );
        }
    }
}

#[test]
fn a_ready_made_runbook_is_compared_copied_adapted_and_published() {
    let stage = Stage::bare();
    stage.secret("night-rota", "rota-token", &["connection/pager"]);
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go("/runbooks");
    browser.click("Start from the library");
    browser.see("31 ready-made runbooks");
    browser.click("page-rota");
    browser.see("Nothing that is published was copied from it.");
    browser.see("With what is missing here: pager");
    browser.fill("form input", "page-the-bridge");
    browser.click("Copy and adapt");
    browser.see("edited, not published");
    browser.see("copied_from: page-rota");
    browser.click("Publish");
    browser.see("Publish page-the-bridge?");
    browser.see("page-the-bridge is new.");
    browser.click_last("Publish");
    browser.see("copied from");
    let state = stage.get("/api/v1/library/page-rota");
    assert_eq!(state["item"]["missing"], json!([]), "the connection came with it: {state}");
    assert_eq!(
        state["item"]["copies"],
        json!([{ "name": "page-the-bridge", "version": 1, "same": true }])
    );
    browser.go("/library/page-rota");
    browser.see("as it stands in the library");
    // Another name alone is no change.
    let text = stage.get("/api/v1/definitions/runbook/page-the-bridge")["text"]
        .as_str()
        .expect("its text")
        .to_owned();
    stage.publish(&text.replace("summary: ", "summary: Ours. "));
    browser.go("/library/page-rota");
    browser.see("with changes of its own");
    browser.see("+ runbook: page-the-bridge");

    // The same by the API: names that are none, connections that it does not call.
    let copy = |name: &str, body: serde_json::Value| {
        stage.call(Method::POST, &format!("/api/v1/library/{name}/copy"), Some(&body))
    };
    let (status, copied) =
        copy("grow-disk", json!({ "name": "ours", "via": { "yard-hypervisor": "our-yard" } }));
    assert!(
        status == 200 && copied["text"].as_str().is_some_and(|t| t.contains("via: our-yard")),
        "{copied}"
    );
    for (name, body, status, words) in [
        ("grow-disks", json!({}), 404, "did you mean `grow-disk`?"),
        ("grow-disk", json!({ "name": "Ours!" }), 400, "is not a name"),
        ("grow-disk", json!({ "via": { "crew-chats": "ours" } }), 400, "did you mean `crew-chat`?"),
        ("grow-disk", json!({ "vai": {} }), 400, "vai"),
    ] {
        let (said, problem) = copy(name, body);
        assert!(said == status && problem.to_string().contains(words), "{name}: {said} {problem}");
    }
}

#[test]
fn a_connection_is_tested_tried_by_hand_and_made_of_a_description() {
    let stage = Stage::with_demo();
    let desk = block(async {
        desk::start(DeskOptions { port: 0, token: "faults".into(), secret: "client-secret".into() })
    })
    .expect("a desk");
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go("/connections");
    browser.see("crew-chat");
    browser.click("crew-chat");
    browser.see("What it offers");
    browser.click("Test");
    browser.see("done in");
    browser.run("document.querySelector('[aria-label=\"Try chat.post\"]').click()");
    browser.see("Try chat.post");
    browser.fill("#input-channel", "yard");
    browser.fill("#input-text", "All well at the gates");
    browser.click("Show what would be sent");
    browser.see("POST /channels/yard/messages");
    assert!(stage.harbour.chat.messages().is_empty(), "looking sends nothing");
    browser.click_last("Call");
    browser.see("As a step of a runbook:");
    browser.see("give: { channel: yard, text: \"All well at the gates\" }");
    assert_eq!(stage.harbour.chat.messages().len(), 1);
    browser.see("admin");

    stage.secret("our-desk", "client-secret", &["connection/our-desk"]);
    browser.go("/connections/import");
    let description = desk::DESCRIPTION.replace("http://127.0.0.1:7405", &desk.url());
    browser.see("The description");
    browser.fill("textarea", &description);
    browser.fill("[placeholder='made of the title']", "our-desk");
    browser.click("Read it");
    browser.see("6 of 6");
    browser.fill("[aria-label='Search the operations']", "ticket");
    browser.click("None");
    browser.see("Choose at least one operation.");
    browser.click("These");
    browser.see("5 of 6");
    browser.click("Publish");
    browser.see("Publish our-desk?");
    browser.see("our-desk is new.");
    browser.click_last("Publish");
    browser.see("What it offers");
    browser.see("listTickets");
    assert_eq!(stage.arvok(&["connection", "test", "our-desk"]).code, 0);
}

#[test]
fn a_halt_is_seen_wherever_one_is_and_lifted_when_it_was_asked_twice() {
    let stage = Stage::with_demo();
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    assert_eq!(stage.arvok(&["halt", "begin", "--reason", "the storage is being moved"]).code, 0);
    for path in ["/", "/jobs", "/connections"] {
        browser.go(path);
        browser.see("by admin: the storage is being moved");
    }
    browser.click("Lift the halt");
    browser.see("All jobs that wait are begun then.");
    assert!(stage.arvok(&["halt", "show"]).out.contains("halted since"), "one click is not enough");
    browser.click("Let them begin");
    until("the halt to be lifted", || {
        stage.arvok(&["halt", "show"]).out.contains("there is no halt").then_some(())
    });
    until("the page to know", || (!browser.text().contains("No job is begun")).then_some(()));
    assert_eq!(browser.violations(), Vec::<String>::new());
}

#[test]
fn a_session_that_has_ended_is_begun_again_over_the_page_and_what_was_typed_stays() {
    let stage = Stage::with_demo();
    let token = stage.arvok(&["token", "make", "pat", "--role", "author"]).out.trim().to_owned();
    let browser = Browser::open(&stage, false);
    browser.sign_in(&token);
    browser.see("From alerts to effects");
    browser.go("/rules/booking-disk-filling");
    browser.see("value >= 87.5");
    browser.edit("value >= 87.5", "value >= 88.5");
    assert_eq!(stage.arvok(&["token", "revoke", "pat"]).code, 0);
    browser.see("Sign in again");
    assert!(
        browser
            .run("return document.querySelector('.cm-content').innerText")
            .to_string()
            .contains("value >= 88.5")
    );
    browser.sign_in(&stage.token);
    until("the dialog to go", || (!browser.text().contains("Sign in again")).then_some(()));
    assert!(
        browser
            .run("return document.querySelector('.cm-content').innerText")
            .to_string()
            .contains("value >= 88.5")
    );
    browser.see("admin, admin");
}

#[test]
fn a_view_that_cannot_be_opened_leaves_the_menu_and_comes_when_the_service_is_back() {
    let mut stage = Stage::with_demo();
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("From alerts to effects");
    stage.kill_node();
    browser.see("Not live");
    browser.click("Connections");
    browser.see("This view could not be shown");
    browser.see("It is tried again.");
    assert!(browser.text().contains("Runbooks"), "the menu stays: {}", browser.text());
    browser.click("Watch");
    browser.see("From alerts to effects");
    browser.click("Connections");
    browser.see("This view could not be shown");
    stage.start_node();
    browser.see("yard-hypervisor");
    assert_eq!(browser.run("return document.title"), "Connections - Arvok");
}

#[test]
fn without_tls_from_another_machine_the_page_says_why_nobody_can_sign_in() {
    let stage = Stage::bare();
    let browser = Browser::open(&stage, false);
    browser.go_from_afar("/");
    browser.see("without TLS");
    assert!(browser.text().contains("public_url"), "{}", browser.text());
    assert_eq!(browser.violations(), Vec::<String>::new());
}

#[test]
fn publishing_shows_what_it_replaces_and_two_tabs_do_not_overwrite_each_other() {
    let stage = Stage::with_demo();
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("From alerts to effects");
    browser.go("/rules/booking-disk-filling");
    browser.see("value >= 87.5");
    browser.edit("urgency: high", "urgency: low");
    // Meanwhile another publishes, from the command.
    let text = stage.get("/api/v1/definitions/rule/booking-disk-filling")["text"]
        .as_str()
        .expect("a text")
        .to_owned();
    stage.publish(
        &text
            .replace(
                "step_gib: 4, ceiling_gib: 64 }\n  urgency",
                "step_gib: 5, ceiling_gib: 64 }\n  urgency",
            )
            .replace("step_gib: 4 } }", "step_gib: 5 } }"),
    );
    browser.see("Publish version 3");
    browser.click("Publish version 3");
    browser.see("Version 2 was published meanwhile; this text was begun from version 1.");
    assert!(browser.text().contains("step_gib: 5"), "{}", browser.text());
    assert_eq!(browser.violations(), Vec::<String>::new());
    // While that is read a third is published: what was looked at does not stand any more.
    stage.publish(&text.replace("summary: Grow a booking disk", "summary: Grow the booking disk"));
    browser.click("Publish over it");
    browser.see("somebody else has published rule booking-disk-filling meanwhile");
    assert_eq!(stage.get("/api/v1/definitions/rule/booking-disk-filling")["item"]["version"], 3);
    browser.see("Version 3 was published meanwhile");
    browser.click("Publish over it");
    let now = until("the fourth version", || {
        let now = stage.get("/api/v1/definitions/rule/booking-disk-filling");
        (now["item"]["version"] == 4).then_some(now)
    });
    assert!(now["text"].as_str().is_some_and(|text| text.contains("urgency: low")), "{now}");

    // A new rule of a name that stands, and a second one besides it.
    browser.go("/rules/new");
    browser.see("name-of-a-runbook");
    browser.edit("runbook: name-of-a-runbook", "runbook: page-rota");
    browser.go("/rules/booking-disk-filling");
    browser.see("urgency: low");
    browser.edit("rule: booking-disk-filling", "rule: booking-disk-beside");
    browser.click("Publish version 5");
    browser.see("It is a second rule besides booking-disk-filling, which stays as it is.");
}

#[test]
fn what_was_typed_is_kept_offered_again_and_leaving_asks() {
    let stage = Stage::with_demo();
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("From alerts to effects");
    browser.click("Rules");
    browser.click("booking-disk-filling");
    browser.see("value >= 87.5");
    browser.edit("value >= 87.5", "value >= 89.5");
    browser.see("edited, not published");
    browser.click("Connections");
    browser.see("Leave booking-disk-filling?");
    browser.click("Stay");
    assert!(browser.text().contains("edited, not published"), "{}", browser.text());
    browser.click("Connections");
    browser.see("Leave booking-disk-filling?");
    browser.click("Leave");
    browser.see("18 published");
    browser.click("Rules");
    browser.click("booking-disk-filling");
    browser.see("was not published, begun from version 1. It is kept in this browser.");
    assert_eq!(browser.violations(), Vec::<String>::new());
    browser.click("Take it up");
    browser.see("value >= 89.5");
    browser.click("Undo all");
    browser.see("value >= 87.5");
    browser.click("Connections");
    browser.see("18 published");
    browser.click("Rules");
    browser.click("booking-disk-filling");
    browser.see("value >= 87.5");
    assert!(!browser.text().contains("was not published"), "{}", browser.text());
}

#[test]
fn addresses_with_nonsense_say_so() {
    let stage = Stage::bare();
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("From alerts to effects");
    for path in ["/jobs/first", "/alerts/1e9", "/alarms/-2", "/proposals/NaN", "/nowhere"] {
        browser.go(path);
        browser.see("There is nothing at this address.");
    }
    browser.go("/alerts?since=yesterday");
    browser.see("`yesterday` is not a time such as");
}
