//! How far an alert came: the furthest that any rule took it, and what became of the first job it
//! led to. The overview counts by it, and lists are asked for it.

use super::Conditions;
use arvok_core::source::OWN;

arvok_core::words! {
    /// How far an alert of a sender came.
    pub enum Outcome("outcome") {
        /// Anything at all.
        Distinct = "distinct",
        /// No rule concerns it.
        Unmatched = "unmatched",
        /// Some rule concerns it.
        Matched = "matched",
        /// Its rule only watches.
        Watched = "watched",
        /// It joined an episode.
        Folded = "folded",
        /// It was held back.
        Held = "held",
        /// It led to a proposal.
        Proposed = "proposed",
        /// It led to a job.
        Dispatched = "dispatched",
        /// Its job is not finished.
        UnderWay = "under-way",
        /// Its job succeeded and proved nothing.
        Unproved = "unproved",
        /// Its job ended badly, or nobody knows how.
        Failed = "failed",
        /// Its job was stopped by a person.
        Cancelled = "cancelled",
        /// The effect of its job was confirmed.
        Confirmed = "confirmed",
    }
}

/// What became of a job `j`; one that is not there yet is under way.
pub(super) const OF_JOB: &str =
    "CASE WHEN j.id IS NULL OR j.state IN ('queued', 'running', 'waiting', 'paused')
        THEN 'under-way'
    WHEN j.state = 'cancelled' THEN 'cancelled' WHEN j.state <> 'succeeded' THEN 'failed'
    WHEN j.effect = 'confirmed' THEN 'confirmed' ELSE 'unproved' END";

impl Outcome {
    /// How far that is, as `how_far` in the database counts it.
    const fn far(self) -> Option<i16> {
        match self {
            Self::Distinct | Self::Unmatched | Self::Matched => None,
            Self::Dispatched
            | Self::UnderWay
            | Self::Unproved
            | Self::Failed
            | Self::Cancelled
            | Self::Confirmed => Some(1),
            Self::Proposed => Some(2),
            Self::Watched => Some(3),
            Self::Folded => Some(4),
            Self::Held => Some(5),
        }
    }

    const fn is_of_a_job(self) -> bool {
        matches!(
            self,
            Self::UnderWay | Self::Unproved | Self::Failed | Self::Cancelled | Self::Confirmed
        )
    }

    /// Narrows a search among alerts `a`; what rules decided is looked for down to a floor, where
    /// there is one.
    pub(super) fn narrow(self, c: &mut Conditions, floor: Option<i64>) {
        c.add("source <> ?", OWN);
        let within = match floor {
            Some(floor) => format!("AND v.alert_seq >= {}", c.value(floor)),
            None => "OFFSET 0".to_owned(),
        };
        let decided = |how: &str| {
            format!(
                "EXISTS (SELECT 1 FROM verdicts v WHERE v.alert_seq = a.seq AND {how} {within})"
            )
        };
        match self.far() {
            None if self == Self::Matched => c.plain(&decided("true")),
            None if self == Self::Unmatched => c.plain(&format!("NOT {}", decided("true"))),
            None => {}
            Some(far) => {
                c.plain(&decided(&format!("how_far(v.verdict) = {far}")));
                c.plain(&format!("NOT {}", decided(&format!("how_far(v.verdict) < {far}"))));
            }
        }
        if self.is_of_a_job() {
            let first = "(SELECT min(v.job_id) AS id FROM verdicts v WHERE v.alert_seq = a.seq
                AND v.verdict = 'dispatched')";
            c.add(
                &format!("(SELECT {OF_JOB} FROM {first} f LEFT JOIN job j ON j.id = f.id) = ?"),
                self.as_str(),
            );
        }
    }
}
