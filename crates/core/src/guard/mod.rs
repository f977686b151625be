//! The `guard:` document: limits that hold for all jobs of a selection, whoever dispatches them.
//!
//! Owns the document and its check ([`Guard`]), which jobs it concerns ([`Concerns`]), and whether
//! a job may begin by what is known of those before it ([`admission`]). What is published together
//! is asked through [`Guards`], which knows the groups as well. Counting, locking and holding are
//! the records' business.

pub mod admission;
mod concerns;
mod guards;
mod standing;
mod times;
mod words;

pub use admission::{
    Admission, Freeze, GuardHold, GuardState, OpenCircuit, QueuePlace, look_again,
};
pub use concerns::{Concerns, ConcernsDoc, GuardedJob, LaunchedBy};
pub use guards::Guards;
pub use standing::StandingGuard;
pub use times::{AHEAD, AtTimes, KnownTimes, TimesDoc};
pub use words::LineInWords;

use crate::{
    Period, Role,
    definition::{Defined, Definition, Fault, Kind, Mismatch, Others},
    document::{Checker, Document, Problem},
    group::Group,
    share::{Share, ShareDoc},
    touch,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Longest time that a line looks back.
pub const LONGEST: Period = touch::LONGEST;
/// Most of anything that a line counts.
const MOST: u32 = 1_000;
/// Most sets of resources that stand in for each other, and most resources of one.
const MAX_SETS: usize = 500;
const MAX_OF_SET: usize = 20;

/// A guard as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct GuardDoc {
    /// The name.
    pub guard: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// Which jobs. Left out: all.
    #[serde(default)]
    pub concerns: ConcernsDoc,
    /// So many of their targets at once: a number, or a share of `concerns.group` such as `10%`,
    /// rounded down and at least one.
    #[serde(default)]
    pub at_once: Option<ShareDoc>,
    /// So many of them within a time.
    #[serde(default)]
    pub per: Option<PerDoc>,
    /// Sets of resources that stand in for each other: of each set one at a time.
    #[serde(default)]
    pub redundant: Vec<Vec<String>>,
    /// For so long after one of them failed, or did not help, none begins.
    #[serde(default)]
    pub after_failure: Option<Period>,
    /// They begin only on a target that no other job touches, or touched within this time.
    #[serde(default)]
    pub untouched: Option<Period>,
    /// A named input of theirs, added up over a time.
    #[serde(default)]
    pub ceiling: Option<CeilingDoc>,
    /// While an event of a calendar is on, none begins.
    #[serde(default)]
    pub frozen: Option<TimesDoc>,
    /// They begin only while an event of a calendar is on.
    #[serde(default)]
    pub only: Option<TimesDoc>,
    /// After so many failures of a runbook, rules propose its jobs and dispatch none, until a
    /// person says that it goes on.
    #[serde(default)]
    pub circuit: Option<CircuitDoc>,
    /// What becomes of a job that may not begin. Left out: `hold`.
    #[serde(default)]
    pub otherwise: Otherwise,
    /// Who may overrule it, and say that a circuit goes on.
    #[serde(default)]
    pub overrule: OverruleDoc,
}

/// A number within a time.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PerDoc {
    /// So many jobs.
    pub jobs: ShareDoc,
    /// Within this time.
    pub within: Period,
}

/// A named input, added up over a time.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CeilingDoc {
    /// The name of the input, which is a number.
    pub input: String,
    /// No more than this together.
    pub most: f64,
    /// Within this time.
    pub within: Period,
}

/// When rules do not dispatch any more.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CircuitDoc {
    /// So many jobs of one runbook that failed, or did not help.
    pub failures: u32,
    /// Within this time.
    pub within: Period,
}

crate::words! {
    /// What becomes of a job that may not begin.
    #[derive(Default, JsonSchema)]
    pub enum Otherwise("what becomes of a job that may not begin") {
        /// It waits until it may.
        #[default]
        Hold = "hold",
        /// It ends as refused.
        Refuse = "refuse",
    }
}

/// Who may overrule a guard.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct OverruleDoc {
    /// The least role that may.
    #[schemars(schema_with = "Role::acting_schema")]
    pub role: Role,
}

impl Default for OverruleDoc {
    fn default() -> Self {
        Self { role: Role::Author }
    }
}

/// A checked guard.
#[derive(Clone, Debug)]
pub struct Guard {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// Which jobs.
    pub concerns: Concerns,
    /// So many of their targets at once.
    pub at_once: Option<Share>,
    /// So many within a time.
    pub per: Option<Per>,
    /// Of each set one at a time.
    pub redundant: Vec<BTreeSet<String>>,
    /// For so long after a failure none begins.
    pub after_failure: Option<Period>,
    /// Distance from what other jobs touched.
    pub untouched: Option<Period>,
    /// A named input, added up over a time.
    pub ceiling: Option<Ceiling>,
    /// While an event is on, none begins.
    pub frozen: Option<AtTimes>,
    /// They begin only while an event is on.
    pub only: Option<AtTimes>,
    /// When rules do not dispatch any more.
    pub circuit: Option<Circuit>,
    /// What becomes of a job that may not begin.
    pub otherwise: Otherwise,
    /// Who may overrule it.
    pub overrule: Role,
}

