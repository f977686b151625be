//! The `rule:` document: which alerts concern us, when they count, what is done.
//!
//! Owns the document, its checks and what a dispatch makes of an alert. Finding the rules for
//! an alert is [`crate::matcher`]; deciding with the rule's memory is [`crate::settle`].

mod demands;
mod dispatch;
mod draft;
mod event_labels;
mod example;
mod listen;
mod settle;
mod warning;

pub use demands::Demands;
pub use dispatch::{Dispatch, DispatchDoc, DispatchError, Dispatches, TallyView, Urgency};
pub use draft::draft;
pub use event_labels::{OWNER as OWNER_LABEL, RULE as RULE_LABEL, event_kinds};
pub use example::{ExampleDoc, ExpectDoc, GivenDoc};
pub use listen::{Listen, ListenDoc};
pub use settle::{
    AfterDoc, Again, AgainDoc, Cap, CapDoc, FlappingDoc, Gather, GatherDoc, Settle, SettleDoc,
    Symptoms,
};
pub use warning::WARNINGS;

use crate::{
    Alert, AlertState, Labels, NewAlert, Severity,
    alert::Received,
    definition::{Defined, Definition, Kind, Mismatch, Others},
    document::{Checker, Document, Problem, parse_file},
    expr::{Expr, ExprError, Names, Scope, Val},
    glob::Glob,
    runbook::{Announce, AnnounceDoc},
    source::{self, OWN},
};
use chrono::{DateTime, Utc};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The keys of what an alert belongs to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Keys {
    /// Its tally: a JSON list of the fold's values.
    pub tally: String,
    /// The gathering it would join.
    pub gathering: Option<String>,
    /// The cap it counts against.
    pub cap: Option<String>,
}

/// The names that a rule's conditions know.
pub const ALERT: Names<'static> = Names { roots: &["alert"], functions: &[], types: &[] };
/// Those of a dispatch's inputs.
pub const ALERT_AND_TALLY: Names<'static> =
    Names { roots: &["alert", "tally"], functions: &[], types: &[] };

/// A rule as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RuleDoc {
    /// The name.
    pub rule: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// Who answers for it.
    #[serde(default)]
    pub owner: Option<String>,
    /// Labels that events of its proposals and jobs carry, as they do `rule` and `owner`: by these
    /// the rules that tell people, and subscribers, choose them.
    #[serde(default)]
    pub labels: Option<Labels>,
    /// How far it may go. Left out: `watch`.
    #[serde(default)]
    pub stance: Stance,
    /// Which alerts.
    #[serde(default)]
    pub listen: ListenDoc,
    /// When they count.
    #[serde(default)]
    pub settle: SettleDoc,
    /// That it is said before one of its jobs changes anything, and somebody may object. Not of
    /// jobs that a person launches from a proposal.
    #[serde(default)]
    pub announce: Option<AnnounceDoc>,
    /// What is done: one entry or a list.
    pub dispatch: Dispatches,
    /// What it is expected to do; played by `arvok check`.
    #[serde(default)]
    pub examples: Vec<ExampleDoc>,
    /// Warnings that are known, by their names, each with the reason why it is so on purpose.
    #[serde(default)]
    pub knowingly: BTreeMap<String, String>,
}

crate::words! {
    /// How far a rule may go.
    #[derive(Default, JsonSchema)]
    pub enum Stance("stance") {
        /// Record what it would have done.
        #[default]
        Watch = "watch",
        /// Propose jobs; a person launches them.
        Propose = "propose",
        /// Dispatch.
        Act = "act",
    }
}

/// A checked rule.
#[derive(Clone, Debug)]
pub struct Rule {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// Who answers for it.
    pub owner: Option<String>,
    /// Labels that events of its proposals and jobs carry.
    pub labels: Labels,
    /// How far it may go.
    pub stance: Stance,
    /// Which alerts.
    pub listen: Listen,
    /// When they count.
    pub settle: Settle,
    /// What is said before one of its jobs changes anything.
    pub announce: Option<Announce>,
    /// What is done; at least one entry.
    pub dispatch: Vec<Dispatch>,
    /// What it is expected to do.
    pub examples: Vec<ExampleDoc>,
    /// Warnings that are known.
    pub knowingly: BTreeMap<String, String>,
}

