//! Writing a rule, being told why, rehearsing it, keeping examples: through the command, the API
//! and the console.

use crate::kit::{Browser, Stage, arvok, folder, until};
use reqwest::Method;
use serde_json::{Value, json};

/// A stage where a disk has filled and been grown.
fn played() -> Stage {
    let stage = Stage::with_demo();
    stage.harbour.yard.with(|c| c.fill("quill-booking-db-1", "data", 88.0, 0.0));
    stage.job_in(1, &["succeeded"]);
    stage
}

fn demo_rules() -> String {
    std::fs::read_to_string(format!("{}/rules/disks.yaml", crate::kit::DEMO)).expect("the demo")
}

fn file(name: &str, text: &str) -> String {
    let path = folder("rules").join(name);
    std::fs::write(&path, text).expect("a file");
    path.display().to_string()
}

#[test]
fn why_says_clause_by_clause_what_a_rule_makes_of_an_alert() {
    let stage = played();
    let said = stage.arvok(&["rule", "why", "booking-disk-filling", "--alert", "1"]);
    assert_eq!(said.code, 0, "{}", said.all());
    for part in [
        "booking-disk-filling (version 1, act) matches",
        "✓ where",
        "alert.value = 88",
        "It was dispatched: first alert of its episode",
        "Dispatch grow-disk:",
    ] {
        assert!(said.out.contains(part), "{part} in {}", said.out);
    }
    let made_up = file(
        "never.json",
        &json!({"source": "yard-hypervisor", "kind": "disk.usage", "severity": "major",
        "resource": "vm/quill-booking-db-7", "value": 87.4, "labels": {"tier": "gold"}})
        .to_string(),
    );
    let said = stage.arvok(&["rule", "why", "booking-disk-filling", "--file", &made_up]);
    assert!(
        said.out.contains("does not match: 1 clause is not met") && said.out.contains("✗ where"),
        "{}",
        said.out
    );

    // The same alert, and a text of the rule that was never published.
    let edited = file(
        "edited.yaml",
        &demo_rules().replace("alert.value >= 87.5", "alert.value >= 80 && has(alert.body.rack)"),
    );
    let said = stage.arvok(&[
        "rule",
        "why",
        &edited,
        "--rule",
        "booking-disk-filling",
        "--file",
        &made_up,
    ]);
    assert!(said.out.contains("(not published, act) does not match"), "{}", said.out);
    assert!(
        said.out.contains("✓ where     alert.value >= 80")
            && said.out.contains("alert.body.rack is missing"),
        "{}",
        said.out
    );

    let said = stage.arvok(&["alert", "why", "1"]);
    assert!(
        said.out.contains("18 rules were asked, 1 match") && said.out.contains("One clause short"),
        "{}",
        said.out
    );
    let why = stage.get("/api/v1/alerts/1/why");
    assert_eq!(why["matching"][0]["verdict"]["given"], true, "{why:#}");
    assert_eq!(why["near"].as_array().map(Vec::len), Some(4), "{why:#}");
    assert!(why["near"].as_array().expect("near").iter().all(|w| w["short"] == 1), "{why:#}");

    for (args, code, words) in [
        (
            vec!["rule", "why", "booking-disk-fillin", "--alert", "1"],
            5,
            "did you mean `booking-disk-filling`?",
        ),
        (
            vec!["rule", "why", "booking-disk-filling", "--alert", "9999"],
            5,
            "there is no alert 9999",
        ),
        (vec!["rule", "why", edited.as_str(), "--alert", "1"], 2, "holds 3 rules; name one of"),
    ] {
        let said = stage.arvok(&args);
        assert_eq!(said.code, code, "{}", said.all());
        assert!(said.err.contains(words), "{}", said.all());
    }
}

#[test]
fn a_preview_decides_with_the_memory_of_the_moment_and_changes_nothing() {
    let stage = played();
    let body = json!({"rule": "booking-disk-filling", "given": {"source": "yard-hypervisor",
        "kind": "disk.usage",
        "severity": "major", "resource": "vm/quill-booking-db-1", "value": 95,
            "labels": {"tier": "gold"}}});
    let ask = || {
        let (status, why) = stage.call(Method::POST, "/api/v1/why", Some(&body));
        assert_eq!(status, 200, "{why}");
        why
    };
    let why = until("the clearing", || Some(ask()).filter(|w| w["verdict"]["verdict"] != "folded"));
    // Within the 30 s of rest after the dispatch.
    assert_eq!(why["verdict"]["verdict"], "resting", "{why:#}");
    assert_eq!(why["verdict"]["given"], false);
    assert_eq!(ask()["verdict"]["verdict"], "resting");
    assert_eq!(stage.get("/api/v1/jobs")["items"].as_array().map(Vec::len), Some(1));
}

