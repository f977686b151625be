//! What a script uses, with all of its processes: looked at as long as it runs.

use arvok_core::script::{Limits, ScriptLimit};
use std::{fs, time::Duration};

/// Time between two looks.
const EVERY: Duration = Duration::from_millis(50);
/// Ticks of processor time in a second: `stat` counts them, and they are 100 for everybody.
const TICKS: u64 = 100;

/// What some processes use together.
#[derive(Clone, Copy, Debug, Default)]
struct ScriptUsage {
    memory: u64,
    /// In milliseconds, with that of their children that have ended.
    processor_time: u64,
}

/// Waits until a process and all below it use more than they may.
pub(super) async fn exceeded(pid: u32, limits: &Limits) -> ScriptLimit {
    let mut tick = tokio::time::interval(EVERY);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tick.tick().await;
        let Ok(used) = tokio::task::spawn_blocking(move || used_by(pid)).await else { continue };
        if used.memory > limits.memory {
            return ScriptLimit::Memory(limits.memory);
        }
        if let Some(time) = limits.processor_time.filter(|time| used.processor_time > time.millis())
        {
            return ScriptLimit::ProcessorTime(time);
        }
    }
}

/// What a process and all below it use. One that is gone by now uses nothing.
fn used_by(pid: u32) -> ScriptUsage {
    let (mut used, mut open) = (ScriptUsage::default(), vec![pid]);
    while let Some(pid) = open.pop() {
        used.memory += memory(pid).unwrap_or_default();
        used.processor_time += ticks(pid).unwrap_or_default() * 1000 / TICKS;
        open.extend(children(pid));
    }
    used
}

fn children(pid: u32) -> Vec<u32> {
    let tasks = fs::read_dir(format!("/proc/{pid}/task")).into_iter().flatten().flatten();
    let lists = tasks.filter_map(|task| fs::read_to_string(task.path().join("children")).ok());
    lists
        .flat_map(|list| list.split_whitespace().filter_map(|n| n.parse().ok()).collect::<Vec<_>>())
        .collect()
}

/// Bytes in memory that are its own, or shared and not those of a file: files are programs, which
/// others use too (proc(5), `status`).
fn memory(pid: u32) -> Option<u64> {
    let text = fs::read_to_string(format!("/proc/{pid}/status")).ok()?;
    let counted = |line: &str| {
        let (key, rest) = line.split_once(':')?;
        let kib = rest.trim().strip_suffix(" kB")?.parse::<u64>().ok()?;
        ["RssAnon", "RssShmem", "VmSwap"].contains(&key).then_some(kib << 10)
    };
    Some(text.lines().filter_map(counted).sum())
}

/// Ticks of a process and of its children that it has waited for.
fn ticks(pid: u32) -> Option<u64> {
    let text = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // Its name may have spaces, and ends with the last bracket.
    let fields = text.rsplit_once(')')?.1.split_whitespace();
    Some(fields.skip(11).take(4).filter_map(|n| n.parse::<u64>().ok()).sum())
}
