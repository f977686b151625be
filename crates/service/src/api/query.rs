//! What a query may ask for.

use super::ApiError;
use arvok_api::MAX_PAGE;
use arvok_core::alert::SeverityRange;
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

/// Whether these are severities as a list may be asked for them.
pub(super) fn severities(text: Option<&str>) -> Result<(), ApiError> {
    let checked = text.map_or(Ok(()), |text| SeverityRange::parse(text).map(|_| ()));
    checked.map_err(|e| ApiError::BadRequest(format!("severity: {e}")))
}

/// Refuses a word of a query that is none of those that are known: nothing would ever be found by
/// it.
pub(super) fn known<'k>(
    name: &str,
    word: Option<&str>,
    known: impl IntoIterator<Item = &'k str>,
) -> Result<(), ApiError> {
    let known: Vec<&str> = known.into_iter().collect();
    match word.filter(|word| !known.contains(word)) {
        Some(word) => {
            Err(ApiError::BadRequest(format!("{name}={word}: it is one of {}", known.join(", "))))
        }
        None => Ok(()),
    }
}
