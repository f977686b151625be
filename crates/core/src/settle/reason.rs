//! Why a rule decided as it did, kept as numbers and said in words.

#![expect(
    missing_docs,
    reason = "the fields are the numbers of the sentence that each variant says"
)]

use super::Fired;
use crate::{
    JobId, Period, Severity, Verdict, guard::Freeze, period::rough, rule::Stance,
    touch::TouchedLately,
};
use chrono::{DateTime, SecondsFormat, Utc};
use std::fmt;

/// The reason of a verdict or a dispatch.
#[derive(Clone, Debug, PartialEq)]
pub enum Reason {
    /// Something was done, or would have been: what led to it, and what it was.
    Fires(Trigger, String),
    /// The episode has dispatched already.
    Folded { nth: u64, fired: Fired, now: DateTime<Utc> },
    /// The episode is held already.
    Joined {
        nth: u64,
        verdict: Verdict,
        since: DateTime<Utc>,
        due: Option<DateTime<Utc>>,
        now: DateTime<Utc>,
    },
    /// Sent before its alarm was cleared, received after.
    Late { sent: DateTime<Utc>, over: DateTime<Utc> },
    /// Not enough alerts so far.
    Count { have: usize, want: u32, within: Period },
    /// Not raised for long enough so far.
    Still { due: DateTime<Utc>, for_: Period },
    /// Heard; silence would fire.
    Heard { due: DateTime<Utc>, missing: Period },
    /// Being gathered with others.
    Gathers { nth: usize, at_most: u32, due: DateTime<Utc> },
    /// Within the rest of a dispatch.
    Rests { due: DateTime<Utc>, last: Fired, rest: Period, now: DateTime<Utc> },
    /// As many jobs as are allowed.
    Full { jobs: u32, per: Period, frees: DateTime<Utc>, later: bool },
    /// Its alarm comes and goes.
    Flaps { changes: usize, within: Period, due: DateTime<Utc> },
    /// A person keeps the rule from acting.
    Muted { by: String, why: String, until: DateTime<Utc> },
    /// A guard lets nothing begin at this time.
    Frozen(Freeze),
    /// A job has just touched it.
    Touched(TouchedLately),
    /// Explained by something upstream.
    Explained { cause: String },
    /// Cleared while it was held.
    Cleared { verdict: Verdict, after: chrono::TimeDelta },
    /// No entry of `dispatch` applies.
    Nothing,
    /// The rule cannot decide about this alert.
    Broken(String),
}

impl Reason {
    /// The job that holds an alert back.
    pub fn job(&self) -> Option<JobId> {
        match self {
            Self::Rests { last, .. } => last.job,
            Self::Touched(touched) => Some(touched.touch.job),
            _ => None,
        }
    }
}

/// What made a rule fire.
#[derive(Clone, Debug, PartialEq)]
pub enum Trigger {
    /// An alert, the first or a later one of its episode.
    Alert(u64),
    /// Enough alerts.
    Count(u32, Period),
    /// Raised for long enough.
    Still(Period),
    /// Silence.
    Missing(Period),
    /// No longer flapping.
    Calm,
    /// No longer muted.
    Unmuted,
    /// No longer frozen.
    Thawed,
    /// Rested.
    Rested(Period),
    /// Not kept away from any more.
    LeftAlone,
    /// Gathered.
    Gathered(usize),
    /// The cap has room again.
    Room,
    /// Still raised some time after a dispatch.
    Again(chrono::TimeDelta, Option<JobId>),
    /// Worse than at the last dispatch.
    Worse(Severity, Severity),
}

fn clock(t: DateTime<Utc>) -> String {
    t.to_rfc3339_opts(SecondsFormat::Secs, true)
}

/// Something of a stance, as it is counted: "job 4 was dispatched".
fn done(fired: Fired) -> String {
    match (fired.stance, fired.job) {
        (Stance::Act, Some(job)) => format!("job {job} was dispatched"),
        (Stance::Propose, Some(job)) => format!("job {job} was proposed"),
        _ => "it was watched".into(),
    }
}

