//! `finish`: ends the job here, well or not.

use super::{
    Action,
    document::{Build, KindDoc},
    require,
};
use crate::{
    expr::{Names, Template},
    runbook::type_environment::{Evaluated, TypeEnvironment, Visitor},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct FinishDoc {
    /// How the job ends. After `succeeded` nothing is left to prove; `failed` is a failure as that
    /// of any step.
    pub finish: FinishState,
    /// Why, for people.
    #[serde(default)]
    pub because: Option<String>,
}

crate::words! {
    /// How a job is ended by a step.
    #[derive(JsonSchema)]
    pub enum FinishState("outcome") {
        /// All that was to be done is done.
        Succeeded = "succeeded",
        /// It could not be done.
        Failed = "failed",
    }
}

/// A checked end.
#[derive(Clone, Debug)]
pub struct Finish {
    /// How the job ends.
    pub outcome: FinishState,
    /// Why.
    pub because: Option<Template>,
}

impl KindDoc for FinishDoc {
    const KEYS: &'static [&'static str] = &["finish", "because"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        if build.is_beside() {
            build.check.fail(
                &format!("{at}/finish"),
                "a job is not ended within `each` or `together`; put it behind",
            );
        }
        let because = require::text(build, &format!("{at}/because"), self.because, names)?;
        Some(Action::Finish(Finish { outcome: self.finish, because }))
    }
}

impl Finish {
    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        if let Some(text) = &self.because {
            look(&format!("{at}/because"), Evaluated::Template(text), known.names());
        }
    }
}
