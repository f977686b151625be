//! Decisions.

use super::{Table, ago, exact, with_next};
use arvok_api::{DecisionItem, DecisionState, Page};
use arvok_core::Principal;

/// A list of decisions.
pub fn decisions(page: &Page<DecisionItem>) -> String {
    let mut table =
        Table::new(&["decision", "state", "until", "job", "target", "question", "choices"]);
    for d in &page.items {
        let chosen = d.choice.clone().filter(|_| d.state == DecisionState::Taken);
        let choices = d.choices.iter().map(|c| c.name.as_str()).collect::<Vec<_>>().join(", ");
        table.row([
            d.id.to_string(),
            d.state.to_string(),
            if d.state == DecisionState::Open { ago(d.until) } else { String::new() },
            d.job.to_string(),
            d.target.clone(),
            d.text.lines().next().unwrap_or_default().to_owned(),
            chosen.unwrap_or(choices),
        ]);
    }
    with_next(table.text("Nothing waits for a decision."), page)
}

/// One decision.
pub fn decision(d: &DecisionItem) -> String {
    let mut lines = vec![format!(
        "Decision {}, {}: job {}, {} on {}",
        d.id, d.state, d.job, d.runbook, d.target
    )];
    lines.extend(d.text.lines().map(|line| format!("  {line}")));
    lines.push("\nChoices".into());
    lines.extend(d.choices.iter().map(|c| format!("  {:12}  {}", c.name, c.words)));
    let unanswered = d
        .unanswered
        .as_ref()
        .map_or_else(|| "the step fails".to_owned(), |s| format!("it means {s}"));
    lines.push(format!(
        "\nAsked {}, of {}; it stands until {}.",
        exact(d.asked_at),
        d.to,
        exact(d.until)
    ));
    match (d.state, &d.choice) {
        (DecisionState::Open, _) => {
            lines.push(format!("If nobody decides, {unanswered}."));
            lines.push(format!("Decide with `arvok decision take {} <choice>`.", d.id));
        }
        (DecisionState::Taken, Some(choice)) => {
            let by = d.by.as_ref().map_or("somebody".to_owned(), Principal::shown);
            // Of a link and of a mail the name says so itself.
            let how = d.how.as_ref().filter(|how| *how != "link" && *how != "mail");
            let how = how.map_or_else(String::new, |how| format!(" ({how})"));
            let at = d.decided_at.map_or_else(String::new, |at| format!(", {}", exact(at)));
            lines.push(format!("Decided: {choice}, by {by}{how}{at}."));
            lines.extend(d.remark.as_ref().map(|r| format!("  {r}")));
        }
        (DecisionState::Silent, _) => lines.push(format!("Nobody decided in time: {unanswered}.")),
        (DecisionState::Taken | DecisionState::Withdrawn, _) => {
            lines.push("The job does not ask any more.".into())
        }
    }
    lines.join("\n")
}
