//! From an unknown sender to its first alerts: what comes is caught, looked at and mapped, and
//! rules are checked against it.

use crate::kit::{Stage, answer, until};
use reqwest::Method;
use serde_json::{Value, json};

const SOURCE: &str =
    "source: pier-monitor\nintake:\n  webhook: { credential: { bearer: \"${secret('pier')}\" } }\n";

fn post(stage: &Stage, body: Vec<u8>) -> (u16, Value) {
    let request = stage
        .request(Method::POST, "/in/pier-monitor")
        .header("authorization", "Bearer token-of-the-pier")
        .header("x-monitor", "north");
    answer(request.body(body))
}

fn payload(n: usize) -> Value {
    json!({ "id": format!("run-{n}"), "check": "web.page", "level": "hard", "ok": false,
        "host": format!("kiosk-{n}"), "seconds": 1.5, "site": "brack", "password": "lobster-pot",
        "message": "The page is slow" })
}

fn used(stage: &Stage, what: &str) -> i64 {
    let found = stage.get("/api/v1/definitions/source/pier-monitor");
    found["item"]["used"][what].as_i64().expect("is a number")
}

/// What came of a kind, once it is written.
fn shape(stage: &Stage, kind: Option<&str>, least: u64) -> Value {
    until("the shape to be written", || {
        let all = stage.get("/api/v1/sources/pier-monitor/shapes");
        let kinds = all["kinds"].as_array().expect("is a list").clone();
        kinds
            .into_iter()
            .find(|of| of["kind"].as_str() == kind && of["count"].as_u64() >= Some(least))
    })
}

#[test]
fn an_unknown_sender_is_caught_mapped_and_read_again_without_acting_on_what_is_old() {
    let stage = Stage::bare();
    stage.secret("pier", "token-of-the-pier", &["source/pier-monitor"]);
    stage.publish(SOURCE);
    for n in 0..6 {
        let (status, said) = post(&stage, payload(n).to_string().into_bytes());
        assert_eq!((status, said["caught"].as_array().map(Vec::len)), (202, Some(1)), "{said}");
    }
    // What is no JSON, what is no text, and what is large are kept as they came.
    let large = format!("{{ \"check\": \"{}\" }}", "x".repeat(300_000));
    for body in [b"<alert/>".to_vec(), vec![0xff, 0, 0xfe], large.clone().into_bytes()] {
        let (status, said) = post(&stage, body);
        assert_eq!(status, 202, "{said}");
    }
    assert_eq!((used(&stage, "caught"), used(&stage, "unreadable")), (9, 0));
    let kept = stage.get("/api/v1/unreadable?source=pier-monitor&limit=3");
    let [newest, binary, text] = &kept["items"].as_array().expect("a list")[..] else {
        panic!("{kept}")
    };
    assert_eq!(
        (&newest["is_cut"], &binary["base64"], &text["payload"]),
        (&json!(true), &json!(true), &json!("<alert/>"))
    );
    assert_eq!(binary["payload"], "/wD+");
    assert_eq!(text["beside"]["headers"]["x-monitor"], "north");
    assert!(!kept.to_string().contains("token-of-the-pier"), "{kept}");
    let whole = stage.get(&format!("/api/v1/unreadable/{}", newest["id"]));
    assert_eq!(whole["payload"], large);

    // Its shape, in which no password stands.
    let caught = shape(&stage, None, 7);
    assert!(!caught.to_string().contains("lobster-pot"), "{caught}");
    let fields = caught["fields"].as_array().expect("fields");
    let host = fields.iter().find(|field| field["path"] == "body.host").expect("is known");
    assert_eq!((&host["distinct"], &host["types"]["text"]), (&json!(6), &json!(6)));

    // Lines are suggested, tried, and published.
    let suggested = stage.get("/api/v1/sources/pier-monitor/suggestion");
    assert_eq!(
        (&suggested["readable"], &suggested["payloads"]),
        (&json!(6), &json!(9)),
        "{suggested}"
    );
    let said = stage.arvok(&["source", "suggest", "pier-monitor"]).out;
    assert!(said.contains("kind: body.check") && said.contains("6 of 9 payloads"), "{said}");
    let read = suggested["read"].as_str().expect("lines");
    let document = format!("{SOURCE}{read}");
    let (status, tested) =
        stage.call(Method::POST, "/api/v1/sources/test", Some(&json!({ "text": document })));
    assert_eq!(status, 200, "{tested}");
    let of_first = &tested["payloads"][8];
    assert_eq!(of_first["alerts"][0]["resource"], "host/kiosk-0", "{tested}");
    assert_eq!(of_first["alerts"][0]["severity"], "major");
    assert!(
        tested["payloads"][1]["unreadable"][0].as_str().is_some_and(|why| why.contains("JSON"))
    );
    let wrong = document.replace("body.check", "bdy.check");
    let (_, tested) =
        stage.call(Method::POST, "/api/v1/sources/test", Some(&json!({ "text": wrong })));
    assert!(tested["problems"][0]["message"].as_str().is_some_and(|m| m.contains("`bdy`")));
    assert_eq!(stage.get("/api/v1/alerts")["items"], json!([]), "nothing was recorded by it");
    stage.publish(&document);

    // Half of it came long ago: that is recorded, and raises no alarm.
    let records = stage.records();
    records.run("UPDATE unreadable SET received = received - interval '1 hour' WHERE id <= 3");
    let said = stage.arvok(&["source", "retry", "pier-monitor"]).out;
    assert!(said.starts_with("Read 6 payloads: 6 alerts taken."), "{said}");
    assert!(said.contains("3 alerts came more than 15 minutes ago"), "{said}");
    let taken = stage.get("/api/v1/alerts?source=pier-monitor");
    assert_eq!(taken["items"].as_array().map(Vec::len), Some(6));
    let alarms = stage.get("/api/v1/alarms?state=raised&source=pier-monitor");
    let mut about: Vec<&str> = alarms["items"]
        .as_array()
        .expect("alarms")
        .iter()
        .filter_map(|alarm| alarm["resource"].as_str())
        .collect();
    about.sort_unstable();
    assert_eq!(about, ["host/kiosk-3", "host/kiosk-4", "host/kiosk-5"]);
    let said = stage.arvok(&["source", "retry", "pier-monitor"]).out;
    assert!(said.starts_with("None of 3 payloads can be read yet"), "{said}");
    assert_eq!(used(&stage, "caught"), 3);
}