impl fmt::Display for Trigger {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Alert(1) => f.write_str("first alert of its episode"),
            Self::Alert(n) => write!(f, "alert {n} of its episode"),
            Self::Count(n, within) => write!(f, "{n} alerts within {within}"),
            Self::Still(d) => write!(f, "still raised after {d}"),
            Self::Missing(d) => write!(f, "nothing came for {d}"),
            Self::Calm => f.write_str("no longer flapping and still raised"),
            Self::Unmuted => f.write_str("no longer muted and still raised"),
            Self::Thawed => f.write_str("no longer frozen and still raised"),
            Self::Rested(d) => write!(f, "the rest of {d} is over and it is raised"),
            Self::LeftAlone => f.write_str("it rests no longer and is raised"),
            Self::Gathered(n) => write!(f, "{n} gathered"),
            Self::Room => f.write_str("the cap has room again and it is still raised"),
            Self::Again(after, Some(job)) => {
                write!(f, "still raised {} after job {job}", rough(*after))
            }
            Self::Again(after, None) => write!(f, "still raised {} later", rough(*after)),
            Self::Worse(before, now) => write!(f, "worse: {now} after {before}"),
        }
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Fires(trigger, what) => write!(f, "{trigger}: {what}"),
            Self::Folded { nth, fired, now } => {
                let ago = rough(*now - fired.at);
                match (fired.stance, fired.job) {
                    (Stance::Act, Some(job)) => {
                        write!(f, "alert {nth} of an episode that dispatched job {job} {ago} ago")
                    }
                    (Stance::Propose, Some(job)) => {
                        write!(f, "alert {nth} of an episode that proposed job {job} {ago} ago")
                    }
                    _ => write!(f, "alert {nth} of an episode that was watched {ago} ago"),
                }
            }
            Self::Joined { nth, verdict, since, due, now } => {
                let word = verdict.as_str();
                write!(
                    f,
                    "alert {nth} of an episode that has been {word} for {}",
                    rough(*now - *since)
                )?;
                due.map_or(Ok(()), |due| write!(f, ", decided at {}", clock(due)))
            }
            Self::Late { sent, over } => {
                write!(
                    f,
                    "late: sent at {}, and its alarm was cleared at {}",
                    clock(*sent),
                    clock(*over)
                )
            }
            Self::Count { have, want, within } => {
                write!(f, "{have} of {want} alerts within {within}")
            }
            Self::Still { due, for_ } => {
                write!(f, "must stay raised for {for_}, until {}", clock(*due))
            }
            Self::Heard { due, missing } => {
                write!(f, "heard; fires if nothing more comes for {missing}, until {}", clock(*due))
            }
            Self::Gathers { nth, at_most, due } => {
                write!(f, "gathered as {nth} of at most {at_most}, until {}", clock(*due))
            }
            Self::Rests { due, last, rest, now } => {
                let ago = rough(*now - last.at);
                write!(
                    f,
                    "{} {ago} ago and rest is {rest}: silent until {}",
                    done(*last),
                    clock(*due)
                )
            }
            Self::Full { jobs, per, frees, later } => {
                let then = if *later { "tried again" } else { "room again" };
                let noun = if *jobs == 1 { "job" } else { "jobs" };
                write!(f, "{jobs} {noun} within {per} already; {then} at {}", clock(*frees))
            }
            Self::Flaps { changes, within, due } => {
                write!(
                    f,
                    "{changes} changes within {within}; decided when calm, at {} at the earliest",
                    clock(*due)
                )
            }
            Self::Muted { by, why, until } => {
                write!(f, "muted by {by} until {}: {why}", clock(*until))
            }
            Self::Frozen(freeze) => {
                let (why, until) = (freeze.in_words(), clock(freeze.until));
                write!(f, "{why} until {until}, by guard {}", freeze.guard)
            }
            Self::Touched(TouchedLately { touch, untouched, until }) => {
                let (what, until) = (touch.in_words(), clock(*until));
                write!(f, "{what}; left alone for {untouched}, until {until}")
            }
            Self::Explained { cause } => write!(f, "explained by {cause}"),
            Self::Cleared { verdict, after } => {
                write!(
                    f,
                    "cleared after {} of {}; nothing was left to do",
                    rough(*after),
                    verdict.as_str()
                )
            }
            Self::Broken(why) => f.write_str(why),
            Self::Nothing => f.write_str("no `when` of its dispatch holds; nothing to do"),
        }
    }
}
