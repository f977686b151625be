//! `each`: the same steps for each item of a list, several at once if wished.

use super::{
    Action, Step,
    document::{Build, KindDoc},
    look_at_length, visit,
};
use crate::{
    document::Checker,
    expr::{Expr, Length, LengthDoc, Names, Type},
    runbook::type_environment::{Evaluated, TypeEnvironment, Visitor},
    share::{Share, ShareDoc},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::iter;

/// Most items of one list.
pub const MAX_ITEMS: usize = 1_000;
/// Most items at once.
const MOST_AT_ONCE: usize = 100;
/// Most sizes of waves that are named.
const MAX_WAVES: usize = 50;

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct EachDoc {
    /// An expression that gives a list, of at most 1000 items.
    pub each: String,
    /// The name of an item in the steps.
    #[serde(rename = "as")]
    pub name: String,
    /// How many items at once, at most 100. Left out: 1.
    #[serde(default)]
    pub at_once: Option<usize>,
    /// How many items belong to the first wave, to the second and so on: numbers, or shares of all
    /// such as `25%`, rounded down and at least one; the last is that of all further waves. A wave
    /// begins when all items of those before it are over. Left out: all are one wave.
    #[serde(default)]
    pub waves: Vec<ShareDoc>,
    /// How long to wait between two waves. Left out: not at all.
    #[serde(default)]
    pub between: Option<LengthDoc>,
    /// As soon as so many items have failed, no further one is begun; those under way end, and the
    /// step fails. With `failures: report` only. Left out: however many.
    #[serde(default)]
    pub stop_after: Option<usize>,
    /// What follows when the steps of an item fail. Left out: `stop`.
    #[serde(default)]
    pub failures: Failures,
    /// An expression: what of each item is given to the steps behind. Left out: what its steps
    /// gave, by id.
    #[serde(default)]
    pub gives: Option<String>,
    /// What is done for each item.
    #[schemars(with = "Vec<super::StepDoc>")]
    pub steps: Vec<Map<String, Value>>,
}

/// What follows when the steps of one item fail.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Failures {
    /// The step fails; no further item is begun.
    #[default]
    Stop,
    /// The others go on; the output says which failed, and why.
    Report,
}

/// A checked loop.
#[derive(Clone, Debug)]
pub struct Each {
    /// What gives the list.
    pub items: Expr,
    /// The name of an item.
    pub name: String,
    /// How many items at once.
    pub at_once: usize,
    /// How many at most belong to one wave after another.
    pub waves: Waves,
    /// How long to wait between two waves.
    pub between: Option<Length>,
    /// How many may fail until no further one is begun.
    pub stop_after: Option<usize>,
    /// What follows when one fails.
    pub failures: Failures,
    /// What of each item is given to the steps behind.
    pub gives: Option<Expr>,
    /// What is done for each.
    pub steps: Vec<Step>,
}

impl KindDoc for EachDoc {
    const KEYS: &'static [&'static str] =
        &["each", "as", "at_once", "waves", "between", "stop_after", "failures", "gives", "steps"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let items = build.check.expr(&format!("{at}/each"), &self.each, names);
        let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
        let good =
            self.name.starts_with(|c: char| c.is_ascii_lowercase()) && self.name.chars().all(plain);
        if !good {
            let rule = "use lower case letters, digits and _, a letter first";
            build.check.fail(
                &format!("{at}/as"),
                format!("`{}` cannot be the name of an item; {rule}", self.name),
            );
        } else if names.roots.contains(&self.name.as_str()) || self.name == "result" {
            build.check.fail(
                &format!("{at}/as"),
                format!("`{}` stands for something else here already", self.name),
            );
        }
        let at_once = self.at_once.unwrap_or(1);
        if !(1..=MOST_AT_ONCE).contains(&at_once) {
            build.check.fail(&format!("{at}/at_once"), format!("1 to {MOST_AT_ONCE} at once"));
        }
        let waves = Waves::check(build.check, &format!("{at}/waves"), &self.waves);
        let between = match self.between {
            None => Some(None),
            Some(between) => build.within(&format!("{at}/between"), between, names).map(Some),
        };
        if between.as_ref().is_some_and(Option::is_some) && self.waves.is_empty() {
            build.check.fail(&format!("{at}/between"), "there are no `waves` to wait between");
        }
        match (self.stop_after, self.failures) {
            (Some(0), _) => build.check.fail(&format!("{at}/stop_after"), "at least 1"),
            (Some(_), Failures::Stop) => {
                let wrong = "without `failures: report` the first failure stops the list already";
                build.check.fail(&format!("{at}/stop_after"), wrong);
            }
            _ => {}
        }
        let roots = [names.roots, &[self.name.as_str()]].concat();
        let within = Names { roots: &roots, ..names };
        let steps = build.steps_beside(&format!("{at}/steps"), self.steps, within);
        let gives = match &self.gives {
            None => Some(None),
            Some(text) => build.check.expr(&format!("{at}/gives"), text, within).map(Some),
        };
        Some(Action::Each(Box::new(Each {
            items: items?,
            name: self.name,
            at_once,
            waves: waves?,
            between: between?,
            stop_after: self.stop_after,
            failures: self.failures,
            gives: gives?,
            steps: steps?,
        })))
    }
}

/// How many items belong to one wave after another.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Waves(Vec<Share>);

impl Waves {
    fn check(check: &mut Checker<'_>, at: &str, docs: &[ShareDoc]) -> Option<Self> {
        if docs.len() > MAX_WAVES {
            check.fail(at, format!("names {} waves; {MAX_WAVES} are allowed", docs.len()));
        }
        let sizes = docs.iter().enumerate().map(|(n, doc)| {
            let size = doc.read().filter(|size| *size != Share::Number(0));
            if size.is_none() {
                let wrong = "is a number from 1, or a share of all items from 1% to 100%";
                check.fail(&format!("{at}/{n}"), wrong);
            }
            size
        });
        sizes.collect::<Vec<_>>().into_iter().collect::<Option<_>>().map(Self)
    }

    /// Whether nothing is said, and all items are one wave.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether a wave other than the first begins with this item of so many.
    pub fn begins_with(&self, item: usize, of: usize) -> bool {
        let Some(last) = self.0.last() else { return false };
        let all = u32::try_from(of).ok();
        let sizes = self.0.iter().chain(iter::repeat(last));
        let mut first = 0;
        for size in sizes {
            first += usize::try_from(size.of(all)).unwrap_or(usize::MAX).min(of).max(1);
            if first >= item {
                break;
            }
        }
        item > 0 && item < of && first == item
    }
}

impl Each {
    pub(super) fn does(&self) -> String {
        let all = format!("{} of {}", self.name, self.items.text());
        if self.waves.is_empty() {
            return all;
        }
        let sizes: Vec<String> = self.waves.0.iter().map(ToString::to_string).collect();
        let between = self.between.as_ref().map_or_else(String::new, |b| format!(", {b} between"));
        format!("{all}, in waves of {}{between}", sizes.join(", then "))
    }

    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        look(&format!("{at}/each"), Evaluated::List(&self.items), known.names());
        look_at_length(&format!("{at}/between"), self.between.as_ref(), known, look);
        let mut within = known.clone();
        within.bind(&self.name, Type::Any);
        visit(&self.steps, &format!("{at}/steps"), &mut within, look);
        if let Some(gives) = &self.gives {
            look(&format!("{at}/gives"), Evaluated::Expr(gives), within.names());
        }
    }
}
