//! The index finds what asking every rule finds, over made-up rules and alerts.

use super::{alert, rule};
use crate::{
    matcher::{Match, Matcher, test},
    rule::Rule,
};
use proptest::prelude::*;
use serde_json::{Value, json};
use std::sync::Arc;

fn names(of: &'static [&'static str]) -> impl Strategy<Value = String> {
    proptest::collection::vec(proptest::sample::select(of), 1..3)
        .prop_map(|names| json!(names).to_string())
}

/// One line of `listen`, or none.
fn line(key: &'static str, of: &'static [&'static str]) -> impl Strategy<Value = Option<String>> {
    proptest::option::weighted(0.5, names(of)).prop_map(move |v| v.map(|v| format!("{key}: {v}")))
}

const CONDITIONS: [&str; 20] = [
    "alert.value >= 50",
    "alert.value < 50.0",
    "50 > alert.value && alert.value > 10",
    "alert.value == 50",
    "alert.severity >= major",
    "alert.severity in [minor, 'critical']",
    "minor != alert.severity",
    "alert.kind == 'disk.usage'",
    "alert.kind in ['port.down', 'disk.usage']",
    "alert.labels.site == 'quill'",
    "alert.labels['site'] == 'brack' || alert.labels.site == 'quill'",
    "alert.labels.site.startsWith('qu')",
    "alert.resource.startsWith('vm/quill')",
    "alert.resource.endsWith('-2')",
    "alert.resource.contains('booking')",
    "glob(alert.resource, 'vm/*-db-*')",
    "alert.body.rack == 'r1'",
    "alert.body.rack.matches('^r[12]$') && alert.severity > warning",
    "!(alert.kind == 'disk.usage')",
    "has(alert.labels.tier) && alert.labels.tier != 'gold' && false == (alert.value > 20)",
];

fn rules() -> impl Strategy<Value = String> {
    let wheres = proptest::option::of(proptest::collection::vec(
        proptest::sample::select(&CONDITIONS[..]),
        1..3,
    ));
    let labels = proptest::option::weighted(
        0.4,
        (
            proptest::sample::select(&["site", "tier"][..]),
            names(&["quill", "brack", "gold", "q*", "*o*"]),
        ),
    );
    (
        line("sources", &["yard-hypervisor", "pier-probes", "yard-*", "*"]),
        line("kinds", &["disk.usage", "port.down", "web.*", "*.usage", "*"]),
        line("severity", &["minor", "major..", "..minor", "critical", "warning..major"]),
        line(
            "resource",
            &[
                "vm/quill-booking-db-1",
                "vm/*-booking-*",
                "vm/**",
                "switch/**/ge-*",
                "vm/?-1",
                "**-2",
                "*/*",
            ],
        ),
        line("states", &["raised", "cleared", "noted"]),
        labels,
        wheres,
    )
        .prop_map(|(sources, kinds, severity, resource, states, labels, wheres)| {
            let mut lines: Vec<String> =
                [sources, kinds, severity, resource, states].into_iter().flatten().collect();
            lines.extend(labels.map(|(name, values)| format!("labels: {{ {name}: {values} }}")));
            lines.extend(wheres.map(|w| format!("where: {}", json!(w.join(" && ")))));
            format!("{{ {} }}", lines.join(", "))
        })
}

fn alerts() -> impl Strategy<Value = Value> {
    let resources = [
        "vm/quill-booking-db-1",
        "vm/brack-booking-web-2",
        "switch/brack-sw-2/ge-0-0-7",
        "vm/a-1",
        "vm/b/data",
    ];
    (
        proptest::sample::select(&["yard-hypervisor", "pier-probes", "other"][..]),
        proptest::sample::select(&["disk.usage", "port.down", "web.page", "cpu.usage"][..]),
        proptest::sample::select(&["indeterminate", "warning", "minor", "major", "critical"][..]),
        proptest::sample::select(&["raised", "raised", "cleared", "noted"][..]),
        proptest::sample::select(resources.to_vec()),
        proptest::option::of(proptest::sample::select(&[5.0, 10.0, 20.5, 50.0, 90.0][..])),
        proptest::option::of(proptest::sample::select(&["quill", "brack"][..])),
        proptest::option::of(proptest::sample::select(&["r1", "r2"][..])),
    )
        .prop_map(|(source, kind, severity, state, resource, value, site, rack)| {
            let labels = site.map_or(json!({}), |s| json!({ "site": s, "tier": "gold" }));
            let body = rack.map_or(json!({ "rack": 7 }), |r| json!({ "rack": r }));
            json!({ "source": source, "kind": kind, "severity": severity, "state": state,
                "resource": resource,
                "value": value, "labels": labels, "body": body })
        })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn the_index_finds_what_asking_every_rule_finds(
        listens in proptest::collection::vec(rules(), 1..40),
        given in proptest::collection::vec(alerts(), 1..20),
    ) {
        let rules: Vec<Arc<Rule>> = listens.iter().map(|l| Arc::new(rule(l).expect(l))).collect();
        let matcher = Matcher::new(rules.iter().map(|r| (Arc::clone(r), 1)).collect());
        for given in given {
            let alert = alert(&given);
            let asked: Vec<usize> = (0..rules.len()).filter(|i| test(&rules[*i],
                &alert) == Match::Yes).collect();
            let found: Vec<usize> = matcher.matching(&alert).into_iter().filter(|h| h.broken.is_none())
                .map(|h| rules.iter().position(|r| Arc::ptr_eq(r, h.rule)).expect("one of \
                    them")).collect();
            prop_assert_eq!(found, asked, "{} over {:?}", given, listens);
        }
    }
}

/// What the index is for: few candidates among many rules.
#[test]
fn candidates_are_few() {
    let many = (0..5_000).map(|i| {
        let listen = match i % 4 {
            0 => format!("{{ kinds: disk.usage, resource: 'vm/*-svc{i}-*' }}"),
            1 => format!(
                "{{ sources: yard-hypervisor, labels: {{ site: site{}, service: svc{i} }} \
                }}",
                i % 20
            ),
            2 => format!(
                "{{ kinds: [disk.usage, disk.full], where: \"alert.labels.service == 'svc{i}' && \
                alert.value > 80\" }}"
            ),
            _ => format!("{{ resource: vm/quill-svc{i}-1, severity: major.. }}"),
        };
        (Arc::new(rule(&listen).expect("checks")), 1)
    });
    let matcher = Matcher::new(many.collect());
    for i in [4, 5, 6, 7] {
        let alert = alert(&json!({
            "resource": format!("vm/quill-svc{i}-1"), "value": 90,
                "labels": { "service": format!("svc{i}"), "site": format!("site{i}") }
        }));
        assert_eq!(matcher.matching(&alert).len(), 1, "svc{i}");
        assert!(
            matcher.candidates(&alert).len() <= 3,
            "{:?} for svc{i}",
            matcher.candidates(&alert)
        );
    }
}

/// Pieces that lie within each other are found at every place of a long text, and of three fields
/// every combination could be a rule's.
#[test]
fn a_text_that_holds_every_piece_many_times_is_soon_gone_through() {
    let part = |field: &str, length: usize| {
        format!("alert.body.{field}.contains('{}')", "a".repeat(length))
    };
    let all_three = (0..343).map(|i| {
        [part("x", 2 + i / 49), part("y", 2 + i / 7 % 7), part("z", 2 + i % 7)].join(" && ")
    });
    let each = ["x", "y", "z"]
        .into_iter()
        .flat_map(|field| (9..200).map(move |length| part(field, length)));
    let listens: Vec<String> =
        all_three.chain(each).map(|w| format!("{{ where: \"{w}\" }}")).collect();
    let rules = listens.iter().map(|l| (Arc::new(rule(l).expect("checks")), 1));
    let matcher = Matcher::new(rules.collect());
    let long = "a".repeat(100_000);
    let found = |z: &str| {
        let alert = alert(&json!({ "body": { "x": long, "y": long, "z": z } }));
        (matcher.matching(&alert).len(), matcher.candidates(&alert).len())
    };
    assert_eq!(found(&long), (343 + 3 * 191, 343 + 3 * 191));
    assert_eq!(found("aaa"), (2 * 49 + 2 * 191, 343 + 2 * 191));
    assert_eq!(found("b"), (2 * 191, 343 + 2 * 191));
}

/// Beyond 2^53 a float cannot tell every whole number from its neighbours: there the index must not
/// rule out what the condition itself would not.
#[test]
fn limits_that_a_float_cannot_tell_apart_rule_nothing_out_that_matches() {
    let edges: [i64; 6] =
        [1 << 53, (1 << 53) + 1, (1 << 53) + 2, (1 << 60) + 1, i64::MAX, -(1 << 53) - 1];
    let compare = ["==", ">=", ">", "<=", "<", "!="];
    let listens: Vec<String> = edges
        .iter()
        .flat_map(|edge| {
            compare.iter().map(move |op| format!("{{ where: \"alert.value {op} {edge}\" }}"))
        })
        .collect();
    let rules: Vec<Arc<Rule>> = listens.iter().map(|l| Arc::new(rule(l).expect(l))).collect();
    let matcher = Matcher::new(rules.iter().map(|r| (Arc::clone(r), 1)).collect());
    for edge in edges {
        for step in -3i64..=3 {
            let value = edge.saturating_add(step) as f64;
            let alert = alert(&json!({ "kind": "disk.usage", "resource": "vm/a", "value": value }));
            let asked: Vec<&str> = rules
                .iter()
                .zip(&listens)
                .filter(|(r, _)| test(r, &alert) == Match::Yes)
                .map(|(_, l)| l.as_str())
                .collect();
            let found: Vec<&str> = matcher
                .matching(&alert)
                .iter()
                .filter(|h| h.broken.is_none())
                .map(|h| {
                    listens[rules.iter().position(|r| Arc::ptr_eq(r, h.rule)).expect("one of them")]
                        .as_str()
                })
                .collect();
            assert_eq!(found, asked, "{value}");
        }
    }
}

fn matcher(lines: impl IntoIterator<Item = String>) -> Matcher {
    Matcher::new(lines.into_iter().map(|l| (Arc::new(rule(&l).expect("checks")), 1)).collect())
}

/// What can be compared at once is not asked in full.
#[test]
fn severity_state_and_value_rule_a_rule_out_before_it_is_asked() {
    let matcher = matcher([
        "{ kinds: disk.usage, severity: major.. }".to_owned(),
        "{ kinds: disk.usage, states: [cleared] }".to_owned(),
        "{ kinds: disk.usage, where: 'alert.value >= 90 && alert.value <= 95' }".to_owned(),
        "{ kinds: disk.usage, severity: major.., where: 'alert.severity >= critical' }".to_owned(),
        "{ severity: [warning, minor] }".to_owned(),
        "{ where: 'alert.value > 9 && alert.value < 3' }".to_owned(),
    ]);
    assert_eq!(
        matcher.rules().map(|(rule, version)| (rule.name.as_str(), version)).collect::<Vec<_>>(),
        [("r", 1); 6]
    );
    for (given, asked) in [
        (json!({ "severity": "major", "value": 50 }), vec![0]),
        (json!({ "severity": "minor", "value": 50 }), vec![4]),
        (json!({ "severity": "indeterminate" }), vec![]),
        (json!({ "severity": "critical", "value": 90 }), vec![0, 2, 3]),
        (json!({ "severity": "major", "value": 95 }), vec![0, 2]),
        (json!({ "severity": "major", "value": 96 }), vec![0]),
        (json!({ "severity": "major", "state": "cleared", "value": 92 }), vec![1]),
        (json!({ "severity": "critical", "kind": "port.down", "value": 92 }), vec![]),
    ] {
        assert_eq!(matcher.candidates(&alert(&given)), asked, "{given}");
    }
}

/// Where one demand is shared by many, a second tells a rule from the others.
#[test]
fn of_a_hundred_rules_that_share_each_name_with_nine_others_one_is_asked() {
    let line = |n: usize| format!("{{ kinds: k{}, resource: vm/n{} }}", n / 10, n % 10);
    let matcher = matcher((0..100).map(line));
    for n in [0, 37, 99] {
        let given =
            json!({ "kind": format!("k{}", n / 10), "resource": format!("vm/n{}", n % 10) });
        assert_eq!(matcher.candidates(&alert(&given)), [n as u32], "{given}");
    }
}
