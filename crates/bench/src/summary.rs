//! The summary: one row for each figure.

use crate::Fallible;
use serde::Serialize;

/// A figure beside its baseline.
#[derive(Debug, Serialize)]
pub struct Figure {
    pub name: &'static str,
    pub value: f64,
    pub unit: &'static str,
    /// What the baseline is.
    pub baseline: &'static str,
    pub baseline_value: f64,
    /// The value by the baseline's.
    pub ratio: f64,
    /// What the ratio should be.
    pub goal: &'static str,
    /// Whether it is.
    pub holds: bool,
}

/// A goal for a ratio.
#[derive(Clone, Copy, Debug)]
pub enum Goal {
    AtLeast(f64, &'static str),
    AtMost(f64, &'static str),
}

impl Figure {
    pub fn new(
        name: &'static str,
        (value, unit): (f64, &'static str),
        (baseline, baseline_value): (&'static str, f64),
        goal: Goal,
    ) -> Self {
        let ratio = value / baseline_value;
        let (goal, holds) = match goal {
            Goal::AtLeast(bound, text) => (text, ratio >= bound),
            Goal::AtMost(bound, text) => (text, ratio <= bound),
        };
        Self { name, value, unit, baseline, baseline_value, ratio, goal, holds }
    }
}

/// Writes and shows the figures.
pub fn write(figures: &[Figure]) -> Fallible<()> {
    std::fs::create_dir_all("target/bench")?;
    std::fs::write("target/bench/summary.json", serde_json::to_string_pretty(figures)?)?;
    for f in figures {
        println!(
            "{:26} {:>10.1} {:9} ratio {:>6.2} to {:>10.1} ({}), goal {}: {}",
            f.name,
            f.value,
            f.unit,
            f.ratio,
            f.baseline_value,
            f.baseline,
            f.goal,
            if f.holds { "holds" } else { "missed" }
        );
    }
    Ok(())
}
