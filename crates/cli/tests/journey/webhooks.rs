//! What is posted in other forms than JSON, senders that ask first, and senders that send too much.

use crate::kit::{Stage, answer, block, until};
use reqwest::{Method, header::RETRY_AFTER};
use serde_json::{Value, json};
use std::time::{Duration, Instant};

fn stage() -> Stage {
    let stage = Stage::bare();
    let everywhere: Vec<String> = SOURCES.iter().map(|name| format!("source/{name}")).collect();
    let everywhere: Vec<&str> = everywhere.iter().map(String::as_str).collect();
    stage.secret("pier", "token-of-the-pier", &everywhere);
    stage
}

const SOURCES: [&str; 5] = ["pier-form", "pier-lines", "pier-asks", "pier-events", "pier-flood"];

fn webhook(name: &str, lines: &str) -> String {
    format!(
        "source: {name}\nintake:\n  webhook:\n    credential: {{ bearer: \"${{secret('pier')}}\" }}\n{lines}"
    )
}

fn post(stage: &Stage, source: &str, content_type: &str, body: &str) -> (u16, Value) {
    answer(posted(stage, source).header("content-type", content_type).body(body.to_owned()))
}

fn posted(stage: &Stage, source: &str) -> reqwest::RequestBuilder {
    stage
        .request(Method::POST, &format!("/in/{source}"))
        .header("authorization", "Bearer token-of-the-pier")
}

#[test]
fn forms_and_lines_become_alerts_and_what_is_kept_of_them_is_read_again() {
    let stage = stage();
    let read = "read:\n  kind: '\"disk.usage\"'\n  resource: '\"vm/\" + body.host'\n  \
        value: double(body.used)\n  severity: '\"minor\"'\n";
    let pattern = |shape: &str| {
        webhook(
            "pier-lines",
            &format!("    body: lines\n    parts: {{ pattern: '{shape}' }}\n{read}"),
        )
    };
    stage.publish(&format!(
        "{}---\n{}",
        webhook("pier-form", &format!("    body: form\n{read}")),
        pattern(r"^(?<host>\S+) at (?<used>[0-9]+)%$"),
    ));
    let form = "application/x-www-form-urlencoded";
    let (status, said) = post(&stage, "pier-form", form, "host=quill-1&used=91.5");
    assert_eq!(status, 202, "{said}");
    let taken = stage.get("/api/v1/alerts?source=pier-form");
    assert_eq!(taken["items"][0]["resource"], "vm/quill-1");
    assert_eq!(taken["items"][0]["value"], 91.5);

    // Of several lines the one that cannot be read is kept, and named.
    let lines = "quill-1 at 91%\nquill-2 used 88%\nquill-3 at 87%\n";
    let (status, said) = post(&stage, "pier-lines", "text/plain", lines);
    assert_eq!((status, said["alerts"].as_array().map(Vec::len)), (202, Some(2)), "{said}");
    assert_eq!(said["unreadable"][0]["item"], 1, "{said}");
    let kept = stage.get("/api/v1/unreadable?source=pier-lines");
    assert_eq!(kept["items"][0]["payload"], "quill-2 used 88%");
    stage.publish(&pattern(r"^(?<host>\S+) (at|used) (?<used>[0-9]+)%$"));
    let again = stage.arvok(&["source", "retry", "pier-lines"]);
    assert_eq!(again.code, 0, "{}", again.all());
    let taken = stage.get("/api/v1/alerts?source=pier-lines");
    let resources: Vec<&str> = taken["items"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|alert| alert["resource"].as_str())
        .collect();
    assert!(resources.contains(&"vm/quill-2"), "{resources:?}");

    // Bytes that are no text are kept too, and nothing of them goes further.
    let odd = posted(&stage, "pier-lines").body(vec![0xff, 0xfe, 0x00]);
    let (status, said) = answer(odd);
    assert_eq!(status, 422, "{said}");
    assert!(said["detail"].as_str().is_some_and(|d| d.contains("is no text in UTF-8")), "{said}");
}

