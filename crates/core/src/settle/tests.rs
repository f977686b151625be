//! Settling, by the case files under `cases/settle`, and by its promises over random histories.

use super::*;
use crate::document::parse_file;
use proptest::prelude::*;
use serde_json::Value;

fn rule(settle: &str, stance: &str) -> Rule {
    let text = format!("rule: r\nstance: {stance}\nsettle: {settle}\ndispatch: {{ runbook: grow-disk }}\n");
    Rule::check(&parse_file("r.yaml", &text).expect("reads")[0]).expect("checks")
}

fn at(period: &str) -> DateTime<Utc> {
    DateTime::UNIX_EPOCH + Period::parse(period).expect("a period").delta()
}

/// Plays one case: `settle`, `stance`, and `story`, a list of `{at, raised|cleared|noted, expect}`.
fn play(name: &str, case: &Value) {
    let text = |v: &Value| v.as_str().expect("a string").to_owned();
    let rule = rule(&case["settle"].to_string(), case["stance"].as_str().unwrap_or("act"));
    let mut tally = Tally::default();
    let mut job = 1;
    for line in case["story"].as_array().expect("a list") {
        let now = at(&text(&line["at"]));
        let event = match (line["raised"].as_i64(), line["cleared"].as_i64()) {
            (_, Some(alarm)) => Event::Cleared { alarm },
            (alarm, None) => Event::Matched { alarm, job },
        };
        let decision = tally.handle(&rule, now, event);
        job += i64::from(decision.as_ref().is_some_and(|d| d.verdict == Verdict::Dispatched));
        let said = decision.map_or_else(|| "nothing".to_owned(), |d| format!("{}: {}", d.verdict.as_str(), d.reason));
        assert_eq!(said, text(&line["expect"]), "{name}, at {}", line["at"]);
    }
}

#[test]
fn cases() {
    let file = include_str!("../../cases/settle.yaml");
    let documents = parse_file("settle.yaml", file).expect("reads");
    assert!(documents.len() >= 6, "the case file lost its cases");
    for document in documents {
        play(&document.name, &document.value);
    }
}

proptest! {
    /// However alerts and clearings mix: one dispatch an episode, never two within `rest`.
    #[test]
    fn promises(story in proptest::collection::vec((0u64..400, 0i64..3, any::<bool>()), 1..60), rest in 0u64..300) {
        let rule = rule(&format!("{{ rest: {rest}s }}"), "act");
        let mut tally = Tally::default();
        let (mut now, mut last, mut open): (_, Option<DateTime<Utc>>, _) = (DateTime::UNIX_EPOCH, None, false);
        let mut raised = BTreeSet::new();
        for (i, (gap, alarm, raise)) in story.into_iter().enumerate() {
            now += Period::from_secs(gap).delta();
            let event = if raise { Event::Matched { alarm: Some(alarm), job: i as i64 } } else { Event::Cleared { alarm } };
            let decision = tally.handle(&rule, now, event);
            prop_assert_eq!(decision.is_some(), raise);
            if raise { raised.insert(alarm); } else { raised.remove(&alarm); }
            if decision.is_some_and(|d| d.verdict == Verdict::Dispatched) {
                prop_assert!(!open, "two dispatches in one episode");
                prop_assert!(last.is_none_or(|l| now - l >= Period::from_secs(rest).delta()), "dispatched while resting");
                (last, open) = (Some(now), true);
            }
            if raised.is_empty() { open = false; }
        }
    }
}
