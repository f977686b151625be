//! Heartbeats: what is told of senders that are missing, and that are back.

use super::*;
use crate::source::HeartbeatChange;
use chrono::TimeDelta;

const INTAKE: &str = "{ heartbeat: { credential: { bearer: \"${secret('n')}\" }, after: 26h } }";

#[test]
fn who_is_missing_is_an_alarm_until_it_is_back() {
    let source = of_format(INTAKE).expect("is a source");
    let heartbeat = source.intake.heartbeat().expect("is one");
    let last = DateTime::UNIX_EPOCH + TimeDelta::hours(1);
    let told = |name: &str, missing: bool, after: TimeDelta| {
        let change = HeartbeatChange { source: "pier", name, missing, last, at: last + after };
        let outcome = read(&source, &heartbeat.message(&change)).expect("is read");
        let id = outcome.alerts[0].id.clone();
        format!("{} {}", lines(&outcome).concat(), id)
    };
    insta::assert_debug_snapshot!(
        [
            told("fares", true, TimeDelta::hours(26)),
            told("fares", false, TimeDelta::hours(30)),
            told("pier", true, TimeDelta::hours(26)),
        ],
        @r#"
        [
            "heartbeat.missing heartbeat/pier/fares major raised 1970-01-02T03:00:00Z | fares was not heard of for 1d2h, since 1970-01-01T01:00:00.000Z | fares missing since 1970-01-01T01:00:00.000Z",
            "heartbeat.missing heartbeat/pier/fares major cleared 1970-01-02T07:00:00Z | fares is heard of again | fares back since 1970-01-01T01:00:00.000Z",
            "heartbeat.missing heartbeat/pier major raised 1970-01-02T03:00:00Z | pier was not heard of for 1d2h, since 1970-01-01T01:00:00.000Z | pier missing since 1970-01-01T01:00:00.000Z",
        ]
        "#
    );
    insta::assert_snapshot!(source.default_read().expect("an open format"), @r#"
    read:
      id: 'name + (missing ? " missing since " : " back since ") + last'
      kind: '"heartbeat.missing"'
      severity: '"major"'
      state: 'missing ? "raised" : "cleared"'
      resource: '"heartbeat/" + heartbeat + (name == heartbeat ? "" : "/" + name)'
      time: 'at'
      summary: 'missing ? name + " was not heard of for " + after + ", since " + last : name + " is heard of again"'
    "#);
}

#[test]
fn a_heartbeat_that_cannot_be_is_refused_with_its_place() {
    insta::assert_snapshot!(of_format(&INTAKE.replace("26h", "5s")).expect_err("too short"), @r#"
    pier.yaml:2:73: is from 30s to 31d, not 5s
        2 | intake: { heartbeat: { credential: { bearer: "${secret('n')}" }, after: 5s } }
          |                                                                         ^^
    "#);
    let silent = format!("{INTAKE}\nsilent_after: 1h");
    insta::assert_snapshot!(of_format(&silent).expect_err("twice"), @r"
    pier.yaml:3:15: a heartbeat has its own: `after` in its intake
        3 | silent_after: 1h
          |               ^^
    ");
    let lines = format!("{INTAKE}\nread: {{ kind: body.kind, resource: '\"a/b\"' }}");
    insta::assert_snapshot!(of_format(&lines).expect_err("no body"), @r#"
    pier.yaml:3:15: `body` is not known here; known here: heartbeat, name, missing, last, at, after
        3 | read: { kind: body.kind, resource: '"a/b"' }
          |               ^^^^
    "#);
}
