//! Lists: every filter, alone and with any other, page by page, gives what going through all items
//! one by one gives.

use crate::kit::{Stage, until};
use serde_json::{Value, json};
use std::collections::BTreeSet;

const DEFINITIONS: &str = "\
source: brief
intake: { webhook: { credential: { bearer: \"${secret('yard-monitor')}\" } } }
---
runbook: fine
inputs: { vm: { type: string } }
target: ${inputs.vm}
steps:
  - { id: look, require: 'true' }
---
runbook: stops
inputs: { vm: { type: string } }
target: ${inputs.vm}
steps:
  - { id: look, require: 'false' }
---
rule: acts
stance: act
listen: { kinds: test.a }
settle: { rest: 1h }
dispatch: { runbook: fine, inputs: { vm: \"${alert.resource}\" } }
---
rule: fails
stance: act
listen: { kinds: 'test.*', severity: critical }
dispatch: { runbook: stops, inputs: { vm: \"${alert.resource}\" } }
---
rule: waits
stance: act
listen: { kinds: test.b }
settle: { still: 1h }
dispatch: { runbook: fine, inputs: { vm: \"${alert.resource}\" } }
---
rule: looks
stance: watch
listen: { sources: brief }
dispatch: { runbook: fine, inputs: { vm: \"${alert.resource}\" } }
";

const SEVERITIES: [&str; 5] = ["indeterminate", "warning", "minor", "major", "critical"];
const HELD: [&str; 7] = ["waiting", "resting", "capped", "flapping", "muted", "frozen", "symptom"];

/// A stage with alerts of all sorts, each with its verdicts, and jobs that have ended.
fn stage() -> Stage {
    let stage = Stage::with_demo();
    stage.secret("yard-monitor", "a key of the yard", &["source/yard-hypervisor", "source/brief"]);
    stage.publish(DEFINITIONS);
    for n in 0..120 {
        let alert = json!({
            "kind": (["test.a", "test.b", "test.c", "other.d"][n % 4]),
            "severity": (SEVERITIES[n / 3 % 5]),
            "state": (["raised", "raised", "cleared", "noted"][n / 5 % 4]),
            "resource": format!("vm/ferry-{}", n / 7 % 6),
            "summary": (["100% of /srv", "a_b", "a\\b", "Tar and tallow"][n / 11 % 4]),
        });
        stage.send(["yard-hypervisor", "brief"][n / 2 % 2], &alert);
    }
    until("all jobs to have ended", || {
        all(&stage, "jobs", &[]).iter().all(|j| j["finished_at"].is_string()).then_some(())
    });
    stage
}

/// All items that a query gives, gone through in pages.
fn all(stage: &Stage, list: &str, query: &[(&str, &str)]) -> Vec<Value> {
    let mut url = reqwest::Url::parse("http://here").expect("an address");
    url.query_pairs_mut()
        .extend_pairs(query)
        .append_pair("limit", if query.len() == 1 { "7" } else { "500" });
    let first = format!("/api/v1/{list}?{}", url.query().unwrap_or_default());
    let (mut items, mut path) = (Vec::new(), first.clone());
    loop {
        let mut page = stage.get(&path);
        items.append(page["items"].as_array_mut().expect("a list"));
        match page["next"].as_str() {
            Some(next) => path = format!("{first}&after={next}"),
            None => return items,
        }
    }
}

/// What a query of one or two conditions must give: those of all items that meet both.
fn check(
    list: &str,
    stage: &Stage,
    conditions: &[(&str, &str)],
    meets: impl Fn(&Value, &[(&str, &str)]) -> bool,
) {
    let everything = all(stage, list, &[]);
    let mut wrong = Vec::new();
    let mut try_out = |query: &[(&str, &str)]| {
        let expected: Vec<&Value> = everything.iter().filter(|item| meets(item, query)).collect();
        let found = all(stage, list, query);
        if found.iter().collect::<Vec<_>>() != expected {
            wrong.push(format!("{query:?}: {} instead of {}", found.len(), expected.len()));
        }
        expected.len()
    };
    let mut telling = BTreeSet::new();
    for (i, one) in conditions.iter().enumerate() {
        let met = try_out(&[*one]);
        if (1..everything.len()).contains(&met) {
            telling.insert(one.0);
        }
        for other in conditions[i + 1..].iter().filter(|other| other.0 != one.0) {
            try_out(&[*one, *other]);
        }
    }
    assert_eq!(wrong, Vec::<String>::new(), "of {} {list}", everything.len());
    let names: BTreeSet<&str> = conditions.iter().map(|c| c.0).collect();
    assert_eq!(telling, names, "each condition of {list} leaves some out and some in");
}

fn value<'a>(query: &[(&str, &'a str)], name: &str) -> Option<&'a str> {
    query.iter().find(|(n, _)| *n == name).map(|(_, value)| *value)
}

/// Whether a field is what is asked for, if it is asked for.
fn is(item: &Value, query: &[(&str, &str)], names: &[&str]) -> bool {
    names.iter().all(|name| value(query, name).is_none_or(|wanted| item[*name] == wanted))
}

fn text(item: &Value, query: &[(&str, &str)]) -> bool {
    let Some(wanted) = value(query, "text") else { return true };
    let words = ["summary", "resource", "kind"].map(|f| item[f].as_str().unwrap_or_default());
    words.join(" ").to_lowercase().contains(&wanted.to_lowercase())
}

fn moment(item: &Value, name: &str) -> chrono::DateTime<chrono::Utc> {
    item[name].as_str().and_then(|t| t.parse().ok()).expect("a time")
}

#[test]
fn every_filter_gives_what_going_through_all_of_them_gives() {
    let stage = stage();
    let alerts = all(&stage, "alerts", &[]);
    assert_eq!(alerts.len(), 120);
    let middle = alerts[60]["received"].as_str().expect("a time").to_owned();
    let late = alerts[20]["received"].as_str().expect("a time").to_owned();
    let texts = [
        ("text", "100%"),
        ("text", "%"),
        ("text", "a_b"),
        ("text", "a\\b"),
        ("text", "TALLOW"),
        ("text", "ferry-3"),
    ];
    let places = [("resource", "vm/ferry-2"), ("resource", "vm/ferry-none")];
    let sources = [("source", "brief"), ("source", "yard-hypervisor"), ("source", "nobody")];
    let rules = ["acts", "fails", "waits", "looks", "none"].map(|r| ("rule", r));
    let verdicts =
        ["dispatched", "waiting", "resting", "folded", "watched", "idle"].map(|v| ("verdict", v));

    let mut conditions = vec![
        ("severity", "minor.."),
        ("severity", "major"),
        ("kind", "test.b"),
        ("kind", "other.d"),
    ];
    conditions.extend(["raised", "cleared", "noted"].map(|s| ("state", s)));
    conditions.extend([
        ("since", middle.as_str()),
        ("since", late.as_str()),
        ("until", middle.as_str()),
        ("until", late.as_str()),
    ]);
    conditions.extend(["matched", "held", "unmatched"].map(|v| ("verdict", v)));
    conditions.extend(texts.into_iter().chain(places).chain(sources).chain(rules).chain(verdicts));
    check("alerts", &stage, &conditions, |item, query| {
        let position = |s: &str| SEVERITIES.iter().position(|known| *known == s);
        let given = item["verdicts"].as_array().expect("verdicts");
        let (rule, verdict) = (value(query, "rule"), value(query, "verdict"));
        let word = |v: &Value| match verdict {
            None | Some("matched") => true,
            Some("held") => HELD.iter().any(|h| v["verdict"] == *h),
            Some(word) => v["verdict"] == word,
        };
        let decided = match (rule, verdict) {
            (None, None) => true,
            (None, Some("unmatched")) => given.is_empty(),
            (rule, _) => given.iter().any(|v| rule.is_none_or(|r| v["rule"] == r) && word(v)),
        };
        is(item, query, &["source", "kind", "state", "resource"])
            && value(query, "severity").is_none_or(|s| {
                let rank = position(item["severity"].as_str().unwrap_or_default());
                if s == "major" { rank == position("major") } else { rank >= position("minor") }
            })
            && value(query, "since").is_none_or(|t| {
                moment(item, "received")
                    >= t.parse::<chrono::DateTime<chrono::Utc>>().expect("a time")
            })
            && value(query, "until").is_none_or(|t| {
                moment(item, "received")
                    < t.parse::<chrono::DateTime<chrono::Utc>>().expect("a time")
            })
            && decided
            && text(item, query)
    });

    let mut conditions: Vec<_> = [("state", "raised"), ("state", "cleared")]
        .into_iter()
        .chain(texts)
        .chain(sources)
        .collect();
    check("alarms", &stage, &conditions, |item, query| {
        is(item, query, &["state", "source"]) && text(item, query)
    });

    conditions.clear();
    conditions.extend(places.into_iter().chain(rules).chain(verdicts));
    check("verdicts", &stage, &conditions, |item, query| {
        is(item, query, &["rule", "verdict", "resource"])
    });

    let jobs = all(&stage, "jobs", &[]);
    let middle = jobs[jobs.len() / 2]["created_at"].as_str().expect("a time").to_owned();
    conditions = ["succeeded", "failed", "queued,failed", "unsure"].map(|s| ("state", s)).to_vec();
    conditions.extend([
        ("runbook", "fine"),
        ("runbook", "stops"),
        ("target", "vm/ferry-2"),
        ("target", "vm/ferry-none"),
    ]);
    conditions.extend(rules.into_iter().chain([("since", middle.as_str())]));
    check("jobs", &stage, &conditions, |item, query| {
        is(item, query, &["runbook", "target", "rule"])
            && value(query, "state")
                .is_none_or(|states| states.split(',').any(|s| item["state"] == s))
            && value(query, "since").is_none_or(|t| {
                moment(item, "created_at")
                    >= t.parse::<chrono::DateTime<chrono::Utc>>().expect("a time")
            })
    });
}