/// A number within a time.
#[derive(Clone, Copy, Debug)]
pub struct Per {
    /// So many jobs.
    pub jobs: Share,
    /// Within this time.
    pub within: Period,
}

/// A named input, added up over a time.
#[derive(Clone, Debug)]
pub struct Ceiling {
    /// The name of the input.
    pub input: String,
    /// No more than this together.
    pub most: f64,
    /// Within this time.
    pub within: Period,
}

/// When rules do not dispatch any more.
#[derive(Clone, Copy, Debug)]
pub struct Circuit {
    /// So many failures of one runbook.
    pub failures: u32,
    /// Within this time.
    pub within: Period,
}

impl Guard {
    /// How far back it looks.
    pub fn window(&self) -> Period {
        let windows = [
            self.per.map(|per| per.within),
            self.after_failure,
            self.ceiling.as_ref().map(|ceiling| ceiling.within),
            self.circuit.map(|circuit| circuit.within),
        ];
        windows.into_iter().flatten().max().unwrap_or(Period::from_secs(0))
    }

    /// Whether it has to know the targets of what is under way.
    pub fn counts_targets(&self) -> bool {
        self.at_once.is_some() || !self.redundant.is_empty()
    }

    /// Whether the first that waits may be kept while another behind it may begin.
    pub fn is_selective(&self) -> bool {
        !self.redundant.is_empty()
            || self.ceiling.is_some()
            || self.circuit.is_some()
            || self.untouched.is_some()
    }
}

impl Definition for Guard {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }

    fn uses(&self) -> Vec<(Kind, String)> {
        let group = self.concerns.group.iter().map(|group| (Kind::Group, group.clone()));
        let times = self.frozen.iter().chain(&self.only);
        group.chain(times.map(|at| (Kind::Calendar, at.calendar.clone()))).collect()
    }

    fn misfits(&self, others: &dyn Others) -> Vec<Mismatch> {
        let at = |pointer: &str, fault: Fault| Mismatch::at(pointer, fault);
        let times = [("/frozen/during", &self.frozen), ("/only/during", &self.only)];
        let missing = times.into_iter().filter_map(|(pointer, times)| {
            let missing = others.must_have(Kind::Calendar, &times.as_ref()?.calendar).err()?;
            Some(at(pointer, Fault::Missing(missing)))
        });
        let mut misfits: Vec<Mismatch> = missing.collect();
        let Some(name) = &self.concerns.group else { return misfits };
        let group: &Group = match others.get(name) {
            Ok(group) => group,
            Err(missing) => {
                misfits.push(at("/concerns/group", Fault::Missing(missing)));
                return misfits;
            }
        };
        let shares = [("/at_once", self.at_once), ("/per/jobs", self.per.map(|per| per.jobs))];
        let wrong = |share: Option<Share>| match (share?, group.size()) {
            (Share::Number(_), _) => None,
            (Share::Percent(_), None) => Some(format!(
                "is a share of group `{name}`, which has globs and does not say how many resources \
                it has; give the group its `size`"
            )),
            (share, size) => {
                let most = share.of(size);
                (most > MOST).then(|| format!("is {most} of group `{name}`; {MOST} are allowed"))
            }
        };
        misfits.extend(
            shares
                .into_iter()
                .filter_map(|(pointer, share)| Some(at(pointer, Fault::Unfit(wrong(share)?)))),
        );
        for (i, set) in self.redundant.iter().enumerate() {
            for resource in set.iter().filter(|resource| !group.has(resource)) {
                let wrong =
                    format!("{resource} is not in group `{name}`, which is all it concerns");
                misfits.push(at(&format!("/redundant/{i}"), Fault::Unfit(wrong)));
            }
        }
        misfits
    }
}

