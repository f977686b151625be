//! What goes over the wire reads back as what was said.

use super::*;
use arvok_core::{
    AlertState, Role, Severity, Verdict,
    job::{JobEffect, JobState},
    rule::{Stance, Urgency},
};
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use std::fmt::Debug;

/// Every word of an enum is the JSON of it, and back.
fn words_hold<T: Serialize + DeserializeOwned + Copy + Debug + PartialEq>(
    all: &[T],
    word: fn(T) -> &'static str,
) {
    for one in all {
        assert_eq!(json!(one), word(*one), "{one:?}");
        assert_eq!(serde_json::from_value::<T>(json!(word(*one))).expect("reads"), *one);
    }
    let words: std::collections::BTreeSet<&str> = all.iter().map(|one| word(*one)).collect();
    assert_eq!(words.len(), all.len(), "no word stands for two");
}

#[test]
fn a_word_is_written_as_it_is_read() {
    words_hold(&Severity::ALL, Severity::as_str);
    words_hold(&AlertState::ALL, AlertState::as_str);
    words_hold(&Verdict::ALL, Verdict::as_str);
    words_hold(&Stance::ALL, Stance::as_str);
    words_hold(&Urgency::ALL, Urgency::as_str);
    words_hold(&JobState::ALL, JobState::as_str);
    words_hold(&JobEffect::ALL, JobEffect::as_str);
    words_hold(&ProposalState::ALL, ProposalState::as_str);
    words_hold(&Role::ALL, Role::as_str);
}

#[test]
fn a_higher_role_allows_all_that_a_lower_one_does() {
    assert!(Role::ALL.windows(2).all(|w| w[0] < w[1]));
}

#[test]
fn a_problem_about_a_file_is_the_cores_own() {
    let problem = arvok_core::Problem {
        file: "disk.yaml".into(),
        line: 3,
        column: 5,
        length: 4,
        message: "is wrong".into(),
        text: "  x: y".into(),
        warning: None,
    };
    let sent = json!(FileProblem::from(problem.clone()));
    let names: Vec<&String> = sent.as_object().expect("fields").keys().collect();
    assert_eq!(names, ["file", "line", "column", "length", "message", "text"]);
    let read: FileProblem = serde_json::from_value(sent).expect("reads");
    assert_eq!(arvok_core::Problem::from(read), problem);
    // What is described is what is sent, and the one field that may be missing.
    let described = json!(FileProblem::schema());
    let names: Vec<&String> =
        described["properties"].as_object().expect("properties").keys().collect();
    assert_eq!(names, ["file", "line", "column", "length", "message", "text", "warning"]);
    assert_eq!(described["required"].as_array().map(Vec::len), Some(6));
}

/// A filter as a query gives it: every value is text.
fn asked<T: DeserializeOwned>(query: Value) -> Result<T, String> {
    serde_json::from_value(query).map_err(|e| e.to_string())
}

#[test]
fn a_filter_says_what_it_does_not_know() {
    let good: AlertFilter = asked(
        json!({ "rule": "disk", "after": "7", "limit": "20", "since": "2026-11-25T03:00:00Z" }),
    )
    .expect("reads");
    assert_eq!(
        (good.after, good.limit, good.since.map(|t| t.timestamp())),
        (Some(7), Some(20), Some(1_795_575_600))
    );
    assert_eq!(asked::<AlertFilter>(json!({})).expect("reads").limit, None);
    let said = [
        asked::<AlertFilter>(json!({ "limit": "many" })).map(|_| ()),
        asked::<JobFilter>(json!({ "since": "gestern" })).map(|_| ()),
        asked::<JobFilter>(json!({ "sate": "failed" })).map(|_| ()),
        asked::<VerdictFilter>(json!({ "after": "9223372036854775808" })).map(|_| ()),
    ];
    let said: Vec<String> = said.into_iter().map(|s| s.expect_err("refused")).collect();
    insta::assert_snapshot!(said.join("\n"), @"
    `many` is not a whole number
    `gestern` is not a time such as 2026-11-25T14:03:21Z
    unknown field `sate`, expected one of `state`, `effect`, `runbook`, `rule`, `target`, `by`, `alarm`, `held_by`, `since`, `until`, `trial`, `after`, `limit`
    `9223372036854775808` is not a whole number
    ");
}

#[test]
fn words_of_filters_are_those_of_the_enums_and_are_sent_as_they_are_read() {
    let jobs = |query: Value| serde_json::from_value::<JobFilter>(query);
    let several = jobs(json!({ "state": "failed, unsure", "effect": "" })).expect("reads");
    assert_eq!(
        (several.state.as_slice(), several.effect),
        (&[JobState::Failed, JobState::Unsure][..], None)
    );
    let sent = serde_json::to_value(&several).expect("is sent");
    assert_eq!(sent["state"], "failed,unsure");
    let read = jobs(json!({ "state": sent["state"] })).expect("reads again");
    assert_eq!(read.state, several.state);
    assert_eq!(serde_json::to_value(JobFilter::default()).expect("is sent")["state"], Value::Null);
    for odd in ["lost", "failed,", "failed,,unsure", "FAILED"] {
        let wrong = jobs(json!({ "state": odd })).expect_err("is none").to_string();
        assert!(wrong.contains("it is one of queued, running,"), "{odd}: {wrong}");
    }
    let alerts = |query: Value| serde_json::from_value::<AlertFilter>(query);
    for verdict in ["matched", "held", "unmatched", "dispatched", "resting"] {
        let filter = alerts(json!({ "verdict": verdict, "severity": "major.." })).expect("reads");
        let sent = serde_json::to_value(&filter).expect("is sent");
        assert_eq!(sent["verdict"], verdict);
        let again = json!({ "severity": sent["severity"] });
        assert_eq!(alerts(again).expect("reads again").severity, filter.severity);
    }
    let wrong = alerts(json!({ "verdict": "done" })).expect_err("is none").to_string();
    assert!(wrong.contains("it is one of dispatched") && wrong.contains("unmatched"), "{wrong}");
}

#[test]
fn a_change_says_only_what_changed_and_less_is_understood() {
    assert_eq!(json!(Change::default()), json!({}));
    let change = Change { jobs: vec![4], verdicts: true, ..Change::default() };
    assert_eq!(json!(change), json!({ "jobs": [4], "verdicts": true }));
    let mut both: Change =
        serde_json::from_value(json!({ "alerts": [1], "reset": true })).expect("reads");
    both.merge(change);
    assert_eq!(json!(both), json!({ "alerts": [1], "jobs": [4], "verdicts": true, "reset": true }));
}
