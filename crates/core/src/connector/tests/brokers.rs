//! Messages to brokers: how they are written, what they become, and what answers mean.

use super::{check, give};
use crate::{
    connector::{AmqpAct, AmqpAnswer, CallEnd, Connection, Connector, Hiding, Planned},
    definition::Defined,
    document::parse_file,
};
use serde_json::{Value, json};

fn connector(operation: &str) -> Connector {
    let text = format!(
        "connector: broker\noperations:\n  send:\n    takes: {{ gate: {{ default: a }}, also: {{ \
         default: null }} }}\n    {operation}\n"
    );
    check(&text).unwrap_or_else(|e| panic!("{e}"))
}

const MQTT: &str = "mqtt: { topic: 'gates/${give.gate}/set', payload: { open: '${give.gate}' }, \
    retain: true, expires: 1500ms, properties: { of: '${give.gate}', also: '${give.also}', n: 1 } }";

#[test]
fn a_message_over_mqtt_is_planned_of_what_is_given_and_stays_in_its_topic() {
    let broker = connector(MQTT);
    let planned = |given: Value| {
        let given = give(given);
        let planned = broker.operations["send"].begin(&given, "k", None);
        planned.map(|planned| match planned {
            Planned::Mqtt(plan) => plan.message().clone(),
            other => panic!("{other:?}"),
        })
    };
    let message = planned(json!({ "gate": "7 $x" })).expect("plans");
    assert_eq!(message.topic, "gates/7 $x/set");
    assert_eq!(message.payload.bytes, b"{\"open\":\"7 $x\"}");
    assert_eq!(message.payload.content_type.as_deref(), Some("application/json"));
    assert_eq!((message.retain, message.expires), (true, Some(2)));
    // What is not given is left out.
    let named = |(name, text): &(String, String)| format!("{name}={text}");
    assert_eq!(message.properties.iter().map(named).collect::<Vec<_>>(), ["of=7 $x", "n=1"]);
    for gate in ["a/b", "+", "#", "a+", "\0"] {
        let wrong = planned(json!({ "gate": gate })).expect_err("another topic").to_string();
        assert!(wrong.contains("topic: what is filled into gates/"), "{wrong}");
    }
    assert!(planned(json!({ "gate": "x".repeat(70_000) })).is_err());
    let operation = &broker.operations["send"];
    let shown = operation.request(&give(json!({})), "k").expect("plans");
    assert_eq!((shown.method.as_str(), shown.target.as_str()), ("MQTT", "to gates/a/set"));
    assert_eq!(operation.line(), "MQTT to gates/${give.gate}/set");
    assert!(!operation.only_looks());
    let large = connector("mqtt: { topic: t, payload: '${give.gate}' }");
    let given = give(json!({ "gate": "x".repeat(300 << 10) }));
    let wrong = large.operations["send"].begin(&given, "k", None).expect_err("too large");
    assert_eq!(wrong.to_string(), "payload: has 307200 bytes; 262144 are allowed");
}

#[test]
fn what_a_broker_says_is_done_refused_for_now_or_for_good() {
    let broker = connector(MQTT);
    let given = give(json!({}));
    let begun = broker.operations["send"].begin(&given, "k", None).expect("plans");
    let hide = |text: &str| text.replace("sesame", "[secret]");
    let Planned::Mqtt(plan) = begun.hiding(Hiding(&hide)) else { panic!("over MQTT") };
    assert_eq!(plan.acknowledged(0, ""), Ok(json!({ "has_subscribers": true })));
    assert_eq!(plan.acknowledged(0x10, ""), Ok(json!({ "has_subscribers": false })));
    for (reason, words, lasting, message) in [
        (0x87, "", true, "answered 0x87: not authorized"),
        (0x90, "no sesame", true, "answered 0x90: no [secret]"),
        (0x97, "", false, "answered 0x97: a quota is exceeded"),
        (0x80, "", false, "answered 0x80: an error"),
    ] {
        let failure = plan.acknowledged(reason, words).expect_err("fails");
        assert_eq!((failure.end, failure.lasting), (CallEnd::Refused, lasting), "{failure:?}");
        assert_eq!(failure.message, message);
    }

    let broker =
        connector("amqp: { publish: { exchange: gates, routing_key: '${give.gate}', body: x } }");
    let begun = broker.operations["send"].begin(&given, "k", None).expect("plans");
    let Planned::Amqp(plan) = begun.hiding(Hiding(&hide)) else { panic!("over AMQP") };
    let AmqpAct::Publish(message) = plan.act() else { panic!("a message") };
    assert!(message.persistent && message.mandatory && message.id == "k");
    assert_eq!(message.body.content_type, None);
    assert_eq!(plan.answered(&AmqpAnswer::Confirmed), Ok(json!({})));
    for (answer, lasting, message) in [
        (AmqpAnswer::Declined, false, "the broker has not taken it (nack)"),
        (
            AmqpAnswer::Refused(312, "NO_ROUTE sesame".into()),
            true,
            "answered 312: NO_ROUTE [secret]",
        ),
        (AmqpAnswer::Refused(405, "locked".into()), false, "answered 405: locked"),
    ] {
        let failure = plan.answered(&answer).expect_err("fails");
        assert_eq!((failure.end, failure.lasting), (CallEnd::Refused, lasting), "{failure:?}");
        assert_eq!(failure.message, message);
    }
    let looks = connector("amqp: { look_at: '${give.gate}' }\n    output: response.messages\n");
    let operation = &looks.operations["send"];
    assert!(operation.only_looks() && operation.line() == "AMQP look at ${give.gate}");
    let Planned::Amqp(plan) = operation.begin(&given, "k", None).expect("plans") else {
        panic!("over AMQP")
    };
    let queue = AmqpAnswer::Queue { messages: 7, consumers: 0 };
    assert_eq!(plan.answered(&queue), Ok(json!(7)));
}

