//! Numbers and times of a query, refused in words that name what came and what was expected.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Deserializer, de::Error};
use std::str::FromStr;

/// A whole number.
pub(super) fn number<'de, T: FromStr, D: Deserializer<'de>>(given: D) -> Result<Option<T>, D::Error> {
    parsed(given, "a whole number")
}

/// A time (RFC 3339).
pub(super) fn time<'de, D: Deserializer<'de>>(given: D) -> Result<Option<DateTime<Utc>>, D::Error> {
    parsed(given, "a time such as 2026-11-25T14:03:21Z")
}

fn parsed<'de, T: FromStr, D: Deserializer<'de>>(given: D, expected: &str) -> Result<Option<T>, D::Error> {
    let text = String::deserialize(given)?;
    let refused = |_| D::Error::custom(format!("`{}` is not {expected}", arvok_core::text::cut(&text, 80)));
    text.parse().map(Some).map_err(refused)
}