impl Defined for Guard {
    const KIND: Kind = Kind::Guard;
    type Doc = GuardDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::decoding::<GuardDoc>(document)?;
        let has_lines = doc.at_once.is_some()
            || doc.per.is_some()
            || !doc.redundant.is_empty()
            || doc.after_failure.is_some()
            || doc.untouched.is_some()
            || doc.ceiling.is_some()
            || doc.frozen.is_some()
            || doc.only.is_some()
            || doc.circuit.is_some();
        if !has_lines {
            let lines = "at_once, per, redundant, after_failure, untouched, ceiling, frozen, only, \
                circuit";
            check.fail("/guard", format!("limits nothing; give it at least one of {lines}"));
        }
        let has_group = doc.concerns.group.is_some();
        if doc.circuit.is_some() {
            circuit_fits(&mut check, &doc.concerns);
        }
        let concerns = Concerns::check(&mut check, doc.concerns);
        let at_once = doc.at_once.map(|most| share(&mut check, "/at_once", &most, has_group));
        let per = doc.per.map(|per| {
            within(&mut check, "/per/within", per.within);
            let jobs = share(&mut check, "/per/jobs", &per.jobs, has_group)?;
            Some(Per { jobs, within: per.within })
        });
        if let Some(after) = doc.after_failure {
            within(&mut check, "/after_failure", after);
        }
        if let Some(untouched) = doc.untouched {
            within(&mut check, "/untouched", untouched);
        }
        let redundant = redundant(&mut check, doc.redundant);
        let ceiling = doc.ceiling.map(|ceiling| {
            within(&mut check, "/ceiling/within", ceiling.within);
            if !(ceiling.most.is_finite() && ceiling.most > 0.0) {
                check.fail("/ceiling/most", "is a number above zero");
            }
            Ceiling { input: ceiling.input, most: ceiling.most, within: ceiling.within }
        });
        let frozen = doc.frozen.and_then(|times| times.check(&mut check, "/frozen"));
        let only = doc.only.and_then(|times| times.check(&mut check, "/only"));
        let circuit = doc.circuit.map(|circuit| {
            within(&mut check, "/circuit/within", circuit.within);
            number(&mut check, "/circuit/failures", circuit.failures);
            Circuit { failures: circuit.failures, within: circuit.within }
        });
        if !doc.overrule.role.acts() {
            check.fail("/overrule/role", Role::only_reads());
        }
        let made = concerns.map(|concerns| Self {
            name: doc.guard,
            summary: doc.summary,
            concerns,
            at_once: at_once.flatten(),
            per: per.flatten(),
            redundant,
            after_failure: doc.after_failure,
            untouched: doc.untouched,
            ceiling,
            frozen,
            only,
            circuit,
            otherwise: doc.otherwise,
            overrule: doc.overrule.role,
        });
        check.finish(made)
    }
}

fn share(check: &mut Checker<'_>, at: &str, share: &ShareDoc, has_group: bool) -> Option<Share> {
    let read = share.read();
    match read {
        Some(Share::Number(most)) => return number(check, at, most).then_some(Share::Number(most)),
        Some(Share::Percent(_)) if !has_group => {
            check.fail(at, "is a share of nothing; name the group in `concerns.group`");
        }
        Some(Share::Percent(_)) => {}
        None => check.fail(at, "is a whole number, or a share of a group from 1% to 100%"),
    }
    read
}

fn number(check: &mut Checker<'_>, at: &str, number: u32) -> bool {
    let is_good = (1..=MOST).contains(&number);
    if !is_good {
        check.fail(at, format!("is a number from 1 to {MOST}; `arvok halt` stops everything"));
    }
    is_good
}

fn within(check: &mut Checker<'_>, at: &str, within: Period) {
    if within < Period::from_secs(1) || within > LONGEST {
        check.fail(at, format!("is a time from 1s to {LONGEST}"));
    }
}

/// A circuit is of runbooks: rules ask for it before there is a target.
fn circuit_fits(check: &mut Checker<'_>, concerns: &ConcernsDoc) {
    for (line, is_written) in [
        ("targets", !concerns.targets.0.is_empty()),
        ("group", concerns.group.is_some()),
        ("labels", !concerns.labels.is_empty()),
    ] {
        if is_written {
            let wrong = "does not go with `circuit`, which is of runbooks whatever their targets; \
                write two guards";
            check.fail(&format!("/concerns/{line}"), wrong);
        }
    }
    if concerns.launched_by == Some(LaunchedBy::People) {
        let wrong = "does not go with `circuit`, which keeps rules from dispatching, not people";
        check.fail("/concerns/launched_by", wrong);
    }
}

fn redundant(check: &mut Checker<'_>, sets: Vec<Vec<String>>) -> Vec<BTreeSet<String>> {
    if sets.len() > MAX_SETS {
        check.fail("/redundant", format!("has {} sets; {MAX_SETS} are allowed", sets.len()));
    }
    let mut checked = Vec::new();
    for (i, set) in sets.into_iter().enumerate().take(MAX_SETS) {
        let (at, named) = (format!("/redundant/{i}"), set.len());
        if let Some(glob) = set.iter().find(|name| name.contains(['*', '?'])) {
            check.fail(&at, format!("{glob} is a glob; a set names its resources one by one"));
        }
        let set: BTreeSet<String> = set.into_iter().collect();
        if set.len() != named || !(2..=MAX_OF_SET).contains(&named) {
            check.fail(&at, format!("is a set of 2 to {MAX_OF_SET} different resources"));
        }
        checked.push(set);
    }
    checked
}

#[cfg(test)]
mod tests;
