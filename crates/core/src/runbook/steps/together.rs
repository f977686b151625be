//! `together`: several ways side by side.

use super::{
    Action, Step, all,
    document::{Build, KindDoc},
    visit,
};
use crate::{
    expr::Names,
    runbook::type_environment::{TypeEnvironment, Visitor},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// Most ways.
const MOST: usize = 20;

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct TogetherDoc {
    /// The steps of each way, by its name.
    #[schemars(with = "BTreeMap<String, Vec<super::StepDoc>>")]
    pub together: BTreeMap<String, Vec<Map<String, Value>>>,
    /// Whether all must come to their end, or the first that does ends the others. Left out: `all`.
    #[serde(default)]
    pub until: Until,
}

/// When a job goes on behind steps side by side.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Until {
    /// When all ways are at their end; if one fails, the others are stopped.
    #[default]
    All,
    /// When the first is at its end; the others are stopped. It fails when all fail.
    First,
}

/// Checked ways.
#[derive(Clone, Debug)]
pub struct Together {
    /// By name.
    pub ways: Vec<(String, Vec<Step>)>,
    /// When the job goes on.
    pub until: Until,
}

impl KindDoc for TogetherDoc {
    const KEYS: &'static [&'static str] = &["together", "until"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let count = self.together.len();
        if !(2..=MOST).contains(&count) {
            build.check.fail(
                &format!("{at}/together"),
                format!("there are 2 to {MOST} ways side by side, not {count}"),
            );
        }
        let ways: Vec<_> = self
            .together
            .into_iter()
            .map(|(name, docs)| {
                let steps =
                    build.steps_beside(&format!("{at}/together/{}", escaped(&name)), docs, names);
                steps.map(|steps| (name, steps))
            })
            .collect();
        Some(Action::Together(Together {
            ways: ways.into_iter().collect::<Option<_>>()?,
            until: self.until,
        }))
    }
}

fn escaped(name: &str) -> String {
    name.replace('~', "~0").replace('/', "~1")
}

impl Together {
    pub(super) fn inner(&self) -> Vec<(String, &[Step])> {
        self.ways
            .iter()
            .map(|(name, steps)| (format!("/together/{}", escaped(name)), &steps[..]))
            .collect()
    }

    pub(super) fn does(&self) -> String {
        self.ways.iter().map(|(name, _)| name.as_str()).collect::<Vec<_>>().join(" | ")
    }

    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        let before = known.clone();
        for (below, steps) in self.inner() {
            let mut within = before.clone();
            let at = format!("{at}{below}");
            visit(steps, &at, &mut within, look);
            known.take_over(&within);
            if self.until == Until::First {
                all(steps).into_iter().for_each(|s| known.may_have_run(s));
            }
        }
    }
}
