//! The `plan:` document: a runbook that runs by itself, at times, on resources one after another,
//! with somebody's consent, and with what the last run left.
//!
//! Owns the document and its check, when it runs ([`Times`]), and what a run is: a job of a runbook
//! that is made of the plan ([`Plan::runbook`]), so that waiting, waves, questions and memory are
//! those of every job. Launching it when its time has come is the service's business.
//!
//! ```
//! use arvok_core::{definition::Defined, document::parse_file, plan::Plan};
//!
//! let text = r#"
//! plan: new-fares
//! runbook: raise-share
//! at: { cron: "30 9 * * 1-5", zone: Europe/London }
//! memory: { share: { type: number, default: 0 } }
//! when: memory.share < 100
//! give: { share: "${memory.share + 20}" }
//! remember: { share: "${steps.run.gives.share}" }
//! "#;
//! let documents = parse_file("plans.yaml", text).expect("is YAML");
//! let plan = Plan::check(&documents[0]).expect("is a plan");
//! assert_eq!(plan.at.as_ref().expect("has times").to_string(), "30 9 * * 1-5 (Europe/London)");
//! let ids: Vec<&str> = plan.runbook.steps.iter().map(|step| step.id.as_str()).collect();
//! assert_eq!(ids, ["complete", "run", "helped", "kept"]);
//!
//! let wrong = text.replace("memory.share <", "memory.shares <");
//! let documents = parse_file("plans.yaml", &wrong).expect("is YAML");
//! let problems = Plan::check(&documents[0]).expect_err("remembers no such thing");
//! assert_eq!((problems[0].line, problems[0].file.as_str()), (6, "plans.yaml"));
//! ```

mod forecast;
mod steps;
mod times;

#[cfg(test)]
mod tests;

pub use forecast::PlannedFreeze;
pub use times::{AtDoc, DueRun, Times};

use crate::{
    Period, ResourcePath,
    calendar::NamedCalendar,
    definition::{Defined, Definition, Fault, Kind, Mismatch, Others},
    document::{Checker, Document, Problem},
    expr::{Expr, LengthDoc},
    group::Group,
    mute::Mute,
    runbook::{LaunchDoc, MAX_ITEMS, Runbook, ToDoc},
    share::ShareDoc,
};
use chrono::{DateTime, SecondsFormat, Utc};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::sync::Arc;

/// What the names of the runbooks that are made of plans, and of what they act on, begin with.
const PREFIX: &str = "plan/";
/// How long after its time a run may begin where its plan does not say.
const BEGIN_WITHIN: Period = Period::from_secs(3600);

/// A plan as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PlanDoc {
    /// The name.
    pub plan: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// The runbook that is run.
    pub runbook: String,
    /// Its inputs; `${ ... }` sees `memory`, `inputs.due` and, with `of`, `resource`.
    #[serde(default)]
    pub give: Map<String, Value>,
    /// When it runs. Left out: when somebody runs it.
    #[serde(default)]
    pub at: Option<AtDoc>,
    /// The resources that it is run for, one job each. Left out: one job.
    #[serde(default)]
    pub of: Option<SelectionDoc>,
    /// How many of these jobs at once, at most 100. Left out: 1.
    #[serde(default)]
    pub at_once: Option<usize>,
    /// How many resources belong to the first wave, to the second and so on: numbers, or shares of
    /// all such as `25%`, rounded down and at least one; the last is that of all further waves. A
    /// wave begins when all jobs of those before it are over. Left out: all are one wave.
    #[serde(default)]
    pub waves: Vec<ShareDoc>,
    /// How long to wait between two waves. Left out: not at all.
    #[serde(default)]
    pub between: Option<LengthDoc>,
    /// As soon as so many jobs have failed, or did not have their effect, no further one is
    /// launched; those under way end, and the run fails. Left out: 1.
    #[serde(default)]
    pub stop_after: Option<usize>,
    /// An expression: whether there is anything to do. If not, the run ends well and has done
    /// nothing. Left out: there is.
    #[serde(default)]
    pub when: Option<String>,
    /// What is said when there is nothing to do.
    #[serde(default, rename = "else")]
    pub otherwise: Option<String>,
    /// Whom to ask before anything is done. Left out: nobody.
    #[serde(default)]
    pub consent: Option<ConsentDoc>,
    /// What its runs remember for those that come after them: JSON Schema properties, each with a
    /// default, which the first run finds.
    #[serde(default)]
    pub memory: Map<String, Value>,
    /// What of it is written after a run that did not fail, by name; `${ ... }` sees `steps.run`.
    #[serde(default)]
    pub remember: Map<String, Value>,
    /// How long after its time a run may begin, if something holds it back. Left out: 1h.
    #[serde(default)]
    pub begin_within: Option<Period>,
    /// How long a run may take, the waiting for consent and between waves too. Left out: 1d.
    #[serde(default)]
    pub timeout: Option<LengthDoc>,
    /// Who may run it by hand. Left out: a responder.
    #[serde(default)]
    pub launch: Option<LaunchDoc>,
}

