//! Which rules concern an alert. Every rule is asked in turn, cheapest conditions first.
//!
//! Owns globs and the test of `listen`; what follows a match is [`crate::settle`]'s.

mod glob;

pub use glob::Glob;

use crate::{
    Alert,
    rule::{AlertScope, Listen, Rule},
};

/// What a rule says to an alert.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Match {
    /// All lines hold.
    Yes,
    /// Some line does not.
    No,
    /// `where` went wrong other than by a missing field; it does not match.
    Broken(String),
}

/// Asks one rule.
pub fn test(rule: &Rule, alert: &Alert) -> Match {
    if !lines_hold(&rule.listen, alert) {
        return Match::No;
    }
    let Some(condition) = &rule.listen.condition else {
        return Match::Yes;
    };
    match condition.holds(&AlertScope(alert)) {
        Ok(true) => Match::Yes,
        Ok(false) => Match::No,
        Err(e) if e.missing => Match::No,
        Err(e) => Match::Broken(format!("where: {e}")),
    }
}

fn lines_hold(listen: &Listen, alert: &Alert) -> bool {
    let any = |globs: &Option<Vec<Glob>>, text: &str| globs.as_ref().is_none_or(|g| g.iter().any(|g| g.matches(text)));
    listen.states.contains(&alert.state)
        && any(&listen.sources, &alert.source)
        && any(&listen.kinds, &alert.kind)
        && listen.severity.as_ref().is_none_or(|s| s.iter().any(|r| r.contains(alert.severity)))
        && any(&listen.resource, alert.resource.as_str())
        && listen
            .labels
            .iter()
            .all(|(name, globs)| alert.labels.get(name).is_some_and(|v| globs.iter().any(|g| g.matches(v))))
}

#[cfg(test)]
mod tests;
