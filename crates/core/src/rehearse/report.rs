//! What a rehearsal has to tell, within bounds: everything is counted, the first so many are kept.

use crate::{Alert, Verdict, bounds::weight, settle::Reason};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::{BTreeMap, HashMap};

/// Most verdicts that are kept one by one.
pub const MAX_RULINGS: usize = 20_000;
/// Most dispatches that are kept one by one.
pub const MAX_POSTS: usize = 2_000;
/// Most bytes of inputs of the dispatches that are kept.
pub const MAX_INPUTS: usize = 16 << 20;
/// Most tallies that are kept by name.
pub const MAX_LANES: usize = 500;

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
    pub lanes: Vec<Lane>,
    /// Verdicts in the order in which they were given, later ones replacing earlier ones of the
    /// same alert; the first 20,000.
    pub rulings: Vec<Ruling>,
    /// Dispatches in order; the first 2,000.
    pub posts: Vec<Post>,
    /// Alerts over which the rule went wrong, and how it did the first time.
    pub broken: u64,
    /// How it went wrong the first time.
    pub broken_first: Option<String>,
    /// Whether more happened than is listed.
    pub cut: bool,
    #[serde(skip)]
    inputs: usize,
    #[serde(skip)]
    lane_of: HashMap<String, u32>,
    #[serde(skip)]
    last: Option<(i64, Option<u32>, DateTime<Utc>)>,
    #[serde(skip)]
    held: HashMap<i64, (Option<u32>, DateTime<Utc>)>,
}

/// A tally.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Lane {
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
pub struct Ruling {
    /// When it was given.
    pub at: DateTime<Utc>,
    /// When the alert came.
    pub came: DateTime<Utc>,
    /// The alert.
    pub alert: i64,
    /// The lane; none past the first 500.
    pub lane: Option<u32>,
    /// The verdict.
    pub verdict: Verdict,
    /// Why.
    pub reason: String,
    /// The dispatch it set off or joined, counted from one.
    pub job: Option<i64>,
}

/// A dispatch.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Post {
    /// When.
    pub at: DateTime<Utc>,
    /// Counted from one.
    pub job: i64,
    /// The lanes that fired.
    pub lanes: Vec<u32>,
    /// The alerts that set it off.
    pub alerts: Vec<i64>,
    /// The runbook.
    pub runbook: String,
    /// What it would be given.
    pub inputs: Map<String, Value>,
    /// Why the inputs could not be made.
    pub wrong: Option<String>,
    /// Why.
    pub reason: String,
}

impl Report {
    /// An alert about which the rule cannot decide.
    pub(super) fn broken(&mut self, number: i64, alert: &Alert, why: String) {
        self.broken += 1;
        self.matched += 1;
        self.last = Some((number, None, alert.received));
        self.ruled(alert.received, number, (Verdict::Broken, None), &Reason::Broken(why.clone()), None);
        self.broken_first.get_or_insert(why);
    }

    /// The lane of a tally.
    pub(super) fn lane(&mut self, key: &str, alert: &Alert) -> Option<u32> {
        if let Some(lane) = self.lane_of.get(key) {
            return Some(*lane);
        }
        if self.lanes.len() >= MAX_LANES {
            self.cut = true;
            return None;
        }
        let lane = u32::try_from(self.lanes.len()).unwrap_or(u32::MAX);
        self.lane_of.insert(key.to_owned(), lane);
        let (resource, kind) = (alert.resource.to_string(), alert.kind.clone());
        self.lanes.push(Lane { key: key.to_owned(), resource, kind, alerts: 0 });
        Some(lane)
    }

    /// An alert of a tally, before its verdict.
    pub(super) fn matched(&mut self, number: i64, key: &str, alert: &Alert) {
        self.matched += 1;
        let lane = self.lane(key, alert);
        if let Some(lane) = lane.and_then(|l| self.lanes.get_mut(l as usize)) {
            lane.alerts += 1;
        }
        self.last = Some((number, lane, alert.received));
    }

    /// A verdict, and the one that it replaces.
    pub(super) fn ruled(
        &mut self,
        now: DateTime<Utc>,
        alert: i64,
        (verdict, replaces): (Verdict, Option<Verdict>),
        reason: &Reason,
        job: Option<i64>,
    ) {
        if let Some(count) = replaces.and_then(|before| self.verdicts.get_mut(&before)) {
            *count = count.saturating_sub(1);
        }
        *self.verdicts.entry(verdict).or_default() += 1;
        let (lane, came) = match (self.last, replaces) {
            (Some((number, lane, came)), None) if number == alert => (lane, came),
            _ => self.held.get(&alert).copied().unwrap_or((None, now)),
        };
        if self.rulings.len() >= MAX_RULINGS {
            self.cut = true;
            return;
        }
        if matches!(verdict, Verdict::Waiting | Verdict::Resting | Verdict::Capped | Verdict::Flapping) {
            self.held.insert(alert, (lane, came));
        }
        self.rulings.push(Ruling { at: now, came, alert, lane, verdict, reason: reason.to_string(), job });
    }

    pub(super) fn posted(&mut self, tallies: &[String], mut post: Post) {
        self.dispatches += 1;
        self.inputs += post.inputs.values().map(|v| weight(v, MAX_INPUTS)).sum::<usize>();
        if self.posts.len() >= MAX_POSTS || self.inputs > MAX_INPUTS {
            self.cut = true;
            return;
        }
        post.lanes = tallies.iter().filter_map(|key| self.lane_of.get(key)).copied().collect();
        self.posts.push(post);
    }

    /// The dispatches that only one of two versions makes, and the change of the counts.
    pub fn against(&self, before: &Self) -> Difference {
        let same =
            |a: &Post, b: &Post| a.at == b.at && a.runbook == b.runbook && a.inputs == b.inputs && a.alerts == b.alerts;
        let only = |a: &Self, b: &Self| {
            let numbers = a.posts.iter().filter(|p| !b.posts.iter().any(|q| same(p, q))).map(|p| p.job);
            numbers.collect::<Vec<_>>()
        };
        let count = |r: &Self, v: Verdict| i64::try_from(r.verdicts.get(&v).copied().unwrap_or(0)).unwrap_or(i64::MAX);
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
    pub only_now: Vec<i64>,
    /// Dispatches of the older version that the newer one does not make.
    pub only_before: Vec<i64>,
    /// By how much the counts of verdicts change.
    pub verdicts: BTreeMap<Verdict, i64>,
}
