//! Mutes: nothing is done by itself about what one covers, from a moment until another.
//!
//! A mute is no definition: whoever is on call says it beforehand or in the middle of the night,
//! and it ends by itself. It says what it covers ([`MutedLines`]); [`Mute::covers`] asks it of a
//! rule and an alert. What a mute does to what a rule decides is [`crate::settle`]'s business.
//!
//! ```
//! use arvok_core::mute::{Muted, MutedLines};
//!
//! let lines = MutedLines { resource: vec!["vm/quill-*".into()], ..MutedLines::default() };
//! let muted = Muted::check(&lines).expect("covers something");
//! assert_eq!(muted.to_string(), "resource vm/quill-*");
//! assert!(Muted::check(&MutedLines::default()).is_err(), "nothing may mute everything");
//! ```

#[cfg(test)]
mod tests;

use crate::{Alert, Principal, Severity, alert::SeverityRange, glob::Glob, rule::Rule};
use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeMap, fmt};

/// The longest that a mute may last.
pub const LONGEST: TimeDelta = TimeDelta::days(90);

/// Most names and globs of one mute.
pub const MOST_LINES: usize = 100;

/// What a mute covers, as written: every line that is given must hold, of the names and globs of
/// one line any.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct MutedLines {
    /// Names of rules, globs allowed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub rules: Vec<String>,
    /// Names of runbooks, globs allowed: rules are covered that may dispatch one of them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub runbooks: Vec<String>,
    /// Names of sources, globs allowed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub sources: Vec<String>,
    /// Kinds, globs allowed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub kinds: Vec<String>,
    /// Severities, or ranges such as `..minor`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub severity: Vec<String>,
    /// Resources, globs allowed: `*` within a part, `**` across parts.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub resource: Vec<String>,
    /// Labels and their values, globs allowed.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, Vec<String>>,
}

/// Why lines cannot say what a mute covers.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum MutedError {
    /// There is no line.
    #[error(
        "says nothing that it covers; name rules, runbooks, sources, kinds, severity, resource or \
        labels (`arvok halt` stops everything)"
    )]
    Nothing,
    /// Too much is named.
    #[error("names {0} things; {MOST_LINES} are allowed in one mute")]
    Many(usize),
    /// Something of a line cannot be read.
    #[error("{line}: {error}")]
    Line {
        /// The line.
        line: String,
        /// What is wrong.
        error: String,
    },
}

/// What a mute covers, checked.
#[derive(Clone, Debug)]
pub struct Muted {
    lines: MutedLines,
    rules: Vec<Glob>,
    runbooks: Vec<Glob>,
    sources: Vec<Glob>,
    kinds: Vec<Glob>,
    severity: Vec<SeverityRange>,
    resource: Vec<Glob>,
    labels: Vec<(String, Vec<Glob>)>,
}

impl Muted {
    /// Checks what is written.
    ///
    /// # Errors
    /// Which line cannot be read, or that nothing or too much is named.
    pub fn check(lines: &MutedLines) -> Result<Self, MutedError> {
        let named = named(lines).map(|(_, texts)| texts.len()).sum::<usize>();
        if named == 0 {
            return Err(MutedError::Nothing);
        }
        if named > MOST_LINES {
            return Err(MutedError::Many(named));
        }
        let labels = lines
            .labels
            .iter()
            .map(|(name, texts)| {
                Ok((name.clone(), parsed(&format!("labels.{name}"), texts, Glob::parse)?))
            })
            .collect::<Result<_, MutedError>>()?;
        Ok(Self {
            rules: parsed("rules", &lines.rules, Glob::parse)?,
            runbooks: parsed("runbooks", &lines.runbooks, Glob::parse)?,
            sources: parsed("sources", &lines.sources, Glob::parse)?,
            kinds: parsed("kinds", &lines.kinds, Glob::parse)?,
            severity: parsed("severity", &lines.severity, SeverityRange::parse)?,
            resource: parsed("resource", &lines.resource, Glob::parse)?,
            labels,
            lines: lines.clone(),
        })
    }

    /// As written.
    pub fn lines(&self) -> &MutedLines {
        &self.lines
    }

    /// Whether it keeps a rule from dispatching one of some runbooks for an alert or alarm. Of one
    /// that is not known any more only what depends on the rule alone is sure.
    pub fn covers<'a>(
        &self,
        rule: &str,
        runbooks: impl IntoIterator<Item = &'a str>,
        subject: Option<MutedSubject<'_>>,
    ) -> bool {
        holds(&self.rules, rule)
            && (self.runbooks.is_empty()
                || runbooks.into_iter().any(|runbook| holds(&self.runbooks, runbook)))
            && subject
                .map_or_else(|| self.names_no_alert(), |subject| self.covers_subject(&subject))
    }

    /// Whether it covers an alert or alarm whatever rule it concerns.
    pub fn covers_for_all(&self, subject: &MutedSubject<'_>) -> bool {
        self.rules.is_empty() && self.runbooks.is_empty() && self.covers_subject(subject)
    }

    /// Whether it covers all jobs of a runbook: it names runbooks alone.
    pub fn covers_runbook(&self, runbook: &str) -> bool {
        let names_only_runbooks = self.rules.is_empty() && self.names_no_alert();
        names_only_runbooks && !self.runbooks.is_empty() && holds(&self.runbooks, runbook)
    }

    /// Whether it covers all that is done about a resource: it names resources alone.
    pub fn covers_resource(&self, resource: &str) -> bool {
        let Self { rules, runbooks, sources, kinds, severity, labels, .. } = self;
        let names_only_resources = rules.is_empty()
            && runbooks.is_empty()
            && sources.is_empty()
            && kinds.is_empty()
            && severity.is_empty()
            && labels.is_empty();
        names_only_resources && !self.resource.is_empty() && holds(&self.resource, resource)
    }

    /// Whether the lines about alerts hold.
    fn covers_subject(&self, subject: &MutedSubject<'_>) -> bool {
        let labelled = |(name, globs): &(String, Vec<Glob>)| {
            subject.labels.get(name).is_some_and(|value| holds(globs, value))
        };
        holds(&self.sources, subject.source)
            && holds(&self.kinds, subject.kind)
            && (self.severity.is_empty()
                || self.severity.iter().any(|range| range.contains(subject.severity)))
            && holds(&self.resource, subject.resource)
            && self.labels.iter().all(labelled)
    }

    /// Whether it depends on the rule alone.
    fn names_no_alert(&self) -> bool {
        let Self { sources, kinds, severity, resource, labels, .. } = self;
        sources.is_empty()
            && kinds.is_empty()
            && severity.is_empty()
            && resource.is_empty()
            && labels.is_empty()
    }
}

