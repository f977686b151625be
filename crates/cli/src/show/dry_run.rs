//! What a job would do.

use arvok_api::{DryPart, DryRun, DryStep, Preview, TriedStep};
use serde_json::Value;

/// A dry run, step by step.
pub fn dry_run(dry: &DryRun) -> String {
    let mut lines =
        vec![format!("{} version {} on {} would do this:", dry.runbook, dry.version, dry.target)];
    steps(&dry.steps, 0, &mut lines);
    for part in &dry.further {
        lines.push(format!("  {}:", part.label));
        steps(&part.steps, 1, &mut lines);
    }
    lines.join("\n")
}

/// One step that was tried by itself.
pub fn tried_step(tried: &TriedStep) -> String {
    let mut lines = Vec::new();
    one(&tried.step, 0, &mut lines);
    let indent = "      ";
    lines.push(match (tried.sent, &tried.step.request) {
        (true, _) => format!("{indent}it only looks, and was done"),
        (false, Some(_)) => format!("{indent}it changes something, and was not done"),
        (false, None) => format!("{indent}nothing was sent"),
    });
    if let Some(answer) = &tried.answer {
        lines.push(format!("{indent}answer {}", answer.status));
    }
    lines.extend(tried.output.as_ref().map(|output| format!("{indent}gave   {output}")));
    lines.extend(tried.holds.map(|holds| {
        format!("{indent}its condition {}", if holds { "holds" } else { "does not hold" })
    }));
    lines.extend(tried.failure.as_ref().map(|why| format!("{indent}error  {why}")));
    lines.join("\n")
}

fn steps(all: &[DryStep], depth: usize, lines: &mut Vec<String>) {
    for step in all {
        one(step, depth, lines);
    }
}

fn one(step: &DryStep, depth: usize, lines: &mut Vec<String>) {
    let indent = "  ".repeat(depth + 1);
    let title = step.summary.as_deref().unwrap_or(&step.id);
    lines.push(format!("{indent}□ {title} [{} {}] {}", step.kind, step.place, step.does));
    lines
        .extend(step.when.as_ref().map(|when| format!("{indent}    {:6} {}", "when", words(when))));
    let width = step.given.iter().map(|g| g.name.chars().count()).max().unwrap_or(0).max(6);
    for given in &step.given {
        let fails = given.name == "require" && given.preview.value == Some(Value::Bool(false));
        let told =
            if fails { "does not hold: it would fail here".into() } else { words(&given.preview) };
        lines.push(format!("{indent}    {:width$} {told}", given.name));
    }
    if let Some(request) = &step.request {
        let body = request.body.as_ref().map_or_else(String::new, |b| format!(" {}", compact(b)));
        lines.push(format!(
            "{indent}    {:width$} {} {}{body}",
            "sends", request.method, request.target
        ));
    }
    for DryPart { label, taken, steps: within } in &step.parts {
        let how = match taken {
            Some(true) => "",
            Some(false) => "not taken: ",
            None => "perhaps: ",
        };
        lines.push(format!("{indent}  {how}{label}"));
        if *taken != Some(false) {
            steps(within, depth + 2, lines);
        }
    }
    if step.left_out > 0 {
        lines.push(format!("{indent}  and the same for {} more", step.left_out));
    }
}

fn words(told: &Preview) -> String {
    match (&told.value, &told.unknown, &told.wrong) {
        (Some(value), _, _) => compact(value),
        (None, Some(on), _) => format!("not known yet, by {}", on.join(", ")),
        (None, None, Some(why)) => format!("cannot be worked out: {why}"),
        (None, None, None) => "null".into(),
    }
}

fn compact(value: &Value) -> String {
    let text = value.to_string();
    let cut = arvok_core::text::cut(&text, 100);
    if cut.len() < text.len() { format!("{cut}…") } else { text }
}