/// An alert as the name `alert` of expressions.
#[derive(Debug)]
pub struct AlertScope<'a>(pub &'a Alert);

impl<'a> Scope<'a> for AlertScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        (name == "alert").then_some(Val::Alert(self.0))
    }
}

/// Where a matched alert belongs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Placed {
    /// The keys of its tally and pools.
    pub keys: Keys,
    /// How many entries of `dispatch` apply to it.
    pub entries: usize,
}

/// How often in a row events of a rule's own jobs may set it off.
pub const MAX_ROUNDS: usize = 5;

/// Longest fold key, in bytes; a longer one is an error of that rule for that alert.
const MAX_FOLD: usize = 1024;

impl Definition for Rule {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }

    fn expressions(&self) -> Vec<(String, &Expr)> {
        let condition = self.listen.condition.iter().map(|e| ("/listen/where".to_owned(), e));
        condition.chain(self.dispatch.iter().flat_map(Dispatch::expressions)).collect()
    }

    fn uses(&self) -> Vec<(Kind, String)> {
        let sources = self.listen.sources.iter().flatten().filter_map(Glob::exact);
        let sources = sources.map(|name| (Kind::Source, name.to_owned()));
        let announced = self.announce.iter().filter_map(Announce::contact);
        let announced = announced.map(|name| (Kind::Contact, name.to_owned()));
        let runbooks = self.dispatch.iter().map(|d| (Kind::Runbook, d.runbook.clone()));
        sources.chain(runbooks).chain(announced).collect()
    }

    fn misfits(&self, others: &dyn Others) -> Vec<Mismatch> {
        let mut found: Vec<Mismatch> =
            self.dispatch.iter().flat_map(|d| d.misfits(others)).collect();
        found.extend(self.announce.iter().flat_map(|a| a.misfits("/announce", others)));
        for (i, glob) in self.listen.sources.iter().flatten().enumerate() {
            let named = glob.exact().filter(|name| *name != OWN);
            let missing = named.and_then(|name| others.must_have(Kind::Source, name).err());
            found.extend(missing.map(|m| Mismatch::at(format!("/listen/sources/{i}"), m)));
        }
        found
    }
}

impl Defined for Rule {
    const KIND: Kind = Kind::Rule;
    type Doc = RuleDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::decoding::<RuleDoc>(document)?;
        let listen = Listen::check(&mut check, doc.listen);
        let states = listen.as_ref().map_or(vec![AlertState::Raised], |l| l.states.clone());
        let settle = Settle::check(&mut check, doc.settle, &states);
        let announce = match doc.announce {
            None => Some(None),
            Some(doc) => {
                let names = Names { roots: &[], functions: &[], types: &[] };
                Announce::check(&mut check, "/announce", doc, names).map(Some)
            }
        };
        let labels = event_labels::check(&mut check, doc.labels);
        let dispatch = Dispatch::check(&mut check, doc.dispatch);
        example::check(&mut check, &doc.examples);
        warning::check_known(&mut check, &doc.knowingly);
        let made = (|| {
            Some(Self {
                name: doc.rule,
                summary: doc.summary,
                owner: doc.owner,
                labels,
                stance: doc.stance,
                listen: listen?,
                settle: settle?,
                announce: announce?,
                dispatch: dispatch?,
                examples: doc.examples,
                knowingly: doc.knowingly,
            })
        })();
        check.finish(made)
    }
}

