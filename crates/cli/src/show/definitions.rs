//! Definitions and publishing.

use super::{Table, ago, exact, jobs, when};
use arvok_api::{ChangeKind, DefinitionDetail, DefinitionItem, Page, Plan, PlannedChange, UnreadableItem};
use similar::{ChangeTag, TextDiff};

/// The cells of one row between name and summary.
type Cells = fn(&DefinitionItem, String) -> Vec<String>;

/// A list of one kind.
pub fn definitions(kind: &str, page: &Page<DefinitionItem>) -> String {
    let last = |i: &DefinitionItem| i.used.last_at.map_or_else(|| "never".to_owned(), ago);
    let (headings, row): (&[&str], Cells) = match kind {
        "rule" => {
            (&["rule", "version", "stance", "runbook", "alerts", "jobs", "helped", "last", "summary"], |i, last| {
                let stance = i.stance.clone().unwrap_or_default();
                let (alerts, jobs, helped) =
                    (i.used.alerts.to_string(), i.used.jobs.to_string(), i.used.confirmed.to_string());
                vec![stance, i.runbook.clone().unwrap_or_default(), alerts, jobs, helped, last]
            })
        }
        "runbook" => (&["runbook", "version", "jobs", "helped", "last", "summary"], |i, last| {
            vec![i.used.jobs.to_string(), i.used.confirmed.to_string(), last]
        }),
        "source" => (&["source", "version", "alerts", "unreadable", "last", "summary"], |i, last| {
            vec![i.used.alerts.to_string(), i.used.unreadable.to_string(), last]
        }),
        _ => (&["name", "version", "published", "by", "summary"], |i, _| {
            vec![when(i.published_at), i.published_by.clone()]
        }),
    };
    let mut table = Table::new(headings);
    for i in &page.items {
        let mut cells = vec![i.name.clone(), i.version.to_string()];
        cells.extend(row(i, last(i)));
        cells.push(i.summary.clone().unwrap_or_default());
        table.row(cells);
    }
    table.text("None is published.")
}

/// One definition.
pub fn definition(kind: &str, d: &DefinitionDetail) -> String {
    let i = &d.item;
    let mut lines = vec![
        format!("{kind} {}, version {}, published by {} {}", i.name, i.version, i.published_by, exact(i.published_at)),
        String::new(),
        d.text.trim_end().to_owned(),
    ];
    if !d.verdicts.is_empty() {
        let counts: Vec<String> = d.verdicts.iter().map(|v| format!("{} {}", v.count, v.verdict)).collect();
        lines.push(format!("\nVerdicts: {}", counts.join(", ")));
    }
    if matches!(kind, "rule" | "runbook") {
        lines.push(format!("\nJobs: {}, of which {} helped", i.used.jobs, i.used.confirmed));
        lines.push(jobs(&Page { items: d.jobs.clone(), next: None, bounded: false }));
    }
    lines.join("\n")
}

/// Payloads that could not be read.
pub fn unreadable(page: &Page<UnreadableItem>) -> String {
    let mut table = Table::new(&["unreadable", "received", "reason", "payload"]);
    for u in &page.items {
        table.row([u.id.to_string(), when(u.received), u.reason.clone(), u.payload.clone()]);
    }
    table.text("Every payload could be read.")
}

/// What publishing would change.
pub fn changes(plan: &Plan) -> String {
    let mut lines = Vec::new();
    for c in plan.changes.iter().filter(|c| c.change != ChangeKind::Same) {
        let what = match c.change {
            ChangeKind::New => "new",
            ChangeKind::Withdrawn => "withdrawn",
            ChangeKind::Changed | ChangeKind::Same => "changed",
        };
        lines.push(format!("{what:9}  {} {}, version {}", c.kind, c.name, c.version));
        lines.extend(difference(c));
    }
    let same = plan.changes.iter().filter(|c| c.change == ChangeKind::Same).count();
    if same > 0 {
        lines.push(format!("{same} without a change"));
    }
    lines.join("\n")
}

fn difference(c: &PlannedChange) -> Vec<String> {
    let (Some(before), Some(after)) = (&c.before, &c.after) else { return Vec::new() };
    let diff = TextDiff::from_lines(before, after);
    let changed = diff.iter_all_changes().filter(|l| l.tag() != ChangeTag::Equal);
    changed.map(|l| format!("    {} {}", l.tag(), l.value().trim_end())).collect()
}
