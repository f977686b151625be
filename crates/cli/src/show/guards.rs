//! Guards: what they limit and what they hold.

use super::{Table, count, exact};
use arvok_api::{GuardItem, JobItem, Page};
use arvok_core::guard::Otherwise;

fn jobs(n: i64) -> String {
    count(usize::try_from(n).unwrap_or_default(), "job")
}

/// A list of guards.
pub fn guards(page: &Page<GuardItem>) -> String {
    let mut table = Table::new(&["guard", "concerns", "allows", "stands", "holds"]);
    for g in &page.items {
        for (n, line) in g.lines.iter().enumerate() {
            let first = |text: String| if n == 0 { text } else { String::new() };
            table.row([
                first(g.name.clone()),
                first(g.concerns.clone()),
                line.allows.clone(),
                line.stands.clone(),
                first(if g.holds == 0 { String::new() } else { jobs(g.holds) }),
            ]);
        }
    }
    table.text("There are no guards; publish a `guard:` document to limit what jobs may do.")
}

/// One guard, with jobs that it holds.
pub fn guard(g: &GuardItem, held: &Page<JobItem>) -> String {
    let mut lines = vec![format!("Guard {} version {}", g.name, g.version)];
    lines.extend(g.summary.as_ref().map(|text| format!("  {text}")));
    lines.push(format!("  concerns    {}", g.concerns));
    let otherwise = match g.otherwise {
        Otherwise::Hold => "what may not begin is held until it may",
        Otherwise::Refuse => "what may not begin is refused",
    };
    lines.push(format!("  otherwise   {otherwise}"));
    lines.push(format!("  overrule    {} and above", g.overrule));
    lines.push(String::new());
    let mut table = Table::new(&["line", "allows", "stands"]);
    for line in &g.lines {
        table.row([line.line.clone(), line.allows.clone(), line.stands.clone()]);
    }
    lines.push(table.text(""));
    for open in &g.circuits {
        lines.push(format!(
            "The circuit of {} is open since {}: {} failed or did not help, and rules propose it.\n  \
            arvok guard resume {} --runbook {} --reason ...",
            open.runbook,
            exact(open.since),
            jobs(open.failures.into()),
            g.name,
            open.runbook
        ));
    }
    if g.holds > 0 {
        lines.push(format!("It holds {}:", jobs(g.holds)));
        let mut table = Table::new(&["job", "runbook", "target", "why"]);
        for job in &held.items {
            let why = job.held.as_ref().map(|held| held.why.clone()).unwrap_or_default();
            table.row([job.id.to_string(), job.runbook.clone(), job.target.clone(), why]);
        }
        lines.push(table.text(""));
    }
    lines.join("\n")
}