#[test]
fn a_rehearsal_of_stored_alerts_says_what_the_live_rule_did_and_how_an_edit_differs() {
    let stage = played();
    let live = stage.rehearse(&json!({"rule": "booking-disk-filling", "since": "1h"}));
    assert_eq!(
        (&live["now"]["dispatches"], &live["before"]),
        (&json!(1), &Value::Null),
        "{live:#}"
    );
    let dispatch = &live["now"]["dispatched"][0];
    assert_eq!(
        dispatch["inputs"],
        json!({"vm": "vm/quill-booking-db-1", "step_gib": 4, "ceiling_gib": 64,
            "full_from": 0.75})
    );
    let stored = stage.get("/api/v1/definitions/rule/booking-disk-filling")["verdicts"].clone();
    for count in stored.as_array().expect("counts") {
        let verdict = count["verdict"].as_str().expect("a verdict");
        assert_eq!(live["now"]["verdicts"][verdict], count["count"], "{verdict} in {live:#}");
    }

    let edited =
        file("edited.yaml", &demo_rules().replace("alert.value >= 87.5", "alert.value >= 99"));
    let args = [
        "rule",
        "rehearse",
        &edited,
        "--rule",
        "booking-disk-filling",
        "--since",
        "1h",
        "--against",
        "published",
    ];
    let said = stage.arvok(&args);
    assert_eq!(said.code, 0, "{}", said.all());
    for part in [
        "0 matched, 0 jobs dispatched",
        "1 dispatch that only the published one makes:",
        "(published: 1)",
    ] {
        assert!(said.out.contains(part), "{part} in {}", said.out);
    }
    // Nothing came of it.
    assert_eq!(stage.get("/api/v1/jobs")["items"].as_array().map(Vec::len), Some(1));
    for (body, status, words) in [
        (json!({"rule": "nothing"}), 404, "there is no rule `nothing`"),
        (
            json!({"rule": "booking-disk-filling", "since": "5y"}),
            400,
            "since: `5y` is not a length of time",
        ),
        (json!({"rule": "booking-disk-filling", "since": "400d"}), 400, "at most 90d"),
        (json!({"rule": "booking-disk-filling", "alerts": []}), 400, "alerts: are 0"),
        (
            json!({"rule": "booking-disk-filling", "alerts": [{"kind": "a"}]}),
            400,
            "alerts/0: has no `source`",
        ),
        (json!({"file": {"file": "x.yaml", "text": "rule: x\n"}}), 422, "problems"),
        (json!({}), 400, "neither `file` nor `rule`"),
    ] {
        let (got, answer) = stage.call(Method::POST, "/api/v1/rehearsals", Some(&body));
        assert_eq!(got, status, "{body}: {answer}");
        assert!(answer["detail"].as_str().is_some_and(|d| d.contains(words)), "{body}: {answer}");
    }
}

#[test]
fn an_example_of_what_happened_holds_in_the_rules_file_and_fails_readably_when_the_rule_changes() {
    let stage = played();
    until("the clearing", || {
        (stage.get("/api/v1/alarms/1")["alarm"]["state"] == "cleared").then_some(())
    });
    let said = stage.arvok(&["rule", "example", "--from-alert", "1"]);
    assert_eq!(said.code, 0, "{}", said.all());
    let rule = demo_rules().split("examples:").next().expect("a rule").to_owned();
    let whole = file("with-example.yaml", &format!("{rule}{}", said.out));
    let said = arvok(&["check", &whole, crate::kit::DEMO, crate::kit::LIBRARY], &[], "");
    assert!(
        said.err.contains("is defined a second time"),
        "it stands in the demo as well: {}",
        said.all()
    );
    let sources = format!("{}/sources", crate::kit::DEMO);
    let library = crate::kit::LIBRARY;
    let said = arvok(&["check", &whole, &sources, library], &[], "");
    assert_eq!(said.code, 0, "{}", said.all());
    assert!(said.out.contains("examples hold"), "its own, and those of the library: {}", said.out);

    let changed = file(
        "changed.yaml",
        &std::fs::read_to_string(&whole).expect("a file").replace("rest: 30s", "still: 1h"),
    );
    let said = arvok(&["check", &changed, &sources, library], &[], "");
    assert_eq!(said.code, 1, "{}", said.all());
    assert!(said.err.contains("expected a dispatch at 0s, but it was waiting"), "{}", said.err);
    assert!(said.err.contains("must stay raised for 1h"), "{}", said.err);
}

