//! The matcher: against parsing the same alert's JSON, against itself with a hundred times fewer
//! rules, and how long a new set takes to be put in place.
//!
//! The rules are made as an estate grows: one service after the other, each on its own machines
//! with ten rules. Of these, four select by a glob over the machines' names with kind and
//! severity, three by labels (service, site, tier) and a kind, two by `where` (a label, and a
//! threshold of the value, as the demo has it), one names a machine in full. Besides, four rules
//! listen to everything of a kind, whatever the size of the set. An alert of a service so matches
//! five or six rules however many there are.

use crate::{
    Fallible,
    summary::{Figure, Goal},
};
use arc_swap::ArcSwap;
use arvok_core::{
    Alert, NewAlert, alert::Received, definition::Defined, document::parse_file, matcher::Matcher,
    rule::Rule,
};
use serde_json::{Value, json};
use std::{
    hint::black_box,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

const SITES: [&str; 8] =
    ["quill", "brack", "nessfold", "oldhithe", "sand", "mere", "holm", "skerry"];
const KINDS: [&str; 10] = [
    "disk.usage",
    "memory.usage",
    "cpu.load",
    "port.down",
    "web.page",
    "backup.age",
    "queue.depth",
    "clock.drift",
    "certificate.age",
    "process.gone",
];

fn document(number: usize) -> String {
    let (service, which) = (number / 10, number % 10);
    let kind = KINDS[service % KINDS.len()];
    let site = SITES[service % SITES.len()];
    let listen = match which {
        0..=3 => format!(
            "sources: [yard-{}], kinds: [{kind}], severity: {}.., resource: 'vm/*-svc{service}-*'",
            which % 2,
            ["minor", "major", "warning", "critical"][which]
        ),
        4..=6 => format!(
            "kinds: [{kind}, web.page], labels: {{ service: svc{service}, site: {site}, tier: \
            [gold, silver] }}"
        ),
        7 | 8 => format!(
            "kinds: {kind}, where: \"alert.value >= {}.5 && alert.labels.service == \
            'svc{service}'\"",
            40 + which * 5
        ),
        _ => format!("resource: vm/{site}-svc{service}-1, severity: major.."),
    };
    format!(
        "rule: r{number}\nstance: act\nlisten: {{ {listen} }}\nsettle: {{ rest: 15m }}\n\
        dispatch: {{ runbook: grow-disk, inputs: {{ vm: \"${{alert.resource}}\", step_gib: 4 }} \
        }}\n"
    )
}

fn everywhere(number: usize) -> String {
    format!(
        "rule: all{number}\nlisten: {{ kinds: {}, severity: critical, where: alert.value > 99.9 \
        }}\ndispatch: {{ runbook: note }}\n",
        KINDS[number]
    )
}

/// Rules as they were published.
pub fn rules(count: usize) -> Fallible<Vec<(Arc<Rule>, i32)>> {
    let texts = (0..count.saturating_sub(4)).map(document).chain((0..4).map(everywhere));
    let rule = |text: String| -> Fallible<(Arc<Rule>, i32)> {
        let documents = parse_file("bench.yaml", &text).map_err(|p| p.to_string())?;
        let rule = Rule::check(&documents[0])
            .map_err(|p| p.iter().map(ToString::to_string).collect::<String>())?;
        Ok((Arc::new(rule), 1))
    };
    texts.map(rule).collect()
}

/// An alert as a sender writes it, about a service that any set has.
fn body(n: usize) -> Value {
    let service = n % 90;
    let site = SITES[service % SITES.len()];
    json!({
        "kind": KINDS[service % KINDS.len()], "resource": format!("vm/{site}-svc{service}-{}",
            1 + n % 3),
        "severity": (["minor", "major", "critical"][n % 3]), "value": 60.0 + (n % 40) as f64,
        "summary": format!("disk data of {site}-svc{service}-1 is {} % full, 35.2 of 40 \
        GiB", 60 + n % 40),
        "labels": { "service": format!("svc{service}"), "site": site, "tier": "gold",
            "disk": "data" },
        "body": { "at": 1_795_431_507.809, "run": 1_795_431_507_357_i64,
            "reading": { "vm": format!("{site}-svc{service}-1"),
            "part": "data", "text": "disk data is \
            filling", "percent": 88.0, "level": "hard", "over": true,
            "thresholds": { "soft": 80, "hard": 87.5 }, "trend": [84.1, 85.0, 86.2, 87.1, 88.0] } }
    })
}

fn alerts() -> Fallible<(Vec<String>, Vec<Alert>)> {
    let texts: Vec<String> = (0..900).map(|n| body(n).to_string()).collect();
    let read = texts.iter().enumerate().map(|(i, text)| -> Fallible<Alert> {
        let new: NewAlert = serde_json::from_str(text)?;
        let received = chrono::DateTime::UNIX_EPOCH + chrono::TimeDelta::seconds(i as i64);
        let id = i.to_string();
        Ok(new.complete(Received {
            source: ["yard-0", "yard-1"][i % 2],
            received,
            fallback_id: &id,
        })?)
    });
    let alerts = read.collect::<Fallible<_>>()?;
    Ok((texts, alerts))
}

/// The shortest of several rounds, for each thing done.
fn shortest(rounds: usize, things: usize, mut round: impl FnMut()) -> f64 {
    let time = |_| {
        let begun = Instant::now();
        round();
        begun.elapsed().as_secs_f64()
    };
    (0..rounds).map(time).fold(f64::INFINITY, f64::min) / things as f64
}

fn matched(matcher: &Matcher, alerts: &[Alert]) -> (f64, f64) {
    let hits: usize = alerts.iter().map(|a| matcher.matching(a).len()).sum();
    let time = shortest(30, alerts.len(), || {
        for alert in alerts {
            black_box(matcher.matching(alert));
        }
    });
    (time, hits as f64 / alerts.len() as f64)
}

/// All figures of the matcher.
pub fn figures() -> Fallible<Vec<Figure>> {
    let (texts, alerts) = alerts()?;
    let parse = shortest(30, texts.len(), || {
        for text in &texts {
            black_box(serde_json::from_str::<Value>(text).ok());
        }
    });
    let (thousand, hits) = matched(&Matcher::new(rules(1_000)?), &alerts);
    println!("1,000 rules: {:.2} us an alert, {hits:.2} matches", thousand * 1e6);
    let (ten, hits) = matched(&Matcher::new(rules(10_000)?), &alerts);
    println!("10,000 rules: {:.2} us an alert, {hits:.2} matches", ten * 1e6);
    let begun = Instant::now();
    let many = rules(100_000)?;
    println!(
        "100,000 rules read and checked from their text in {:.1} s",
        begun.elapsed().as_secs_f64()
    );
    let (hundred, hits) = matched(&Matcher::new(many.clone()), &alerts);
    println!("100,000 rules: {:.2} us an alert, {hits:.2} matches", hundred * 1e6);
    let parsing = ("parsing that alert's JSON once", parse * 1e6);
    Ok(vec![
        Figure::new("match/10k-vs-parse", (ten * 1e6, "us"), parsing, Goal::AtMost(0.5, "<= 0.5")),
        Figure::new(
            "match/100k-vs-1k",
            (hundred * 1e6, "us"),
            ("1,000 rules", thousand * 1e6),
            Goal::AtMost(2.0, "<= 2"),
        ),
        swap(many, &alerts),
    ])
}

/// Builds and swaps in a set of 100,000 rules while alerts are matched on another thread against
/// the set before; tells the longest that an alert took meanwhile.
fn swap(rules: Vec<(Arc<Rule>, i32)>, alerts: &[Alert]) -> Figure {
    let live = ArcSwap::from_pointee(Matcher::new(rules[..10_000].to_vec()));
    let done = AtomicBool::new(false);
    let (took, slowest) = std::thread::scope(|s| {
        let matching = s.spawn(|| {
            let mut slowest = Duration::ZERO;
            for alert in alerts.iter().cycle().take_while(|_| !done.load(Ordering::Relaxed)) {
                let begun = Instant::now();
                black_box(live.load().matching(alert));
                slowest = slowest.max(begun.elapsed());
            }
            slowest
        });
        let begun = Instant::now();
        live.store(Arc::new(Matcher::new(rules)));
        let took = begun.elapsed();
        done.store(true, Ordering::Relaxed);
        (took, matching.join().unwrap_or_default())
    });
    println!(
        "the slowest alert while 100,000 rules were swapped in: {:.1} ms",
        slowest.as_secs_f64() * 1e3
    );
    Figure::new(
        "match/swap-100k",
        (took.as_secs_f64(), "s"),
        ("one second", 1.0),
        Goal::AtMost(2.0, "< 2 s on one core"),
    )
}
