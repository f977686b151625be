//! Bad input at every door: a clear error each time, nothing lost, the node unharmed.

use crate::kit::{Stage, answer};
use reqwest::Method;
use serde_json::{Value, json};

fn post(stage: &Stage, path: &str, token: &str, body: impl Into<reqwest::Body>) -> (u16, Value) {
    answer(
        stage
            .request(Method::POST, path)
            .bearer_auth(token)
            .header("content-type", "application/json")
            .body(body),
    )
}

fn line(what: &str, (status, body): (u16, Value)) -> String {
    let detail = body["detail"].as_str().unwrap_or_default().to_owned();
    format!("{what}: {status} {} {detail}", body["code"].as_str().unwrap_or("?"))
}

#[test]
fn deliveries() {
    let stage = Stage::with_demo();
    let door = "/in/yard-hypervisor";
    let mut lines = Vec::new();
    let mut say = |what: &str, got: (u16, Value)| lines.push(line(what, got));
    say("no JSON", post(&stage, door, "monitor-token", "{\"run\": 1,"));
    say("another form", post(&stage, door, "monitor-token", "{\"run\": 1}"));
    say("an empty body", post(&stage, door, "monitor-token", ""));
    let reading = |level: &str, vm: &str| {
        json!({"run": 1, "at": 5, "reading": {"number": 1,
        "check": "disk", "level": level, "vm": vm, "part": "data", "percent": 90, "text": "t",
            "tier": "gold"}})
    };
    say(
        "a word without translation",
        post(&stage, door, "monitor-token", reading("odd", "a").to_string()),
    );
    say(
        "no resource path",
        post(&stage, door, "monitor-token", reading("high", "a b").to_string()),
    );
    say(
        "ten megabytes",
        post(&stage, door, "monitor-token", format!("\"{}\"", "x".repeat(10 << 20))),
    );
    say(
        "deep nesting",
        post(&stage, door, "monitor-token", format!("{}{}", "[".repeat(5000), "]".repeat(5000))),
    );
    say("a wrong token", post(&stage, door, "wrong", "{}"));
    say("an unknown source", post(&stage, "/in/yard-hypervisr", &stage.token, "{}"));
    say("no token", answer(stage.request(Method::POST, door).body("{}")));
    insta::assert_snapshot!(lines.join("\n"), @"
    no JSON: 422 unreadable the payload cannot be read: is not JSON: EOF while parsing a value at line 1 column 10; it is kept as unreadable 1
    another form: 422 unreadable the payload cannot be read: `state`: there is no field `reading`; it is kept as unreadable 2
    an empty body: 422 unreadable the payload cannot be read: is not JSON: EOF while parsing a value at line 1 column 0; it is kept as unreadable 3
    a word without translation: 422 unreadable the payload cannot be read: `severity`: `odd` has no translation and there is no `else`; it is kept as unreadable 4
    no resource path: 422 unreadable the payload cannot be read: `resource`: `vm/a b` is not a resource path; write class/name or class/name/part, for example vm/quill-booking-db-1; it is kept as unreadable 5
    ten megabytes: 413 too-large the body has more than 1048576 bytes
    deep nesting: 422 unreadable the payload cannot be read: is not JSON: recursion limit exceeded at line 1 column 128; it is kept as unreadable 6
    a wrong token: 401 bad-token this token is not known here; it may have been revoked, or the session has ended
    an unknown source: 404 not-found there is no source `yard-hypervisr`; did you mean `yard-hypervisor`?
    no token: 401 no-token a token is needed: send `Authorization: Bearer ...`, or sign in
    ");

    let kept = stage.get("/api/v1/unreadable?source=yard-hypervisor");
    assert_eq!(
        kept["items"].as_array().map(Vec::len),
        Some(6),
        "what could not be read is kept: {kept:#}"
    );
    let source = stage.arvok(&["source", "show", "yard-hypervisor"]);
    assert!(source.out.contains("`odd` has no translation"), "{}", source.out);
    assert_eq!(
        post(&stage, door, "monitor-token", reading("high", "a").to_string()).0,
        202,
        "the door still opens"
    );
}

#[test]
fn a_repeated_id_changes_nothing() {
    let stage = Stage::with_demo();
    let alert = json!({"id": "x1", "kind": "disk.usage", "resource": "vm/quill-booking-db-1",
        "severity": "major"});
    stage.send("yard-hypervisor", &alert);
    let both = json!([alert, alert]);
    let request = stage
        .request(Method::POST, "/in/yard-hypervisor?trial=no")
        .bearer_auth(&stage.token)
        .header("content-type", "application/vnd.arvok.alert+json")
        .body(both.to_string());
    let (status, body) = answer(request);
    assert_eq!(status, 202);
    assert!(
        body["alerts"].as_array().is_some_and(|a| a.iter().all(|a| a["duplicate"] == true)),
        "{body}"
    );
    assert_eq!(stage.get("/api/v1/alerts")["items"].as_array().map(Vec::len), Some(1));
    assert_eq!(stage.get("/api/v1/watch")["narrowing"]["repeated"], 2);
}

#[test]
fn odd_characters_and_numbers_pass_unharmed() {
    let stage = Stage::with_demo();
    let seq = stage.send(
        "yard-hypervisor",
        &json!({"kind": "a", "resource": "vm/ä-\u{1f6a2}", "summary": "nul \u{0} \
            here", "value": -0.0, "labels": {"k": "'; DROP TABLE alert; --"},
            "body": {"deep": [[[{"\u{0}": 1e308}]]]}}),
    );
    let alert = stage.get(&format!("/api/v1/alerts/{seq}"));
    assert_eq!(alert["alert"]["summary"], "nul \u{fffd} here");
    assert_eq!(alert["alert"]["labels"]["k"], "'; DROP TABLE alert; --");
    let found = stage.get("/api/v1/alerts?text=%25");
    assert_eq!(found["items"], json!([]), "a percent sign in a search is itself");
}

#[test]
fn definitions() {
    let stage = Stage::with_demo();
    let publish = |text: &str| {
        let body = json!({ "files": [{ "file": "f.yaml", "text": text }] });
        let (status, answer) = stage.call(Method::POST, "/api/v1/publish", Some(&body));
        let said: Vec<&str> = answer["problems"]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(|p| p["message"].as_str())
            .collect();
        format!("{status} {}", said.join(" | "))
    };
    let ten = "[1,2,3,4,5,6,7,8,9,10]";
    let deep = format!("rule: a\nx: {}", "[".repeat(100));
    let nested = format!(
        "rule: a\nlisten: {{ where: '{}true{}' }}\ndispatch: {{ runbook: grow-disk }}",
        "(".repeat(60),
        ")".repeat(60)
    );
    let lines = [
        publish("rule: [\n"),
        publish(
            "rule: a\nlisten: { sevrity: major }\ndispatch: { runbook: grow-disk, inputs: { vm: x \
            } }\n",
        ),
        publish("rule: a\nlisten: { severity: 5 }\ndispatch: { runbook: grow-dsk }\n"),
        publish("rule: a\ndispatch: { runbook: grow-dsk, inputs: {} }\n"),
        publish(
            "rule: a\nlisten: { where: alert.value > }\ndispatch: { runbook: grow-disk, inputs: { \
            vm: x } }\n",
        ),
        publish(&deep),
        publish(&nested),
        publish("source: s\nintake: { webhook: { credential: { bearer: \"${secrt('x')}\" } } }\n"),
        publish("runbook: r\ntarget: vm/a\nsteps: [{ id: a, call: vm.inspect, via: nowhere }]\n"),
    ];
    insta::assert_snapshot!(lines.join("\n"), @"
    422 is not YAML: while parsing a node, did not find expected node content
    422 unknown key `sevrity`; did you mean `severity`?
    422 is `5`; a text or a list of texts was expected
    422 there is no runbook `grow-dsk` (did you mean `grow-disk`?)
    422 the expression ends here, and something more was expected
    422 is nested deeper than 48 levels
    422 is nested deeper than 32 levels
    422 there is no function secrt() here; did you mean secret()?
    422 there is no connection `nowhere`
    ");
    let (status, answer) = post(&stage, "/api/v1/publish", &stage.token, "{\"files\": 5}");
    assert_eq!((status, answer["code"].as_str()), (400, Some("bad-request")));
    let (status, _) = post(&stage, "/api/v1/publish", &stage.token, "x".repeat(9 << 20));
    assert_eq!(status, 413);

    // An expression that would never end is stopped and counted; the alert is taken all the same.
    let endless = (0..8).fold("true".to_owned(), |inner, i| format!("{ten}.all(x{i}, {inner})"));
    stage.publish(&format!(
        "rule: endless\nlisten: {{ where: '{endless}' }}\ndispatch: {{ runbook: grow-disk, inputs: \
        {{ vm: x/y }} }}\n"
    ));
    let seq = stage.send("yard-hypervisor", &json!({"kind": "a", "resource": "vm/a"}));
    let verdict = stage.verdict(seq, "endless").expect("a verdict");
    assert_eq!(verdict["verdict"], "broken");
    assert!(
        verdict["reason"].as_str().is_some_and(|r| r.contains("takes more than 20000 steps")),
        "{verdict}"
    );
    let metrics = stage.get("/metrics").as_str().unwrap_or_default().to_owned();
    assert!(metrics.contains("arvok_rule_errors_total{rule=\"endless\"} 1"), "{metrics}");
}

#[test]
fn questions() {
    let stage = Stage::bare();
    let ask = |path: &str| line(path, stage.call(Method::GET, path, None));
    let lines = [
        ask("/api/v1/alerts?limit=0"),
        ask("/api/v1/alerts?limit=x"),
        ask("/api/v1/alerts?colour=red"),
        ask("/api/v1/alerts?since=yesterday"),
        ask("/api/v1/alerts?severity=bad"),
        ask("/api/v1/alerts/abc"),
        ask("/api/v1/alerts/99"),
        ask("/api/v1/jobs?state=lost"),
        ask("/api/v1/definitions/rool"),
        ask("/api/v1/definitions/rule/none"),
        ask("/api/v1/watch?window=1y"),
        ask("/api/v1/nothing"),
    ];
    insta::assert_snapshot!(lines.join("\n"), @r#"
    /api/v1/alerts?limit=0: 400 bad-request limit=0: a page has 1 to 500 items
    /api/v1/alerts?limit=x: 400 bad-request the query is not as expected: `x` is not a whole number
    /api/v1/alerts?colour=red: 400 bad-request the query is not as expected: unknown field `colour`, expected one of `source`, `kind`, `severity`, `state`, `resource`, `rule`, `verdict`, `outcome`, `text`, `since`, `until`, `trial`, `after`, `limit`
    /api/v1/alerts?since=yesterday: 400 bad-request the query is not as expected: `yesterday` is not a time such as 2026-11-25T14:03:21Z
    /api/v1/alerts?severity=bad: 400 bad-request the query is not as expected: severity: `bad` is not a severity; the severities are indeterminate, warning, minor, major, critical
    /api/v1/alerts/abc: 404 not-found there is no /api/v1/alerts/abc; the last part should be a number
    /api/v1/alerts/99: 404 not-found there is no alert 99
    /api/v1/jobs?state=lost: 400 bad-request the query is not as expected: `lost` is no job state: it is one of queued, running, waiting, paused, succeeded, failed, cancelled, expired, refused, unsure
    /api/v1/definitions/rool: 404 not-found there is no kind `rool`; the kinds are source, rule, runbook, step, connector, connection, subscriber, contact, calendar, group, guard, plan
    /api/v1/definitions/rule/none: 404 not-found there is no rule `none`
    /api/v1/watch?window=1y: 400 bad-request window: `1y` is not a length of time; write it like 90s, 15m, 1h30m or 2d
    /api/v1/nothing: 404 not-found there is no GET /api/v1/nothing; the API is described at /api/v1/openapi.json
    "#);
}
