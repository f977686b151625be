//! The cases of `settle` through the API and through the command: the same files that the core
//! is tested with, rehearsed as rules of their own.

use crate::kit::{Stage, arvok, folder};
use arvok_core::{
    Period,
    document::{Document, parse_file},
};
use chrono::{DateTime, Utc};
use serde_json::{Value, json};

const FILES: [(&str, &str); 5] = [
    ("episodes", include_str!("../../../core/cases/settle/episodes.yaml")),
    ("counting", include_str!("../../../core/cases/settle/counting.yaml")),
    ("waiting", include_str!("../../../core/cases/settle/waiting.yaml")),
    ("together", include_str!("../../../core/cases/settle/together.yaml")),
    ("lateness", include_str!("../../../core/cases/settle/lateness.yaml")),
];

pub fn cases() -> Vec<Document> {
    FILES.iter().flat_map(|(name, text)| parse_file(name, text).expect("reads")).collect()
}

pub fn at(period: &str) -> DateTime<Utc> {
    DateTime::UNIX_EPOCH + Period::parse(period).expect("a period").delta()
}

/// The rule of a case.
pub fn rule(case: &Document) -> String {
    let value = |key: &str, otherwise: Value| case.value.get(key).cloned().unwrap_or(otherwise);
    format!(
        "rule: {}\nstance: act\nlisten: {{ states: {} }}\nsettle: {}\ndispatch: {}\n",
        case.name,
        value("states", json!(["raised"])),
        case.value["settle"],
        value("dispatch", json!({ "runbook": "grow-disk" }))
    )
}

/// The alerts of a case, as a file of alerts holds them.
pub fn alerts(case: &Document) -> Vec<Value> {
    let one = |given: &Value| {
        let received = at(given["at"].as_str().expect("at"));
        let late = given["late"]
            .as_str()
            .map_or(chrono::TimeDelta::zero(), |l| at(l) - DateTime::UNIX_EPOCH);
        json!({
            "source": "yard-hypervisor", "kind": "disk.usage", "received": received,
                "time": received - late,
            "resource": format!("vm/{}", given["on"].as_str().unwrap_or("a")),
            "severity": given["severity"].as_str().unwrap_or("major"),
            "state": given["state"].as_str().unwrap_or("raised"),
            "labels": given.get("labels").cloned().unwrap_or(json!({})),
        })
    };
    case.value["given"].as_array().expect("given").iter().map(one).collect()
}

pub fn offset(t: &Value) -> Period {
    let t: DateTime<Utc> = t.as_str().expect("a time").parse().expect("RFC 3339");
    Period::from_millis(
        u64::try_from((t - DateTime::UNIX_EPOCH).num_milliseconds()).expect("after the start"),
    )
}

/// How long a case lasts.
pub fn until(case: &Document) -> Period {
    let last = alerts(case).last().map(|a| offset(&a["received"])).expect("alerts");
    case.value["until"].as_str().map_or(last, |u| Period::parse(u).expect("a period"))
}

/// What a result tells, in the words of the case files, as long as the case lasts.
fn told(case: &Document, result: &Value) -> Vec<String> {
    let until = until(case);
    let report = &result["now"];
    let list = |key: &str| report[key].as_array().expect("a list").clone();
    let reason = |v: &Value| v["reason"].as_str().expect("a reason").replace("1970-01-01T", "");
    let decided = list("decided").into_iter().filter(|r| offset(&r["at"]) <= until).map(|r| {
        let tally = &report["tallies"][r["tally"].as_u64().expect("a tally") as usize]["resource"];
        let tally = tally.as_str().expect("a resource").trim_start_matches("vm/").to_owned();
        format!(
            "{} {tally} {}: {}",
            offset(&r["at"]),
            r["verdict"].as_str().expect("a verdict"),
            reason(&r)
        )
    });
    let fires = |p: &Value| {
        list("decided").iter().any(|r| r["at"] == p["at"] && r["verdict"] == "dispatched")
    };
    let dispatched =
        list("dispatched").into_iter().filter(|p| offset(&p["at"]) <= until && !fires(p));
    let dispatched =
        dispatched.map(|p| format!("{} job {}: {}", offset(&p["at"]), p["job"], reason(&p)));
    decided.chain(dispatched).collect()
}

pub fn expected(case: &Document) -> Vec<String> {
    case.value["expect"]
        .as_array()
        .into_iter()
        .flatten()
        .map(|l| l.as_str().unwrap_or_default().to_owned())
        .collect()
}

#[test]
fn the_service_settles_as_the_core_does() {
    let stage = Stage::with_demo();
    for case in cases() {
        let body = json!({ "file": { "file": "case.yaml", "text": rule(&case) },
            "alerts": alerts(&case) });
        let result = stage.rehearse(&body);
        assert_eq!(told(&case, &result), expected(&case), "{}", case.name);
    }
}

#[test]
fn the_command_settles_as_the_core_does_without_a_server() {
    let here = folder("settle");
    for case in cases() {
        let (file, night) = (here.join("rule.yaml"), here.join("night.jsonl"));
        std::fs::write(&file, rule(&case)).expect("a file");
        let lines: Vec<String> = alerts(&case).iter().map(Value::to_string).collect();
        std::fs::write(&night, lines.join("\n")).expect("a file");
        let (file, night) = (file.display().to_string(), night.display().to_string());
        let said = arvok(&["rule", "rehearse", &file, "--alerts", &night, "--json"], &[], "");
        assert_eq!(said.code, 0, "{}", said.all());
        let result: Value = serde_json::from_str(&said.out).expect("JSON");
        assert_eq!(told(&case, &result), expected(&case), "{}", case.name);
    }
}
