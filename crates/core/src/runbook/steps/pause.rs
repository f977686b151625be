//! `pause`: lets time pass.

use super::{
    Action,
    document::{Build, KindDoc},
};
use crate::{Period, expr::Names};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct PauseDoc {
    /// How long.
    pub pause: Period,
}

/// A checked pause.
#[derive(Clone, Copy, Debug)]
pub struct Pause {
    /// How long.
    pub long: Period,
}

impl KindDoc for PauseDoc {
    const KEYS: &'static [&'static str] = &["pause"];

    fn build(self, _: &mut Build<'_, '_>, _: &str, _: Names<'_>) -> Option<Action> {
        Some(Action::Pause(Pause { long: self.pause }))
    }
}

impl Pause {
    pub(super) fn does(self) -> String {
        self.long.to_string()
    }
}
