//! One bad item and its neighbours: it is named and kept, and nobody else notices.

use crate::kit::{Stage, answer, until};
use reqwest::Method;
use serde_json::{Value, json};

const NORMAL: &str = "application/vnd.arvok.alert+json";

fn nested(levels: usize) -> Value {
    (0..levels).fold(json!(1), |inner, _| json!([inner]))
}

fn post(stage: &Stage, alerts: &Value) -> (u16, Value) {
    let request =
        stage.request(Method::POST, "/in/yard-hypervisor?trial=no").bearer_auth(&stage.token);
    answer(request.header("content-type", NORMAL).body(alerts.to_string()))
}

fn note(name: &str, more: &str) -> String {
    format!(
        "runbook: note\ninputs: {{ what: {{ default: null }} }}\ntarget: group/one\nsteps: [ {{ \
        id: fine, require: 'true' }} ]\n---\n\
         rule: {name}\nstance: act\nlisten: {{ kinds: test.{name} }}\n{more}"
    )
}

#[test]
fn what_is_nested_too_deep_is_refused_where_it_enters() {
    let stage = Stage::with_demo();
    let alert = |levels| json!({"kind": "test.deep", "resource": "vm/a", "body": nested(levels)});
    assert_eq!(post(&stage, &alert(50)).0, 202);
    let (status, said) = post(&stage, &alert(70));
    assert_eq!(status, 422, "{said}");
    assert!(
        said["detail"].as_str().is_some_and(|d| d.contains("nested deeper than 64 levels")),
        "{said}"
    );
    let (status, why) = stage.call(
        Method::POST,
        "/api/v1/why",
        Some(&json!({"rule": "booking-disk-filling", "given": {"source": "yard-hypervisor",
            "kind": "a", "resource": "vm/a", "body": nested(100)}})),
    );
    assert_eq!(status, 400, "{why}");
}

#[test]
fn of_a_hundred_alerts_one_is_strange_and_the_others_are_taken() {
    let stage = Stage::with_demo();
    let mut alerts: Vec<Value> = (0..100)
        .map(
            |n| json!({"id": format!("p{n}"), "kind": "test.many", "resource": format!("vm/n{n}")}),
        )
        .collect();
    alerts[41] = json!({"id": "p41", "kind": "test.many", "resource": "not a path"});
    let (status, said) = post(&stage, &json!(alerts));
    assert_eq!(status, 202, "{said}");
    assert_eq!(said["alerts"].as_array().map(Vec::len), Some(99));
    assert_eq!(said["unreadable"].as_array().map(Vec::len), Some(1), "{said}");
    assert_eq!(said["unreadable"][0]["item"], 41, "{said}");
    assert!(
        said["unreadable"][0]["reason"].as_str().is_some_and(|r| r.contains("not a path")),
        "{said}"
    );
    let kept = stage.get("/api/v1/unreadable?source=yard-hypervisor");
    assert_eq!(kept["items"][0]["id"], said["unreadable"][0]["id"], "{kept:#}");
}

