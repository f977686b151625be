//! `pause`: lets time pass.

use super::{
    Action,
    document::{Build, KindDoc},
};
use crate::expr::{Length, LengthDoc, Names};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct PauseDoc {
    /// How long.
    pub pause: LengthDoc,
}

/// A checked pause.
#[derive(Clone, Debug)]
pub struct Pause {
    /// How long.
    pub long: Length,
}

impl KindDoc for PauseDoc {
    const KEYS: &'static [&'static str] = &["pause"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        Some(Action::Pause(Pause {
            long: build.check.length(&format!("{at}/pause"), self.pause, names)?,
        }))
    }
}

impl Pause {
    pub(super) fn does(&self) -> String {
        self.long.to_string()
    }
}
