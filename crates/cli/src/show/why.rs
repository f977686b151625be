//! Why rules match or not, their verdicts and versions.

use super::{gauge, when, with_next};
use arvok_api::{AlertWhy, ClauseItem, Page, VerdictLine, VersionItem, Why};
use similar::{ChangeTag, TextDiff};

fn clause(c: &ClauseItem) -> Vec<String> {
    let mark = match c.holds {
        Some(true) => "✓",
        Some(false) => "✗",
        None => "?",
    };
    let saw: Vec<String> = c
        .saw
        .iter()
        .map(|s| {
            format!(
                "{} {}",
                s.field,
                s.value.as_ref().map_or_else(|| "is missing".into(), |v| format!("= {v}"))
            )
        })
        .collect();
    let (head, saw) = (format!("  {mark} {:9} {}", c.line, c.text), saw.join(", "));
    let mut lines = if saw.is_empty() {
        vec![head]
    } else if head.chars().count() + saw.chars().count() <= 92 {
        vec![format!("{head:44}  {saw}")]
    } else {
        vec![head, format!("              {saw}")]
    };
    let told = c.error.as_ref().filter(|w| !w.starts_with("there is no field"));
    lines.extend(told.map(|w| format!("              {w}")));
    lines
}

/// One rule and one alert.
pub fn why(w: &Why) -> String {
    let version = w.version.map_or_else(|| "not published".into(), |v| format!("version {v}"));
    let answer = match w.short {
        0 => "matches".to_owned(),
        1 => "does not match: 1 clause is not met".to_owned(),
        n => format!("does not match: {n} clauses are not met"),
    };
    let mut lines = vec![format!("{} ({version}, {}) {answer}", w.rule, w.stance)];
    lines.extend(w.clauses.iter().flat_map(clause));
    if let Some(v) = &w.verdict {
        let verb = if v.given { "It was" } else { "At this moment it would be" };
        lines.push(format!("\n{verb} {}: {}", v.verdict, v.reason));
    }
    if let Some(tally) = &w.tally {
        lines.push(format!("  tally {tally}"));
    }
    for line in &w.story {
        let at = when(line.at);
        lines.push(format!(
            "  {at}  alert {} {} {}: {}",
            line.alert, line.severity, line.verdict, line.reason
        ));
    }
    for d in &w.dispatches {
        let what = match (&d.error, &d.inputs, d.applies) {
            (_, _, false) => "does not apply: its `when` does not hold".to_owned(),
            (Some(wrong), _, _) => format!("would be refused: {wrong}"),
            (None, inputs, _) => inputs.as_ref().map_or_else(String::new, ToString::to_string),
        };
        lines.push(format!("\nDispatch {}: {what}", d.runbook));
    }
    lines.extend(w.notes.iter().map(|n| format!("\nNote: {n}")));
    lines.join("\n")
}

/// All rules and one alert.
pub fn alert_why(id: i64, a: &AlertWhy) -> String {
    let rules =
        if a.asked == 1 { "1 rule was".to_owned() } else { format!("{} rules were", a.asked) };
    let mut parts = vec![format!("Alert {id}: {rules} asked, {} match", a.matching.len())];
    parts.extend(a.matching.iter().map(why));
    if !a.near.is_empty() {
        parts.push("One clause short".into());
        parts.extend(a.near.iter().map(|w| {
            let missed = w.clauses.iter().filter(|c| c.holds != Some(true)).flat_map(clause);
            format!(
                "{} (version {})\n{}",
                w.rule,
                w.version.unwrap_or(0),
                missed.collect::<Vec<_>>().join("\n")
            )
        }));
    }
    parts.join("\n\n")
}

/// A list of verdicts.
pub fn verdicts(page: &Page<VerdictLine>) -> String {
    let mut lines = Vec::new();
    for v in &page.items {
        let mark = gauge(v.severity, v.state);
        let mut job = v.job.map_or_else(String::new, |j| format!(" ({j})"));
        if v.trial.is_some() {
            job.push_str(" (trial)");
        }
        lines.push(format!(
            "{:>6}  {}  {mark}  {}  {}: {}{job}",
            v.alert,
            when(v.at),
            v.resource,
            v.rule,
            v.verdict
        ));
        lines.push(format!("        {}", v.reason));
    }
    let text = if lines.is_empty() { "No verdicts.".to_owned() } else { lines.join("\n") };
    with_next(text, page)
}

/// Versions, newest first, each with what it changed.
pub fn versions(page: &Page<VersionItem>) -> String {
    let mut lines = Vec::new();
    for (i, v) in page.items.iter().enumerate() {
        let at = v.published_at.to_rfc3339_opts(chrono::SecondsFormat::Secs, true);
        let what = if v.withdrawn { "withdrawn" } else { "published" };
        lines.push(format!("version {}, {what} by {} at {at}", v.version, v.published_by.shown()));
        let steps: Vec<String> =
            v.steps.iter().map(|(name, version)| format!("{name} version {version}")).collect();
        if !steps.is_empty() {
            lines.push(format!("    with the shared steps {}", steps.join(", ")));
        }
        if let Some(before) = page.items.get(i + 1) {
            let diff = TextDiff::from_lines(&before.text, &v.text);
            let changed = diff.iter_all_changes().filter(|l| l.tag() != ChangeTag::Equal);
            lines.extend(changed.map(|l| format!("    {} {}", l.tag(), l.value().trim_end())));
        }
    }
    lines.join("\n")
}
