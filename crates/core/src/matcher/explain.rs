//! Why a rule matches an alert or not: each clause with its truth and the values it saw.

use super::any;
use crate::{
    Alert,
    glob::Glob,
    rule::{AlertScope, Listen, Rule},
};
use std::fmt::Display;

/// One condition of a rule, asked of one alert.
#[derive(Clone, Debug, PartialEq)]
pub struct Clause {
    /// The line of `listen`: `sources`, `kinds`, `severity`, `resource`, `states`, `labels`,
    /// `where`.
    pub line: &'static str,
    /// What is demanded, as written.
    pub text: String,
    /// Whether it holds; none when that cannot be said.
    pub holds: Option<bool>,
    /// What went wrong, if something did.
    pub error: Option<String>,
    /// The fields it looked at, and what they held; none where they are missing.
    pub saw: Vec<(String, Option<String>)>,
}

impl Clause {
    fn line(
        line: &'static str,
        text: String,
        holds: bool,
        field: String,
        value: Option<&str>,
    ) -> Self {
        Self {
            line,
            text,
            holds: Some(holds),
            error: None,
            saw: vec![(field, value.map(str::to_owned))],
        }
    }
}

fn list<T>(items: &[T], show: impl Fn(&T) -> String) -> String {
    items.iter().map(show).collect::<Vec<_>>().join(", ")
}

fn words<T: Display>(items: &[T]) -> String {
    list(items, ToString::to_string)
}

/// All clauses, in the order of the document; the states come first, since every rule has them.
pub fn explain(rule: &Rule, alert: &Alert) -> Vec<Clause> {
    let mut clauses = lines(&rule.listen, alert);
    if let Some(condition) = &rule.listen.condition {
        clauses.extend(condition.explain(&AlertScope(alert)).into_iter().map(|p| Clause {
            line: "where",
            text: p.text,
            holds: p.holds,
            error: p.error,
            saw: p.saw,
        }));
    }
    clauses
}

fn lines(listen: &Listen, alert: &Alert) -> Vec<Clause> {
    let state = alert.state.as_str();
    let fits = listen.states.contains(&alert.state);
    let mut clauses = vec![Clause::line(
        "states",
        words(&listen.states),
        fits,
        "alert.state".into(),
        Some(state),
    )];
    let globs = |line, globs: Option<&Vec<Glob>>, field: &str, value: &str| {
        let text = list(globs?, |g| g.as_str().to_owned());
        Some(Clause::line(line, text, any(globs, value), format!("alert.{field}"), Some(value)))
    };
    clauses.extend(globs("sources", listen.sources.as_ref(), "source", &alert.source));
    clauses.extend(globs("kinds", listen.kinds.as_ref(), "kind", &alert.kind));
    if let Some(ranges) = &listen.severity {
        let fits = ranges.iter().any(|r| r.contains(alert.severity));
        let severity = Some(alert.severity.as_str());
        clauses.push(Clause::line(
            "severity",
            words(ranges),
            fits,
            "alert.severity".into(),
            severity,
        ));
    }
    clauses.extend(globs(
        "resource",
        listen.resource.as_ref(),
        "resource",
        alert.resource.as_str(),
    ));
    for (name, wanted) in &listen.labels {
        let value = alert.labels.get(name).map(String::as_str);
        let fits = value.is_some_and(|v| any(Some(wanted), v));
        let text = format!("{name}: {}", list(wanted, |g| g.as_str().to_owned()));
        clauses.push(Clause::line("labels", text, fits, format!("alert.labels.{name}"), value));
    }
    clauses
}

/// How many clauses do not hold.
pub fn shortfall(clauses: &[Clause]) -> usize {
    clauses.iter().filter(|c| c.holds != Some(true)).count()
}

/// The clauses of a rule that an alert misses by one, where something other than the state
/// holds; none for a rule that matches or is further off.
pub fn near(rule: &Rule, alert: &Alert) -> Option<Vec<Clause>> {
    let lines = lines(&rule.listen, alert);
    if shortfall(&lines) > 1 {
        return None;
    }
    let clauses = explain(rule, alert);
    let holding = clauses.iter().filter(|c| c.line != "states" && c.holds == Some(true)).count();
    (shortfall(&clauses) == 1 && holding > 0).then_some(clauses)
}
