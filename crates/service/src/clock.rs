//! The one place of the service that reads the clock.
//!
//! All nodes go by one clock, the database's. A node measures how far its own is off and adds that;
//! so due times, deadlines and claims mean the same moment on every node.

use chrono::{DateTime, SubsecRound, TimeDelta, Utc};
use std::sync::atomic::{AtomicI64, Ordering};

/// Microseconds that the database's clock is ahead.
static AHEAD: AtomicI64 = AtomicI64::new(0);

/// Now by the database's clock, in whole microseconds, which is what PostgreSQL keeps.
pub fn now() -> DateTime<Utc> {
    (Utc::now() + offset()).trunc_subsecs(6)
}

/// How far the database's clock is ahead of this node's own.
pub(crate) fn offset() -> TimeDelta {
    TimeDelta::microseconds(AHEAD.load(Ordering::Relaxed))
}

/// The node's own clock, for measuring.
pub(crate) fn own() -> DateTime<Utc> {
    Utc::now()
}

/// Takes note of what the database's clock said to a question that was asked and answered at these
/// times of the node's own. An answer that took long tells too little.
pub(crate) fn measured(asked: DateTime<Utc>, theirs: DateTime<Utc>, answered: DateTime<Utc>) {
    if let Some(ahead) = ahead(offset(), asked, theirs, answered).num_microseconds() {
        AHEAD.store(ahead, Ordering::Relaxed);
    }
}

/// How far the database's clock is ahead, by what was known and what it says now. It was read at
/// some moment between the question and the answer, so what is known stays unless that cannot be: a
/// clock that followed every answer's delay would go back and forth, and what happens later would
/// seem to have happened before.
fn ahead(
    known: TimeDelta,
    asked: DateTime<Utc>,
    theirs: DateTime<Utc>,
    answered: DateTime<Utc>,
) -> TimeDelta {
    let took = answered - asked;
    if took < TimeDelta::zero() || took > TimeDelta::seconds(1) {
        return known;
    }
    known.clamp(theirs - answered, theirs - asked)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_known_stays_until_an_answer_says_that_it_cannot_be() {
        let at = |ms: i64| DateTime::from_timestamp_millis(1_764_000_000_000 + ms).expect("a time");
        let known = TimeDelta::milliseconds;
        // The same clock, however long the answer takes and at whichever moment it was read.
        for (theirs, answered) in [(0, 0), (1, 400), (399, 400), (900, 1_000)] {
            assert_eq!(
                ahead(known(0), at(0), at(theirs), at(answered)),
                known(0),
                "{theirs} of {answered}"
            );
        }
        // One that is ahead or behind is followed as far as is certain.
        assert_eq!(ahead(known(0), at(0), at(5_000), at(10)), known(4_990));
        assert_eq!(ahead(known(4_990), at(0), at(5_004), at(4)), known(5_000));
        assert_eq!(ahead(known(5_000), at(0), at(-3), at(4)), known(-3));
        // What took long, or went backwards, tells nothing.
        assert_eq!(ahead(known(7), at(0), at(5_000), at(1_001)), known(7));
        assert_eq!(ahead(known(7), at(10), at(5_000), at(0)), known(7));
    }
}
