//! Which rules concern an alert, and why.
//!
//! [`test`] asks one rule; [`Matcher`] asks a whole published set in time that hardly depends on
//! its size, with the same answer; [`explain`] says clause by clause what a rule makes of an
//! alert. What follows a match is [`crate::settle`]'s business.
//!
//! ```
//! use arvok_core::{
//!     NewAlert, alert::Received, definition::Defined, document::parse_file, matcher::Matcher,
//!     rule::Rule,
//! };
//! use chrono::DateTime;
//! use std::sync::Arc;
//!
//! let text = "rule: disk-filling\nlisten: { kinds: [disk.*], severity: major.. }\n\
//!     dispatch: { runbook: grow-disk }\n";
//! let documents = parse_file("rules.yaml", text).expect("is YAML");
//! let rule = Rule::check(&documents[0]).expect("is a rule");
//! let matcher = Matcher::new(vec![(Arc::new(rule), 1)]);
//!
//! let alert: NewAlert = serde_json::from_value(serde_json::json!({
//!     "kind": "disk.usage", "severity": "critical", "resource": "vm/quill-booking-db-1",
//! }))
//! .expect("an alert");
//! let delivery =
//!     Received { source: "yard", received: DateTime::UNIX_EPOCH, fallback_id: "1" };
//! let alert = alert.complete(delivery).expect("whole");
//! assert_eq!(matcher.matching(&alert).len(), 1);
//! ```

mod explain;
mod index;

pub use explain::{Clause, explain, near, shortfall};
pub use index::{Hit, Matcher};

use crate::{
    Alert,
    glob::Glob,
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
    hears(&rule.listen, alert)
}

/// Whether whoever listens so hears an alert.
pub fn hears(listen: &Listen, alert: &Alert) -> Match {
    if !lines_hold(listen, alert) {
        return Match::No;
    }
    let Some(condition) = &listen.condition else {
        return Match::Yes;
    };
    match condition.holds(&AlertScope(alert)) {
        Ok(true) => Match::Yes,
        Ok(false) => Match::No,
        Err(e) if e.missing => Match::No,
        Err(e) => Match::Broken(format!("where: {e}")),
    }
}

fn any(globs: Option<&Vec<Glob>>, text: &str) -> bool {
    globs.is_none_or(|g| g.iter().any(|g| g.matches(text)))
}

fn lines_hold(listen: &Listen, alert: &Alert) -> bool {
    listen.states.contains(&alert.state)
        && any(listen.sources.as_ref(), &alert.source)
        && any(listen.kinds.as_ref(), &alert.kind)
        && listen.severity.as_ref().is_none_or(|s| s.iter().any(|r| r.contains(alert.severity)))
        && any(listen.resource.as_ref(), alert.resource.as_str())
        && listen.labels.iter().all(|(name, globs)| {
            alert.labels.get(name).is_some_and(|v| globs.iter().any(|g| g.matches(v)))
        })
}

#[cfg(test)]
mod tests;
