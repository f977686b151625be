//! What a rule remembers: a tally for each fold key, and what tallies share.
//!
//! Plain values that can be written down and read again. What happens to them is the business of
//! [`super::Machine`].

use super::Slot;
use crate::{AlarmId, AlertId, JobId, Severity, Verdict, rule::Stance};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeSet, HashMap};

/// Everything one rule remembers, or the part of it that is needed at the moment.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Memory {
    /// By fold key.
    pub tallies: HashMap<String, Tally>,
    /// Gatherings and caps, by their keys.
    pub pools: HashMap<String, Pool>,
}

impl Memory {
    /// When something is to be looked at again.
    pub fn due(&self, slot: &Slot) -> Option<DateTime<Utc>> {
        match slot {
            Slot::Tally(key) => self.tallies.get(key)?.due,
            Slot::Pool(key) => self.pools.get(key)?.due(),
        }
    }
}

/// What a rule remembers for one fold key.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Tally {
    /// The raised alarms of the running episode, by their numbers.
    pub alarms: BTreeSet<AlarmId>,
    /// The running episode.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub episode: Option<Episode>,
    /// The last dispatch, or what would have been one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last: Option<Fired>,
    /// When the alerts happened that `after` counts, oldest first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub window: Vec<DateTime<Utc>>,
    /// When the last of them came, by our own clock.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub counted: Option<DateTime<Utc>>,
    /// When its alarms were raised or cleared, for `flapping`, oldest first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub changes: Vec<DateTime<Utc>>,
    /// When it is to be looked at again.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub due: Option<DateTime<Utc>>,
}

/// What a person decided about a proposal.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Decision {
    /// It became a job.
    Launched,
    /// It is not wanted.
    Dismissed,
}

impl Tally {
    /// Takes note of what a person decided about what was proposed under this number. What is
    /// launched counts as a dispatch from then on; what is dismissed stays so for its episode.
    pub fn decided(&mut self, proposal: JobId, decision: Decision) {
        let episode = self.episode.as_mut().and_then(|e| e.fired.as_mut());
        for fired in
            [episode, self.last.as_mut()].into_iter().flatten().filter(|f| f.job == Some(proposal))
        {
            match decision {
                Decision::Launched => fired.stance = Stance::Act,
                Decision::Dismissed => fired.dismissed = true,
            }
        }
    }

    /// Waiting for something that was never heard of.
    pub fn awaiting(now: DateTime<Utc>, due: DateTime<Utc>) -> Self {
        let latest = SettledAlert { alert: None, severity: Severity::Indeterminate, entries: 1 };
        let episode = Episode {
            began: now,
            alerts: 0,
            latest,
            enough: false,
            held: None,
            fired: None,
            again: 0,
            gathering: None,
            cap: None,
        };
        Self { episode: Some(episode), due: Some(due), ..Self::default() }
    }
}

/// From the first matching alert until the alarms are cleared.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Episode {
    /// When it began.
    pub began: DateTime<Utc>,
    /// Matching alerts so far.
    pub alerts: u64,
    /// The latest of them.
    pub latest: SettledAlert,
    /// Whether `after` has been met.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub enough: bool,
    /// Held back for now, and by what.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held: Option<Held>,
    /// Whether, when and how it led to something.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fired: Option<Fired>,
    /// Dispatches after the first.
    #[serde(default)]
    pub again: u32,
    /// The pools that its dispatch belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gathering: Option<String>,
    /// The pools that its dispatch belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cap: Option<String>,
}

/// What is remembered of an alert.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SettledAlert {
    /// Its number; none for what never came.
    #[serde(with = "or_zero")]
    pub alert: Option<AlertId>,
    /// Its severity.
    pub severity: Severity,
    /// How many entries of `dispatch` apply to it.
    pub entries: usize,
}

/// A tally that would dispatch, were it not for one line.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Held {
    /// The alert whose verdict waits.
    pub seen: SettledAlert,
    /// That verdict.
    pub verdict: Verdict,
    /// Since when.
    pub since: DateTime<Utc>,
    /// Whether it is part of a gathering.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub gathered: bool,
}

/// A dispatch, or, for a rule that only watches, the moment that would have been one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fired {
    /// When it was dispatched.
    pub at: DateTime<Utc>,
    /// The job or proposal; the first of several; absent when the rule only watched.
    pub job: Option<JobId>,
    /// How far the rule could go.
    pub stance: Stance,
    /// How bad it was.
    pub severity: Severity,
    /// A person said no to the proposal.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub dismissed: bool,
}

/// What several tallies share.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Pool {
    /// Tallies on their way into one dispatch.
    Gathering {
        /// When the first joined.
        began: DateTime<Utc>,
        /// Fold keys in the order of joining.
        members: Vec<String>,
        /// When it ends, or may try again.
        due: DateTime<Utc>,
    },
    /// Jobs that count against a cap, oldest first.
    Cap {
        /// When they were dispatched.
        fired: Vec<DateTime<Utc>>,
        /// When it can be forgotten.
        due: DateTime<Utc>,
    },
}

impl Pool {
    /// When it is to be looked at again.
    pub fn due(&self) -> Option<DateTime<Utc>> {
        match self {
            Self::Gathering { due, .. } | Self::Cap { due, .. } => Some(*due),
        }
    }
}

/// A memory has always kept 0 for an alert that never came.
mod or_zero {
    use crate::AlertId;
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub fn serialize<S: Serializer>(id: &Option<AlertId>, s: S) -> Result<S::Ok, S::Error> {
        id.map_or(0, |id| id.0).serialize(s)
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(d: D) -> Result<Option<AlertId>, D::Error> {
        let number = i64::deserialize(d)?;
        Ok((number != 0).then_some(AlertId(number)))
    }
}
