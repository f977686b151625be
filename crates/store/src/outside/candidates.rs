//! For which steps that wait for an event alerts may be it: many of one against many of the other.

use arvok_core::{Alert, job::EventSelector};
use sea_orm::FromQueryResult;
use std::{
    borrow::Cow,
    collections::{BTreeMap, BTreeSet, HashMap},
};

/// Pairs of a step and an alert that are compared at most.
const PAIRS: usize = 200_000;

/// A step that waits for an event.
#[derive(FromQueryResult)]
pub(super) struct Waiting {
    job_id: i64,
    place: String,
    /// The text by which what it waits for is looked up.
    key: String,
    chosen: serde_json::Value,
}

/// Alerts that may be what steps wait for.
pub(super) struct Candidates {
    /// Job, step and alert.
    pub found: BTreeSet<(i64, String, i64)>,
    /// The last number of which it was found out.
    pub last: i64,
}

/// The texts by which an alert is looked up, as [`EventSelector::keys`] gives them.
pub(super) fn keys(alert: &Alert) -> [String; 4] {
    [
        format!("r{}", alert.resource),
        format!("k{}", alert.kind),
        format!("s{}", alert.source),
        "*".to_owned(),
    ]
}

/// For which steps alerts may be what is waited for. Where these are too many to compare with all
/// at once it is found out of the first of the alerts. A selector that this node cannot read, such
/// as one that a later release recorded, may mean any: whoever executes the job looks closer.
pub(super) fn candidates(waiting: Vec<Waiting>, mut alerts: BTreeMap<i64, Alert>) -> Candidates {
    let steps: Vec<(Waiting, EventSelector)> = waiting
        .into_iter()
        .map(|mut step| {
            let selector = serde_json::from_value(step.chosen.take()).unwrap_or_default();
            (step, selector)
        })
        .collect();
    let index = Index::new(&alerts);
    let pairs: usize = steps.iter().map(|(step, s)| index.find(&step.key, s).len()).sum();
    let fits = if pairs > PAIRS { alerts.len() * PAIRS / pairs } else { alerts.len() };
    let beyond = alerts.keys().nth(fits.max(1)).copied();
    if let Some(beyond) = beyond {
        alerts.split_off(&beyond);
    }
    let index = if beyond.is_some() { Index::new(&alerts) } else { index };
    let mut found = BTreeSet::new();
    for (step, selector) in &steps {
        let may = index.find(&step.key, selector);
        if may.is_empty() {
            continue;
        }
        let compiled = selector.compiled();
        let may = may.iter().filter(|seq| alerts.get(seq).is_some_and(|a| compiled.matches(a)));
        found.extend(may.map(|seq| (step.job_id, step.place.clone(), *seq)));
    }
    // What is not stored any more is nobody's, and none of it is left for the next time.
    Candidates { found, last: beyond.map_or(i64::MAX, |beyond| beyond - 1) }
}

/// Alerts by the texts by which they are looked up, and below these by each of their labels.
#[derive(Default)]
struct Index {
    by_key: HashMap<String, Vec<i64>>,
    by_label: HashMap<String, HashMap<(String, String), Vec<i64>>>,
}

impl Index {
    fn new(alerts: &BTreeMap<i64, Alert>) -> Self {
        let mut index = Self::default();
        for (seq, alert) in alerts {
            for key in keys(alert) {
                let by_label = index.by_label.entry(key.clone()).or_default();
                for (name, value) in &alert.labels {
                    by_label.entry((name.clone(), value.clone())).or_default().push(*seq);
                }
                index.by_key.entry(key).or_default().push(*seq);
            }
        }
        index
    }

    /// The alerts under a key, of these only such as have one of the labels that a selector names
    /// exactly.
    fn find(&self, key: &str, selector: &EventSelector) -> Cow<'_, [i64]> {
        let Some((name, texts)) = selector.exact_label() else {
            return self.by_key.get(key).map_or(Cow::Owned(Vec::new()), Cow::from);
        };
        let Some(by_label) = self.by_label.get(key) else { return Cow::Owned(Vec::new()) };
        let found = texts.iter().filter_map(|text| by_label.get(&(name.to_owned(), text.clone())));
        Cow::Owned(found.flatten().copied().collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::{Value, json};

    fn alert(n: i64, kind: &str, label: &str) -> (i64, Alert) {
        let alert = json!({ "id": n.to_string(), "source": "probe", "kind": kind,
            "severity": "minor", "state": "noted", "resource": format!("vm/quill-{}", n % 7),
            "time": "2026-03-01T00:00:00Z", "received": "2026-03-01T00:00:00Z", "summary": "",
            "labels": { "disk": label }, "body": null });
        (n, serde_json::from_value(alert).expect("an alert"))
    }

    fn waiting(job_id: i64, chosen: Value) -> Vec<Waiting> {
        let selector: EventSelector = serde_json::from_value(chosen.clone()).unwrap_or_default();
        let step = |key| Waiting { job_id, place: "up".to_owned(), key, chosen: chosen.clone() };
        selector.keys().into_iter().map(step).collect()
    }

    fn steps() -> Vec<Waiting> {
        let selectors = [
            json!({ "kinds": ["disk.usage"], "labels": { "disk": ["a", "b"] } }),
            json!({ "kinds": ["disk.*"], "labels": { "disk": ["a*"] } }),
            json!({ "resource": ["vm/quill-3", "vm/quill-4"] }),
            json!({ "sources": ["probe"], "states": ["resolved"] }),
            json!({ "kinds": ["load.high", "disk.usage"] }),
            json!({}),
            json!({ "of a later release": true, "kinds": 7 }),
        ];
        (0..).zip(selectors).flat_map(|(n, selector)| waiting(n, selector)).collect()
    }

    #[test]
    fn the_index_leaves_out_nothing_that_a_selector_chooses() {
        let alerts: BTreeMap<i64, Alert> = (0..60)
            .map(|n| {
                let kind = ["disk.usage", "disk.full", "load.high"][n as usize % 3];
                alert(n, kind, ["a", "b", "ab", "c"][n as usize % 4])
            })
            .collect();
        let mut chosen = BTreeSet::new();
        for step in steps() {
            let selector: EventSelector =
                serde_json::from_value(step.chosen.clone()).unwrap_or_default();
            for (seq, alert) in &alerts {
                if keys(alert).contains(&step.key) && selector.matches(alert) {
                    chosen.insert((step.job_id, step.place.clone(), *seq));
                }
            }
        }
        let found = candidates(steps(), alerts);
        assert!(chosen.len() > 100, "{}", chosen.len());
        assert_eq!((found.found, found.last), (chosen, i64::MAX));
    }

    #[test]
    fn of_very_many_that_wait_it_is_found_out_of_some_alerts_at_a_time() {
        let mut alerts: BTreeMap<i64, Alert> =
            (0..300).map(|n| alert(n * 10, "disk.usage", "a")).collect();
        let (mut found, mut times) = (0, 0);
        while !alerts.is_empty() {
            let many = (0..2_000).flat_map(|job| waiting(job, json!({ "kinds": ["disk.usage"] })));
            let some = candidates(many.collect(), alerts.clone());
            alerts.retain(|seq, _| *seq > some.last);
            (found, times) = (found + some.found.len(), times + 1);
        }
        assert_eq!((found, times), (600_000, 3));
    }
}
