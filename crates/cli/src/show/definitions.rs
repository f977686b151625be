//! Definitions and publishing.

use super::{
    Table, ago, count, exact, jobs,
    sources::{heartbeats, listeners, poll},
    when,
};
use arvok_api::{
    ActsByItself, AutomationRight, CalendarState, ChangeKind, DefinitionDetail, DefinitionItem,
    Page, PlannedChange, PublishResult, Use,
};
use arvok_core::Role;
use similar::{ChangeTag, TextDiff};

/// The cells of one row between name and summary.
type Cells = fn(&DefinitionItem, String) -> Vec<String>;

/// A list of one kind.
pub fn definitions(kind: &str, page: &Page<DefinitionItem>) -> String {
    let last = |i: &DefinitionItem| i.used.last_at.map_or_else(|| "never".to_owned(), ago);
    let (headings, row): (&[&str], Cells) = match kind {
        "rule" => (
            &[
                "rule", "version", "stance", "runbook", "alerts", "jobs", "helped", "last",
                "summary",
            ],
            |i, last| {
                let stance = i.stance.map_or_else(String::new, |s| s.to_string());
                let (alerts, jobs, helped) = (
                    i.used.alerts.to_string(),
                    i.used.jobs.to_string(),
                    i.used.confirmed.to_string(),
                );
                vec![stance, i.runbook.clone().unwrap_or_default(), alerts, jobs, helped, last]
            },
        ),
        "runbook" => (&["runbook", "version", "jobs", "helped", "last", "summary"], |i, last| {
            vec![i.used.jobs.to_string(), i.used.confirmed.to_string(), last]
        }),
        "source" => (
            &[
                "source",
                "version",
                "alerts",
                "unreadable",
                "caught",
                "id conflicts",
                "refused",
                "over limit",
                "last",
                "summary",
            ],
            |i, last| {
                let Use { alerts, unreadable, caught, conflicts, refused, over_limit, .. } =
                    &i.used;
                vec![
                    alerts.to_string(),
                    unreadable.to_string(),
                    caught.to_string(),
                    conflicts.to_string(),
                    refused.to_string(),
                    over_limit.to_string(),
                    last,
                ]
            },
        ),
        _ => (&["name", "version", "published", "by", "summary"], |i, _| {
            vec![when(i.published_at), i.published_by.shown()]
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
        format!(
            "{kind} {}, version {}, published by {} {}",
            i.name,
            i.version,
            i.published_by.shown(),
            exact(i.published_at)
        ),
        String::new(),
        d.text.trim_end().to_owned(),
    ];
    if !d.used_by.is_empty() {
        let users: Vec<String> =
            d.used_by.iter().take(MOST_USERS).map(|u| format!("{} {}", u.kind, u.name)).collect();
        let more = match d.used_by.len().saturating_sub(MOST_USERS) {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        lines.push(format!("\nUsed by: {}{more}", users.join(", ")));
    }
    if !d.verdicts.is_empty() {
        let counts: Vec<String> =
            d.verdicts.iter().map(|v| format!("{} {}", v.count, v.verdict)).collect();
        lines.push(format!("\nVerdicts: {}", counts.join(", ")));
    }
    if kind == "rule" {
        let all: Vec<String> =
            d.followed_by.iter().map(|by| format!("{} {}", by.kind, by.name)).collect();
        lines.push(match all.is_empty() {
            true => "\nFollowed by: nobody is told of its proposals and jobs".to_owned(),
            false => format!("\nFollowed by: {}", all.join(", ")),
        });
    }
    lines.extend(d.calendar.as_ref().map(calendar));
    if kind == "source" {
        lines.extend(
            d.read_by_default
                .iter()
                .map(|read| format!("\nWithout lines of its own it is read by these:\n\n{read}")),
        );
        lines.extend(listeners(&d.listeners));
        lines.extend(d.poll.as_ref().map(poll));
        lines.extend(heartbeats(&d.heartbeats));
        lines.extend(d.next_due.map(|at| format!("\nNext due: {}", exact(at))));
        let Use { caught, conflicts, refused, over_limit, .. } = &i.used;
        if *caught > 0 {
            let payloads = count(usize::try_from(*caught).unwrap_or_default(), "payload");
            lines.push(format!("\nCaught until `read` says how they are read: {payloads}"));
        }
        if *over_limit > 0 {
            lines.push(format!(
                "\nOver its limit within a day: {over_limit} deliveries were refused or had to wait"
            ));
        }
        if *conflicts > 0 {
            let alerts = count(usize::try_from(*conflicts).unwrap_or_default(), "alert");
            lines.push(format!(
                "\nId conflicts: {alerts} not taken, since the id had come before \
                with other content"
            ));
        }
        if *refused > 0 {
            lines.push(format!(
                "\nRefused within a day: {refused}, since the sender did not say who it is; see \
                `arvok audit list --act sender.refused`"
            ));
        }
    }
    if matches!(kind, "rule" | "runbook") {
        lines.push(format!("\nJobs: {}, of which {} helped", i.used.jobs, i.used.confirmed));
        lines.push(jobs(&Page { items: d.jobs.clone(), next: None, bounded: false }));
    }
    lines.join("\n")
}

/// What a calendar holds, and from where.
fn calendar(state: &CalendarState) -> String {
    let mut lines = vec![String::new()];
    if let Some(reading) = &state.reading {
        lines.push(match (state.read_at, state.seen_at) {
            (Some(read), Some(seen)) => {
                format!("Read by {reading} {}; as it is since {}", ago(seen), exact(read))
            }
            _ => format!("Not read yet by {reading}: what guards ask it for lets nothing begin"),
        });
    }
    lines.extend(state.failure.as_ref().map(|why| format!("The last try failed: {why}")));
    let mut table = Table::new(&["event", "from", "until"]);
    for event in &state.events {
        table.row(vec![event.summary.clone(), exact(event.from), exact(event.until)]);
    }
    lines.push(table.text("No event is on, or begins within two weeks."));
    lines.join("\n")
}

/// What publishing would change.
pub fn changes(plan: &PublishResult) -> String {
    let mut lines = Vec::new();
    for c in plan.changes.iter().filter(|c| c.change != ChangeKind::Same) {
        let what = match c.change {
            ChangeKind::New => "new",
            ChangeKind::Withdrawn => "withdrawn",
            ChangeKind::Changed | ChangeKind::Same => "changed",
        };
        let with = match c.steps.is_empty() {
            true => String::new(),
            false => format!(", with what changes of step {}", c.steps.join(", ")),
        };
        lines.push(format!("{what:9}  {} {}, version {}{with}", c.kind, c.name, c.version));
        lines.extend(difference(c));
    }
    let same = plan.changes.iter().filter(|c| c.change == ChangeKind::Same).count();
    if same > 0 {
        lines.push(format!("{same} without a change"));
    }
    lines.extend(plan.acts.iter().take(MOST_ACTS).map(acts));
    if plan.acts.len() > MOST_ACTS {
        lines.push(format!("acts       and {} more", plan.acts.len() - MOST_ACTS));
    }
    lines.join("\n")
}

/// How many users of a definition are shown.
const MOST_USERS: usize = 20;

/// Of how many it is shown that they act by themselves.
const MOST_ACTS: usize = 8;

/// What acts by itself then, and why it may not if it may not.
fn acts(acting: &ActsByItself) -> String {
    let through = match acting.connections.is_empty() {
        true => String::new(),
        false => format!(" through {}", acting.connections.join(", ")),
    };
    let own = format!("{}/{}", acting.kind, acting.name);
    let others: Vec<&str> =
        acting.changed.iter().map(String::as_str).filter(|what| *what != own).collect();
    let why = match acting.changed.contains(&own) || others.is_empty() {
        true => String::new(),
        false => format!(", by what changes of {}", others.join(", ")),
    };
    format!("acts       {} {}{through}{why}", acting.kind, acting.name)
}

/// What a token may let act by itself, in a line.
pub fn automation(role: Role, right: &AutomationRight) -> String {
    if role >= Role::Admin {
        return "anything".to_owned();
    }
    let lines = [("rules", &right.rules), ("plans", &right.plans), ("through", &right.connections)];
    let lines = lines.iter().filter(|(_, globs)| !globs.is_empty());
    let lines: Vec<String> =
        lines.map(|(of, globs)| format!("{of} {}", globs.join(", "))).collect();
    match lines.is_empty() {
        true => "nothing".to_owned(),
        false => lines.join("; "),
    }
}

fn difference(c: &PlannedChange) -> Vec<String> {
    let (Some(before), Some(after)) = (&c.before, &c.after) else { return Vec::new() };
    let diff = TextDiff::from_lines(before, after);
    let changed = diff.iter_all_changes().filter(|l| l.tag() != ChangeTag::Equal);
    changed.map(|l| format!("    {} {}", l.tag(), l.value().trim_end())).collect()
}
