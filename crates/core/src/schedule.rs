//! Times of a cron expression, in a time zone: the next one, and what is to be done about times
//! that have come.

use crate::document::Checker;
use chrono::{DateTime, SecondsFormat, TimeDelta, Utc};
use chrono_tz::Tz;
use croner::{Cron, parser::CronParser};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How late something may be without having been missed.
pub const ON_TIME: TimeDelta = TimeDelta::seconds(60);
/// Most times that are counted as missed; of more the count is this.
pub const MOST_MISSED: u32 = 1_000;

crate::words! {
    /// What becomes of times that passed while no node ran.
    #[derive(Default, JsonSchema)]
    pub enum Missed("policy for missed times") {
        /// One run, or message, makes up for all of them.
        #[default]
        Once = "once",
        /// They are told, and the next is the next that comes.
        Skip = "skip",
    }
}

/// Times of a cron expression.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ScheduleDoc {
    /// Minute, hour, day of the month, month and day of the week, such as `30 2 * * 1-5`.
    pub cron: String,
    /// The time zone that they are in, such as `Europe/London`. Left out: `UTC`.
    #[serde(default)]
    pub zone: Option<String>,
    /// What becomes of times that passed while no node ran: `once` (one makes up for all of them)
    /// or `skip`.
    #[serde(default)]
    pub missed: Missed,
}

/// A checked schedule.
#[derive(Clone, Debug)]
pub struct Schedule {
    cron: Cron,
    zone: Tz,
    missed: Missed,
}

/// What is to be done at a moment about times that have come.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Occurrence {
    /// The latest time that has come.
    pub due: DateTime<Utc>,
    /// Whether something is done for it, or sent.
    pub sends: bool,
    /// For how many times before it nothing is, and with it if nothing is for it either.
    pub missed: u32,
    /// The next time to come.
    pub next: DateTime<Utc>,
}

impl ScheduleDoc {
    pub(crate) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Schedule> {
        let zone = self.zone.as_deref().unwrap_or("UTC").parse::<Tz>();
        if zone.is_err() {
            check.fail(&format!("{at}/zone"), "is not a time zone such as Europe/London");
        }
        let cron = parse(&self.cron);
        if let Err(wrong) = &cron {
            check.fail(&format!("{at}/cron"), wrong.clone());
        }
        let known = zone.is_ok();
        let (cron, zone) = (cron.ok()?, zone.unwrap_or(Tz::UTC));
        let schedule = Schedule { cron, zone, missed: self.missed };
        // Of all times the 29th of February comes least often, every fourth or eighth year.
        if schedule.next(DateTime::UNIX_EPOCH).is_none() {
            check.fail(&format!("{at}/cron"), "names a time that never comes");
            return None;
        }
        known.then_some(schedule)
    }
}

/// Five fields; those of other dialects (seconds, years, `@daily`) are not read.
fn parse(text: &str) -> Result<Cron, String> {
    if text.split_whitespace().count() != 5 {
        return Err("is not minute, hour, day of the month, month and day of the week, such as \
            `30 2 * * 1-5`"
            .into());
    }
    let parser = CronParser::builder().seconds(croner::parser::Seconds::Disallowed).build();
    parser.parse(text).map_err(|e| format!("is not a cron expression: {e}"))
}

impl Schedule {
    /// The first time after a moment.
    pub fn next(&self, after: DateTime<Utc>) -> Option<DateTime<Utc>> {
        let found = self.cron.find_next_occurrence(&after.with_timezone(&self.zone), false);
        found.ok().map(|at| at.to_utc())
    }

    /// The zone that its times are in.
    pub fn zone(&self) -> Tz {
        self.zone
    }

    /// What tells it from another: with these changed, it begins anew.
    pub fn fingerprint(&self) -> String {
        format!("{} {}", self.cron.as_str(), self.zone)
    }

    /// What is to be done now, when the time that was waited for is `first`.
    ///
    /// None as long as it has not come.
    pub fn occurrence(&self, first: DateTime<Utc>, now: DateTime<Utc>) -> Option<Occurrence> {
        if first > now {
            return None;
        }
        let (mut due, mut passed) = (first, 1);
        let mut next = self.next(due)?;
        while next <= now && passed < MOST_MISSED {
            (due, passed) = (next, passed + 1);
            next = self.next(due)?;
        }
        if next <= now {
            // So many that they are not counted one by one: on from now.
            let before = self.cron.find_previous_occurrence(&now.with_timezone(&self.zone), true);
            due = before.map_or(due, |at| at.to_utc());
            next = self.next(now)?;
        }
        // What a message says depends on its time alone: sent again, later, it is the same.
        let sends = now - due <= ON_TIME || self.missed == Missed::Once;
        Some(Occurrence { due, sends, missed: passed - u32::from(sends), next })
    }

    /// A time as people in its zone read it (RFC 3339).
    pub fn text(&self, at: DateTime<Utc>) -> String {
        at.with_timezone(&self.zone).to_rfc3339_opts(SecondsFormat::Secs, true)
    }
}
