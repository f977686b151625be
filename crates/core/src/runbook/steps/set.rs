//! `set`: works values out, for the steps behind it.

use super::{
    Action,
    document::{Build, KindDoc},
};
use crate::expr::{Names, Template, Type};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::sync::Arc;

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct SetDoc {
    /// Values by name; later steps see them as `steps.<id>.<name>`.
    pub set: Map<String, Value>,
}

/// Checked values.
#[derive(Clone, Debug)]
pub struct Set {
    /// A map.
    pub values: Template,
    names: Vec<String>,
}

impl KindDoc for SetDoc {
    const KEYS: &'static [&'static str] = &["set"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let own = self.set.keys().cloned().collect();
        let values = build.check.template(&format!("{at}/set"), &Value::Object(self.set), names)?;
        Some(Action::Set(Set { values, names: own }))
    }
}

impl Set {
    pub(super) fn names(&self) -> Vec<&str> {
        self.names.iter().map(String::as_str).collect()
    }

    pub(super) fn gives(&self) -> Type {
        Type::Record(Arc::new(self.names.iter().map(|n| (n.clone(), Type::Any)).collect()))
    }
}
