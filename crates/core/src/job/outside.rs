//! What a job waits for outside of it, and what it tells: decisions of people, events, jobs of its
//! own, events that it makes.

use super::{JobEffect, JobState, Place};
use crate::{
    Alert, AlertState, JobId, Principal, ResourcePath, Role, Severity, glob::Glob, source::OWN,
};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// What an open step waits for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outside {
    /// A person.
    Decision,
    /// An event.
    Event,
    /// A job of its own.
    Job(JobId),
    /// The turn of its call among those of a connection.
    Turn,
}

/// A question to a person.
#[derive(Clone, Debug, PartialEq)]
pub struct Question {
    /// The step.
    pub place: Place,
    /// Who may decide.
    pub to: Decider,
    /// What is asked.
    pub text: String,
    /// What may be chosen: names, and what they mean for people.
    pub choices: Vec<(String, String)>,
    /// Until when it stands.
    pub until: DateTime<Utc>,
    /// What nobody's decision means; none: the step fails.
    pub unanswered: Option<String>,
    /// Whether whoever has the link may decide without signing in.
    pub by_link: bool,
    /// Who may answer by mail: addresses and globs.
    pub by_mail: Vec<String>,
}

/// Who may decide.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Decider {
    /// Whoever has this role at least.
    Role(Role),
    /// Whoever has the token of this name.
    Person(String),
    /// A contact: a person, or the members of a team.
    Contact {
        /// The contact.
        name: String,
        /// The names of their tokens.
        tokens: Vec<String>,
    },
}

/// What a person decided.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Decided {
    /// The choice.
    pub choice: String,
    /// Who.
    pub by: Principal,
    /// By which way: `command`, `console`, `link`, `api`.
    pub how: String,
    /// A remark; may be empty.
    pub remark: String,
}

/// An event that a step begins to wait for.
#[derive(Clone, Debug, PartialEq)]
pub struct EventWait {
    /// The step.
    pub place: Place,
    /// Which event.
    pub chosen: EventSelector,
    /// From when on it counts.
    pub since: DateTime<Utc>,
}

/// Which event is waited for, apart from its condition. An empty list holds for any.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct EventSelector {
    /// Sources, globs allowed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sources: Vec<String>,
    /// Kinds.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub kinds: Vec<String>,
    /// Resources.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub resource: Vec<String>,
    /// States.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub states: Vec<AlertState>,
    /// Labels and their values.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, Vec<String>>,
}

/// The kind of the events as which calls back enter.
pub const CALLED_BACK: &str = "call.answered";

impl EventSelector {
    /// The event as which the call back of a try of a step enters: no other has the same.
    pub fn call_back(job: JobId, place: &Place, attempt: u32) -> Self {
        let label = |name: &str, value: String| (name.to_owned(), vec![value]);
        Self {
            sources: vec![OWN.to_owned()],
            kinds: vec![CALLED_BACK.to_owned()],
            resource: vec![format!("job/{job}")],
            labels: [label("step", place.to_string()), label("attempt", attempt.to_string())]
                .into(),
            ..Self::default()
        }
    }

    /// Why it chooses nothing: a text that is no glob.
    pub(super) fn diagnostic(&self) -> Option<String> {
        let lists =
            [&self.sources, &self.kinds, &self.resource].into_iter().chain(self.labels.values());
        lists.flatten().find_map(|text| Glob::parse(text).err().map(|e| e.to_string()))
    }

    /// Whether an alert is such an event.
    pub fn matches(&self, alert: &Alert) -> bool {
        self.compiled().matches(alert)
    }

