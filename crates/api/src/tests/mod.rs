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
    unknown field `sate`, expected one of `state`, `effect`, `runbook`, `rule`, `target`, `by`, `alarm`, `since`, `until`, `after`, `limit`
    `9223372036854775808` is not a whole number
    ");
}

#[test]
fn several_states_of_jobs_stand_between_commas() {
    let of = |state: &str| JobFilter { state: Some(state.into()), ..JobFilter::default() };
    assert_eq!(of("failed, unsure").states(), ["failed", "unsure"]);
    assert_eq!(of("").states(), [""], "an empty word is no state, and is refused");
    assert_eq!(JobFilter::default().states(), Vec::<&str>::new());
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
