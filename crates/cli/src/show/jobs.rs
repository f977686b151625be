//! Jobs.

use super::{Table, between, exact, when, with_next};
use arvok_api::{Attempt, JobDetail, JobItem, JobStep, Page, StepState};

/// A list of jobs.
pub fn jobs(page: &Page<JobItem>) -> String {
    let mut table = Table::new(&["job", "dispatched", "runbook", "target", "state", "effect", "took", "doing"]);
    for j in &page.items {
        table.row([
            j.id.to_string(),
            when(j.created_at),
            j.runbook.clone(),
            j.target.clone(),
            j.state.to_string(),
            j.effect.map_or_else(|| "not known".into(), |e| e.to_string()),
            between(j.started_at, j.finished_at),
            if j.effect.is_some_and(|e| e.as_str() == j.doing) { String::new() } else { j.doing.clone() },
        ]);
    }
    with_next(table.text("No jobs."), page)
}

/// The effect in words.
pub fn effect(j: &JobItem) -> String {
    j.effect.map_or_else(|| "not known yet".into(), |e| e.to_string())
}

/// One step with its last try.
pub fn step_line(number: usize, step: &JobStep) -> String {
    let mark = match step.state {
        StepState::Done => "■",
        StepState::Running => "▶",
        StepState::Failed => "✗",
        StepState::Unsure => "?",
        StepState::Again => "↻",
        StepState::Next | StepState::NotRun => "□",
    };
    let took = step.attempts.last().map_or_else(String::new, |a| between(Some(a.started_at), a.finished_at));
    let tries = if step.attempts.len() > 1 { format!(", {} tries", step.attempts.len()) } else { String::new() };
    let title = step.summary.as_deref().unwrap_or(&step.id);
    format!("{mark} {number}. {title} [{} {}] {}{tries} {took}", step.kind, step.id, step.state).trim_end().to_owned()
}

fn compact(value: &serde_json::Value) -> String {
    let text = value.to_string();
    let cut = arvok_core::text::cut(&text, 84);
    if cut.len() < text.len() { format!("{cut}…") } else { text }
}

fn tries(step: &JobStep) -> Vec<String> {
    let one = |a: &Attempt| {
        let mut lines = vec![format!("      given  {}", compact(&a.give))];
        lines.extend(a.output.as_ref().map(|o| format!("      gave   {}", compact(o))));
        lines.extend(a.error.as_ref().map(|e| format!("      error  {e}")));
        lines
    };
    step.attempts.iter().flat_map(one).collect()
}

/// One job.
pub fn job(d: &JobDetail) -> String {
    let j = &d.job;
    let mut lines = vec![
        format!("Job {}: {} on {}, {}", j.id, j.runbook, j.target, j.state),
        format!("  runbook     {} version {}", j.runbook, j.runbook_version),
        format!("  urgency     {}", j.urgency),
        format!("  dispatched  {}", exact(j.created_at)),
    ];
    lines.extend(j.started_at.map(|t| format!("  started     {}", exact(t))));
    lines.extend(j.finished_at.map(|t| format!("  finished    {}", exact(t))));
    lines.extend(d.alert.as_ref().map(|a| format!("  alert       {}: {}", a.seq, a.summary)));
    lines.extend(j.rule.as_ref().map(|r| format!("  rule        {r}")));
    lines.extend(d.reason.as_ref().map(|r| format!("  reason      {r}")));
    lines.extend(j.failure.as_ref().map(|f| format!("  failure     {f}")));
    lines.push("\nInputs".into());
    if let Some(inputs) = d.inputs.as_object() {
        lines.extend(inputs.iter().map(|(k, v)| format!("  {k:12}  {}", compact(v))));
    }
    lines.push("\nPassage".into());
    for (i, step) in d.steps.iter().enumerate() {
        lines.push(format!("  {}", step_line(i + 1, step)));
        lines.extend(tries(step));
    }
    let how = d.confirm.as_ref().map_or_else(String::new, |c| format!(" ({c})"));
    lines.push(format!("\nEffect: {}{how}", effect(j)));
    if let Some(outputs) = d.outputs.as_ref().filter(|o| !o.is_null()) {
        lines.push(format!("Outputs: {}", compact(outputs)));
    }
    lines.join("\n")
}