/// Deliveries that are committed together, one of them such that the records refuse it.
#[test]
fn a_batch_is_halved_until_the_culprit_is_alone() {
    let stage = Stage::with_demo();
    stage.records().run(
        "CREATE FUNCTION poison() RETURNS trigger LANGUAGE plpgsql AS
            'BEGIN IF NEW.kind = ''test.poison'' THEN RAISE EXCEPTION ''too strange''; END IF; RETURN NEW; END';
        CREATE TRIGGER poison BEFORE INSERT ON alerts_0 FOR EACH ROW EXECUTE FUNCTION poison()",
    );
    let answers: Vec<(u16, Value)> = std::thread::scope(|s| {
        let send = |n: usize| {
            let kind = if n == 17 { "test.poison" } else { "test.plain" };
            let stage = &stage;
            move || post(stage, &json!({"kind": kind, "resource": format!("vm/n{n}")}))
        };
        let all: Vec<_> = (0..36).map(|n| s.spawn(send(n))).collect();
        all.into_iter().map(|t| t.join().expect("an answer")).collect()
    });
    for (n, (status, said)) in answers.iter().enumerate() {
        assert_eq!(*status, if n == 17 { 422 } else { 202 }, "delivery {n}: {said}");
    }
    assert!(
        answers[17].1["detail"].as_str().is_some_and(|d| d.contains("too strange")),
        "{}",
        answers[17].1
    );
    let kept = stage.get("/api/v1/unreadable?source=yard-hypervisor")["items"].clone();
    assert_eq!(kept.as_array().map(Vec::len), Some(1));
    assert!(
        kept[0]["payload"].as_str().is_some_and(|p| p.contains("vm/n17")),
        "kept whole: {kept}"
    );
    // Whatever was in the way is gone: it is read again, as it came.
    stage.records().run("DROP TRIGGER poison ON alerts_0");
    let retried = stage.arvok(&["source", "retry", "yard-hypervisor", "--json"]);
    let retried: Value =
        serde_json::from_str(&retried.out).unwrap_or_else(|e| panic!("{e}: {}", retried.all()));
    assert_eq!(
        (&retried["read"], &retried["alerts"], &retried["still"]),
        (&json!(1), &json!(1), &json!([])),
        "{retried}"
    );
    assert_eq!(stage.get("/api/v1/alerts?kind=test.poison")["items"][0]["resource"], "vm/n17");
}

/// Jobs that begin in one transaction: the record of one is refused, and the alert of another
/// cannot be read back.
#[test]
fn of_jobs_that_begin_together_those_that_cannot_are_alone_given_up() {
    let stage = Stage::with_demo();
    let deep = format!("{}{}", "[".repeat(300), "]".repeat(300));
    stage.records().run(&format!(
        "CREATE FUNCTION spoil() RETURNS trigger LANGUAGE plpgsql AS
            'BEGIN IF NEW.resource = ''vm/n9'' THEN NEW.body := ''{deep}''; END IF; RETURN NEW; END';
        CREATE TRIGGER spoil BEFORE INSERT ON alerts_0 FOR EACH ROW EXECUTE FUNCTION spoil();
        CREATE FUNCTION poison() RETURNS trigger LANGUAGE plpgsql AS
            'BEGIN IF NEW.target = ''vm/n7'' AND NEW.state = ''succeeded'' THEN RAISE ''too \
            strange''; END IF; RETURN NEW; END';
        CREATE TRIGGER poison BEFORE UPDATE ON job FOR EACH ROW EXECUTE FUNCTION poison()",
    ));
    stage.publish(
        "runbook: note\ninputs: { what: { type: string } }\ntarget: '${inputs.what}'\nsteps: [ { \
        id: fine, require: 'true' } ]\n---\n\
         rule: all\nstance: act\nlisten: { kinds: test.all }\ndispatch: { runbook: note, inputs: { \
         what: '${alert.resource}' } }\n",
    );
    let alerts: Vec<Value> =
        (0..20).map(|n| json!({"kind": "test.all", "resource": format!("vm/n{n}")})).collect();
    assert_eq!(post(&stage, &json!(alerts)).0, 202);
    let jobs = until("all to end", || {
        let jobs = stage.get("/api/v1/jobs?limit=500")["items"].as_array().expect("jobs").clone();
        let over = jobs.iter().filter(|job| job["finished_at"].is_string()).count();
        (over == 20).then_some(jobs)
    });
    for job in jobs {
        let failure = job["failure"].as_str().unwrap_or_default();
        match job["target"].as_str() {
            Some("vm/n7") => {
                assert!(failure.contains("given up") && failure.contains("too strange"), "{job:#}")
            }
            Some("vm/n9") => assert!(failure.contains("given up"), "{job:#}"),
            _ => assert_eq!(job["state"], "succeeded", "{job:#}"),
        }
    }
    let lapses = "SELECT target FROM job WHERE lapses > 0 ORDER BY target";
    let behind = stage.records().rows(lapses);
    assert_eq!(
        behind,
        [json!({ "target": "vm/n7" }), json!({ "target": "vm/n9" })],
        "no other was left behind"
    );
}