#[test]
fn a_draft_from_an_alert_can_be_published_as_it_is() {
    let stage = played();
    let said = stage.arvok(&["rule", "draft", "--from-alert", "1"]);
    assert_eq!(said.code, 0, "{}", said.all());
    let draft = file("draft.yaml", &said.out);
    let said = stage.arvok(&["publish", &draft, "--yes"]);
    assert_eq!(said.code, 0, "{}", said.all());
    assert!(said.err.contains("warning (same-runbook)"), "{}", said.err);
    let why = stage.get("/api/v1/alerts/1/why");
    assert_eq!(why["matching"].as_array().map(Vec::len), Some(2), "{why:#}");
}

#[test]
fn warnings_know_what_was_seen_and_can_be_silenced_with_a_reason() {
    let stage = played();
    for _ in 0..5 {
        stage.send(
            "yard-hypervisor",
            &json!({"kind": "link.down",
            "resource": "switch/brack-sw-2/ge-0-0-7", "severity": "major",
                "labels": {"site": "brack"}}),
        );
    }
    let text = "rule: odd\nlisten:\n  kinds: Link.down\n  resource: [switch/brack-sw-3/**, \
        switch/brack-sw-2/*]\n  labels: { site: Brack }\n\
        settle: { rest: 1h }\ndispatch: { runbook: grow-disk, inputs: { vm: \"${alert.resource}\" \
        } }\n";
    let warnings = |text: &str| -> Vec<String> {
        let body = json!({"files": [{"file": "odd.yaml", "text": text}], "dry_run": true});
        let (status, plan) = stage.call(Method::POST, "/api/v1/publish", Some(&body));
        assert_eq!((status, &plan["problems"]), (200, &json!([])), "{plan}");
        let all = plan["warnings"].as_array().expect("warnings").clone();
        all.iter()
            .map(|w| {
                format!(
                    "{}:{} {}: {}",
                    w["line"],
                    w["column"],
                    w["warning"].as_str().unwrap_or(""),
                    w["message"].as_str().unwrap_or("")
                )
            })
            .collect()
    };
    let said = warnings(text);
    for part in [
        "4:14 unknown-resource: `switch/brack-sw-3/**` fits none",
        "3:10 other-case: `Link.down` was never seen, but `link.down` was",
        "other-case: `Brack` was never seen",
    ] {
        assert!(said.iter().any(|w| w.contains(part)), "{part} in {said:#?}");
    }
    let silenced = format!(
        "{text}knowingly:\n  unknown-resource: the switch comes next week\n  other-case: the new \
        monitor shouts\n"
    );
    assert_eq!(warnings(&silenced), Vec::<String>::new());
    let never = "rule: never\nlisten: { severity: ..minor, where: alert.severity >= major \
        }\ndispatch: { runbook: grow-disk, inputs: { vm: vm/a } }\n";
    assert!(
        warnings(never)[0]
            .contains("never-matches: the rule can never match: no severity meets all"),
        "{:?}",
        warnings(never)
    );
    let short = "rule: short\nlisten: { kinds: disk.usage, resource: vm/a* }\nsettle: { rest: 1ms \
        }\ndispatch: { runbook: grow-disk, inputs: { vm: vm/a } }\nknowingly: { unknown-resource: \
        not yet there }\n";
    stage.harbour.yard.with(|c| c.fill("quill-report-2", "scratch", 98.0, 0.0));
    until("repeats to be known", || {
        warnings(short).iter().any(|w| w.contains("short-rest")).then_some(())
    });
}

