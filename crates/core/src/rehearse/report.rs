//! What a rehearsal has to tell, within bounds: everything is counted, the first so many are kept.

use crate::{Alert, AlertId, JobId, Verdict, bounds::weight, settle::Reason};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::{BTreeMap, HashMap};

/// Most verdicts that are kept one by one.
pub const MAX_VERDICTS: usize = 20_000;
/// Most dispatches that are kept one by one.
pub const MAX_DISPATCHES: usize = 2_000;
/// Most bytes of inputs of the dispatches that are kept.
pub const MAX_INPUTS: usize = 16 << 20;
/// Most tallies that are kept by name.
pub const MAX_TALLIES: usize = 500;

/// What a rule would have done.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Report {
    /// Alerts that were gone through.
    pub alerts: u64,
    /// Of these, those that matched.
    pub matched: u64,
    /// How many alerts ended with each verdict.
    pub verdicts: BTreeMap<Verdict, u64>,
    /// Dispatches.
    pub dispatches: u64,
    /// Tallies, in the order in which they first appeared; the first 500.
    pub tallies: Vec<RehearsedTally>,
    /// Verdicts in the order in which they were given, later ones replacing earlier ones of the
    /// same alert; the first 20,000.
    pub decided: Vec<RehearsedVerdict>,
    /// Dispatches in order; the first 2,000.
    pub dispatched: Vec<RehearsedDispatch>,
    /// Alerts over which the rule went wrong, and how it did the first time.
    pub broken: u64,
    /// How it went wrong the first time.
    pub broken_first: Option<String>,
    /// Whether more happened than is listed.
    pub cut: bool,
    #[serde(skip)]
    inputs: usize,
    #[serde(skip)]
    tally_of: HashMap<String, u32>,
    #[serde(skip)]
    last: Option<(AlertId, Option<u32>, DateTime<Utc>)>,
    #[serde(skip)]
    held: HashMap<AlertId, (Option<u32>, DateTime<Utc>)>,
}

/// A tally.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RehearsedTally {
    /// Its fold key.
    pub key: String,
    /// The resource of its first alert.
    pub resource: String,
    /// The kind of its first alert.
    pub kind: String,
    /// Alerts in it.
    pub alerts: u64,
}

/// A verdict of an alert.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RehearsedVerdict {
    /// When it was given.
    pub at: DateTime<Utc>,
    /// When the alert came.
    pub came: DateTime<Utc>,
    /// The alert's number.
    pub alert: AlertId,
    /// The tally; none past the first 500.
    pub tally: Option<u32>,
    /// The verdict.
    pub verdict: Verdict,
    /// What of the rule led to it, in a sentence.
    pub reason: String,
    /// The dispatch it set off or joined, counted from one.
    pub job: Option<JobId>,
}

/// A dispatch.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RehearsedDispatch {
    /// When it would have been dispatched, in the time of the alerts.
    pub at: DateTime<Utc>,
    /// Counted from one.
    pub job: JobId,
    /// The tallies that fired.
    pub tallies: Vec<u32>,
    /// The alerts that set it off.
    pub alerts: Vec<AlertId>,
    /// The runbook's name.
    pub runbook: String,
    /// What it would be given.
    pub inputs: Map<String, Value>,
    /// Why the inputs could not be made.
    pub error: Option<String>,
    /// What of the rule led to it, in a sentence.
    pub reason: String,
}

impl Report {
    /// An alert about which the rule cannot decide.
    pub(super) fn broken(&mut self, id: AlertId, alert: &Alert, why: String) {
        self.broken += 1;
        self.matched += 1;
        self.last = Some((id, None, alert.received));
        self.decided(
            alert.received,
            id,
            (Verdict::Broken, None),
            &Reason::Broken(why.clone()),
            None,
        );
        self.broken_first.get_or_insert(why);
    }