/// What is evaluated may hold what no record can.
#[test]
fn characters_that_no_record_holds_are_replaced_after_evaluation() {
    let stage = Stage::with_demo();
    stage.publish(&note(
        "nul",
        "dispatch: { runbook: note, inputs: { what: \"${'a\\\\u0000b'}\" } }\n",
    ));
    let alert = stage.send("yard-hypervisor", &json!({"kind": "test.nul", "resource": "vm/a"}));
    assert_eq!(stage.verdict(alert, "nul").expect("a verdict")["verdict"], "dispatched");
    let job = stage.job_in(1, &["succeeded"]);
    assert_eq!(job["inputs"]["what"], "a\u{fffd}b", "{job:#}");
}

/// Of two that are due one cannot be handled: it is set aside with its reason, and the other goes
/// on.
#[test]
fn what_is_due_and_cannot_be_handled_holds_nothing_back() {
    let stage = Stage::with_demo();
    stage.publish(&note(
        "due",
        "settle: { fold: [alert.resource], still: 3s }\ndispatch: { \
        runbook: note, inputs: { what: \"${alert.resource}\" } }\n",
    ));
    let alert = |resource: &str| {
        stage.send(
            "yard-hypervisor",
            &json!({"kind": "test.due", "resource": resource, "state": "raised"}),
        )
    };
    let (bad, good) = (alert("vm/bad"), alert("vm/good"));
    stage.records().run("UPDATE tally SET state = '{\"episode\": 5}' WHERE key LIKE '%vm/bad%'");
    stage.verdict_is(good, "due", "dispatched");
    let aside = until("it to be set aside", || {
        let rows = stage.records().rows(
            "SELECT aside, aside_tries, due > now() AS later FROM tally WHERE aside IS NOT NULL",
        );
        rows.into_iter().next()
    });
    assert_eq!(aside["later"], true, "{aside}");
    let metrics = stage.get("/metrics");
    assert!(
        metrics.as_str().is_some_and(|m| m.contains("arvok_due_set_aside_total 1")),
        "{metrics}"
    );
    assert_eq!(stage.verdict(bad, "due").expect("a verdict")["verdict"], "waiting");
}

#[test]
fn a_matched_alert_without_what_its_rule_asks_for_is_broken_everywhere() {
    let stage = Stage::with_demo();
    stage.publish(&note(
        "lacks",
        "settle: { fold: [alert.labels.rack] }\ndispatch: { runbook: note }\n",
    ));
    let alert = stage.send("yard-hypervisor", &json!({"kind": "test.lacks", "resource": "vm/a"}));
    let verdict = stage.verdict(alert, "lacks").expect("a verdict");
    assert_eq!(verdict["verdict"], "broken");
    assert!(verdict["reason"].as_str().is_some_and(|r| r.contains("rack")), "{verdict}");
    let listed = stage.get("/api/v1/alerts?verdict=broken");
    assert_eq!(listed["items"].as_array().map(Vec::len), Some(1), "{listed:#}");
    let said = stage.arvok(&["alert", "show", &alert.to_string()]);
    assert!(said.out.contains("broken") && said.out.contains("rack"), "{}", said.all());
    let why = stage.get(&format!("/api/v1/alerts/{alert}/why"));
    assert_eq!(why["matching"][0]["verdict"]["verdict"], "broken", "{why:#}");
    let rehearsed = stage.rehearse(&json!({"rule": "lacks", "since": "1h"}));
    assert_eq!(rehearsed["now"]["verdicts"]["broken"], 1, "{rehearsed:#}");
}

