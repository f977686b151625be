//! Sources whose messages brokers keep: topics of mosquitto and queues of RabbitMQ, over deaths of
//! nodes and restarts of the broker; CloudEvents; what cannot be read.

use crate::kit::{Mosquitto, Rabbit, Stage, until, until_or};
use serde_json::{Value, json};
use std::{collections::BTreeMap, process::Command};

fn listeners(stage: &Stage, source: &str) -> Vec<Value> {
    let nodes = stage.get("/api/v1/nodes");
    let of = |node: &Value| node["listeners"].as_array().cloned().unwrap_or_default();
    let all = nodes["nodes"].as_array().into_iter().flatten().flat_map(of);
    all.filter(|listener| listener["source"] == source).collect()
}

/// Waits until the listeners of a source stand so, the listening ones first.
fn until_they(stage: &Stage, source: &str, states: &[&str]) -> Vec<Value> {
    let mut seen = Vec::new();
    until(&format!("the listeners of {source} to be {states:?}"), || {
        seen = listeners(stage, source);
        let mut found: Vec<&str> = seen.iter().filter_map(|l| l["state"].as_str()).collect();
        found.sort_unstable();
        (found == states).then(|| seen.clone())
    })
}

/// How often each summary was taken, of all alerts of a source.
fn summaries(stage: &Stage, source: &str) -> BTreeMap<String, usize> {
    let sql = format!("SELECT summary FROM alerts WHERE source = '{source}'");
    let mut counted = BTreeMap::new();
    for row in stage.records().rows(&sql) {
        *counted.entry(row["summary"].as_str().unwrap_or_default().to_owned()).or_default() += 1;
    }
    counted
}

fn alert(n: usize) -> String {
    // It has no id: what comes again is known by what it says.
    json!({ "kind": "disk.usage", "severity": "minor", "resource": format!("vm/quill-{}", n % 7),
        "state": "noted", "summary": format!("reading {n}") })
    .to_string()
}

fn alerts(from: usize, to: usize) -> String {
    (from..to).map(|n| alert(n) + "\n").collect()
}

fn connection(kind: &str, port: u16, credential: &str) -> String {
    format!(
        "connector: pier-{kind}\noperations: {{}}\n---\nconnection: pier-{kind}\n\
         connector: pier-{kind}\nbase: {kind}://127.0.0.1:{port}\ntimeout: 5s\n{credential}"
    )
}

#[test]
fn messages_of_topics_are_taken_once_over_deaths_of_nodes_and_restarts_of_the_broker() {
    let (mut broker, mut first) = (Mosquitto::start(), Stage::bare());
    let mut second = first.second_node();
    first.publish(&format!(
        "{}---\nsource: pier-topics\nintake:\n  mqtt: {{ via: pier-mqtt, topics: [piers/+/alarms] }}\n",
        connection("mqtt", broker.port, "")
    ));
    until_they(&first, "pier-topics", &["listening", "standby"]);
    let line = first.arvok(&["source", "lines", "pier-topics"]);
    assert!(line.out.contains(&format!("--port {}", broker.port)), "{}", line.all());
    let sent = Command::new("sh")
        .args(["-c", line.out.lines().find(|l| l.starts_with("mosq")).expect("a line")])
        .status();
    assert!(sent.expect("it runs").success());
    until("the printed line to be taken", || {
        (summaries(&first, "pier-topics").len() == 1).then_some(())
    });

    broker.publish("piers/brack/alarms", &[], &alerts(0, 200));
    // Whoever holds the session dies in the middle; the other goes on with it.
    first.kill_node();
    broker.publish("piers/brack/alarms", &[], &alerts(200, 400));
    second.kill_node();
    broker.publish("piers/brack/alarms", &[], &alerts(400, 600));
    first.start_node();
    second.start_node();
    broker.publish("piers/brack/alarms", &[], &alerts(600, 800));
    broker.end();
    until("both to see that it is gone", || {
        let all = listeners(&first, "pier-topics");
        all.iter().any(|l| l["state"] == "failed").then_some(())
    });
    broker.begin();
    broker.publish("piers/brack/alarms", &[], &alerts(800, 1_000));
    let stands = || {
        let taken = summaries(&first, "pier-topics");
        let is_missing = |n: &usize| !taken.contains_key(&format!("reading {n}"));
        let missing: Vec<usize> = (0..1_000).filter(is_missing).collect();
        let (count, listeners) = (missing.len(), listeners(&first, "pier-topics"));
        format!("; {count} are missing, from {:?} on: {listeners:?}", missing.first())
    };
    let taken = until_or("all of them", stands, || {
        let taken = summaries(&first, "pier-topics");
        (taken.len() == 1_001).then_some(taken)
    });
    let twice: Vec<_> = taken.iter().filter(|(_, times)| **times > 1).collect();
    assert!(twice.is_empty(), "{twice:?}");
}

const EVENTS: &str = "
source: pier-events
intake:
  mqtt: { via: pier-mqtt, topics: ['events/#'], body: cloudevents, sessions: 2 }
---
source: pier-text
intake:
  mqtt:
    via: pier-mqtt
    topics: [text/+]
    body: text
    parts: { pattern: '^(?<host>[a-z0-9-]+) (?<used>[0-9]+)$' }
read:
  kind: '\"disk.usage\"'
  severity: '\"minor\"'
  resource: '\"vm/\" + body.host'
  value: double(body.used)
  summary: 'topic + \" \" + (has(properties.site) ? properties.site : \"\")'
";