    /// The number of a tally in the report.
    pub(super) fn tally(&mut self, key: &str, alert: &Alert) -> Option<u32> {
        if let Some(tally) = self.tally_of.get(key) {
            return Some(*tally);
        }
        if self.tallies.len() >= MAX_TALLIES {
            self.cut = true;
            return None;
        }
        let tally = u32::try_from(self.tallies.len()).unwrap_or(u32::MAX);
        self.tally_of.insert(key.to_owned(), tally);
        let (resource, kind) = (alert.resource.to_string(), alert.kind.clone());
        self.tallies.push(RehearsedTally { key: key.to_owned(), resource, kind, alerts: 0 });
        Some(tally)
    }

    /// An alert of a tally, before its verdict.
    pub(super) fn matched(&mut self, id: AlertId, key: &str, alert: &Alert) {
        self.matched += 1;
        let tally = self.tally(key, alert);
        if let Some(tally) = tally.and_then(|l| self.tallies.get_mut(l as usize)) {
            tally.alerts += 1;
        }
        self.last = Some((id, tally, alert.received));
    }

    /// A verdict, and the one that it replaces.
    pub(super) fn decided(
        &mut self,
        now: DateTime<Utc>,
        alert: AlertId,
        (verdict, replaces): (Verdict, Option<Verdict>),
        reason: &Reason,
        job: Option<JobId>,
    ) {
        if let Some(count) = replaces.and_then(|before| self.verdicts.get_mut(&before)) {
            *count = count.saturating_sub(1);
        }
        *self.verdicts.entry(verdict).or_default() += 1;
        let (tally, came) = match (self.last, replaces) {
            (Some((id, tally, came)), None) if id == alert => (tally, came),
            _ => self.held.get(&alert).copied().unwrap_or((None, now)),
        };
        if self.decided.len() >= MAX_VERDICTS {
            self.cut = true;
            return;
        }
        if Verdict::HELD.contains(&verdict) {
            self.held.insert(alert, (tally, came));
        }
        self.decided.push(RehearsedVerdict {
            at: now,
            came,
            alert,
            tally,
            verdict,
            reason: reason.to_string(),
            job,
        });
    }

    pub(super) fn dispatch(&mut self, tallies: &[String], mut dispatch: RehearsedDispatch) {
        self.dispatches += 1;
        self.inputs += dispatch.inputs.values().map(|v| weight(v, MAX_INPUTS)).sum::<usize>();
        if self.dispatched.len() >= MAX_DISPATCHES || self.inputs > MAX_INPUTS {
            self.cut = true;
            return;
        }
        dispatch.tallies =
            tallies.iter().filter_map(|key| self.tally_of.get(key)).copied().collect();
        self.dispatched.push(dispatch);
    }

    /// The dispatches that only one of two versions makes, and the change of the counts.
    pub fn against(&self, before: &Self) -> Difference {
        let same = |a: &RehearsedDispatch, b: &RehearsedDispatch| {
            a.at == b.at && a.runbook == b.runbook && a.inputs == b.inputs && a.alerts == b.alerts
        };
        let only = |a: &Self, b: &Self| {
            let numbers = a
                .dispatched
                .iter()
                .filter(|p| !b.dispatched.iter().any(|q| same(p, q)))
                .map(|p| p.job);
            numbers.collect::<Vec<_>>()
        };
        let count = |r: &Self, v: Verdict| {
            i64::try_from(r.verdicts.get(&v).copied().unwrap_or(0)).unwrap_or(i64::MAX)
        };
        let verdicts = Verdict::ALL.into_iter().map(|v| (v, count(self, v) - count(before, v)));
        Difference {
            only_now: only(self, before),
            only_before: only(before, self),
            verdicts: verdicts.filter(|(_, n)| *n != 0).collect(),
        }
    }
}

/// How two versions of a rule differ.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Difference {
    /// Dispatches of the newer version that the older one does not make.
    pub only_now: Vec<JobId>,
    /// Dispatches of the older version that the newer one does not make.
    pub only_before: Vec<JobId>,
    /// By how much the counts of verdicts change.
    pub verdicts: BTreeMap<Verdict, i64>,
}