/// What of an alert or an alarm a mute looks at.
#[derive(Clone, Copy, Debug)]
pub struct MutedSubject<'a> {
    /// The source.
    pub source: &'a str,
    /// The kind.
    pub kind: &'a str,
    /// The severity.
    pub severity: Severity,
    /// The resource.
    pub resource: &'a str,
    /// The labels.
    pub labels: &'a BTreeMap<String, String>,
}

impl<'a> From<&'a Alert> for MutedSubject<'a> {
    fn from(alert: &'a Alert) -> Self {
        Self {
            source: &alert.source,
            kind: &alert.kind,
            severity: alert.severity,
            resource: alert.resource.as_str(),
            labels: &alert.labels,
        }
    }
}

/// The lines with what they name.
fn named(lines: &MutedLines) -> impl Iterator<Item = (String, &Vec<String>)> {
    let MutedLines { rules, runbooks, sources, kinds, severity, resource, labels } = lines;
    let plain = [
        ("rules", rules),
        ("runbooks", runbooks),
        ("sources", sources),
        ("kinds", kinds),
        ("severity", severity),
        ("resource", resource),
    ];
    plain
        .into_iter()
        .map(|(line, texts)| (line.to_owned(), texts))
        .chain(labels.iter().map(|(name, texts)| (format!("labels.{name}"), texts)))
}

fn parsed<T, E: fmt::Display>(
    line: &str,
    texts: &[String],
    parse: impl Fn(&str) -> Result<T, E>,
) -> Result<Vec<T>, MutedError> {
    let wrong = |error: String| MutedError::Line { line: line.escape_debug().to_string(), error };
    // No alert has such, and no record holds it.
    if line.contains(char::is_control) || texts.iter().any(|text| text.contains(char::is_control)) {
        return Err(wrong("holds a character that no name has".to_owned()));
    }
    texts.iter().map(|text| parse(text).map_err(|e| wrong(e.to_string()))).collect()
}

/// Whether a line holds: what is not written holds for everything.
fn holds(globs: &[Glob], text: &str) -> bool {
    globs.is_empty() || globs.iter().any(|glob| glob.matches(text))
}

impl fmt::Display for Muted {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let lines = named(&self.lines).filter(|(_, texts)| !texts.is_empty());
        let lines = lines.map(|(line, texts)| format!("{line} {}", texts.join(", ")));
        f.write_str(&lines.collect::<Vec<_>>().join("; "))
    }
}

crate::words! {
    /// How a mute stands.
    pub enum MuteState("state of a mute") {
        /// It has not begun yet.
        Coming = "coming",
        /// It keeps rules from acting.
        Standing = "standing",
        /// Its time is over.
        Over = "over",
        /// Somebody ended it before its time.
        Lifted = "lifted",
    }
}

/// A mute.
#[derive(Clone, Debug)]
pub struct Mute {
    /// Its number.
    pub id: i64,
    /// What it covers.
    pub muted: Muted,
    /// Who said it.
    pub by: Principal,
    /// Why.
    pub reason: String,
    /// When it begins.
    pub from: DateTime<Utc>,
    /// When it ends.
    pub until: DateTime<Utc>,
}

impl Mute {
    /// How it stands at a moment, if nobody has lifted it.
    pub fn state(&self, now: DateTime<Utc>) -> MuteState {
        match now {
            now if now < self.from => MuteState::Coming,
            now if now < self.until => MuteState::Standing,
            _ => MuteState::Over,
        }
    }

    /// Whether it stands at a moment.
    pub fn stands(&self, now: DateTime<Utc>) -> bool {
        self.state(now) == MuteState::Standing
    }

    /// Whether it keeps a rule from acting on an alert.
    pub fn covers(&self, rule: &Rule, alert: Option<&Alert>) -> bool {
        let runbooks = rule.dispatch.iter().map(|entry| entry.runbook.as_str());
        self.muted.covers(&rule.name, runbooks, alert.map(MutedSubject::from))
    }
}

/// Of several mutes that which keeps a rule from acting on an alert for longest.
pub fn longest<'a>(
    mutes: &'a [Mute],
    rule: &Rule,
    alert: Option<&Alert>,
    now: DateTime<Utc>,
) -> Option<&'a Mute> {
    mutes.iter().filter(|m| m.stands(now) && m.covers(rule, alert)).max_by_key(|m| m.until)
}
