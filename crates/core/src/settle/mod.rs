//! Deciding with a rule's memory: episodes, folding, and every line of `settle`.
//!
//! A tally's episode begins with its first matching alert and ends when its alarms are cleared.
//! Within an episode a rule dispatches once; repeats are folded into it. For alerts that raise
//! nothing, the episode ends with the dispatch. The lines of `settle` add to that, in this order:
//! symptoms, after, flapping, still, rest, gather, cap; a tally fires when none of them holds it,
//! and no [`crate::mute`] either.
//! A line that holds says until when, and that time comes as an event of its own.
//!
//! Pure: [`Machine::handle`] takes the time and an event, moves the [`Memory`] on and gives the
//! effects. Everything that waits is measured by our own clock; only `after` counts by the times of
//! the senders, so that a late delivery counts where it belongs.
//!
//! ```
//! use arvok_core::{
//!     AlarmId, AlertId, JobId, NewAlert, Verdict,
//!     alert::Received,
//!     definition::Defined,
//!     document::parse_file,
//!     rule::{Rule, Stance},
//!     settle::{AlarmTransition, Effect, Event, Machine, Matched, Memory},
//! };
//! use chrono::DateTime;
//! use serde_json::json;
//!
//! let text = "rule: grow\nstance: act\nlisten: { kinds: disk.usage }\n\
//!     dispatch: { runbook: grow-disk }\n";
//! let documents = parse_file("rules.yaml", text).expect("is YAML");
//! let rule = Rule::check(&documents[0]).expect("is a rule");
//!
//! let now = DateTime::UNIX_EPOCH;
//! let written = json!({ "kind": "disk.usage", "resource": "vm/quill-booking-db-1" });
//! let new = NewAlert::from_value(&written);
//! let received = Received { source: "pier-monitor", received: now, fallback_id: "1" };
//! let alert = new.and_then(|new| new.complete(received)).expect("the normal form");
//! let keys = rule.keys(&alert).expect("can be placed");
//!
//! let mut memory = Memory::default();
//! let mut numbers = (1..).map(JobId);
//! let mut verdict = |number: i64, anew: bool| {
//!     let matched = Matched {
//!         alert: Some(AlertId(number)),
//!         keys: &keys,
//!         happened: now,
//!         severity: alert.severity,
//!         standing: AlarmTransition::Raised { alarm: Some(AlarmId(1)), anew },
//!         entries: 1,
//!         cause: None,
//!     };
//!     let mut number = || numbers.next();
//!     let machine = Machine::new(&rule, Stance::Act, &mut memory, &mut number);
//!     machine.handle(now, Event::Matched(matched)).into_iter().find_map(|effect| match effect {
//!         Effect::Verdict { verdict, .. } => Some(verdict),
//!         _ => None,
//!     })
//! };
//! assert_eq!(verdict(1, true), Some(Verdict::Dispatched));
//! assert_eq!(verdict(2, false), Some(Verdict::Folded), "of the same episode");
//! ```

mod machine;
mod reason;
mod tally;

pub use machine::{Machine, Suspending, Suspension};
pub use reason::{Reason, Trigger};
pub use tally::{Decision, Episode, Fired, Held, Memory, Pool, SettledAlert, Tally};

use crate::{
    AlarmId, AlertId, AlertState, JobId, Severity, Verdict,
    alarm::AlarmChange,
    rule::{Keys, Rule, Stance},
};
use chrono::{DateTime, Utc};

/// The tallies with which a rule begins to wait for resources that it names.
pub fn awaiting(rule: &Rule, now: DateTime<Utc>) -> Vec<(String, Tally)> {
    let Some(missing) = rule.settle.missing else { return Vec::new() };
    let tally = |key| (key, Tally::awaiting(now, now + missing.delta()));
    rule.awaited_keys().into_iter().map(tally).collect()
}