#[test]
fn what_the_database_cannot_hold_is_the_senders_mistake() {
    let stage = Stage::with_demo();
    let alert = stage.send("yard-hypervisor", &json!({"kind": "a", "resource": "vm/a"}));
    let queries = [
        "alerts?text=%00",
        "alerts?source=%00",
        "alerts?kind=a%00",
        "alerts?resource=%00",
        "alerts?rule=%00",
        "alerts?after=%00",
        "alerts?since=-000001-01-01T00:00:00Z",
        "alerts?since=0000-01-01T00:00:00Z",
        "alarms?text=%00",
        "jobs?target=%00",
        "jobs?rule=%00",
        "jobs?runbook=%00",
        "verdicts?rule=%00",
        "unreadable?source=%00",
        "proposals?rule=%00",
        "definitions/rule/%00",
        "definitions/rule/a%00/1",
        "rules/%00/verdicts",
    ];
    for query in queries {
        let (status, said) = stage.call(Method::GET, &format!("/api/v1/{query}"), None);
        assert!((400..500).contains(&status), "{query}: {status} {said}");
    }
    for list in [
        "alerts",
        "alarms",
        "jobs",
        "proposals",
        "verdicts",
        "verdicts?rule=a&limit=1",
        "unreadable?source=a",
    ] {
        let after = format!("{}after={}", if list.contains('?') { "&" } else { "?" }, i64::MIN);
        let page = stage.get(&format!("/api/v1/{list}{after}"));
        assert_eq!(page["items"], json!([]), "{list}: nothing is older than the first");
    }
    let bodies = [
        (
            Method::POST,
            "publish".to_owned(),
            json!({"files": [{"file": "a\u{0}.yaml", "text": "rule: [\n"}]}),
        ),
        (
            Method::POST,
            "publish".to_owned(),
            json!({"files": [{"file": "a.yaml", "text": "rule: a\u{0}\n"}]}),
        ),
        (Method::POST, "tokens".to_owned(), json!({"name": "a\u{0}", "role": "viewer"})),
        (Method::PUT, "secrets/a%00".to_owned(), json!({"value": "x", "allowed": []})),
        (Method::PUT, "secrets/a".to_owned(), json!({"value": "x", "allowed": ["source/\u{0}"]})),
        (Method::POST, "proposals/1/dismiss".to_owned(), json!({"note": "a\u{0}"})),
        (Method::POST, "why".to_owned(), json!({"rule": "a\u{0}", "alert": alert})),
        (
            Method::POST,
            "rehearsals".to_owned(),
            json!({"rule": "booking-disk-filling", "since": "0000-01-01T00:00:00Z"}),
        ),
    ];
    for (method, path, body) in bodies {
        let (status, said) = stage.call(method, &format!("/api/v1/{path}"), Some(&body));
        assert!((400..500).contains(&status), "{path} {body}: {status} {said}");
    }
    assert!(!stage.log().contains("ERROR"), "{}", stage.log());
}

#[test]
fn escapes_of_a_terminal_reach_no_terminal() {
    let stage = Stage::with_demo();
    let nasty = "a\u{1b}]0;owned\u{7}\u{1b}[2Jb\u{9b}31m\r\u{202e}c";
    let alert = stage.send(
        "yard-hypervisor",
        &json!({"kind": "a", "resource": "vm/a", "summary": nasty, "labels": {"k": nasty}}),
    );
    let file = crate::kit::folder("escapes").join("rule.yaml");
    std::fs::write(
        &file,
        format!("rule: a\nlisten: {{ kinds: \"{}\" }}\nx{}: 1\n", "a", "\u{9b}31m"),
    )
    .expect("writes");
    let alert = alert.to_string();
    for args in [
        vec!["alert", "list"],
        vec!["alert", "show", alert.as_str()],
        vec!["watch", "--once"],
        vec!["check", file.to_str().expect("a path")],
    ] {
        let said = stage.arvok(&args);
        let raw = said.all().chars().any(|c| (c.is_control() && c != '\n') || c == '\u{202e}');
        assert!(!raw, "{args:?}: {:?}", said.all());
    }
}