#[test]
fn verdicts_and_versions_are_listed() {
    let stage = played();
    let said =
        stage.arvok(&["rule", "verdicts", "booking-disk-filling", "--verdict", "dispatched"]);
    assert!(
        said.out.contains("booking-disk-filling: dispatched (1)")
            && said.out.contains("first alert of its episode"),
        "{}",
        said.out
    );
    let (status, answer) = stage.call(Method::GET, "/api/v1/verdicts?verdict=done", None);
    assert_eq!(status, 400);
    assert!(
        answer["detail"].as_str().is_some_and(|d| d.contains("it is one of dispatched")),
        "{answer}"
    );
    stage.publish(&demo_rules().replace("rest: 30s", "rest: 45s"));
    let said = stage.arvok(&["rule", "versions", "booking-disk-filling"]);
    for part in ["version 2, published by admin", "-   rest: 30s", "+   rest: 45s", "version 1"] {
        assert!(said.out.contains(part), "{part} in {}", said.out);
    }
    // An earlier one is brought back as a version of its own, and what was withdrawn is told as
    // that.
    let rule = "booking-disk-filling";
    let first = stage.arvok(&["rule", "versions", rule, "--version", "1"]);
    assert!(first.out.contains("rest: 30s"), "{}", first.all());
    let would = stage.arvok(&["rule", "restore", rule, "1", "--dry-run"]);
    assert!(would.code == 0 && would.out.contains("rest: 30s"), "{}", would.all());
    assert_eq!(stage.arvok(&["rule", "restore", rule, "1", "--yes"]).code, 0);
    assert_eq!(stage.get(&format!("/api/v1/definitions/rule/{rule}"))["item"]["version"], 3);
    assert_eq!(stage.arvok(&["withdraw", "rule", rule, "--yes"]).code, 0);
    let said = stage.arvok(&["rule", "versions", rule]);
    assert!(said.out.starts_with("version 4, withdrawn by admin"), "{}", said.out);
    let none = stage.arvok(&["rule", "restore", rule, "9", "--yes"]);
    assert!(none.code == 5 && none.err.contains("has no version 9"), "{}", none.all());
    assert_eq!(stage.arvok(&["connection", "versions", "crew-chat"]).code, 0);
    assert!(stage.arvok(&["connector", "list"]).out.contains("chat"), "connectors");
    let vocabulary = stage.get("/api/v1/vocabulary");
    let inputs = json!(["vm", "step_gib", "ceiling_gib", "full_from"]);
    assert_eq!(vocabulary["runbooks"]["grow-disk"], inputs);
    assert!(
        vocabulary["labels"]["tier"].as_array().is_some_and(|t| t.contains(&json!("gold"))),
        "{vocabulary:#}"
    );
}

#[test]
fn an_author_edits_completes_rehearses_and_publishes_in_the_console() {
    let stage = played();
    let browser = Browser::open(&stage, true);
    browser.sign_in(&stage.token);
    browser.see("From alerts to effects");
    // Start from the alert that came.
    browser.go("/alerts/1");
    browser.click("Start a rule from it");
    browser.see("rule: disk-usage-vm");
    browser.click("Ask why");
    browser.see("matches");
    // The editor complains as one types, and helps.
    browser.type_in(".cm-content", "nonsense: a\n");
    browser.see("`nonsense:` defines nothing");
    browser.go("/rules/booking-disk-filling");
    browser.see("rule: booking-disk-filling");
    browser.edit("  rest: 30s", "  re");
    browser.offers("After a dispatch the same tally stays silent for so long.");
    browser.edit("  re\n", "  rest: 45s\n");
    for (written, begun, offered) in [
        ("kinds: disk.usage", "kinds: di", "disk.usage"),
        ("sources: yard-hypervisor", "sources: ya", "yard-hypervisor"),
        ("severity: major..critical", "severity: cri", "critical.."),
        ("{ tier: gold }", "{ tier: g", "gold"),
        ("{ tier: gold }", "{ ti", "tier"),
        ("alert.value >= 87.5", "alert.val", "value"),
        ("alert.value >= 87.5", "alert.labels.", "tier"),
        ("alert.value >= 87.5", "alert.resource.starts", "startsWith"),
        ("runbook: grow-disk", "runbook: gr", "grow-disk"),
        ("urgency: high", "urgency: hi", "high"),
    ] {
        browser.edit(written, begun);
        browser.offers(offered);
        browser.edit(begun, written);
    }
    browser.click("Rehearse");
    browser.see("live");
    browser.see("grow-disk dispatched as job 1");
    browser.click("propose");
    browser.click("Publish version 2");
    browser.see("These lines change");
    browser.see("It proposes jobs; a person launches or dismisses each.");
    browser.click_last("Publish");
    until("the new version", || {
        (stage.get("/api/v1/definitions/rule/booking-disk-filling")["item"]["version"] == 2)
            .then_some(())
    });
    browser.see("version 2");
    assert_eq!(
        stage.get("/api/v1/definitions/rule/booking-disk-filling")["item"]["stance"],
        "propose"
    );
}

