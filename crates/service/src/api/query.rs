//! What a query may ask for.

use super::ApiError;
use arvok_api::MAX_PAGE;
use chrono::{DateTime, Datelike, Utc};

/// Refuses a page that is too large, and times beyond what the records hold.
pub(super) fn in_range(
    limit: Option<u64>,
    times: impl IntoIterator<Item = Option<DateTime<Utc>>>,
) -> Result<(), ApiError> {
    if let Some(n) = limit.filter(|n| !(1..=MAX_PAGE).contains(n)) {
        return Err(ApiError::BadRequest(format!("limit={n}: a page has 1 to {MAX_PAGE} items")));
    }
    match times.into_iter().flatten().find(|at| !(1..=9999).contains(&at.year())) {
        Some(at) => Err(ApiError::BadRequest(format!("{at}: the year of a time is 1 to 9999"))),
        None => Ok(()),
    }
}