#[test]
fn events_and_text_come_by_topics_and_what_cannot_be_read_is_kept() {
    let (broker, stage) = (Mosquitto::start(), Stage::bare());
    let second = stage.second_node();
    stage.publish(&format!("{}---{EVENTS}", connection("mqtt", broker.port, "")));
    // Each node holds one of two sessions, and stands by for the other.
    until("each node to hold a session", || {
        let all = listeners(&stage, "pier-events");
        let listens: Vec<_> = all.iter().filter(|l| l["state"] == "listening").collect();
        (listens.len() == 2 && listens[0]["node"] != listens[1]["node"]).then_some(())
    });
    until_they(&stage, "pier-text", &["listening", "standby"]);
    let property = |name, value| ["-D", "PUBLISH", "user-property", name, value];
    let binary = [
        &property("specversion", "1.0")[..],
        &property("id", "e-1"),
        &property("source", "/piers/brack"),
        &property("type", "berth.blocked"),
        &["-D", "PUBLISH", "content-type", "application/json"],
    ]
    .concat();
    broker.publish("events/a", &binary, "{\"berth\": 7}\n");
    // The same id is the same event, whoever sends it again.
    broker.publish("events/a", &binary, "{\"berth\": 7}\n");
    let structured = ["-D", "PUBLISH", "content-type", "application/cloudevents+json"];
    let event = json!({ "specversion": "1.0", "id": "e-2", "source": "/piers/brack",
        "type": "berth.free", "subject": "7" });
    broker.publish("events/b", &structured, &format!("{event}\n"));
    broker.publish("events/c", &[], "{\"berth\": 7}\n");
    broker.publish("text/warm", &property("site", "brack"), "quill-1 91\n");
    broker.publish("text/warm", &[], "it is warm\n");
    let found = |source: &str, count: usize| {
        until(&format!("{count} alerts of {source}"), || {
            let found = stage.get(&format!("/api/v1/alerts?source={source}"));
            let found = found["items"].as_array()?.clone();
            (found.len() == count).then_some(found)
        })
    };
    let events = found("pier-events", 2);
    let mut kinds: Vec<&str> = events.iter().filter_map(|e| e["kind"].as_str()).collect();
    kinds.sort_unstable();
    assert_eq!(kinds, ["berth.blocked", "berth.free"]);
    let text = found("pier-text", 1);
    assert_eq!(text[0]["resource"], "vm/quill-1");
    assert_eq!((&text[0]["value"], &text[0]["summary"]), (&91.0.into(), &"text/warm brack".into()));
    let kept = |source: &str| {
        until(&format!("what of {source} cannot be read"), || {
            stage.get(&format!("/api/v1/unreadable?source={source}"))["items"].get(0).cloned()
        })
    };
    let event = kept("pier-events");
    assert!(event["reason"].as_str().is_some_and(|r| r.contains("no CloudEvent")), "{event}");
    assert_eq!(kept("pier-text")["payload"], "it is warm");
    // Mended, it is read again, with its topic.
    let mended = EVENTS.replace("(?<host>[a-z0-9-]+) (?<used>[0-9]+)", "(?<host>[a-z]+).*");
    let mended = mended.replace("double(body.used)", "'1.0'");
    stage.publish(&mended);
    assert_eq!(stage.arvok(&["source", "retry", "pier-text"]).code, 0);
    assert_eq!(found("pier-text", 2)[0]["summary"], "text/warm ");
    drop(second);
}

#[test]
fn messages_of_a_queue_are_taken_once_and_what_cannot_be_read_is_handed_on() {
    let (mut broker, mut stage) = (Rabbit::start(), Stage::bare());
    broker.declare("alerts");
    broker.declare("odd");
    stage.secret("pier", Rabbit::PASSWORD, &["connection/pier-amqp"]);
    let credential = format!(
        "credential: {{ basic: {{ user: {}, password: \"${{secret('pier')}}\" }} }}\n",
        Rabbit::USER
    );
    let second = stage.second_node();
    stage.publish(&format!(
        "{}---\nsource: pier-queue\nintake:\n  amqp: {{ via: pier-amqp, queue: alerts, dead_letters: amq.fanout }}\n\
         read: {{ kind: body.kind, resource: body.resource, summary: body.summary }}\n",
        connection("amqp", broker.port, &credential)
    ));
    until_they(&stage, "pier-queue", &["listening", "listening"]);
    broker.bind("odd", "amq.fanout");
    broker.publish("alerts", &alerts(0, 300));
    stage.kill_node();
    broker.publish("alerts", &alerts(300, 500));
    broker.end();
    broker.begin();
    stage.start_node();
    broker.publish("alerts", &(alerts(500, 600) + "it is no JSON\n"));
    let taken = until("all of them", || {
        let taken = summaries(&stage, "pier-queue");
        (taken.len() == 600).then_some(taken)
    });
    let twice: Vec<_> = taken.iter().filter(|(_, times)| **times > 1).collect();
    assert!(twice.is_empty(), "{twice:?}");
    let odd = until("the message to be handed on", || broker.take("odd"));
    assert_eq!(odd.0, "it is no JSON");
    assert!(odd.1.contains("is not JSON"), "{}", odd.1);
    until("nothing to wait", || {
        let all = listeners(&second, "pier-queue");
        (all.len() == 2 && all.iter().all(|l| l["waiting"] == 0)).then_some(())
    });
    // A queue that there is not is said to be none.
    stage.publish("source: pier-queue\nintake:\n  amqp: { via: pier-amqp, queue: alarms }\n");
    let failed = until("the queue to be missed", || {
        listeners(&stage, "pier-queue").into_iter().find(|l| l["state"] == "failed")
    });
    assert!(failed["reason"].as_str().is_some_and(|r| r.contains("no queue 'alarms'")), "{failed}");
}