#[test]
fn odd_questions_are_refused_in_words() {
    let stage = Stage::with_demo();
    let cases = [
        (Method::POST, "/api/v1/why", json!({}), 400, "neither `rule` nor `text` is given"),
        (
            Method::POST,
            "/api/v1/why",
            json!({"rule": "booking-disk-filling"}),
            400,
            "give either `alert`",
        ),
        (
            Method::POST,
            "/api/v1/why",
            json!({"rule": "booking-disk-filling", "alert": 1, "given": {}}),
            400,
            "give either `alert`",
        ),
        (
            Method::POST,
            "/api/v1/why",
            json!({"rule": "booking-disk-filling", "given": 5}),
            400,
            "is not an object",
        ),
        (
            Method::POST,
            "/api/v1/why",
            json!({"rule": "booking-disk-filling", "given": {"source": "s", "kind": "a b",
                "resource": "x/y"}}),
            400,
            "is not a dotted kind",
        ),
        (
            Method::POST,
            "/api/v1/why",
            json!({"text": "rule: x\ndispatch: { runbook: y, urgency: hgih }", "alert": 1}),
            422,
            "problems",
        ),
        (
            Method::POST,
            "/api/v1/why",
            json!({"text": "runbook: x", "alert": 1}),
            400,
            "holds no such rule",
        ),
        (Method::GET, "/api/v1/alerts/7/why", Value::Null, 404, "there is no alert 7"),
        (Method::GET, "/api/v1/alerts/7/example", Value::Null, 404, "there is no alert 7"),
        (Method::GET, "/api/v1/alerts/7/draft", Value::Null, 404, "there is no alert 7"),
        (
            Method::GET,
            "/api/v1/proposals?state=new",
            Value::Null,
            400,
            "it is one of open, launched",
        ),
        (Method::GET, "/api/v1/proposals/7", Value::Null, 404, "there is no proposal 7"),
        (Method::POST, "/api/v1/proposals/7/launch", json!({}), 404, "there is no proposal 7"),
        (
            Method::POST,
            "/api/v1/proposals/7/dismiss",
            json!({"note": "x".repeat(2001)}),
            400,
            "more than 2000 bytes",
        ),
        (Method::GET, "/api/v1/verdicts?limit=0", Value::Null, 400, "1 to 500"),
        (
            Method::GET,
            "/api/v1/definitions/rule/nothing/versions",
            Value::Null,
            404,
            "there is no rule `nothing`",
        ),
    ];
    for (method, path, body, status, words) in cases {
        let (got, answer) = stage.call(method, path, Some(&body).filter(|b| !b.is_null()));
        assert_eq!(got, status, "{path} {body}: {answer}");
        assert!(
            answer["detail"].as_str().is_some_and(|d| d.contains(words)),
            "{path} {body}: {answer}"
        );
    }
}

#[test]
fn whoever_hangs_up_ends_the_rehearsal() {
    let stage = Stage::with_demo();
    let alert = |i: usize| {
        json!({"source": "yard-hypervisor", "kind": "disk.usage", "resource": format!("vm/n{i}"),
            "severity": "major",
            "received": format!("2026-02-01T02:{:02}:{:02}Z", i / 60 % 60, i % 60)})
    };
    let text = "rule: all\nlisten: { kinds: disk.usage }\ndispatch: { runbook: grow-disk, inputs: \
        { vm: \"${alert.resource}\" } }\n";
    let body = json!({"file": {"file": "all.yaml", "text": text},
        "alerts": (0..3000).map(alert).collect::<Vec<_>>()});
    // More than may run at once; each is left before its end.
    for _ in 0..6 {
        until("room for a rehearsal", || {
            let request = stage
                .request(Method::POST, "/api/v1/rehearsals")
                .bearer_auth(&stage.token)
                .json(&body);
            let response = crate::kit::block(request.send()).expect("an answer");
            (response.status().as_u16() == 200).then_some(())
        });
    }
    let result = until("room for the last", || {
        let request =
            stage.request(Method::POST, "/api/v1/rehearsals").bearer_auth(&stage.token).json(&body);
        let response = crate::kit::block(request.send()).expect("an answer");
        let text = (response.status().as_u16() == 200)
            .then(|| crate::kit::block(response.text()).expect("a text"))?;
        serde_json::from_str::<Value>(text.trim_end().lines().last()?).ok()
    });
    assert_eq!(result["result"]["now"]["dispatches"], 3000);
    assert_eq!(
        (
            &result["result"]["now"]["cut"],
            result["result"]["now"]["dispatched"].as_array().map(Vec::len)
        ),
        (&json!(true), Some(2000))
    );
}
