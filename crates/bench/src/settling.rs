//! Settling in memory, on one core: a mix of lines over many tallies.

use crate::{
    Fallible,
    summary::{Figure, Goal},
};
use arvok_core::{
    AlarmId, AlertId, JobId, Severity,
    definition::Defined,
    document::parse_file,
    rule::{Keys, Rule, Stance},
    settle::{AlarmTransition, Event, Machine, Matched, Memory},
};
use chrono::{DateTime, TimeDelta};
use std::{hint::black_box, time::Instant};

const ALERTS: usize = 2_000_000;
const TALLIES: usize = 20_000;

/// Matched alerts a second: most are repeats, one in fifty clears its alarm first.
pub fn per_second() -> Fallible<Figure> {
    let settles = [
        "{}",
        "{ rest: 15m }",
        "{ after: { alerts: 3, within: 2m }, rest: 15m }",
        "{ still: 5m }",
        "{ flapping: { changes: 6, within: 10m }, rest: 1m }",
        "{ rest: 15m, cap: { jobs: 100, per: 1h } }",
    ];
    let rules = settles.iter().map(|settle| -> Fallible<Rule> {
        let text =
            format!("rule: r\nstance: act\nsettle: {settle}\ndispatch: {{ runbook: grow-disk }}\n");
        let documents = parse_file("bench.yaml", &text).map_err(|p| p.to_string())?;
        Ok(Rule::check(&documents[0])
            .map_err(|p| p.iter().map(ToString::to_string).collect::<String>())?)
    });
    let rules: Vec<Rule> = rules.collect::<Fallible<_>>()?;
    let keys: Vec<Keys> = (0..TALLIES)
        .map(|i| Keys {
            tally: format!("[\"yard-hypervisor\",\"vm/quill-booking-db-{i}\",\"disk.usage\"]"),
            gathering: None,
            cap: (i % settles.len() == 5).then(|| "cap []".to_owned()),
        })
        .collect();
    let mut memories: Vec<Memory> = vec![Memory::default(); rules.len()];
    let (mut now, mut jobs) = (DateTime::UNIX_EPOCH, 0);
    let begun = Instant::now();
    for n in 0..ALERTS {
        let which = (n * 7919) % TALLIES;
        let (rule, memory) = (&rules[which % rules.len()], &mut memories[which % rules.len()]);
        now += TimeDelta::milliseconds(20);
        let mut number = || {
            jobs += 1;
            Some(JobId(jobs))
        };
        let alarm = AlarmId(which as i64);
        if n % 50 == 0 {
            let cleared = Event::Cleared { tally: &keys[which].tally, alarm };
            black_box(Machine::new(rule, Stance::Act, memory, &mut number).handle(now, cleared));
        }
        let matched = Matched {
            alert: Some(AlertId(n as i64 + 1)),
            keys: &keys[which],
            happened: now,
            severity: Severity::Major,
            standing: AlarmTransition::Raised { alarm: Some(alarm), anew: n % 50 == 0 },
            entries: 1,
            cause: None,
        };
        black_box(
            Machine::new(rule, Stance::Act, memory, &mut number)
                .handle(now, Event::Matched(matched)),
        );
    }
    let rate = ALERTS as f64 / begun.elapsed().as_secs_f64();
    Ok(Figure::new(
        "settle/per-second",
        (rate, "alerts/s"),
        ("500,000 a second", 500_000.0),
        Goal::AtLeast(1.0, ">= 1"),
    ))
}