#[test]
fn a_sender_that_asks_first_is_answered_with_what_it_sent_and_nothing_is_taken() {
    let stage = stage();
    stage.publish(&format!(
        "{}---\n{}---\nsource: pier-events\nintake:\n  cloudevents:\n    \
        credential: {{ bearer: \"${{secret('pier')}}\" }}\n",
        webhook("pier-form", ""),
        webhook(
            "pier-asks",
            "    handshake:\n      when: 'body == null || body.type == \"verify\"'\n      \
            answer: 'body == null ? query.token : {\"challenge\": body.challenge}'\n"
        ),
    ));
    let asked = stage.request(Method::GET, "/in/pier-asks?token=%3Cb%3Ex1");
    let said = block(asked.send()).expect("an answer");
    assert_eq!(said.status(), 200);
    let header = |name: &str| said.headers().get(name).and_then(|v| v.to_str().ok());
    assert_eq!(header("content-type"), Some("text/plain; charset=utf-8"));
    assert_eq!(header("x-content-type-options"), Some("nosniff"));
    assert_eq!(block(said.text()).expect("a text"), "<b>x1");
    let (status, said) = answer(stage.request(Method::GET, "/in/pier-asks"));
    assert_eq!(status, 400, "{said}");
    for silent in ["pier-form", "pier-none"] {
        let (status, _) = answer(stage.request(Method::GET, &format!("/in/{silent}?token=x")));
        assert_eq!(status, 405, "whether there is such a source is not told");
    }

    let verify = r#"{"type": "verify", "challenge": "c-7"}"#;
    let said = block(posted(&stage, "pier-asks").body(verify).send()).expect("an answer");
    assert_eq!(said.status(), 200);
    assert_eq!(block(said.json::<Value>()).expect("JSON"), json!({ "challenge": "c-7" }));
    let stranger = stage.request(Method::POST, "/in/pier-asks").body(verify);
    assert_eq!(answer(stranger).0, 401, "by POST it proves who it is");
    let alert = r#"{"kind": "disk.usage", "resource": "vm/a", "severity": "minor"}"#;
    assert_eq!(post(&stage, "pier-asks", "application/json", alert).0, 202);
    let taken = stage.get("/api/v1/alerts?source=pier-asks");
    assert_eq!(taken["items"].as_array().map(Vec::len), Some(1), "{taken}");
    assert_eq!(stage.get("/api/v1/unreadable?source=pier-asks")["items"], json!([]));

    // CloudEvents, HTTP 1.1 Web Hooks for Event Delivery, section 4.
    let options = |source: &str, headers: &[(&'static str, &'static str)]| {
        let mut request = stage.request(Method::OPTIONS, &format!("/in/{source}"));
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        block(request.send()).expect("an answer")
    };
    let asks =
        [("webhook-request-origin", "events.skerrow.example"), ("webhook-request-rate", "120")];
    let said = options("pier-events", &asks);
    assert_eq!(said.status(), 200);
    for (name, value) in [
        ("webhook-allowed-origin", "events.skerrow.example"),
        ("webhook-allowed-rate", "120"),
        ("allow", "POST"),
    ] {
        assert_eq!(said.headers().get(name).and_then(|v| v.to_str().ok()), Some(value), "{name}");
    }
    assert_eq!(options("pier-events", &[]).status(), 405);
    assert_eq!(options("pier-form", &asks).status(), 405, "it takes no CloudEvents");
}