/// Something with a due time.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Slot {
    /// A tally, by its key.
    Tally(String),
    /// A gathering or a cap, by its key.
    Pool(String),
}

/// What happens to a rule's memory.
#[derive(Clone, Copy, Debug)]
pub enum Event<'a> {
    /// An alert matched.
    Matched(Matched<'a>),
    /// An alarm of a tally was cleared.
    Cleared {
        /// The tally's key.
        tally: &'a str,
        /// The alarm's number.
        alarm: AlarmId,
    },
    /// The due time of something has come.
    Due(&'a Slot),
}

/// An alert that matched.
#[derive(Clone, Copy, Debug)]
pub struct Matched<'a> {
    /// Its number; none if it is only asked what would be decided.
    pub alert: Option<AlertId>,
    /// What it belongs to.
    pub keys: &'a Keys,
    /// When, by the sender's clock; never later than received.
    pub happened: DateTime<Utc>,
    /// How bad it is.
    pub severity: Severity,
    /// What it does to its alarm.
    pub standing: AlarmTransition,
    /// How many entries of `dispatch` apply to it.
    pub entries: usize,
    /// The alarm upstream that explains it.
    pub cause: Option<&'a str>,
}

/// What a matched alert does to its alarm.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AlarmTransition {
    /// It has no lasting state.
    None,
    /// It raises its alarm anew, or keeps it raised.
    Raised {
        /// The alarm's number; none if there is no such alarm yet, and it is only asked.
        alarm: Option<AlarmId>,
        /// Whether it did not stand before.
        anew: bool,
    },
    /// It was sent before its alarm was cleared, and arrives after.
    Late {
        /// When it was cleared, by the sender's clock.
        over: DateTime<Utc>,
    },
}

impl AlarmTransition {
    /// From what an alert did to its alarm.
    pub fn from_change(state: AlertState, alarm: Option<AlarmId>, change: AlarmChange) -> Self {
        match (state, alarm, change) {
            (_, _, AlarmChange::Late(over)) => Self::Late { over },
            (AlertState::Raised, Some(_), change) => {
                Self::Raised { alarm, anew: change == AlarmChange::Raised }
            }
            _ => Self::None,
        }
    }
}

/// What is to be done.
#[derive(Clone, Debug, PartialEq)]
pub enum Effect {
    /// The verdict of an alert, the first or one that replaces it.
    Verdict {
        /// The alert's number; none for what never came, and for what is only asked about.
        alert: Option<AlertId>,
        /// The decision.
        verdict: Verdict,
        /// What of the rule led to it.
        reason: Reason,
        /// The job or proposal that it set off or joined.
        job: Option<JobId>,
        /// The verdict it had until now; none when this is its first.
        replaces: Option<Verdict>,
    },
    /// Jobs are to be made or proposed, or, when the rule only watches, would have been.
    Fire(Fire),
    /// A proposal is no longer wanted.
    Withdraw {
        /// Its number.
        proposal: JobId,
        /// Why it is no longer wanted.
        reason: &'static str,
    },
    /// Something is due then.
    Wake {
        /// The tally or the pool.
        slot: Slot,
        /// When it is to be looked at.
        at: DateTime<Utc>,
    },
}

/// A dispatch.
#[derive(Clone, Debug, PartialEq)]
pub struct Fire {
    /// How far the rule may go.
    pub stance: Stance,
    /// One number for each entry of `dispatch` that applies; empty when it only watches.
    pub jobs: Vec<JobId>,
    /// The alert that set it off, and, of a gathering, the others; none where it was silence.
    pub alerts: Vec<AlertId>,
    /// The tallies that fired, the first one first.
    pub tallies: Vec<String>,
    /// Alerts of the episode so far.
    pub count: u64,
    /// When the episode began.
    pub since: DateTime<Utc>,
    /// Dispatches of this episode before.
    pub before: u32,
    /// What of the rule led to it.
    pub reason: Reason,
}

#[cfg(test)]
mod tests;
