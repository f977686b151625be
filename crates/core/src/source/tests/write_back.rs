//! What people do about alarms, as it is done at their senders.

use super::*;
use crate::alarm::AlarmAct;

fn written(lines: &str) -> Result<Source, String> {
    source(&format!("write_back: {{ via: monitor, {lines} }}\n"))
}

fn alert() -> crate::Alert {
    let new = crate::NewAlert::from_value(&json!({ "id": "p-7", "kind": "disk.full",
        "resource": "vm/quill", "severity": "major", "body": { "problem": 7 } }));
    let received = DateTime::UNIX_EPOCH;
    let received = crate::alert::Received { source: "pier-probes", received, fallback_id: "x" };
    new.expect("is an alert").complete(received).expect("is whole")
}

#[test]
fn an_operation_is_given_the_alert_and_what_was_said() {
    let source = written(
        "acknowledge: { call: problem.acknowledge, give: { id: '${alert.body.problem}', \
         who: '${by} says ${text}', none: '${null}' } }",
    )
    .expect("is a source");
    let back = source.write_back.expect("is written");
    assert!(back.call(AlarmAct::Cleared).is_none());
    let call = back.call(AlarmAct::Acknowledged).expect("is named");
    assert_eq!((back.via.as_str(), call.operation.as_str()), ("monitor", "problem.acknowledge"));
    let given = call.give(DoneAlarmAct { alert: &alert(), by: "token/vera", text: "on it" });
    assert_eq!(
        Value::Object(given.expect("is worked out")),
        json!({ "id": 7, "who": "token/vera says on it" })
    );
}

#[test]
fn what_is_written_wrongly_is_refused_with_its_place() {
    for (lines, why) in [
        ("", "has `acknowledge`, `note` or `clear`"),
        ("acknowledge: { give: {} }", "the key `call` is missing here"),
        (
            "note: { call: a.b, give: { x: '${alert.idd}' } }",
            "pier.yaml:3:62: there is no field `idd`; did you mean `id`?",
        ),
        ("clear: { call: a.b, give: { x: '${body}' } }", "`body`"),
    ] {
        let said = written(lines).expect_err(lines);
        assert!(said.contains(why), "{lines}: {said}");
        assert_eq!(said.matches("pier.yaml:").count(), 1, "one problem: {said}");
    }
}
