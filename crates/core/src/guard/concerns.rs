//! Which jobs a guard concerns: every line that is written must hold.

use crate::{
    JobId,
    document::{Checker, Texts},
    glob::Glob,
    rule::Urgency,
    touch::Touch,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// Most names and globs of one line: each is asked of each job that begins.
const MAX_NAMES: usize = 100;

/// Which jobs, as written.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ConcernsDoc {
    /// Names of runbooks, globs allowed.
    pub runbooks: Texts,
    /// Names of rules, globs allowed.
    pub rules: Texts,
    /// Targets, globs allowed: `*` within a part, `**` across parts.
    pub targets: Texts,
    /// The name of a group that the target belongs to.
    pub group: Option<String>,
    /// Labels of the alert that set the job off, globs allowed: one, or several of which one is
    /// enough. What no alert set off has none.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, Texts>,
    /// An urgency, or a range such as `low..high`.
    pub urgency: Option<String>,
    /// Jobs that rules dispatched, those that people launched, from a proposal or by hand, or those
    /// of plans.
    pub launched_by: Option<LaunchedBy>,
}

crate::words! {
    /// Who made a job.
    #[derive(JsonSchema)]
    pub enum LaunchedBy("kind of launch") {
        /// A rule that acts.
        Rules = "rules",
        /// A person, from a proposal or by hand.
        People = "people",
        /// A plan, at one of its times.
        Plans = "plans",
    }
}

/// Which jobs, checked.
#[derive(Clone, Debug)]
pub struct Concerns {
    runbooks: Vec<Glob>,
    rules: Vec<Glob>,
    targets: Vec<Glob>,
    /// The group that the target belongs to.
    pub group: Option<String>,
    labels: Vec<(String, Vec<Glob>)>,
    urgency: Option<(Urgency, Urgency)>,
    launched_by: Option<LaunchedBy>,
}

/// What a guard looks at in a job.
#[derive(Clone, Copy, Debug)]
pub struct GuardedJob<'a> {
    /// Its number.
    pub id: JobId,
    /// Its runbook.
    pub runbook: &'a str,
    /// Its target.
    pub target: &'a str,
    /// The rule that dispatched it or a job above it.
    pub rule: Option<&'a str>,
    /// Who launched it or a job above it.
    pub launched_by: LaunchedBy,
    /// How urgent it is.
    pub urgency: Urgency,
    /// Its inputs.
    pub inputs: &'a Value,
    /// The jobs above it, whose steps it is.
    pub above: &'a [JobId],
    /// Names of the guards that somebody has overruled for it.
    pub overruled: &'a [String],
    /// The labels of the alert that set it off; none where they are not known (they may be any).
    pub labels: Option<&'a BTreeMap<String, String>>,
    /// What another job touched last of its target.
    pub touched: Option<&'a Touch>,
    /// The guard that it was held by before, and that has let it back.
    pub let_back_by: Option<&'a str>,
}

impl Concerns {
    pub(super) fn check(check: &mut Checker<'_>, doc: ConcernsDoc) -> Option<Self> {
        let mut globs = |line: &str, texts: &Texts| {
            let at = format!("/concerns/{line}");
            if texts.0.len() > MAX_NAMES {
                let named = texts.0.len();
                check.fail(&at, format!("names {named} things; {MAX_NAMES} are allowed"));
            }
            let written = check.document().value.pointer(&at);
            if written.is_some() && texts.0.is_empty() {
                check.fail(&at, "names nothing; leave the line out for all of them");
            }
            let one = written.is_some_and(Value::is_string);
            let parsed: Vec<Option<Glob>> = texts
                .placed(&at, one)
                .map(|(at, text)| check.accept(&at, Glob::parse(text)))
                .collect();
            parsed.into_iter().collect::<Option<Vec<_>>>()
        };
        let runbooks = globs("runbooks", &doc.runbooks);
        let rules = globs("rules", &doc.rules);
        let targets = globs("targets", &doc.targets);
        let mut labels = Some(Vec::new());
        for (name, texts) in &doc.labels {
            let globs =
                globs(&format!("labels/{}", name.replace('~', "~0").replace('/', "~1")), texts);
            match (&mut labels, globs) {
                (Some(labels), Some(globs)) => labels.push((name.clone(), globs)),
                _ => labels = None,
            }
        }
        let range = doc.urgency.as_deref().map(urgencies);
        let urgency = match range {
            None => None,
            Some(range) => Some(check.accept("/concerns/urgency", range)?),
        };
        Some(Self {
            runbooks: runbooks?,
            rules: rules?,
            targets: targets?,
            group: doc.group,
            labels: labels?,
            urgency,
            launched_by: doc.launched_by,
        })
    }

