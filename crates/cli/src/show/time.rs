//! Times for people: exact, and how long ago.

use arvok_core::period::rough;
use chrono::{DateTime, SecondsFormat, Utc};

/// RFC 3339 to the second, and how long ago.
pub fn exact(t: DateTime<Utc>) -> String {
    format!("{} ({})", t.to_rfc3339_opts(SecondsFormat::Secs, true), ago(t))
}

/// How long ago, or in how long.
pub fn ago(t: DateTime<Utc>) -> String {
    let delta = Utc::now() - t;
    if delta < chrono::TimeDelta::zero() {
        format!("in {}", rough(-delta))
    } else {
        format!("{} ago", rough(delta))
    }
}

/// For tables: the time of today, the date before today, in UTC.
pub fn when(t: DateTime<Utc>) -> String {
    if t.date_naive() == Utc::now().date_naive() {
        t.format("%H:%M:%SZ").to_string()
    } else {
        t.format("%m-%d %H:%M").to_string()
    }
}

/// The time between two instants, or until now.
pub fn between(from: Option<DateTime<Utc>>, to: Option<DateTime<Utc>>) -> String {
    from.map_or_else(String::new, |from| rough(to.unwrap_or_else(Utc::now) - from))
}