#[test]
fn what_is_written_wrong_is_told_with_its_place() {
    let wrong = |operation: &str| {
        let text = format!("connector: broker\noperations:\n  send:\n    {operation}\n");
        check(&text).expect_err("is wrong")
    };
    let all = [
        "mqtt: { topic: t, payload: x }\n    amqp: { look_at: q }",
        "amqp: {}",
        "amqp: { look_at: q, publish: { routing_key: q, body: x } }",
        "amqp: { publish: { body: x } }",
        "amqp: { publish: { routing_key: q, body: x, expires: 400d } }",
        "mqtt: { topic: t, payload: x, expires: 0s }",
        "mqtt: { topic: t, payload: x, properties: { '': a } }",
        "mqtt: { topic: 't/${give.x}', payload: x }",
        "mqtt: { topic: t, payload: x, qos: 2 }",
        "mqtt: { topic: t, payload: x }\n    repeat: keyed",
        "mqtt: { topic: t, payload: x }\n    host: a",
        "mqtt: { topic: t, payload: x }\n    retry_on: [429]",
        "amqp: { look_at: q }\n    output: response.length",
    ];
    insta::assert_snapshot!(all.map(wrong).join("\n"), @"
    yard.yaml:4:5: an operation has one of `request`, `visit`, `mail`, `command`, `upload`, `download`, `netconf`, `libvirt`, `snmp`, `mqtt`, `amqp` and `arvok`
        4 |     mqtt: { topic: t, payload: x }
          |     ^
    yard.yaml:4:11: has one of `publish` and `look_at`
        4 |     amqp: {}
          |           ^
    yard.yaml:4:11: has one of `publish` and `look_at`
        4 |     amqp: { look_at: q, publish: { routing_key: q, body: x } }
          |           ^^
    yard.yaml:4:22: has an `exchange`, a `routing_key`, or both
        4 |     amqp: { publish: { body: x } }
          |                      ^^
    yard.yaml:4:58: is from 1s to 366d
        4 |     amqp: { publish: { routing_key: q, body: x, expires: 400d } }
          |                                                          ^^^^
    yard.yaml:4:44: is from 1s to 366d
        4 |     mqtt: { topic: t, payload: x, expires: 0s }
          |                                            ^^
    yard.yaml:4:53: has a name of 1 to 255 bytes
        4 |     mqtt: { topic: t, payload: x, properties: { '': a } }
          |                                                     ^
    yard.yaml:4:25: there is no field `x`; there are none here
        4 |     mqtt: { topic: 't/${give.x}', payload: x }
          |                         ^^^^^^
    yard.yaml:4:35: unknown key `qos`; known here: topic, payload, retain, expires, content_type, properties
        4 |     mqtt: { topic: t, payload: x, qos: 2 }
          |                                   ^^^
    yard.yaml:5:13: is `keyed`, and no broker knows a message by its key; write `never`, or `safe` where a second one does no harm
        5 |     repeat: keyed
          |             ^^^^^
    yard.yaml:5:11: belongs to a `command`, an `upload`, a `download`, a `netconf`, a `libvirt` or an `snmp`
        5 |     host: a
          |           ^
    yard.yaml:5:15: belongs to a `request`
        5 |     retry_on: [429]
          |               ^
    yard.yaml:5:13: there is no field `length`; known here: consumers, messages
        5 |     output: response.length
          |             ^^^^^^^^^^^^^^^
    ");
    let connection = |text: &str| {
        let document = &parse_file("c.yaml", &format!("connection: c\nconnector: broker\n{text}"))
            .expect("reads")[0];
        Connection::check(document).map_or_else(
            |problems| problems.iter().map(|p| format!("{}\n", p.message)).collect(),
            |_| String::new(),
        )
    };
    let all = [
        "base: mqtt://broker.example\ncredential: { bearer: \"${secret('s')}\" }\n",
        "base: amqps://broker.example/gates\ncredential: { key: { user: a, private: \"${secret('s')}\" } }\n",
        "base: mqtts://broker.example\nhosts: ['*.example']\n",
        "base: amqp://broker.example\ncredential: { basic: { user: a, password: \"${secret('s')}\" } }\n",
    ];
    insta::assert_snapshot!(all.map(connection).join(""), @"
    a broker is shown `basic`, a name and a password
    a broker is shown `basic`, a name and a password
    belongs to machines that are reached over SSH, and to agents
    ");
}
