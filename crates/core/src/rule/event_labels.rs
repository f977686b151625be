//! The labels by which events of a rule's proposals and jobs are chosen: its name, its owner, and
//! those that it is given. So one rule that tells people is shared by many others, and a subscriber
//! takes what it is for.

use super::{Listen, Rule};
use crate::{
    AlertState, Labels,
    alert::MAX_LABEL,
    document::Checker,
    job_state::JobChange,
    source::OWN,
    text::{clean, cut},
};
use std::collections::BTreeMap;

/// The label that has a rule's name.
pub const RULE: &str = "rule";
/// The label that has the name of whoever answers for a rule.
pub const OWNER: &str = "owner";

/// The labels of events that say something else, and are no rule's to give.
const RESERVED: [&str; 9] =
    [RULE, OWNER, "attempt", "effect", "job", "parent", "proposal", "runbook", "step"];

/// What becomes of proposals and of questions, as the kinds of events say it.
const OTHERS: [&str; 10] = [
    "job.announced",
    "proposal.made",
    "proposal.launched",
    "proposal.dismissed",
    "proposal.withdrawn",
    "proposal.faulty",
    "decision.asked",
    "decision.taken",
    "decision.silent",
    "decision.withdrawn",
];

/// The kinds of events of proposals and jobs, but for those that runbooks make up.
pub fn event_kinds() -> impl Iterator<Item = String> {
    let of_jobs = JobChange::ALL.into_iter().map(|change| format!("job.{change}"));
    of_jobs.chain(OTHERS.map(str::to_owned))
}

/// The labels that a rule is given, checked.
pub(super) fn check(check: &mut Checker<'_>, labels: Option<Labels>) -> Labels {
    let Some(labels) = labels else { return Labels::default() };
    if let Err(wrong) = labels.check() {
        check.fail("/labels", wrong.to_string());
    }
    for name in RESERVED.into_iter().filter(|name| labels.0.contains_key(*name)) {
        let wrong = "events of proposals and jobs have this label already; take another name";
        check.fail(&format!("/labels/{name}"), wrong);
    }
    labels
}

impl Rule {
    /// The labels that events of its proposals and jobs carry beside those of their own.
    pub fn event_labels(&self) -> BTreeMap<String, String> {
        let owner = self.owner.as_deref().map(|owner| clean(cut(owner, MAX_LABEL)).into_owned());
        let owner = owner.map(|owner| (OWNER.to_owned(), owner));
        self.labels.0.clone().into_iter().chain(owner).collect()
    }

    /// Whether this rule is about events of another's proposals and jobs: as far as its sources,
    /// states and labels say. A rule is not about its own.
    pub fn follows(&self, other: &Self) -> bool {
        self.name != other.name
            && self.listen.sources.iter().flatten().any(|glob| glob.exact() == Some(OWN))
            && self.listen.follows(other)
    }
}

impl Listen {
    /// Whether it may hear events of a rule's proposals and jobs, by states and labels.
    pub fn follows(&self, rule: &Rule) -> bool {
        let given = rule.event_labels();
        let fits = |name: &str, value: &str| {
            let lines = self.labels.iter().filter(|(of, _)| of == name);
            lines.flat_map(|(_, globs)| globs).any(|glob| glob.matches(value))
        };
        self.states.contains(&AlertState::Noted)
            && self.kinds.as_ref().is_none_or(|globs| {
                event_kinds().any(|kind| globs.iter().any(|glob| glob.matches(&kind)))
            })
            && self.labels.iter().all(|(name, _)| match name.as_str() {
                RULE => fits(name, &rule.name),
                // What an event is about is not known beforehand.
                of if RESERVED.contains(&of) && of != OWNER => true,
                of => given.get(of).is_some_and(|value| fits(of, value)),
            })
    }
}
