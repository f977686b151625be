//! What a rehearsal came to.

use arvok_api::{RehearsalDispatch, RehearsalReport, RehearsalResult};
use arvok_core::Verdict;
use chrono::SecondsFormat;
use std::collections::BTreeSet;

/// Dispatches that are shown one by one.
const SHOWN: usize = 40;

/// The counts, the dispatches, and the difference if there is one.
pub fn rehearsal(r: &RehearsalResult) -> String {
    let clock = |t: chrono::DateTime<chrono::Utc>| t.to_rfc3339_opts(SecondsFormat::Secs, true);
    let mut lines = vec![
        format!("{} from {} to {}, as if it acted", r.rule, clock(r.from), clock(r.to)),
        format!(
            "{} alerts, {} matched, {} dispatched",
            r.now.alerts,
            r.now.matched,
            many(r.now.dispatches, "job")
        ),
    ];
    if r.now.broken > 0 {
        let first = r.now.broken_first.as_deref().unwrap_or_default();
        lines.push(format!("it went wrong over {}: {first}", many(r.now.broken, "alert")));
    }
    lines.push(String::new());
    lines.extend(counts(r));
    lines.push("\nDispatches".into());
    lines.extend(dispatched(&r.now, r.difference.as_ref().map(|d| (&d.only_now[..], '+'))));
    if let (Some(before), Some(d)) = (&r.before, &r.difference) {
        lines.push("\nAgainst the published version".into());
        if d.only_now.is_empty() && d.only_before.is_empty() {
            lines.push("  the same dispatches".into());
        }
        if !d.only_now.is_empty() {
            lines.push(format!(
                "  {} that the published one does not make (+ above)",
                many(d.only_now.len() as u64, "dispatch")
            ));
        }
        if !d.only_before.is_empty() {
            lines.push(format!(
                "  {} that only the published one makes:",
                many(d.only_before.len() as u64, "dispatch")
            ));
            let only: Vec<&RehearsalDispatch> =
                before.dispatched.iter().filter(|p| d.only_before.contains(&p.job)).collect();
            lines.extend(only.into_iter().take(SHOWN).map(|p| dispatch(p, '-')));
        }
    }
    if r.now.cut {
        lines.push("\nMore happened than is listed; the counts are of everything.".into());
    }
    lines.join("\n")
}

fn many(n: u64, what: &str) -> String {
    match (n, what) {
        (1, what) => format!("1 {what}"),
        (n, "dispatch") => format!("{n} dispatches"),
        (n, what) => format!("{n} {what}s"),
    }
}

fn counts(r: &RehearsalResult) -> Vec<String> {
    let before = |verdict: Verdict| {
        r.before.as_ref().map(|b| b.verdicts.get(&verdict).copied().unwrap_or(0))
    };
    let verdicts: BTreeSet<Verdict> = r
        .now
        .verdicts
        .keys()
        .chain(r.before.iter().flat_map(|b| b.verdicts.keys()))
        .copied()
        .collect();
    let line = |verdict: Verdict| {
        let n = r.now.verdicts.get(&verdict).copied().unwrap_or(0);
        let was = before(verdict)
            .filter(|b| *b != n)
            .map_or_else(String::new, |b| format!("  (published: {b})"));
        format!("  {:12} {n:>8}{was}", verdict.as_str())
    };
    verdicts.into_iter().map(line).collect()
}

fn dispatched(report: &RehearsalReport, marked: Option<(&[i64], char)>) -> Vec<String> {
    if report.dispatched.is_empty() {
        return vec!["  none".into()];
    }
    let mark = |p: &RehearsalDispatch| {
        marked.filter(|(jobs, _)| jobs.contains(&p.job)).map_or(' ', |(_, mark)| mark)
    };
    let mut lines: Vec<String> =
        report.dispatched.iter().take(SHOWN).map(|p| dispatch(p, mark(p))).collect();
    if report.dispatched.len() > SHOWN {
        lines.push(format!("  and {} more; --json has them all", report.dispatched.len() - SHOWN));
    }
    lines
}

fn dispatch(p: &RehearsalDispatch, mark: char) -> String {
    let what = match &p.error {
        Some(wrong) => format!("would be refused: {wrong}"),
        None => p.inputs.to_string(),
    };
    let at = p.at.to_rfc3339_opts(SecondsFormat::Secs, true);
    format!("{mark} {at}  {} {what}\n      {}", p.runbook, p.reason)
}
