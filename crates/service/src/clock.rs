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
    let took = answered - asked;
    if took < TimeDelta::zero() || took > TimeDelta::seconds(1) {
        return;
    }
    let ahead = theirs - (asked + took / 2);
    if let Some(micros) = ahead.num_microseconds() {
        AHEAD.store(micros, Ordering::Relaxed);
    }
}