/// Resources, as written: by name, or those of a group that names each of them.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SelectionDoc {
    /// The resources, by name, at most 1000.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub resources: Vec<String>,
    /// The name of a group of which each resource is named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<String>,
}

/// Whom to ask, as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ConsentDoc {
    /// Who may decide: a role, a person, a contact or a team, one of the four. A contact and a team
    /// are reached by their ways. Left out: a responder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<ToDoc>,
    /// What is asked; `${ ... }` sees `memory` and `inputs`. Left out: whether the plan may run.
    #[serde(default)]
    pub text: Option<String>,
    /// How long the question stands; if nobody agrees, nothing is done. Left out: 8h.
    #[serde(default)]
    pub within: Option<LengthDoc>,
    /// Whether whoever has the link in the message may decide without signing in. Left out: no.
    #[serde(default)]
    pub by_link: bool,
}

/// Resources, checked.
#[derive(Clone, Debug)]
pub enum Selection {
    /// By name.
    Resources(Vec<String>),
    /// Those of a group.
    Group(String),
}

/// A checked plan.
#[derive(Clone, Debug)]
pub struct Plan {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// The runbook that is run.
    pub runs: String,
    /// When.
    pub at: Option<Times>,
    /// The resources that it is run for.
    pub of: Option<Selection>,
    /// How long after its time a run may begin.
    pub begin_within: Period,
    /// What a run is a job of.
    pub runbook: Arc<Runbook>,
}

crate::words! {
    /// Why a plan does not run at one of its times.
    pub enum Omission("reason for which a plan does not run") {
        /// Somebody said so.
        Skipped = "skipped",
        /// It passed while no node ran.
        Missed = "missed",
        /// The run before was not over.
        Overlapped = "overlapped",
        /// What it would act on, or its runbook, was muted.
        Muted = "muted",
        /// What it would act on was not known.
        Refused = "refused",
    }
}

/// Why there is no run.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoRun {
    /// What it would act on, or its runbook, is muted.
    #[error("{0}")]
    Muted(String),
    /// What it would act on is not known.
    #[error("{0}")]
    Unknown(String),
}

impl NoRun {
    /// The same as it is written down.
    pub const fn omission(&self) -> Omission {
        match self {
            Self::Muted(_) => Omission::Muted,
            Self::Unknown(_) => Omission::Refused,
        }
    }
}

fn in_words(what: &str, mute: &Mute) -> String {
    let until = mute.until.format("%Y-%m-%d %H:%M UTC");
    format!("{what} muted until {until} by {}: {}", mute.by.shown(), mute.reason)
}

/// The name under which the runs of a plan are jobs, and what they hold so that no two are under
/// way at once.
pub fn job_name(plan: &str) -> String {
    format!("{PREFIX}{plan}")
}

/// The plan whose runs are jobs of this name.
pub fn of_job_name(runbook: &str) -> Option<&str> {
    runbook.strip_prefix(PREFIX)
}

