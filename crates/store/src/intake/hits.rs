//! The rules that an alert matches.

use arvok_core::{
    Alert,
    matcher::{self, Matcher},
    rule::{Placed, Rule},
};

/// A rule that an alert matches, and where the alert belongs there, or why that cannot be said.
pub(super) struct Hit<'a> {
    pub rule: &'a Rule,
    pub version: i32,
    pub placed: Result<Placed, String>,
}

/// The rules that an alert matches.
pub(super) fn hits<'a>(matcher: &'a Matcher, alert: &Alert) -> Vec<Hit<'a>> {
    let place = |hit: matcher::Hit<'a>| {
        let placed = match hit.broken {
            Some(why) => Err(why),
            None => hit.rule.place(alert).map_err(|e| e.to_string()),
        };
        Hit { rule: hit.rule, version: hit.version, placed }
    };
    matcher.matching(alert).into_iter().map(place).collect()
}
