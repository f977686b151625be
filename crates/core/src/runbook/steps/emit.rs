//! `emit`: tells of something as an event, which is an alert of the source `arvok`.

use super::{
    Action,
    document::{Build, KindDoc},
};
use crate::{
    AlertState, Severity,
    expr::{Names, Template},
    runbook::type_environment::{Evaluated, TypeEnvironment, Visitor},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct EmitDoc {
    /// Its kind, such as `import.done`; `job`, `decision` and `node` are Arvok's own.
    pub emit: String,
    /// What it is about. Left out: the target of the job.
    #[serde(default)]
    pub resource: Option<String>,
    /// Left out: `indeterminate`.
    #[serde(default)]
    pub severity: Severity,
    /// Left out: `noted`.
    #[serde(default = "noted")]
    pub state: AlertState,
    /// One line for people.
    #[serde(default)]
    pub say: Option<String>,
    /// Names and values.
    #[serde(default)]
    pub labels: Map<String, Value>,
    /// Anything more; rules and `await` see it as `body.given`.
    #[serde(default)]
    pub give: Map<String, Value>,
}

fn noted() -> AlertState {
    AlertState::Noted
}

/// Beginnings of kinds that Arvok's own events have.
const OWN: [&str; 5] = ["job", "decision", "node", "source", "arvok"];

/// A checked event.
#[derive(Clone, Debug)]
pub struct Emit {
    /// Its kind.
    pub kind: String,
    /// How grave it is.
    pub severity: Severity,
    /// Whether something begins, ends, or is merely mentioned.
    pub state: AlertState,
    /// `resource`, `say`, `labels` and `give`, as far as they are given.
    pub values: Template,
}

impl KindDoc for EmitDoc {
    const KEYS: &'static [&'static str] =
        &["emit", "resource", "severity", "state", "say", "labels", "give"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || "_-".contains(c);
        let parts: Vec<&str> = self.emit.split('.').collect();
        let good = self.emit.len() <= 80
            && parts.len() > 1
            && parts.iter().all(|p| !p.is_empty() && p.chars().all(plain));
        if !good {
            let rule = "use two or more words of lower case letters, digits, _ and -, with dots \
                between, such as `import.done`";
            build.check.fail(
                &format!("{at}/emit"),
                format!("`{}` is not a kind of event; {rule}", self.emit),
            );
        } else if OWN.contains(&parts[0]) {
            build.check.fail(
                &format!("{at}/emit"),
                format!("`{}.…` are Arvok's own events; call it otherwise", parts[0]),
            );
        }
        let mut values = Map::new();
        let texts = [("resource", self.resource), ("say", self.say)];
        values.extend(
            texts.into_iter().filter_map(|(key, text)| Some((key.to_owned(), text?.into()))),
        );
        let maps = [("labels", self.labels), ("give", self.give)];
        values.extend(
            maps.into_iter()
                .filter(|(_, map)| !map.is_empty())
                .map(|(key, map)| (key.to_owned(), json!(map))),
        );
        let mut made = Some(());
        for (key, value) in &values {
            // Each by itself, so that a diagnostic stands where the value does.
            made = build.check.template(&format!("{at}/{key}"), value, names).and(made);
        }
        made?;
        let values = build.check.template(at, &Value::Object(values), names)?;
        Some(Action::Emit(Emit {
            kind: self.emit,
            severity: self.severity,
            state: self.state,
            values,
        }))
    }
}

impl Emit {
    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        look(at, Evaluated::Template(&self.values), known.names());
    }
}
