//! A guard in words: which jobs it concerns, what each of its lines allows, and how it stands.

use super::{AHEAD, Concerns, GuardState, KnownTimes, StandingGuard};
use crate::share::Share;
use chrono::{DateTime, Utc};
use std::{collections::BTreeSet, fmt};

/// A line of a guard, in words.
#[derive(Clone, Debug, PartialEq)]
pub struct LineInWords {
    /// The line, such as `at_once`.
    pub line: &'static str,
    /// What it allows.
    pub allows: String,
    /// How it stands; empty where there is nothing to count.
    pub stands: String,
    /// How much of it is used, from 0 to 1 and above, where there is something to count.
    pub used: Option<f64>,
}

impl StandingGuard {
    /// Its lines in words, in the order in which they are asked.
    pub fn in_words(&self, now: DateTime<Utc>, state: &GuardState) -> Vec<LineInWords> {
        let lines = [
            times_in_words("frozen", self.frozen.as_ref(), now),
            times_in_words("only", self.only.as_ref(), now),
            self.circuit_in_words(state),
            self.at_once_in_words(state),
            self.redundant_in_words(state),
            self.per_in_words(now, state),
            self.after_failure_in_words(now, state),
            self.untouched_in_words(),
            self.ceiling_in_words(state),
        ];
        lines.into_iter().flatten().collect()
    }

    fn circuit_in_words(&self, state: &GuardState) -> Option<LineInWords> {
        let circuit = self.guard.circuit?;
        let worst = state.failures.iter().max_by_key(|(_, failures)| **failures);
        let open = state.circuits.len();
        let stands = match (open, worst) {
            (0, None) => "none failed".to_owned(),
            (0, Some((runbook, failures))) => format!("{failures} of {runbook} failed"),
            (open, _) => format!("open for {open} {}", plural(open, "runbook", "runbooks")),
        };
        let used = worst.map_or(0.0, |(_, failures)| f64::from(*failures));
        let used = if open > 0 { 1.0 } else { used / f64::from(circuit.failures) };
        Some(LineInWords {
            line: "circuit",
            allows: format!("{} failures of a runbook within {}", circuit.failures, circuit.within),
            stands,
            used: Some(used),
        })
    }

    fn at_once_in_words(&self, state: &GuardState) -> Option<LineInWords> {
        let share = self.guard.at_once?;
        let most = share.of(self.size());
        let busy: BTreeSet<&String> = self.in_use(state).map(|(_, target)| target).collect();
        Some(LineInWords {
            line: "at_once",
            allows: self.share_in_words(share, "target", "targets"),
            stands: format!("{} under way", busy.len()),
            used: Some(busy.len() as f64 / f64::from(most)),
        })
    }

    fn redundant_in_words(&self, state: &GuardState) -> Option<LineInWords> {
        let sets = &self.guard.redundant;
        if sets.is_empty() {
            return None;
        }
        let is_busy = |set: &&BTreeSet<String>| self.in_use(state).any(|(_, t)| set.contains(t));
        let busy = sets.iter().filter(is_busy).count();
        Some(LineInWords {
            line: "redundant",
            allows: format!(
                "one at a time of each of {} {}",
                sets.len(),
                plural(sets.len(), "set", "sets")
            ),
            stands: format!("{busy} with one under way"),
            used: None,
        })
    }

    fn per_in_words(&self, now: DateTime<Utc>, state: &GuardState) -> Option<LineInWords> {
        let per = self.guard.per?;
        let from = now - per.within.delta();
        let begun = state.begun.iter().filter(|at| **at > from).count();
        Some(LineInWords {
            line: "per",
            allows: format!(
                "{} within {}",
                self.share_in_words(per.jobs, "job", "jobs"),
                per.within
            ),
            stands: format!("{begun} began"),
            used: Some(begun as f64 / f64::from(per.jobs.of(self.size()))),
        })
    }

    fn after_failure_in_words(
        &self,
        now: DateTime<Utc>,
        state: &GuardState,
    ) -> Option<LineInWords> {
        let after = self.guard.after_failure?;
        let until = state.failed.map(|(job, at)| (job, at + after.delta()));
        let stands = match until.filter(|(_, until)| *until > now) {
            None => "nothing failed of late".to_owned(),
            Some((job, until)) => {
                format!("job {job} failed; until {}", until.format("%H:%M:%S UTC"))
            }
        };
        Some(LineInWords {
            line: "after_failure",
            allows: format!("none for {after} after one has failed"),
            stands,
            used: None,
        })
    }

    fn untouched_in_words(&self) -> Option<LineInWords> {
        let untouched = self.guard.untouched?;
        Some(LineInWords {
            line: "untouched",
            allows: format!("none for {untouched} after another job has touched its target"),
            stands: String::new(),
            used: None,
        })
    }

    fn ceiling_in_words(&self, state: &GuardState) -> Option<LineInWords> {
        let ceiling = self.guard.ceiling.as_ref()?;
        Some(LineInWords {
            line: "ceiling",
            allows: format!("{} of {} within {}", ceiling.most, ceiling.input, ceiling.within),
            stands: format!("{} used", super::admission::rounded(state.used)),
            used: Some(state.used / ceiling.most),
        })
    }

    fn share_in_words(&self, share: Share, one: &str, many: &str) -> String {
        let most = share.of(self.size());
        let things = plural(most as usize, one, many);
        match (share, &self.group) {
            (Share::Percent(percent), Some(group)) => {
                format!("{most} {things} ({percent} % of group {})", group.name)
            }
            _ => format!("{most} {things}"),
        }
    }
}

fn times_in_words(
    line: &'static str,
    times: Option<&KnownTimes>,
    now: DateTime<Utc>,
) -> Option<LineInWords> {
    let times = times?;
    let at = |at: DateTime<Utc>| at.format("%Y-%m-%d %H:%M UTC");
    let stands = match (times.on_at(now), times.next_after(now)) {
        (Some(on), _) => format!("{} until {}", on.summary, at(on.until)),
        (None, Some(next)) => format!("{} from {}", next.summary, at(next.from)),
        (None, None) => format!("nothing within {AHEAD}"),
    };
    let allows = match line {
        "frozen" => format!("none during calendar {}", times.calendar),
        _ => format!("only during calendar {}", times.calendar),
    };
    Some(LineInWords { line, allows, stands, used: None })
}

fn plural<'w>(count: usize, one: &'w str, many: &'w str) -> &'w str {
    if count == 1 { one } else { many }
}

impl fmt::Display for Concerns {
    /// Every line that is written; "all jobs" if none is.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let lines = self.lines();
        if lines.is_empty() {
            return f.write_str("all jobs");
        }
        f.write_str(&lines.join("; "))
    }
}
