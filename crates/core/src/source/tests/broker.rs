//! Messages that brokers keep.

use super::*;

/// What came of a message over an intake, with what came with it.
fn read_message(intake: &str, properties: &Value, raw: &str) -> Vec<String> {
    let source = of_format(intake).expect("is a source");
    let properties = properties.as_object().cloned().unwrap_or_default();
    let delivery = Delivery {
        raw: raw.as_bytes(),
        properties: &properties,
        received: DateTime::UNIX_EPOCH,
        fallback_id: "d1",
        normal: false,
    };
    lines(&source.read(&delivery))
}

#[test]
fn an_event_is_read_from_what_comes_with_its_message_or_from_its_body() {
    let mqtt = "{ mqtt: { via: pier, topics: [a], body: cloudevents } }";
    let amqp = "{ amqp: { via: pier, queue: a, body: cloudevents } }";
    let attributes = json!({ "specversion": "1.0", "id": "e-1", "source": "/piers/brack",
        "type": "berth.blocked", "severitytext": "ERROR" });
    let over_mqtt = json!({ "topic": "a", "properties": attributes,
        "content_type": "application/json" });
    let prefixed = |prefix: &str| {
        let all = attributes.as_object().expect("a map").iter();
        let headers: Map<String, Value> =
            all.map(|(name, value)| (format!("{prefix}{name}"), value.clone())).collect();
        json!({ "headers": headers, "content_type": "application/json" })
    };
    let expected =
        ["berth.blocked events/piers-brack major noted 1970-01-01T00:00:00Z | berth.blocked |"];
    assert_eq!(read_message(mqtt, &over_mqtt, "{\"berth\": 7}"), expected);
    for prefix in ["cloudEvents:", "cloudEvents_"] {
        assert_eq!(read_message(amqp, &prefixed(prefix), "{\"berth\": 7}"), expected);
    }
    let structured = json!({ "content_type": "application/cloudevents+json; charset=utf-8" });
    let body = attributes.to_string();
    assert_eq!(read_message(mqtt, &structured, &body), expected);
    assert_eq!(read_message(amqp, &structured, &body), expected);
    let none = read_message(amqp, &prefixed("x-"), "{\"berth\": 7}");
    assert!(none[0].starts_with("not read: is no CloudEvent"), "{none:?}");
}

#[test]
fn a_message_in_the_normal_form_needs_no_lines_and_one_of_several_lines_is_several() {
    let alert = r#"{"kind": "disk.usage", "severity": "minor", "resource": "vm/quill-1"}"#;
    let read = read_message("{ mqtt: { via: pier, topics: [a] } }", &json!({}), alert);
    assert_eq!(
        read,
        ["disk.usage vm/quill-1 minor raised 1970-01-01T00:00:00Z | disk.usage on vm/quill-1 |"]
    );
    let text = "source: pier\nintake: { amqp: { via: pier, queue: a, body: lines } }\n\
        read: { kind: '\"pier\"', resource: '\"vm/\" + routing_key', summary: body }\n";
    let docs = parse_file("pier.yaml", text).expect("is YAML");
    let source = Source::check(&docs[0]).expect("is a source");
    let properties = Map::from_iter([("routing_key".to_owned(), json!("quill"))]);
    let delivery = Delivery {
        raw: b"one\ntwo\n",
        properties: &properties,
        received: DateTime::UNIX_EPOCH,
        fallback_id: "d1",
        normal: false,
    };
    let outcome = source.read(&delivery);
    let read: Vec<_> = outcome.alerts.iter().map(|a| (&*a.id, &*a.summary)).collect();
    assert_eq!(read, [("d1-0", "one"), ("d1-1", "two")]);
}

#[test]
fn what_cannot_be_subscribed_to_is_said_with_its_place() {
    for (intake, why) in [
        ("{ mqtt: { via: pier, topics: [] } }", "has 0 entries"),
        ("{ mqtt: { via: pier, topics: ['a/#/b'] } }", "`#` a whole level at the end"),
        ("{ mqtt: { via: pier, topics: ['a/b+'] } }", "`+` is a whole level"),
        ("{ mqtt: { via: pier, topics: ['$share/a/b'] } }", "is shared by `sessions`"),
        ("{ mqtt: { via: pier, topics: [a], sessions: 9 } }", "is from 1 to 8, not 9"),
        ("{ mqtt: { via: pier, topics: [a], keeps: 31d } }", "is from 1s to 30d, not 31d"),
        ("{ mqtt: { via: pier, topics: [a], at_once: 0 } }", "is from 1 to 256, not 0"),
        ("{ mqtt: { via: pier, topics: [a], lists: [b] } }", "goes with `body: xml` alone"),
        ("{ amqp: { via: pier, queue: '' } }", "is a name of 1 to 255 bytes"),
        ("{ amqp: { via: pier, queue: a, topics: [b] } }", "topics"),
    ] {
        let said = of_format(intake).expect_err(intake);
        assert!(said.contains(why), "{intake}: {said}");
    }
}

#[test]
fn several_sessions_share_what_they_subscribe_to() {
    let subscriptions = |intake: &str| match of_format(intake).expect("is a source").intake {
        Intake::Mqtt(mqtt) => mqtt.subscriptions("pier"),
        _ => Vec::new(),
    };
    assert_eq!(subscriptions("{ mqtt: { via: pier, topics: ['a/#', b] } }"), ["a/#", "b"]);
    assert_eq!(
        subscriptions("{ mqtt: { via: pier, topics: ['a/#'], sessions: 2 } }"),
        ["$share/arvok-pier/a/#"]
    );
}