/// Why a rule cannot decide about an alert that it matches.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PlaceError {
    /// An expression that says where it belongs goes wrong.
    #[error("{what} {expression}: {error}")]
    Key {
        /// The line of `settle`.
        what: String,
        /// As written.
        expression: String,
        /// What goes wrong.
        error: ExprError,
    },
    /// Its own jobs' events lead to it again and again.
    #[error(
        "events of its own jobs have set it off {0} times in a row; it is stopped, so that it does \
        not feed itself"
    )]
    Feeds(usize),
    /// The values say too much.
    #[error("the fold's values have {0} bytes; {MAX_FOLD} are allowed")]
    TooLong(usize),
    /// Whether an entry applies cannot be said.
    #[error("when of {runbook}: {error}")]
    When {
        /// The entry's runbook.
        runbook: String,
        /// What goes wrong.
        error: ExprError,
    },
    /// More entries apply than the cap ever lets through.
    #[error(
        "{entries} dispatches apply, and `cap` lets {cap} through at once; raise `jobs`, or make \
        rules of their own"
    )]
    Beyond {
        /// How many apply.
        entries: usize,
        /// Jobs of the cap.
        cap: u32,
    },
    /// The inputs of an entry that applies go wrong.
    #[error("inputs of {runbook}: {error}")]
    Inputs {
        /// The entry's runbook.
        runbook: String,
        /// What goes wrong.
        error: ExprError,
    },
}

impl Rule {
    /// The keys of the tally, the gathering and the cap that an alert belongs to.
    ///
    /// # Errors
    /// What of them this alert does not have.
    pub fn keys(&self, alert: &Alert) -> Result<Keys, PlaceError> {
        // What a trial counts is its own, and nothing of it holds back what is real.
        let own = |key: String| match alert.trial {
            None => key,
            Some(trial) => trial.key_prefix() + &key,
        };
        let tally = match &self.settle.fold {
            None => values(vec![
                alert.source.as_str().into(),
                alert.resource.as_str().into(),
                alert.kind.as_str().into(),
            ])?,
            Some(fold) => evaluated("fold", fold, alert)?,
        };
        let pool = |what: &str, by: Option<&Vec<Expr>>| match by {
            None => Ok(None),
            Some(by) => evaluated(&format!("{what}.by"), by, alert)
                .map(|key| Some(format!("{what} {}", own(key)))),
        };
        let gathering = pool("gather", self.settle.gather.as_ref().map(|g| &g.by))?;
        let cap = pool("cap", self.settle.cap.as_ref().map(|c| &c.by))?;
        Ok(Keys { tally: own(tally), gathering, cap })
    }

    /// Where an alert that it matches belongs.
    ///
    /// # Errors
    /// Why it cannot decide about it: a fold, or an input of an entry that applies, that this alert
    /// does not have.
    pub fn place(&self, alert: &Alert) -> Result<Placed, PlaceError> {
        let rounds = source::chain(alert).into_iter().filter(|rule| *rule == self.name).count();
        if rounds >= MAX_ROUNDS {
            return Err(PlaceError::Feeds(rounds));
        }
        let keys = self.keys(alert)?;
        // What ends an alarm is never lost for what a dispatch would need.
        let ends = alert.state == AlertState::Cleared;
        let mut entries = 0;
        for entry in &self.dispatch {
            let runbook = || entry.runbook.clone();
            match entry.applies(alert) {
                Ok(false) => continue,
                Err(_) if ends => continue,
                Err(error) => return Err(PlaceError::When { runbook: runbook(), error }),
                Ok(true) => entries += 1,
            }
            if let Some(error) = entry.fault(alert).filter(|_| !ends) {
                return Err(PlaceError::Inputs { runbook: runbook(), error });
            }
        }
        match &self.settle.cap {
            Some(cap) if entries > cap.jobs as usize && !ends => {
                Err(PlaceError::Beyond { entries, cap: cap.jobs })
            }
            _ => Ok(Placed { keys, entries }),
        }
    }

    /// The alert that never came: what the rule waits for under a tally's key, if it names it.
    pub fn silent(&self, tally: &str, now: DateTime<Utc>) -> Option<Alert> {
        let of = |(source, kind, resource): (&str, &str, &str)| {
            let new = NewAlert {
                id: None,
                kind: kind.to_owned(),
                severity: Severity::Indeterminate,
                state: AlertState::Noted,
                resource: resource.to_owned(),
                time: None,
                summary: Some(format!("nothing was ever heard of {resource}")),
                value: None,
                labels: BTreeMap::new(),
                body: serde_json::Value::Null,
                trial: false,
            };
            new.complete(Received { source, received: now, fallback_id: "silence" }).ok()
        };
        self.awaited()
            .into_iter()
            .filter_map(of)
            .find(|a| self.keys(a).is_ok_and(|k| k.tally == tally))
    }