#[test]
fn rules_are_checked_against_what_their_senders_sent() {
    let stage = Stage::bare();
    stage.secret("pier", "token-of-the-pier", &["source/pier-monitor"]);
    stage.publish(&format!(
        "{SOURCE}read: {{ id: body.id, kind: body.check, severity: {{ of: body.level, as: {{ hard: \
         major }} }}, resource: '\"host/\" + body.host' }}\nmask: [body.message]\n---\n\
         runbook: note\ninputs: {{ what: {{ default: null }} }}\ntarget: group/all\nsteps: \
         [ {{ id: fine, require: 'true' }} ]\n"
    ));
    let page: Vec<Value> = (0..12).map(payload).collect();
    for body in &page {
        let (status, said) = post(&stage, body.to_string().into_bytes());
        assert_eq!(status, 202, "{said}");
    }
    for n in 0..12 {
        let tls = json!({ "id": format!("tls-{n}"), "check": "web.tls", "level": "hard",
            "host": "kiosk-1", "days": "9 days" });
        let (status, said) = post(&stage, tls.to_string().into_bytes());
        assert_eq!(status, 202, "{said}");
    }
    // What is made up is no part of it.
    let trial = json!({ "source": "pier-monitor", "payload": { "id": "t", "check": "web.made-up",
        "level": "hard", "host": "kiosk-1" } });
    assert_eq!(stage.call(Method::POST, "/api/v1/trials", Some(&trial)).0, 202);
    shape(&stage, Some("web.tls"), 12);
    let of_page = shape(&stage, Some("web.page"), 12);
    assert!(!of_page.to_string().contains("The page is slow"), "it is masked: {of_page}");
    let all = stage.get("/api/v1/sources/pier-monitor/shapes");
    assert_eq!(all["kinds"].as_array().map(Vec::len), Some(2), "{all}");

    let rule = |listen: &str| {
        let text = format!(
            "rule: slow\nlisten: {{ sources: pier-monitor, {listen} }}\ndispatch: {{ runbook: note }}\n"
        );
        let body = json!({ "files": [{ "file": "r.yaml", "text": text }], "dry_run": true });
        let (status, plan) = stage.call(Method::POST, "/api/v1/publish", Some(&body));
        assert_eq!((status, &plan["problems"]), (200, &json!([])), "{plan}");
        let warnings = plan["warnings"].as_array().expect("warnings");
        let names = warnings.iter().filter_map(|w| w["warning"].as_str());
        names.map(str::to_owned).collect::<Vec<_>>()
    };
    assert_eq!(rule("kinds: web.page, where: alert.body.seconds > 1"), [""; 0]);
    assert_eq!(rule("kinds: web.pge"), ["unsent-kind"]);
    assert_eq!(rule("kinds: web.page, severity: critical"), ["unsent-severity"]);
    assert_eq!(rule("kinds: web.*, where: alert.body.seconds > 1"), ["unsent-field"]);
    assert_eq!(rule("kinds: web.tls, where: alert.body.days < 10"), ["other-type"]);

    let said = stage
        .arvok(&["source", "shape", "pier-monitor", "--kind", "web.page", "--beside", "web.tls"])
        .out;
    assert!(said.contains("body.seconds") && said.contains("body.days"), "{said}");
    let said = stage.arvok(&["source", "shape", "pier-monitor", "--forget"]).out;
    assert_eq!(said.trim(), "Forgotten: what came of 2 kinds.");
    assert_eq!(rule("kinds: web.pge"), [""; 0], "nothing is known any more");
    let audit = stage.get("/api/v1/audit?act=shapes.forgotten");
    assert_eq!(audit["items"][0]["what"], "source/pier-monitor");
}