#[test]
fn a_source_that_sends_ten_times_its_limit_is_told_so_and_nine_quiet_ones_are_taken() {
    let stage = Stage::bare();
    let names: Vec<String> = (0..10).map(|n| format!("quay-{n}")).collect();
    let places: Vec<String> = names.iter().map(|name| format!("source/{name}")).collect();
    let places: Vec<&str> = places.iter().map(String::as_str).collect();
    stage.secret("pier", "token-of-the-pier", &places);
    let source = |name: &String, limit: &str| format!("{}{limit}", webhook(name, ""));
    let limit = "limit: { alerts: 20, per: 1h }\n";
    let all: Vec<String> = names.iter().map(|name| source(name, limit)).collect();
    stage.publish(&all.join("---\n"));
    let send = |name: &str, n: usize| {
        let alert = json!({ "id": format!("{n}"), "kind": "disk.usage", "resource": "vm/a",
            "severity": "minor" });
        let request = posted(&stage, name).json(&alert);
        block(request.send()).expect("an answer")
    };
    let mut refused = 0;
    for n in 0..200 {
        if n % 20 == 0 {
            for quiet in &names[1..] {
                assert_eq!(send(quiet, n).status(), 202, "{quiet}");
            }
        }
        let said = send(&names[0], n);
        match said.status().as_u16() {
            202 => assert!(n < 20, "{n} of 20"),
            429 => {
                refused += 1;
                let wait = said.headers().get(RETRY_AFTER).and_then(|v| v.to_str().ok());
                let wait: u64 =
                    wait.and_then(|wait| wait.parse().ok()).expect("when to come again");
                assert!((1..=181).contains(&wait), "an hour for twenty: {wait} s");
                let said: Value = block(said.json()).expect("a problem");
                assert_eq!(said["code"], "over-limit");
                let words = said["detail"].as_str().unwrap_or_default();
                assert!(words.starts_with("this source may send 20 alerts in 1h"), "{words}");
            }
            other => panic!("{other}"),
        }
    }
    assert_eq!(refused, 180);
    let raised = until("the flood to be told", || {
        let page = stage.get("/api/v1/alarms?source=arvok&kind=source.flooding&state=raised");
        page["items"].as_array().and_then(|all| all.first()).cloned()
    });
    assert_eq!(raised["resource"], "source/quay-0");
    let list = stage.arvok(&["source", "list"]);
    let line = list.out.lines().find(|line| line.contains("quay-0")).expect("its line");
    assert!(line.contains(" 180 "), "{}", list.out);
    let metrics = block(stage.request(Method::GET, "/metrics").send()).expect("an answer");
    let metrics = block(metrics.text()).expect("a text");
    assert!(
        metrics.contains("arvok_deliveries_over_limit_total{source=\"quay-0\"} 180"),
        "{metrics}"
    );
    // With a higher limit it goes on at once, and is told of no more.
    stage.publish(&source(&names[0], "limit: { alerts: 1000, per: 1s }\n"));
    assert_eq!(send(&names[0], 500).status(), 202);
    stage.records().run("UPDATE delivery_count SET minute = minute - interval '3 minutes'");
    until("that it is over", || {
        let page = stage.get("/api/v1/alarms?source=arvok&kind=source.flooding&state=cleared");
        page["items"].as_array().and_then(|all| all.first()).cloned()
    });
}

#[test]
fn a_stream_that_comes_too_fast_is_slowed_down_and_loses_nothing() {
    let stage = Stage::bare();
    let port = std::net::TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr());
    let port = port.expect("a free port").port();
    stage.publish(&format!(
        "source: quay-log\nlimit: {{ alerts: 10, per: 1s }}\nintake: {{ syslog: {{ \
        tcp: '127.0.0.1:{port}' }} }}\n"
    ));
    let begun = Instant::now();
    let mut line = until("the listener", || std::net::TcpStream::connect(("127.0.0.1", port)).ok());
    for n in 0..40 {
        let message = format!("<14>1 - quill-1 gate - - - message {n}\n");
        std::io::Write::write_all(&mut line, message.as_bytes()).expect("writes");
    }
    until("all of them", || {
        let taken =
            stage.records().rows("SELECT count(*) AS n FROM alerts WHERE source = 'quay-log'");
        (taken[0]["n"] == 40).then_some(())
    });
    assert!(begun.elapsed() > Duration::from_millis(2_500), "ten at once, and ten a second");
    until("those that had to wait to be counted", || {
        let counted = "SELECT coalesce(sum(over_limit), 0) AS n FROM delivery_count";
        let over = stage.records().rows(counted)[0]["n"].as_i64()?;
        assert!(over <= 30, "each once: {over}");
        (over > 10).then_some(())
    });
}