    /// Whether a job is concerned, as far as the group of its target is not asked.
    pub fn hold_for(&self, job: &GuardedJob<'_>) -> bool {
        holds(&self.runbooks, job.runbook)
            && (self.rules.is_empty() || job.rule.is_some_and(|rule| holds(&self.rules, rule)))
            && holds(&self.targets, job.target)
            && job.labels.is_none_or(|labels| self.labelled(labels))
            && self.urgency.is_none_or(|(from, to)| (from..=to).contains(&job.urgency))
            && self.launched_by.is_none_or(|by| by == job.launched_by)
    }

    /// Whether an alert has the labels.
    fn labelled(&self, labels: &BTreeMap<String, String>) -> bool {
        let mut lines = self.labels.iter();
        lines.all(|(name, globs)| labels.get(name).is_some_and(|value| holds(globs, value)))
    }

    /// Whether it asks for labels of alerts.
    pub fn asks_labels(&self) -> bool {
        !self.labels.is_empty()
    }

    /// Whether it says of which resources it is, and a resource is one of them; as far as the
    /// group is not asked.
    pub(super) fn selects(&self, resource: &str) -> bool {
        let says = !self.targets.is_empty() || self.group.is_some();
        says && holds(&self.targets, resource)
    }

    /// What is written, line by line, in words.
    pub(super) fn lines(&self) -> Vec<String> {
        let globs = |line: &str, globs: &[Glob]| {
            let names: Vec<&str> = globs.iter().map(Glob::as_str).collect();
            (!names.is_empty()).then(|| format!("{line} {}", names.join(", ")))
        };
        let urgency = self.urgency.map(|(from, to)| match from == to {
            true => format!("urgency {from}"),
            false => format!("urgency {from}..{to}"),
        });
        let labels = self.labels.iter().filter_map(|(name, values)| globs(name, values));
        let labels: Vec<String> = labels.collect();
        let labels = (!labels.is_empty()).then(|| format!("labels {}", labels.join(" and ")));
        let lines = [
            globs("runbooks", &self.runbooks),
            globs("rules", &self.rules),
            globs("targets", &self.targets),
            self.group.as_ref().map(|group| format!("group {group}")),
            labels,
            urgency,
            self.launched_by.map(|by| format!("launched by {by}")),
        ];
        lines.into_iter().flatten().collect()
    }
}

impl<'a> GuardedJob<'a> {
    /// What a rule would dispatch, on a target.
    pub fn of_rule(
        rule: &'a str,
        (runbook, urgency): (&'a str, Urgency),
        target: &'a str,
        labels: Option<&'a BTreeMap<String, String>>,
    ) -> Self {
        Self {
            id: JobId(0),
            runbook,
            target,
            rule: Some(rule),
            launched_by: LaunchedBy::Rules,
            urgency,
            inputs: &Value::Null,
            above: &[],
            overruled: &[],
            labels,
            touched: None,
            let_back_by: None,
        }
    }
}

/// What is not written holds for everything.
fn holds(globs: &[Glob], text: &str) -> bool {
    globs.is_empty() || globs.iter().any(|glob| glob.matches(text))
}

fn urgencies(text: &str) -> Result<(Urgency, Urgency), String> {
    let one = |word: &str| {
        let known = || Urgency::ALL.map(Urgency::as_str).join(", ");
        Urgency::parse(word.trim())
            .ok_or_else(|| format!("`{}` is no urgency; there are {}", word.trim(), known()))
    };
    let (from, to) = match text.split_once("..") {
        None => (one(text)?, one(text)?),
        Some((from, to)) => (
            if from.trim().is_empty() { Urgency::Low } else { one(from)? },
            if to.trim().is_empty() { Urgency::Urgent } else { one(to)? },
        ),
    };
    if from > to {
        return Err(format!("the range {text} is upside down; write {to}..{from}"));
    }
    Ok((from, to))
}
