//! Brokers, as people reach them: a message by hand and by a job, and what is told of it.

use crate::kit::{Mosquitto, Stage};
use serde_json::json;

#[test]
fn a_message_is_tried_by_hand_sent_by_a_job_and_what_came_of_it_is_told() {
    let stage = Stage::with_demo();
    let broker = Mosquitto::start();
    stage.publish(&format!(
        "connector: gates
operations:
  gate.open:
    takes: {{ gate: {{ type: string }} }}
    mqtt: {{ topic: 'gates/${{give.gate}}/set', payload: {{ open: true }} }}
    output: '{{\"was_heard\": response.has_subscribers}}'
    gives: {{ was_heard: {{ type: boolean }} }}
---
connection: pier-gates
connector: gates
base: mqtt://127.0.0.1:{}
timeout: 5s
---
runbook: open-gate
inputs: {{ gate: {{ type: string }} }}
target: gate/pier
steps:
  - {{ id: open, call: gate.open, via: pier-gates, give: {{ gate: '${{inputs.gate}}' }} }}
outputs: {{ was_heard: '${{steps.open.was_heard}}' }}
",
        broker.port
    ));
    let tested = stage.arvok(&["connection", "test", "pier-gates"]);
    assert!(tested.code == 0 && tested.out.contains("speaks MQTT 5"), "{}", tested.all());
    let attempt = ["connection", "try", "pier-gates", "gate.open", "--give", "gate=7", "--yes"];
    let tried = stage.arvok(&attempt);
    assert!(
        tried.out.contains("MQTT to gates/7/set\n  {\"payload\":{\"open\":true}}"),
        "{}",
        tried.all()
    );
    assert!(tried.out.contains("answer NoMatchingSubscribers"), "{}", tried.out);

    let launch = |gate: &str| {
        let gate = format!("gate={gate}");
        stage.arvok(&["job", "launch", "open-gate", "--input", &gate, "--yes", "--follow"])
    };
    assert_eq!(launch("7").code, 0);
    let shown = stage.arvok(&["job", "show", "1"]);
    assert!(shown.out.contains("sent   MQTT to gates/7/set"), "{}", shown.out);
    assert!(shown.out.contains("answer \"NoMatchingSubscribers\""), "{}", shown.out);
    assert_eq!(stage.get("/api/v1/jobs/1")["outputs"], json!({ "was_heard": false }));
    // An alert's words lead to no other topic.
    let other = launch("7/../8");
    assert!(
        other.code != 0 && other.all().contains("topic: what is filled into"),
        "{}",
        other.all()
    );
    drop(broker);
    let gone = launch("7");
    assert!(gone.code != 0 && gone.all().contains("cannot connect to mqtt://"), "{}", gone.all());
    let listed = stage.get("/api/v1/connections/pier-gates/calls").to_string();
    assert!(listed.contains("not-sent") && listed.contains("done"), "{listed}");
}
