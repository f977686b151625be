//! Trials.

use super::{alert_why, gauge, job, taken};
use arvok_api::{AlertDetail, AlertWhy, ClearedTrials, DeliveryAnswer, JobDetail, VerdictItem};
use arvok_core::{Trial, Verdict};
use serde::Serialize;

/// A trial, and all that came of it.
#[derive(Debug, Serialize)]
pub struct TrialWalk {
    /// What became of the delivery.
    pub delivery: DeliveryAnswer,
    /// Each of its alerts.
    pub alerts: Vec<TrialAlert>,
}

/// An alert that was made up, and what came of it.
#[derive(Debug, Serialize)]
pub struct TrialAlert {
    /// As it was read.
    pub alert: AlertDetail,
    /// Why the rules decided so.
    pub why: AlertWhy,
    /// The jobs that were dispatched, and those of their steps.
    pub jobs: Vec<JobDetail>,
}

/// What a mark of a trial is in words, for the head of what is shown.
pub fn trial_mark(trial: Option<Trial>) -> &'static str {
    match trial {
        None => "",
        Some(Trial::Dry) => ", a trial that leaves all undone",
        Some(Trial::Acting) => ", a trial that acts",
    }
}

/// The chain from the alert to what its jobs would do.
pub fn trial(walk: &TrialWalk) -> String {
    let mut parts = vec![taken(&walk.delivery)];
    parts.extend(walk.alerts.iter().map(alert));
    parts.join("\n\n")
}

fn alert(went: &TrialAlert) -> String {
    let a = &went.alert.alert;
    let mut parts = vec![format!(
        "Read as {} {} {}, {} on {}: {}{}",
        gauge(a.severity, a.state),
        a.severity,
        a.state,
        a.kind,
        a.resource,
        a.summary,
        trial_mark(a.trial)
    )];
    parts.push(alert_why(a.seq, &went.why));
    for verdict in went.alert.verdicts.iter().filter(|v| v.verdict == Verdict::Proposed) {
        let number = verdict.job.map_or_else(String::new, |job| format!(" {job}"));
        parts.push(format!(
            "{} proposes job{number} to a person; launch it with `arvok proposal launch{number}` to \
             see what it would do",
            verdict.rule
        ));
    }
    parts.extend(went.jobs.iter().map(job));
    if went.jobs.is_empty() {
        parts.push("No job comes of it.".to_owned());
    }
    let by_earlier =
        |v: &VerdictItem| matches!(v.verdict, Verdict::Folded | Verdict::Resting | Verdict::Capped);
    if went.alert.verdicts.iter().any(by_earlier) {
        parts.push("Earlier trials count: `arvok trial clear` lets them begin anew.".to_owned());
    }
    parts.join("\n\n")
}

/// What was cleared away.
pub fn cleared(cleared: ClearedTrials) -> String {
    let ClearedTrials { alerts, alarms, jobs, proposals, under_way } = cleared;
    let mut text = format!(
        "cleared away: alerts {alerts}, alarms {alarms}, jobs {jobs}, proposals {proposals}"
    );
    if under_way > 0 {
        text.push_str(&format!(
            "\n{under_way} jobs of trials are not over; clear again when they are"
        ));
    }
    text
}
