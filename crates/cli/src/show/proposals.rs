//! Proposals.

use super::{Table, ago, exact, trial_mark, with_next};
use arvok_api::{Page, ProposalItem, ProposalState};

/// A list of proposals.
pub fn proposals(page: &Page<ProposalItem>) -> String {
    let mut table =
        Table::new(&["proposal", "state", "made", "runbook", "target", "rule", "reason"]);
    for p in &page.items {
        table.row([
            p.id.to_string(),
            if p.trial.is_some() { format!("{} (trial)", p.state) } else { p.state.to_string() },
            ago(p.created_at),
            p.runbook.clone(),
            p.target.clone(),
            p.rule.clone(),
            p.reason.clone(),
        ]);
    }
    with_next(table.text("Nothing is proposed."), page)
}

/// One proposal.
pub fn proposal(p: &ProposalItem) -> String {
    let mut lines = vec![
        format!(
            "Proposal {}: {} on {}, {}{}",
            p.id,
            p.runbook,
            p.target,
            p.state,
            trial_mark(p.trial)
        ),
        format!("  rule      {} version {}", p.rule, p.rule_version),
        format!("  reason    {}", p.reason),
        format!("  made      {}", exact(p.created_at)),
    ];
    lines.extend(p.alert.map(|a| format!("  alert     {a}")));
    lines.extend(p.alarm.map(|a| format!("  alarm     {a}")));
    if let Some(at) = p.decided_at {
        let by = p.decided_by.as_ref().map_or_else(String::new, |by| format!("by {} ", by.shown()));
        lines.push(format!("  {:9} {by}{}", p.state, exact(at)));
    }
    lines.extend(p.note.as_ref().map(|n| format!("  note      {n}")));
    lines.push("\nInputs".into());
    lines.extend(p.inputs.as_object().into_iter().flatten().map(|(k, v)| format!("  {k:12}  {v}")));
    if p.state == ProposalState::Open {
        lines.push(format!(
            "\nLaunch it with `arvok proposal launch {}`, or dismiss it with a reason.",
            p.id
        ));
    }
    lines.join("\n")
}