    /// The keys under which the rule waits for resources that it names.
    pub fn awaited_keys(&self) -> Vec<String> {
        let key = |(source, kind, resource): &(&str, &str, &str)| match &self.settle.fold {
            None => values(vec![(*source).into(), (*resource).into(), (*kind).into()]).ok(),
            Some(_) => None,
        };
        self.awaited().iter().filter_map(key).collect()
    }

    /// The entries of `dispatch` that apply to an alert.
    pub fn entries<'a>(&'a self, alert: &Alert) -> impl Iterator<Item = &'a Dispatch> {
        self.dispatch.iter().filter(move |d| d.applies(alert) == Ok(true))
    }

    /// The runbooks in words.
    pub fn runbooks(&self) -> String {
        let names: Vec<&str> = self.dispatch.iter().map(|d| d.runbook.as_str()).collect();
        names.join(" and ")
    }

    /// Whether anything of it looks at payloads.
    pub fn reads_body(&self) -> bool {
        let settle = &self.settle;
        let by = [
            settle.fold.as_ref(),
            settle.gather.as_ref().map(|g| &g.by),
            settle.cap.as_ref().map(|c| &c.by),
        ];
        self.listen.condition.iter().chain(by.into_iter().flatten().flatten()).any(Expr::reads_body)
            || self.dispatch.iter().any(Dispatch::reads_body)
    }

    /// Whether any dispatch may look at the payloads of gathered alerts.
    pub fn reads_gathered_bodies(&self) -> bool {
        self.dispatch.iter().any(Dispatch::reads_gathered_bodies)
    }

    /// The resources that it names in full, where it also names one source and one kind and folds
    /// by these: with `missing` it waits for them even if they were never heard of.
    pub fn awaited(&self) -> Vec<(&str, &str, &str)> {
        fn only(globs: &Option<Vec<Glob>>) -> Option<&str> {
            match globs.as_deref() {
                Some([glob]) => glob.exact(),
                _ => None,
            }
        }
        let plain = self.settle.missing.filter(|_| self.settle.fold.is_none());
        let names = plain.and_then(|_| only(&self.listen.sources).zip(only(&self.listen.kinds)));
        let Some((source, kind)) = names else { return Vec::new() };
        self.listen
            .resource
            .iter()
            .flatten()
            .filter_map(Glob::exact)
            .map(|r| (source, kind, r))
            .collect()
    }
}

/// Why a text does not say which rule is meant.
#[derive(Clone, Debug)]
pub enum NotOne {
    /// It cannot be read, or the rule is faulty.
    Faulty(Vec<Problem>),
    /// It holds no rule, or none of that name.
    None,
    /// It holds several; their names.
    Many(Vec<String>),
}

/// The only rule of a text, or the one of that name.
pub fn only_rule(file: &str, text: &str, name: Option<&str>) -> Result<Rule, NotOne> {
    let documents = parse_file(file, text).map_err(|p| NotOne::Faulty(vec![p]))?;
    let rules: Vec<_> =
        documents.iter().filter(|d| d.kind == "rule" && name.is_none_or(|n| n == d.name)).collect();
    match rules.as_slice() {
        [document] => Rule::check(document).map_err(NotOne::Faulty),
        [] => Err(NotOne::None),
        many => Err(NotOne::Many(many.iter().map(|d| d.name.clone()).collect())),
    }
}

fn evaluated(what: &str, exprs: &[Expr], alert: &Alert) -> Result<String, PlaceError> {
    let scope = AlertScope(alert);
    let gone_wrong = |e: &Expr, error| PlaceError::Key {
        what: what.to_owned(),
        expression: e.to_string(),
        error,
    };
    let made = exprs
        .iter()
        .map(|e| e.eval(&scope).map(|v| v.to_json()).map_err(|error| gone_wrong(e, error)));
    values(made.collect::<Result<_, _>>()?)
}

fn values(values: Vec<serde_json::Value>) -> Result<String, PlaceError> {
    let key = serde_json::Value::Array(values).to_string();
    if key.len() > MAX_FOLD {
        return Err(PlaceError::TooLong(key.len()));
    }
    Ok(key)
}

#[cfg(test)]
mod tests;
