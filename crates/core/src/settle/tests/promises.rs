//! What holds whatever a rule says and whatever happens.

use super::*;
use crate::{AlertId, Period, Verdict};
use chrono::TimeDelta;
use proptest::prelude::*;
use std::collections::BTreeMap;

const LINES: [&str; 9] = [
    "after: { alerts: 2, within: 30s }",
    "flapping: { changes: 4, within: 1m }",
    "still: 10s",
    "gather: { for: 20s, at_most: 3 }",
    "rest: 25s",
    "cap: { jobs: 2, per: 1m }",
    "cap: { jobs: 1, per: 40s, later: true }",
    "again: { every: 30s, when_worse: true }",
    "fold: [alert.kind]",
];

fn settle(chosen: &[bool]) -> String {
    let mut lines: Vec<&str> =
        LINES.iter().zip(chosen).filter(|(_, c)| **c).map(|(l, _)| *l).collect();
    if chosen[5] && chosen[6] {
        lines.retain(|l| *l != LINES[6]);
    }
    if chosen[3] && chosen[7] {
        lines.retain(|l| *l != LINES[7]);
    }
    format!("{{ {} }}", lines.join(", "))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn promises(
        chosen in proptest::collection::vec(any::<bool>(), 9),
        story in proptest::collection::vec((0u64..30, 0usize..4, any::<bool>(), 1i16..=5), 1..40),
        muted in proptest::option::of((0usize..4, 0u64..300, 1u64..300)),
    ) {
        let rule = rule(&settle(&chosen), "[raised]", "{ runbook: grow-disk }");
        let mut now = 0;
        let alerts: Vec<crate::Alert> = story.iter().enumerate().map(|(i, (gap, on, clear,
            severity))| {
            now += gap;
            alert(&json!({
                "at": format!("{now}s"), "on": (["a", "b", "c", "d"][*on]),
                "state": if *clear { "cleared" } else { "raised" },
                "severity": crate::Severity::from_rank(*severity).as_str(),
            }), i)
        }).collect();
        let raised = alerts.iter().filter(|a| a.state == crate::AlertState::Raised).count();
        let muted = muted.map(|(on, from, long)| (["a", "b", "c", "d"][on], from, from + long));
        let mutes = muted.iter().map(|(on, from, until)| json!({
            "resource": [format!("vm/{on}")], "from": format!("{from}s"),
                "until": format!("{until}s"),
        }));
        let mutes = mutes.collect::<Vec<_>>();
        let mutes = mutes.iter().enumerate().map(mute).collect();
        let report = play(&rule, alerts.clone(), mutes, at("1h"));

        // Nothing is dispatched for what is muted at that moment, also where it was gathered.
        if let Some((on, from, until)) = muted {
            let (from, until) = (at(&format!("{from}s")), at(&format!("{until}s")));
            for dispatch in report.dispatched.iter().filter(|p| p.at >= from && p.at < until) {
                for id in &dispatch.alerts {
                    let alert = &alerts[usize::try_from(id.0).expect("a number") - 1];
                    prop_assert!(alert.resource.as_str() != format!("vm/{on}"), "{dispatch:?}");
                }
            }
        }

        // Exactly one verdict for each matched alert in the end, and the counts agree with that.
        let mut last: BTreeMap<AlertId, Verdict> = BTreeMap::new();
        for verdict in &report.decided {
            last.insert(verdict.alert, verdict.verdict);
        }
        prop_assert_eq!(last.len(), raised);
        let mut counts: BTreeMap<Verdict, u64> = BTreeMap::new();
        last.values().for_each(|v| *counts.entry(*v).or_default() += 1);
        let told: BTreeMap<_, _> = report.verdicts.iter().filter(|(_, n)| **n > 0).map(|(v, n)| (*v,
            *n)).collect();
        prop_assert_eq!(counts, told);

        // Nothing is decided before its alert has come, and in the order of time.
        prop_assert!(report.decided.iter().all(|r| r.at >= r.came));
        prop_assert!(report.decided.windows(2).all(|w| w[0].at <= w[1].at));

        // The limits hold.
        let dispatched: Vec<_> = report.dispatched.iter().map(|p| p.at).collect();
        let capped = rule.settle.cap.as_ref().is_none_or(|cap| {
            let most = cap.jobs as usize;
            dispatched.windows(most + 1).all(|w| w[most] - w[0] >= cap.per.delta())
        });
        prop_assert!(capped, "{:?}", dispatched);
        let rest = rule.settle.rest.map_or(TimeDelta::zero(), Period::delta);
        for (i, dispatch) in report.dispatched.iter().enumerate() {
            let mut same =
                report.dispatched[..i].iter().filter(|p| p.tallies.iter().any(|l| dispatch.tallies.contains(l)));
            prop_assert!(same.all(|p| dispatch.at - p.at >= rest), "{:?}", report.dispatched);
        }

        // Every verdict that fires belongs to a dispatch of that moment.
        for verdict in report.decided.iter().filter(|r| r.verdict == Verdict::Dispatched) {
            prop_assert!(report.dispatched.iter().any(|p| p.at == verdict.at && p.alerts.contains(&verdict.alert)));
        }
        prop_assert_eq!(report.dispatched.len() as u64, report.dispatches);
    }
}
