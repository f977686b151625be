//! The case files: what each line of `settle` does, alone and with the others.

use super::*;

fn offset(t: DateTime<Utc>) -> Period {
    Period::from_millis(
        u64::try_from((t - DateTime::UNIX_EPOCH).num_milliseconds()).expect("after the start"),
    )
}

/// Every verdict as `<when> <resource> <verdict>: <reason>`, then the jobs that no verdict tells.
fn told(report: &Report) -> Vec<String> {
    let decided = report.decided.iter().map(|r| {
        let tally = r
            .tally
            .and_then(|l| report.tallies.get(l as usize))
            .map_or("?", |l| l.resource.trim_start_matches("vm/"));
        let reason = r.reason.replace("1970-01-01T", "");
        format!("{} {tally} {}: {reason}", offset(r.at), r.verdict.as_str())
    });
    let told = |p: &&crate::rehearse::RehearsedDispatch| {
        !report.decided.iter().any(|r| r.at == p.at && r.verdict.fires())
    };
    let dispatched = report.dispatched.iter().filter(told);
    let dispatched = dispatched.map(|p| {
        format!("{} job {}: {}", offset(p.at), p.job, p.reason.replace("1970-01-01T", ""))
    });
    decided.chain(dispatched).collect()
}

#[test]
fn cases() {
    let files = [
        ("episodes", include_str!("../../../cases/settle/episodes.yaml")),
        ("counting", include_str!("../../../cases/settle/counting.yaml")),
        ("waiting", include_str!("../../../cases/settle/waiting.yaml")),
        ("together", include_str!("../../../cases/settle/together.yaml")),
        ("lateness", include_str!("../../../cases/settle/lateness.yaml")),
        ("muted", include_str!("../../../cases/settle/muted.yaml")),
    ];
    let mut failures = Vec::new();
    for (name, text) in files {
        let documents = parse_file(&format!("{name}.yaml"), text).expect("reads");
        assert!(documents.len() >= 3, "{name} lost its cases");
        for document in documents {
            let case = &document.value;
            let dispatch =
                case.get("dispatch").cloned().unwrap_or(json!({ "runbook": "grow-disk" }));
            let states = case.get("states").cloned().unwrap_or(json!(["raised"]));
            let rule =
                rule(&case["settle"].to_string(), &states.to_string(), &dispatch.to_string());
            let given = case["given"].as_array().expect("given");
            let until = case["until"]
                .as_str()
                .map_or_else(|| at(given[given.len() - 1]["at"].as_str().expect("at")), at);
            let mutes = case["mutes"].as_array().into_iter().flatten().enumerate().map(mute);
            let alerts = given.iter().enumerate().map(|(i, g)| alert(g, i));
            let report = play(&rule, alerts, mutes.collect(), until);
            let expected: Vec<String> = case["expect"]
                .as_array()
                .into_iter()
                .flatten()
                .map(|l| l.as_str().unwrap_or_default().to_owned())
                .collect();
            let told = told(&report);
            if told != expected {
                failures.push(format!("case: {}\n  - {}", document.name, told.join("\n  - ")));
            }
        }
    }
    assert!(failures.is_empty(), "these came out differently:\n{}", failures.join("\n"));
}