impl Plan {
    /// What a run for a time, or by hand, is given: the resources are those of now. What is muted
    /// is left out of a run for a time; whoever runs it by hand knows what it does.
    ///
    /// # Errors
    /// Why there is no run.
    pub fn inputs(
        &self,
        others: &dyn Others,
        mutes: &[Mute],
        (due, now): (Option<DateTime<Utc>>, DateTime<Utc>),
    ) -> Result<Map<String, Value>, NoRun> {
        let standing: Vec<&Mute> =
            mutes.iter().filter(|mute| due.is_some() && mute.stands(now)).collect();
        if let Some(mute) = standing.iter().find(|mute| mute.muted.covers_runbook(&self.runs)) {
            return Err(NoRun::Muted(in_words(&format!("runbook {} is", self.runs), mute)));
        }
        let muted = |resource: &str| {
            standing.iter().find(|mute| mute.muted.covers_resource(resource)).copied()
        };
        let of_many = self.resources(others).map_err(NoRun::Unknown)?;
        let (left_out, resources): (Vec<&str>, Vec<&str>) =
            of_many.into_iter().partition(|resource| muted(resource).is_some());
        let only: Option<String> = match self.of {
            None if standing.is_empty() => None,
            None => self.only_target(others),
            Some(_) => left_out.first().filter(|_| resources.is_empty()).map(|r| (*r).to_owned()),
        };
        if let Some((resource, mute)) = only.and_then(|only| muted(&only).map(|m| (only, m))) {
            let what = match left_out.len() {
                0 | 1 => format!("{resource} is"),
                more => format!("all its resources are, {resource} and {} more,", more - 1),
            };
            return Err(NoRun::Muted(in_words(&what, mute)));
        }
        let due = due.map_or_else(String::new, |at| at.to_rfc3339_opts(SecondsFormat::Secs, true));
        let inputs = json!({ "due": due, "resources": resources, "left_out": left_out });
        Ok(inputs.as_object().cloned().unwrap_or_default())
    }

    /// The resources that it is run for, as of now.
    ///
    /// # Errors
    /// Why they are not known.
    pub fn resources<'a>(&'a self, others: &'a dyn Others) -> Result<Vec<&'a str>, String> {
        match &self.of {
            None => Ok(Vec::new()),
            Some(Selection::Resources(names)) => Ok(names.iter().map(String::as_str).collect()),
            Some(Selection::Group(name)) => {
                let group = others.get::<Group>(name).map_err(|missing| missing.to_string())?;
                let named = group.named().ok_or_else(|| {
                    format!(
                        "group `{name}` has globs, and nobody knows which resources there are; \
                        a plan runs for those that are named"
                    )
                })?;
                match named.len() {
                    0..=MAX_ITEMS => Ok(named),
                    many => Err(format!("group `{name}` has {many}; {MAX_ITEMS} are allowed")),
                }
            }
        }
    }
}

impl Definition for Plan {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }

    fn uses(&self) -> Vec<(Kind, String)> {
        let mut uses = self.runbook.uses();
        uses.extend(
            self.at.iter().filter_map(|at| Some((Kind::Calendar, at.calendar()?.to_owned()))),
        );
        if let Some(Selection::Group(group)) = &self.of {
            uses.push((Kind::Group, group.clone()));
        }
        uses
    }

    fn may_use(&self, kind: Kind, name: &str) -> bool {
        self.runbook.may_use(kind, name)
    }

    fn expressions(&self) -> Vec<(String, &Expr)> {
        let all = self.runbook.expressions();
        // Those that are not the author's stand nowhere in the document.
        let own = ["/give", "/when", "/else", "/consent", "/remember", "/between", "/timeout"];
        all.into_iter()
            .map(|(at, e)| (steps::written_at(&at), e))
            .filter(|(at, _)| own.iter().any(|own| at.starts_with(own)))
            .collect()
    }

    fn misfits(&self, others: &dyn Others) -> Vec<Mismatch> {
        let of_job = self.runbook.misfits(others).into_iter().map(|mut misfit| {
            misfit.pointer = steps::written_at(&misfit.pointer);
            misfit
        });
        let calendar = self.at.as_ref().and_then(|at| {
            let missing = others.must_have(Kind::Calendar, at.calendar()?).err()?;
            Some(Mismatch::at("/at/calendar", Fault::Missing(missing)))
        });
        let never = self.at.as_ref().filter(|at| calendar.is_none() && at.calendar().is_some());
        let never = never.and_then(|at| {
            let named = others.get::<NamedCalendar>(at.calendar()?).ok()?;
            // What is read from elsewhere may be called otherwise by tomorrow.
            if named.reading.is_some() {
                return None;
            }
            let summaries: Vec<&str> = named.calendar.names().map(|(summary, _)| summary).collect();
            let none = !summaries.iter().any(|summary| at.counts(summary));
            let wrong = || format!("none of the events of calendar `{}` is called so", named.name);
            none.then(|| Mismatch::at("/at/events", Fault::Unfit(wrong())))
        });
        let group = match &self.of {
            Some(Selection::Group(name)) => match others.must_have(Kind::Group, name) {
                Err(missing) => Some(Mismatch::at("/of/group", Fault::Missing(missing))),
                Ok(()) => self
                    .resources(others)
                    .err()
                    .map(|wrong| Mismatch::at("/of/group", Fault::Unfit(wrong))),
            },
            _ => None,
        };
        of_job.chain(calendar).chain(never).chain(group).collect()
    }
}

