//! How far an alert came: the furthest that any rule took it, and what became of the first job it
//! led to. The overview counts by it, and lists are asked for it.

use super::Conditions;
use arvok_api::Outcome;
use arvok_core::source::OWN;

/// What became of a job `j`; one that is not there yet is under way.
pub(super) const OF_JOB: &str =
    "CASE WHEN j.id IS NULL OR j.state IN ('queued', 'running', 'waiting', 'paused')
        THEN 'under-way'
    WHEN j.state = 'cancelled' THEN 'cancelled' WHEN j.state <> 'succeeded' THEN 'failed'
    WHEN j.effect = 'confirmed' THEN 'confirmed' ELSE 'unproved' END";

/// How far that is, as `how_far` in the database counts it.
const fn far(outcome: Outcome) -> Option<i16> {
    match outcome {
        Outcome::Distinct | Outcome::Unmatched | Outcome::Matched => None,
        Outcome::Dispatched
        | Outcome::UnderWay
        | Outcome::Unproved
        | Outcome::Failed
        | Outcome::Cancelled
        | Outcome::Confirmed => Some(1),
        Outcome::Proposed => Some(2),
        Outcome::Watched => Some(3),
        Outcome::Folded => Some(4),
        Outcome::Held => Some(5),
    }
}

const fn is_of_a_job(outcome: Outcome) -> bool {
    matches!(
        outcome,
        Outcome::UnderWay
            | Outcome::Unproved
            | Outcome::Failed
            | Outcome::Cancelled
            | Outcome::Confirmed
    )
}

/// Narrows a search among alerts `a`; what rules decided is looked for down to a floor, where
/// there is one.
pub(super) fn narrow(outcome: Outcome, c: &mut Conditions, floor: Option<i64>) {
    c.add("trial IS NULL AND source <> ?", OWN);
    let within = match floor {
        Some(floor) => format!("AND v.alert_seq >= {}", c.value(floor)),
        None => "OFFSET 0".to_owned(),
    };
    let decided = |how: &str| {
        format!("EXISTS (SELECT 1 FROM verdicts v WHERE v.alert_seq = a.seq AND {how} {within})")
    };
    match far(outcome) {
        None if outcome == Outcome::Matched => c.plain(&decided("true")),
        None if outcome == Outcome::Unmatched => c.plain(&format!("NOT {}", decided("true"))),
        None => {}
        Some(far) => {
            c.plain(&decided(&format!("how_far(v.verdict) = {far}")));
            c.plain(&format!("NOT {}", decided(&format!("how_far(v.verdict) < {far}"))));
        }
    }
    if is_of_a_job(outcome) {
        let first = "(SELECT min(v.job_id) AS id FROM verdicts v WHERE v.alert_seq = a.seq
            AND v.verdict = 'dispatched')";
        c.add(
            &format!("(SELECT {OF_JOB} FROM {first} f LEFT JOIN job j ON j.id = f.id) = ?"),
            outcome.as_str(),
        );
    }
}
