//! The nodes, and what waits for them.

use super::{Table, ago, exact};
use arvok_api::{Backlog, Halt, HaltBegun, HaltConcerns, Halted, NodeItem, Nodes, SelectiveHalt};
use arvok_core::{halt::HaltLines, period::rough};
use chrono::TimeDelta;

/// After how many seconds of silence a node is marked.
const SILENT: f64 = 10.0;

/// Nodes as a table, and below it what waits.
pub fn nodes(n: &Nodes) -> String {
    let mut table = Table::new(&[
        "node", "state", "build", "since", "heard", "leases", "clock", "commit", "waiting",
    ]);
    n.nodes.iter().for_each(|n| table.row(row(n)));
    let until = |n: &NodeItem| {
        let until = n.certificate_until?;
        Some(format!("\nThe certificate of {} holds until {}.", n.address, exact(until)))
    };
    let certificates: String = n.nodes.iter().filter_map(until).collect();
    let nodes = table.text("No node has been heard of.");
    format!("{nodes}\n{certificates}\n{}", backlog(&n.backlog))
}

/// The halt of all jobs, in a line.
pub fn halt(halt: &Halt) -> String {
    format!(
        "Jobs are halted{} since {} by {}: {}. `arvok halt lift` ends this.",
        if halt.running { ", those under way too," } else { "" },
        exact(halt.since),
        halt.by.shown(),
        halt.reason
    )
}

/// All halts that stand.
pub fn halted(halted: &Halted) -> String {
    let some = halted.some.iter().map(halt_of_some);
    let lines: Vec<String> = halted.halt.as_ref().map(halt).into_iter().chain(some).collect();
    match lines.is_empty() {
        true => "Jobs are begun: there is no halt.".to_owned(),
        false => lines.join("\n"),
    }
}

/// A halt of some jobs, in a line.
pub fn halt_of_some(halt: &SelectiveHalt) -> String {
    format!(
        "Jobs of {} are halted{} since {} by {}: {}. `arvok halt lift {}` ends this.",
        HaltLines::from(halt.covers.clone()),
        if halt.running { ", those under way too," } else { "" },
        exact(halt.since),
        halt.by.shown(),
        halt.reason,
        halt.id
    )
}

/// A halt of some jobs that has begun, or would, with those that it concerns.
pub fn halt_begun(begun: &HaltBegun) -> String {
    let HaltConcerns { queued, waiting, running } = begun.concerns;
    let concerns =
        format!("{queued} that wait for their turn, {waiting} that wait, {running} that run");
    match &begun.halt {
        None => format!("it would concern {concerns}; nothing is halted"),
        Some(halt) => format!(
            "halt {}: none of these jobs is begun or taken up any more, {concerns}; \
            `arvok halt lift {}` ends this",
            halt.id, halt.id
        ),
    }
}

fn row(n: &NodeItem) -> [String; 9] {
    let state = match &n.fault {
        _ if n.lag > SILENT => "silent".to_owned(),
        Some(fault) => format!("not ready: {fault}"),
        None if n.answers_fault.is_some() => "ready, no answers by mail".to_owned(),
        None => "ready".to_owned(),
    };
    [
        format!("{} {}", n.host, n.address),
        state,
        n.build.clone(),
        ago(n.since),
        seconds(n.lag) + " ago",
        n.leases.to_string(),
        clock(n.clock_offset),
        format!("{:.1} ms", n.commit * 1000.0),
        if n.intake_bytes == 0 {
            "nothing".into()
        } else {
            format!("{} kB for {}", n.intake_bytes / 1000 + 1, seconds(n.oldest_delivery))
        },
    ]
}

/// How far a node's clock is ahead of the database's.
pub(super) fn clock(offset: f64) -> String {
    let ahead = (-offset * 1000.0).round() / 1000.0;
    if ahead == 0.0 { "exact".into() } else { format!("{ahead:+.3} s") }
}

pub(super) fn seconds(s: f64) -> String {
    rough(TimeDelta::milliseconds((s * 1000.0) as i64))
}

fn backlog(b: &Backlog) -> String {
    let mut lines: Vec<String> = b.halt.iter().map(halt).collect();
    lines.push(match b.queued {
        0 => "No job waits for its turn.".to_owned(),
        n => format!("{n} jobs wait for their turn, the oldest for {}.", seconds(b.oldest_queued)),
    });
    if b.overdue > 1.0 {
        lines.push(format!(
            "A due time passed {} ago and nobody has looked at it.",
            seconds(b.overdue)
        ));
    }
    if b.lock_waits > 0 {
        lines.push(format!("{} statements wait for a lock.", b.lock_waits));
    }
    if b.aside > 0 {
        lines.push(format!("{} due times are set aside:", b.aside));
        for a in &b.set_aside {
            let again = a.again_at.map_or_else(String::new, |t| format!(", again {}", ago(t)));
            lines.push(format!(
                "  rule {} {}: {} (tried {} times{again})",
                a.rule, a.key, a.reason, a.tries
            ));
        }
    }
    lines.join("\n")
}
