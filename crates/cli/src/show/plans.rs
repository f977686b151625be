//! Plans: what is to come, and what was.

use super::{Table, ago, count, exact};
use arvok_api::{Page, PlanDetail, PlanEntry, PlanItem, PlanTimes};
use std::collections::BTreeMap;

/// A list of plans.
pub fn plans(page: &Page<PlanItem>) -> String {
    let mut table = Table::new(&["plan", "runs", "when", "next", "last run"]);
    for p in &page.items {
        let next = match (&p.trouble, &p.next) {
            (Some(trouble), _) => format!("cannot run: {trouble}"),
            (None, Some(next)) => ago(next.at) + &held(next),
            (None, None) => String::new(),
        };
        let last = p.last.as_ref().map(|last| format!("{}, {}", ended(last), ago(last.at)));
        table.row([
            p.name.clone(),
            runs(p),
            p.times.clone().unwrap_or_else(|| "by hand".to_owned()),
            next,
            last.unwrap_or_default(),
        ]);
    }
    table.text("There are no plans; publish a `plan:` document to run a runbook at times.")
}

fn runs(p: &PlanItem) -> String {
    match p.resources.len() {
        0 => p.runbook.clone(),
        n => format!("{} on {}", p.runbook, count(n, "resource")),
    }
}

/// What holds a run back, in short.
fn held(entry: &PlanEntry) -> String {
    match &entry.frozen {
        None => String::new(),
        Some(frozen) if frozen.too_late => format!(", held by guard {} too long", frozen.guard),
        Some(frozen) => format!(", held by guard {} at first", frozen.guard),
    }
}

/// How a time ended, or that it is to come.
fn ended(entry: &PlanEntry) -> String {
    match (entry.omitted, entry.job, entry.state) {
        (Some(omitted), _, _) => omitted.to_string(),
        (None, job, Some(state)) => {
            let job = job.map_or_else(String::new, |job| format!("job {job} "));
            let effect = entry.effect.filter(|_| entry.state.is_some_and(|s| s.is_final()));
            let effect = effect.map_or_else(String::new, |effect| format!(", {effect}"));
            format!("{job}{state}{effect}")
        }
        _ if entry.coming => match &entry.frozen {
            None => "to come".to_owned(),
            Some(frozen) if frozen.too_late => "held back".to_owned(),
            Some(_) => "held at first".to_owned(),
        },
        _ => String::new(),
    }
}

fn why(entry: &PlanEntry) -> String {
    if let Some(frozen) = &entry.frozen {
        let until = frozen
            .until
            .map_or_else(String::new, |until| format!(" until {}", until.format("%m-%d %H:%MZ")));
        let late = if frozen.too_late { "; too late to begin then" } else { "" };
        return format!("guard {}{until}: {}{late}", frozen.guard, frozen.because);
    }
    let by = entry.by.as_ref().filter(|_| entry.omitted.is_some() || entry.due.is_none());
    let by = by.map(|by| format!("by {}", by.shown()));
    let parts: Vec<String> = by.into_iter().chain(entry.reason.clone()).collect();
    parts.join(": ")
}

fn times(entries: &[PlanEntry], with_plan: bool) -> String {
    let mut table = match with_plan {
        true => Table::new(&["time", "plan", "", "how", "why"]),
        false => Table::new(&["time", "", "how", "why"]),
    };
    for entry in entries {
        let mut cells = vec![entry.at.format("%a %m-%d %H:%MZ").to_string()];
        cells.extend(with_plan.then(|| entry.plan.clone()));
        cells.extend([ago(entry.at), ended(entry), why(entry)]);
        table.row(cells);
    }
    table.text("None.")
}

/// Of one day those of a plan that go the same way are one line, from so many on.
const ALIKE: usize = 3;

fn by_day(entries: &[PlanEntry]) -> Vec<PlanEntry> {
    let mut alike: BTreeMap<_, Vec<&PlanEntry>> = BTreeMap::new();
    for entry in entries {
        let key = (entry.at.date_naive(), entry.plan.clone(), ended_alike(entry));
        alike.entry(key).or_default().push(entry);
    }
    let mut shown: Vec<PlanEntry> = Vec::new();
    for all in alike.into_values() {
        if all.len() <= ALIKE {
            shown.extend(all.into_iter().cloned());
        } else if let Some(first) = all.first() {
            let times = all.iter().map(|entry| entry.times).sum();
            let reason = Some(format!("the first of {times} on this day"));
            shown.push(PlanEntry { times, reason, job: None, ..(*first).clone() });
        }
    }
    shown.sort_by(|a, b| (a.at, &a.plan).cmp(&(b.at, &b.plan)));
    shown
}

/// How a time ended, whichever job had it.
fn ended_alike(entry: &PlanEntry) -> String {
    ended(&PlanEntry { job: entry.job.map(|_| 0), ..entry.clone() })
}

/// The times of plans.
pub fn plan_times(of: &PlanTimes) -> String {
    let mut text = times(&by_day(&of.entries), true);
    if of.more {
        text.push_str("\nThere are more; narrow it with --plan, --from and --until.");
    }
    text
}

/// One plan.
pub fn plan(detail: &PlanDetail) -> String {
    let p = &detail.plan;
    let mut lines = vec![format!("Plan {} version {}", p.name, p.version)];
    lines.extend(p.summary.as_ref().map(|text| format!("  {text}")));
    lines.push(format!("  runs        {}", runs(p)));
    lines.push(format!("  when        {}", p.times.as_deref().unwrap_or("somebody runs it")));
    if let Some(next) = &p.next {
        lines.push(format!("  next        {}{}", exact(next.at), held(next)));
    }
    if let Some(trouble) = &p.trouble {
        lines.push(format!("  cannot run  {trouble}"));
    }
    let values = detail.memory.as_object().into_iter().flatten();
    let values: Vec<String> = values.map(|(name, value)| format!("{name}={value}")).collect();
    if !values.is_empty() {
        lines.push(format!("  remembers   {}", values.join(" ")));
    }
    if !detail.coming.is_empty() {
        lines.extend(["\nTo come:".to_owned(), times(&detail.coming, false)]);
    }
    if !detail.past.is_empty() {
        lines.extend(["\nWhat was:".to_owned(), times(&detail.past, false)]);
    }
    lines.join("\n")
}
