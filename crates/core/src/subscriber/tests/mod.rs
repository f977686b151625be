use super::*;
use crate::{NewAlert, alert::Received, document::parse_file};
use chrono::DateTime;
use serde_json::json;

fn checked(text: &str) -> Result<Subscriber, Vec<String>> {
    let document = parse_file("board.yaml", text).expect("readable").remove(0);
    Subscriber::check(&document)
        .map_err(|problems| problems.iter().map(ToString::to_string).collect())
}

const BOARD: &str = "
subscriber: harbour-board
summary: Shows what is done in the night
address: ${setting('board')}/events
listen:
  kinds: [job.failed, 'decision.*']
  labels: { runbook: grow-* }
  where: alert.body.job.urgency != 'low'
signed_with: ${secret('board-key')}
";

fn event(kind: &str, runbook: &str, body: Value) -> Alert {
    let at = DateTime::from_timestamp(1_764_000_000, 125_000_000).expect("a time");
    let new = json!({ "id": "job-7-1", "kind": kind, "severity": "minor", "state": "noted",
        "resource": "vm/quill-1",
        "time": at, "summary": "job 7 failed", "labels": { "runbook": runbook }, "body": body });
    let received = Received { source: "arvok", received: at, fallback_id: "none" };
    NewAlert::from_value(&new).expect("an alert").complete(received).expect("complete")
}

#[test]
fn it_wants_what_it_listens_for_whatever_the_state() {
    let board = checked(BOARD).expect("good");
    let urgent = json!({ "job": { "urgency": "high" } });
    assert_eq!(board.wants(&event("job.failed", "grow-disk", urgent.clone())), Match::Yes);
    assert_eq!(board.wants(&event("decision.asked", "grow-disk", urgent.clone())), Match::Yes);
    assert_eq!(
        board.wants(&event("job.started", "grow-disk", urgent.clone())),
        Match::No,
        "another kind"
    );
    assert_eq!(board.wants(&event("job.failed", "start-vm", urgent)), Match::No, "another runbook");
    assert_eq!(
        board.wants(&event("job.failed", "grow-disk", json!({}))),
        Match::No,
        "a field is missing"
    );
    let all = checked(
        "subscriber: all\naddress: https://board.skerrow.example/in\nsigned_with: ${secret('k')}",
    )
    .expect("good");
    assert_eq!(all.wants(&event("job.started", "x", json!({}))), Match::Yes);
}

#[test]
fn it_leaves_as_a_cloudevent() {
    let event = event("job.failed", "grow-disk", json!({ "job": { "id": 7 }, "chain": [] }));
    insta::assert_json_snapshot!(envelope(&event, "k3v9"), @r#"
    {
      "specversion": "1.0",
      "id": "job-7-1",
      "source": "/arvok/k3v9",
      "type": "arvok.job.failed",
      "subject": "vm/quill-1",
      "time": "2025-11-24T16:00:00.125000Z",
      "datacontenttype": "application/json",
      "data": {
        "job": {
          "id": 7
        },
        "chain": [],
        "severity": "minor",
        "summary": "job 7 failed",
        "labels": {
          "runbook": "grow-disk"
        }
      }
    }
    "#);
}

#[test]
fn an_address_holds_no_password() {
    let wrong = checked(
        "subscriber: a\naddress: https://pat:pw@board.skerrow.example/in\nsigned_with: \
        ${secret('k')}",
    );
    assert!(wrong.expect_err("a diagnostic")[0].contains("holds a name or a password"));
}

#[test]
fn diagnostics_name_the_place() {
    let wrong = checked(
        "
subscriber: board
address: board.skerrow.example
listen: { sources: yard, kinds: [] }
signed_with: [plain, \"${secret('a')}\", \"${secret('b')}\"]
",
    );
    insta::assert_snapshot!(wrong.expect_err("diagnostics").join("\n"), @r#"
    board.yaml:3:10: is not an address; it begins with http:// or https://
        3 | address: board.skerrow.example
          |          ^^^^^^^^^^^^^^^^^^^^^
    board.yaml:4:20: only what jobs and decisions tell leaves; leave the line out
        4 | listen: { sources: yard, kinds: [] }
          |                    ^^^^
    board.yaml:4:33: is an empty list: no alert could ever match; leave the line out to match all
        4 | listen: { sources: yard, kinds: [] }
          |                                 ^
    board.yaml:5:14: is one key, or two while one takes the place of the other
        5 | signed_with: [plain, "${secret('a')}", "${secret('b')}"]
          |              ^
    board.yaml:5:15: a credential is not written out; set a secret and write "${secret('its-name')}"
        5 | signed_with: [plain, "${secret('a')}", "${secret('b')}"]
          |               ^^^^^
    "#);
}