impl Defined for Plan {
    const KIND: Kind = Kind::Plan;
    type Doc = PlanDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::decoding::<PlanDoc>(document)?;
        let runbook = match doc.runbook.contains("${") {
            false => steps::runbook(&mut check, &doc),
            true => {
                check.fail("/runbook", "is the name of one runbook, written out, in a plan");
                None
            }
        };
        let at = match doc.at {
            None => Some(None),
            Some(at) => at.check(&mut check).map(Some),
        };
        let of_many = [
            ("at_once", doc.at_once.is_some()),
            ("waves", !doc.waves.is_empty()),
            ("between", doc.between.is_some()),
            ("stop_after", doc.stop_after.is_some()),
        ];
        for (key, _) in of_many.iter().filter(|(_, written)| *written && doc.of.is_none()) {
            check.fail(&format!("/{key}"), "is for several resources; name them in `of`");
        }
        if doc.otherwise.is_some() && doc.when.is_none() {
            check.fail("/else", "is said when `when` does not hold, which is not written");
        }
        for (name, _) in doc.memory.iter().filter(|(name, _)| !doc.remember.contains_key(*name)) {
            let wrong = format!("nothing of `{name}` is ever written; say it in `remember`");
            check.fail(&format!("/memory/{name}"), wrong);
        }
        if doc.begin_within.is_some_and(|within| within.millis() == 0) {
            check.fail("/begin_within", "nothing can begin in no time");
        }
        let of = match doc.of {
            None => Some(None),
            Some(of) => selection(&mut check, of).map(Some),
        };
        let made = (|| {
            Some(Self {
                name: doc.plan,
                summary: doc.summary,
                runs: doc.runbook,
                at: at?,
                of: of?,
                begin_within: doc.begin_within.unwrap_or(BEGIN_WITHIN),
                runbook: Arc::new(runbook?),
            })
        })();
        check.finish(made)
    }
}

fn selection(check: &mut Checker<'_>, doc: SelectionDoc) -> Option<Selection> {
    match (doc.group, doc.resources) {
        (Some(group), resources) if resources.is_empty() => Some(Selection::Group(group)),
        (None, resources) if !resources.is_empty() => {
            if resources.len() > MAX_ITEMS {
                let wrong = format!("names {}; {MAX_ITEMS} are allowed", resources.len());
                check.fail("/of/resources", wrong);
            }
            for (i, name) in resources.iter().enumerate().take(MAX_ITEMS) {
                let at = format!("/of/resources/{i}");
                check.accept(&at, ResourcePath::parse(name));
                if resources[..i].contains(name) {
                    check.fail(&at, format!("names {name} a second time"));
                }
            }
            Some(Selection::Resources(resources))
        }
        _ => {
            check.fail("/of", "names either `resources` or a `group`");
            None
        }
    }
}
