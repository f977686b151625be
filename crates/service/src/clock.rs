//! The one place of the service that reads the clock.

use chrono::{DateTime, SubsecRound, Utc};

/// Now, in whole microseconds, which is what PostgreSQL keeps.
pub fn now() -> DateTime<Utc> {
    Utc::now().trunc_subsecs(6)
}
