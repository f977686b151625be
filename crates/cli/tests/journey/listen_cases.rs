//! The cases of `listen` through the API: the same file that the core is tested with.

use crate::kit::{Stage, answer};
use arvok_core::document::parse_file;
use reqwest::Method;
use serde_json::{Value, json};

const CASES: &str = include_str!("../../../core/cases/listen.yaml");

#[test]
fn the_service_decides_as_the_core_does() {
    let stage = Stage::with_demo();
    let cases = parse_file("listen.yaml", CASES).expect("reads");
    let rules: Vec<String> = cases
        .iter()
        .map(|c| {
            format!(
                "rule: {}\nlisten: {}\ndispatch: {{ runbook: grow-disk, inputs: {{ vm: x/y }} }}\n",
                c.name, c.value["listen"]
            )
        })
        .collect();
    stage.publish(&rules.join("---\n"));
    for case in &cases {
        for (expected, key) in [(true, "matches"), (false, "misses")] {
            for alert in case.value[key].as_array().into_iter().flatten() {
                let verdicts = verdicts(&stage, alert);
                assert_eq!(
                    verdicts.contains(&case.name),
                    expected,
                    "{} {key} {alert}: {verdicts:?}",
                    case.name
                );
            }
        }
    }
}

fn verdicts(stage: &Stage, alert: &Value) -> Vec<String> {
    let mut whole =
        json!({"kind": "disk.usage", "resource": "vm/quill-booking-db-1", "severity": "major"});
    for (key, value) in alert.as_object().into_iter().flatten() {
        whole[key] = value.clone();
    }
    let request = stage
        .request(Method::POST, "/in/yard-hypervisor?trial=no")
        .bearer_auth(&stage.token)
        .header("content-type", "application/vnd.arvok.alert+json")
        .body(whole.to_string());
    let (status, taken) = answer(request);
    assert_eq!(status, 202, "{taken}");
    let detail = stage.get(&format!("/api/v1/alerts/{}", taken["alerts"][0]["seq"]));
    detail["verdicts"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|v| v["rule"].as_str().map(str::to_owned))
        .collect()
}
