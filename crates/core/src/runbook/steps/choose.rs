//! `choose`: the first of several branches whose condition holds.

use super::{
    Action, Step, all,
    document::{Build, KindDoc},
    visit,
};
use crate::{
    expr::{Expr, Names},
    runbook::type_environment::{Evaluated, TypeEnvironment, Visitor},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// Most branches.
const MOST: usize = 20;

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct ChooseDoc {
    /// The branches, in the order in which their conditions are asked. If none holds, the job goes
    /// on behind.
    pub choose: Vec<BranchDoc>,
}

/// A branch as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct BranchDoc {
    /// A condition. Left out, only in the last branch: whatever the others leave.
    #[serde(default)]
    pub when: Option<String>,
    /// What is done then.
    #[schemars(with = "Vec<super::StepDoc>")]
    pub steps: Vec<Map<String, Value>>,
}

/// A checked choice.
#[derive(Clone, Debug)]
pub struct Choose {
    /// In the order in which they are asked.
    pub branches: Vec<Branch>,
}

/// A checked branch.
#[derive(Clone, Debug)]
pub struct Branch {
    /// When it is taken; the rest if there is none.
    pub when: Option<Expr>,
    /// What is done then.
    pub steps: Vec<Step>,
}

impl KindDoc for ChooseDoc {
    const KEYS: &'static [&'static str] = &["choose"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let count = self.choose.len();
        if count == 0 || count > MOST {
            build.check.fail(
                &format!("{at}/choose"),
                format!("a choice has 1 to {MOST} branches, not {count}"),
            );
        }
        let branches: Vec<Option<Branch>> = self
            .choose
            .into_iter()
            .enumerate()
            .map(|(i, doc)| {
                let at = format!("{at}/choose/{i}");
                if doc.when.is_none() && i + 1 < count {
                    build.check.fail(
                        &at,
                        "the branches behind this one are never taken: give it a \
                            `when`, or put it last",
                    );
                }
                let when = match doc.when {
                    None => Some(None),
                    Some(text) => {
                        build.check.condition(&format!("{at}/when"), &text, names).map(Some)
                    }
                };
                let steps = build.steps(&format!("{at}/steps"), doc.steps, names);
                Some(Branch { when: when?, steps: steps? })
            })
            .collect();
        Some(Action::Choose(Choose { branches: branches.into_iter().collect::<Option<_>>()? }))
    }
}

impl Choose {
    pub(super) fn inner(&self) -> Vec<(String, &[Step])> {
        self.branches
            .iter()
            .enumerate()
            .map(|(i, b)| (format!("/choose/{i}/steps"), &b.steps[..]))
            .collect()
    }

    pub(super) fn does(&self) -> String {
        let whens = self.branches.iter().map(|b| b.when.as_ref().map_or("else", Expr::text));
        whens.collect::<Vec<_>>().join(" | ")
    }

    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        let before = known.clone();
        for (i, branch) in self.branches.iter().enumerate() {
            let at = format!("{at}/choose/{i}");
            let mut within = before.clone();
            if let Some(when) = &branch.when {
                look(&format!("{at}/when"), Evaluated::Condition(when), before.names());
                within.guard(when);
            }
            visit(&branch.steps, &format!("{at}/steps"), &mut within, look);
            known.take_over(&within);
        }
        self.branches.iter().flat_map(|b| all(&b.steps)).for_each(|s| known.may_have_run(s));
    }
}