    /// For whoever asks of many alerts.
    pub fn compiled(&self) -> CompiledChosen<'_> {
        let globs = |texts: &[String]| -> Vec<Option<Glob>> {
            texts.iter().map(|t| Glob::parse(t).ok()).collect()
        };
        CompiledChosen {
            sources: globs(&self.sources),
            kinds: globs(&self.kinds),
            resource: globs(&self.resource),
            states: &self.states,
            labels: self.labels.iter().map(|(name, texts)| (name.as_str(), globs(texts))).collect(),
        }
    }

    /// A label of which only exact values will do, and these.
    pub fn exact_label(&self) -> Option<(&str, &[String])> {
        let exact = |text: &String| Glob::parse(text).is_ok_and(|glob| glob.exact().is_some());
        let mut labels = self.labels.iter();
        labels
            .find(|(_, texts)| !texts.is_empty() && texts.iter().all(exact))
            .map(|(n, t)| (n.as_str(), t.as_slice()))
    }

    /// The one text by which such events are looked up: a resource, else a kind, else a source, if
    /// only one is named and without a glob; each with the letter that tells which it is. None: all
    /// alerts must be looked at.
    pub fn keys(&self) -> Vec<String> {
        for (letter, texts) in [('r', &self.resource), ('k', &self.kinds), ('s', &self.sources)] {
            let exact = |text: &String| Glob::parse(text).ok().is_some_and(|g| g.exact().is_some());
            if !texts.is_empty() && texts.iter().all(exact) {
                return texts.iter().map(|text| format!("{letter}{text}")).collect();
            }
        }
        vec!["*".into()]
    }
}

/// The same, its globs compiled.
#[derive(Debug)]
pub struct CompiledChosen<'a> {
    /// A text that is no glob is none, and matches nothing.
    sources: Vec<Option<Glob>>,
    kinds: Vec<Option<Glob>>,
    resource: Vec<Option<Glob>>,
    states: &'a [AlertState],
    labels: Vec<(&'a str, Vec<Option<Glob>>)>,
}

impl CompiledChosen<'_> {
    /// Whether an alert is such an event.
    pub fn matches(&self, alert: &Alert) -> bool {
        let any = |globs: &[Option<Glob>], text: &str| {
            globs.is_empty() || globs.iter().flatten().any(|g| g.matches(text))
        };
        any(&self.sources, &alert.source)
            && any(&self.kinds, &alert.kind)
            && any(&self.resource, alert.resource.as_str())
            && (self.states.is_empty() || self.states.contains(&alert.state))
            && self
                .labels
                .iter()
                .all(|(name, globs)| alert.labels.get(*name).is_some_and(|label| any(globs, label)))
    }
}

/// A job that a step has done.
#[derive(Clone, Debug, PartialEq)]
pub struct Launching {
    /// The step.
    pub place: Place,
    /// Its runbook.
    pub runbook: String,
    /// Its inputs.
    pub give: Map<String, Value>,
}

/// A job of a step that is not needed any more.
#[derive(Clone, Debug, PartialEq)]
pub struct Recall {
    /// The step.
    pub place: Place,
    /// The job.
    pub job: JobId,
    /// Whether what it did is taken back.
    pub undo: bool,
    /// Why.
    pub words: String,
}

/// How the job of a step ended.
#[derive(Clone, Debug, PartialEq)]
pub struct ChildEnd {
    /// Its number.
    pub job: JobId,
    /// Its state.
    pub state: JobState,
    /// Whether it helped.
    pub effect: JobEffect,
    /// Why it did not succeed.
    pub failure: Option<String>,
    /// What it gave.
    pub outputs: Value,
}

/// An event that a job tells of.
#[derive(Clone, Debug, PartialEq)]
pub struct Emitted {
    /// The step.
    pub place: Place,
    /// No other event has the same.
    pub id: String,
    /// Its kind.
    pub kind: String,
    /// How grave it is.
    pub severity: Severity,
    /// Whether something begins, ends, or is merely mentioned.
    pub state: AlertState,
    /// What it is about.
    pub resource: ResourcePath,
    /// One line for people.
    pub say: String,
    /// Names and values.
    pub labels: BTreeMap<String, String>,
    /// Anything more.
    pub give: Value,
}
