//! `remember`: writes values of the runbook's memory, for the runs that come after this one.

use super::{
    Action,
    document::{Build, KindDoc},
};
use crate::{
    expr::{Names, Template, Type},
    text::nearest,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct RememberDoc {
    /// Values by their names in `memory`; those that are not named stay.
    pub remember: Map<String, Value>,
}

/// Checked values.
#[derive(Clone, Debug)]
pub struct Remember {
    /// A map.
    pub values: Template,
    names: Vec<String>,
}

impl KindDoc for RememberDoc {
    const KEYS: &'static [&'static str] = &["remember"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let own: Vec<String> = self.remember.keys().cloned().collect();
        let known = names.types.iter().find(|(name, _)| *name == "memory").map(|(_, of)| of);
        if let Some(Type::Record(known)) = known {
            for name in own.iter().filter(|name| !known.contains_key(*name)) {
                let hint = match nearest(name, known.keys().map(String::as_str)) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => "declare it there, with a default".to_owned(),
                };
                let wrong = format!("`memory` has no `{name}`; {hint}");
                build.check.fail(&format!("{at}/remember/{name}"), wrong);
            }
        }
        let values = build.check.template(
            &format!("{at}/remember"),
            &Value::Object(self.remember),
            names,
        )?;
        Some(Action::Remember(Remember { values, names: own }))
    }
}

impl Remember {
    pub(super) fn does(&self) -> String {
        self.names.join(", ")
    }
}
