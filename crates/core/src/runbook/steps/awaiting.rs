//! `await`: waits for an event, which is an alert of any source.

use super::{
    Action,
    document::{Build, KindDoc},
    look_at_length, require,
};
use crate::{
    AlertState,
    document::Texts,
    expr::{Expr, Length, LengthDoc, Names, Template, Type},
    runbook::type_environment::{Evaluated, TypeEnvironment, Visitor},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct AwaitDoc {
    /// Which event.
    #[serde(rename = "await")]
    pub event: EventDoc,
    /// From when on it counts. Left out: from the beginning of the step.
    #[serde(default)]
    pub since: Since,
    /// Within which time it must come.
    pub within: LengthDoc,
    /// What is said when it did not.
    #[serde(default, rename = "else")]
    pub otherwise: Option<String>,
}

/// Which event; every line given must hold. Texts may hold `${ ... }`.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct EventDoc {
    /// Names of sources, globs allowed.
    #[serde(default)]
    pub sources: Option<Texts>,
    /// Kinds, globs allowed.
    #[serde(default)]
    pub kinds: Option<Texts>,
    /// Resources, globs allowed: `*` within a part, `**` across parts.
    #[serde(default)]
    pub resource: Option<Texts>,
    /// Alert states. Left out: any.
    #[serde(default)]
    pub states: Option<Texts>,
    /// Labels and their values, globs allowed.
    #[serde(default)]
    pub labels: BTreeMap<String, Texts>,
    /// A condition over `event`; a missing field means that it is not the one.
    #[serde(default, rename = "where")]
    pub condition: Option<String>,
}

/// From when on an event counts.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Since {
    /// From the beginning of the step.
    #[default]
    Step,
    /// From the making of the job: also if it came before this step began.
    Job,
}

/// A checked wait.
#[derive(Clone, Debug)]
pub struct Await {
    /// Sources; none: any.
    pub sources: Option<Template>,
    /// Kinds.
    pub kinds: Option<Template>,
    /// Resources.
    pub resource: Option<Template>,
    /// States; none: any.
    pub states: Vec<AlertState>,
    /// Labels.
    pub labels: Vec<(String, Template)>,
    /// What must hold of the event.
    pub condition: Option<Expr>,
    /// From when on it counts.
    pub since: Since,
    /// Within which time it must come.
    pub within: Length,
    /// What is said when it did not.
    pub otherwise: Option<Template>,
    /// What it waits for, as written.
    words: String,
}

impl KindDoc for AwaitDoc {
    const KEYS: &'static [&'static str] = &["await", "since", "within", "else"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let (doc, event) = (self.event, format!("{at}/await"));
        if doc.sources.is_none() && doc.kinds.is_none() && doc.resource.is_none() {
            build.check.fail(&event, "says too little; name `sources`, `kinds` or a `resource`");
        }
        let within = build.within(&format!("{at}/within"), self.within, names);
        let lines = [&doc.sources, &doc.kinds, &doc.resource].into_iter().flatten();
        let words = lines.map(|texts| texts.0.join(" or ")).collect::<Vec<_>>().join(" ");
        let mut bad = false;
        let mut texts = |build: &mut Build<'_, '_>, key: &str, texts: Option<Texts>| {
            let texts = texts?;
            let at = format!("{event}/{key}");
            if texts.0.is_empty() {
                build
                    .check
                    .fail(&at, "is an empty list: nothing could ever come; leave the line out");
            }
            let one = build.check.value_at(&at).is_some_and(Value::is_string);
            let value = if one { texts.0.into_iter().next().into() } else { Value::from(texts.0) };
            // Names of events look as if they meant a value: `job.resumed`.
            let filled = value.to_string().contains("${");
            let names = if filled { names } else { Names { roots: &[], ..names } };
            let made = build.check.template(&at, &value, names);
            bad |= made.is_none();
            made
        };
        let sources = texts(build, "sources", doc.sources);
        let kinds = texts(build, "kinds", doc.kinds);
        let resource = texts(build, "resource", doc.resource);
        let labels = doc.labels.into_iter().filter_map(|(name, values)| {
            let values = texts(build, &format!("labels/{name}"), Some(values))?;
            Some((name, values))
        });
        let labels = labels.collect();
        let mut states = Vec::new();
        for word in doc.states.into_iter().flat_map(|s| s.0) {
            match AlertState::parse(&word) {
                Some(state) => states.push(state),
                None => build.check.fail(
                    &format!("{event}/states"),
                    format!("`{word}` is not raised, cleared or noted"),
                ),
            }
        }
        let with_event = [names.roots, &["event"]].concat();
        let condition = match doc.condition {
            None => Some(None),
            Some(text) => {
                let names = Names { roots: &with_event, ..names };
                build.check.condition(&format!("{event}/where"), &text, names).map(Some)
            }
        };
        let otherwise = require::text(build, &format!("{at}/else"), self.otherwise, names);
        let (condition, otherwise, within) = (condition?, otherwise?, within?);
        let since = self.since;
        let made = Await {
            sources,
            kinds,
            resource,
            states,
            labels,
            condition,
            since,
            within,
            otherwise,
            words,
        };
        (!bad).then(|| Action::Await(Box::new(made)))
    }
}

impl Await {
    /// What chooses the event but `where`, each with the key that it stands under.
    pub fn chooses(&self) -> impl Iterator<Item = (String, &Template)> {
        let lines =
            [("sources", &self.sources), ("kinds", &self.kinds), ("resource", &self.resource)];
        let lines = lines.into_iter().filter_map(|(key, of)| Some((key.to_owned(), of.as_ref()?)));
        lines.chain(self.labels.iter().map(|(name, of)| (format!("labels/{name}"), of)))
    }

    pub(super) fn does(&self) -> String {
        format!("{}, within {}", self.words, self.within)
    }

    /// What the steps behind know of the event.
    pub(super) fn gives() -> Type {
        let texts = [
            "id", "source", "kind", "severity", "state", "resource", "time", "received", "summary",
        ];
        let others = [
            ("value".to_owned(), Type::Any),
            ("labels".to_owned(), Type::Map(std::sync::Arc::new(Type::Text))),
            ("body".to_owned(), Type::Any),
        ];
        Type::record(texts.map(|n| (n.to_owned(), Type::Text)).into_iter().chain(others))
    }

    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        for (key, of) in self.chooses() {
            look(&format!("{at}/await/{key}"), Evaluated::Template(of), known.names());
        }
        look_at_length(&format!("{at}/within"), Some(&self.within), known, look);
        if let Some(condition) = &self.condition {
            let mut within = known.clone();
            within.bind("event", Type::Any);
            look(&format!("{at}/await/where"), Evaluated::Condition(condition), within.names());
        }
        if let Some(text) = &self.otherwise {
            look(&format!("{at}/else"), Evaluated::Template(text), known.names());
        }
    }
}
