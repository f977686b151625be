//! Deciding with a rule's memory: episodes, folding, rest.
//!
//! A tally's episode begins with its first matching alert and ends when its alarms are cleared.
//! Within an episode a rule dispatches once; repeats are folded into it. For alerts that raise
//! nothing, the episode ends with the dispatch. Pure: [`Tally::handle`] takes the time and an
//! event and gives the decision; the store keeps the tally between events.

mod verdict;

pub use verdict::Verdict;

use crate::{
    Period,
    period::rough,
    rule::{Rule, Stance},
};
use chrono::{DateTime, SecondsFormat, Utc};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// What a rule remembers for one fold key.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tally {
    /// The raised alarms of the running episode, by their numbers.
    pub alarms: BTreeSet<i64>,
    /// The running episode.
    pub episode: Option<Episode>,
    /// The last dispatch, or what would have been one.
    pub last: Option<Fired>,
}

/// From the first matching alert until the alarms are cleared.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Episode {
    /// When it began.
    pub began: DateTime<Utc>,
    /// Matching alerts so far.
    pub alerts: u64,
    /// Whether, when and how it led to something.
    pub fired: Option<Fired>,
}

/// A dispatch, or, for a rule that only watches, the moment that would have been one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fired {
    /// When.
    pub at: DateTime<Utc>,
    /// The job; absent when the rule only watched.
    pub job: Option<i64>,
}

/// What happens to a tally.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Event {
    /// An alert of this tally matched.
    Matched {
        /// The alarm that it raises or keeps raised; none for alerts without lasting state.
        alarm: Option<i64>,
        /// The number that a job would get.
        job: i64,
    },
    /// An alarm of this tally was cleared.
    Cleared {
        /// Its number.
        alarm: i64,
    },
}

/// What was decided for a matched alert.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Decision {
    /// The verdict.
    pub verdict: Verdict,
    /// Why, in words with the numbers.
    pub reason: String,
    /// The job that the alert set off or joined.
    pub job: Option<i64>,
}

impl Tally {
    /// Takes an event; a matched alert gets its one decision.
    pub fn handle(&mut self, rule: &Rule, now: DateTime<Utc>, event: Event) -> Option<Decision> {
        match event {
            Event::Cleared { alarm } => {
                self.cleared(alarm);
                None
            }
            Event::Matched { alarm, job } => Some(self.matched(rule, now, alarm, job)),
        }
    }

    /// An alarm was cleared; with the last of its alarms the episode ends, whatever the rule says.
    pub fn cleared(&mut self, alarm: i64) {
        if self.alarms.remove(&alarm) && self.alarms.is_empty() {
            self.episode = None;
        }
    }

    /// Whether nothing is left to remember, so that the tally can be forgotten.
    pub fn is_idle(&self, rest: Option<Period>, now: DateTime<Utc>) -> bool {
        self.episode.is_none() && self.resting_until(rest).is_none_or(|until| until <= now)
    }

    fn matched(&mut self, rule: &Rule, now: DateTime<Utc>, alarm: Option<i64>, job: i64) -> Decision {
        let episode = self.episode.get_or_insert(Episode { began: now, alerts: 0, fired: None });
        episode.alerts += 1;
        let count = episode.alerts;
        self.alarms.extend(alarm);
        if let Some(fired) = episode.fired
            && (fired.job.is_some() || rule.stance == Stance::Watch)
        {
            return folded(fired, count, now);
        }
        if let (Some(until), Some(last)) = (self.resting_until(rule.rest), self.last)
            && until > now
        {
            if alarm.is_none() && self.alarms.is_empty() {
                self.episode = None;
            }
            return resting(rule, last, until, now);
        }
        self.fire(rule, now, alarm, job, count)
    }

    fn resting_until(&self, rest: Option<Period>) -> Option<DateTime<Utc>> {
        self.last?.at.checked_add_signed(rest?.delta())
    }

    fn fire(&mut self, rule: &Rule, now: DateTime<Utc>, alarm: Option<i64>, job: i64, count: u64) -> Decision {
        let acts = rule.stance == Stance::Act;
        let fired = Fired { at: now, job: acts.then_some(job) };
        self.last = Some(fired);
        if alarm.is_none() && self.alarms.is_empty() {
            self.episode = None;
        } else if let Some(episode) = &mut self.episode {
            episode.fired = Some(fired);
        }
        let which =
            if count == 1 { "first alert of its episode".to_owned() } else { format!("alert {count} of its episode") };
        if acts {
            let reason = format!("{which}: {} dispatched as job {job}", rule.dispatch.runbook);
            Decision { verdict: Verdict::Dispatched, reason, job: Some(job) }
        } else {
            let reason = format!("{which}: would have dispatched {}, but the rule only watches", rule.dispatch.runbook);
            Decision { verdict: Verdict::Watched, reason, job: None }
        }
    }
}

fn folded(fired: Fired, count: u64, now: DateTime<Utc>) -> Decision {
    let ago = rough(now - fired.at);
    let reason = match fired.job {
        Some(job) => format!("alert {count} of an episode that dispatched job {job} {ago} ago"),
        None => format!("alert {count} of an episode that was watched {ago} ago"),
    };
    Decision { verdict: Verdict::Folded, reason, job: fired.job }
}

fn resting(rule: &Rule, last: Fired, until: DateTime<Utc>, now: DateTime<Utc>) -> Decision {
    let rest = rule.rest.map_or_else(String::new, |r| r.to_string());
    let what = last.job.map_or_else(|| "it was watched".to_owned(), |job| format!("job {job} was dispatched"));
    let until = until.to_rfc3339_opts(SecondsFormat::Secs, true);
    let reason = format!("resting until {until}: {what} {} ago and rest is {rest}", rough(now - last.at));
    Decision { verdict: Verdict::Resting, reason, job: last.job }
}

#[cfg(test)]
mod tests;
