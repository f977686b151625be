//! Who of a team is on duty: by a calendar, or as another system says.

use super::{Person, hours::zone};
use crate::{
    calendar::{Calendar, OngoingEvent},
    connector::{Lookup, LookupDoc},
    definition::{Fault, Mismatch, Others},
    document::Checker,
};
use chrono::{DateTime, Utc};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// Who is on duty as written: a `calendar`, or an operation that is called when somebody is to be
/// reached.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DutyDoc {
    /// A calendar (iCalendar, RFC 5545): whoever has an event that is on is on duty. An event is a
    /// member's if it is called as the member, or if an address of the member's `mail` is among
    /// those who take part.
    #[serde(default)]
    pub calendar: Option<String>,
    /// The time zone of times that say none. Left out: `UTC`.
    #[serde(default)]
    pub zone: Option<String>,
    /// An operation that changes nothing.
    #[serde(default)]
    pub call: Option<String>,
    /// The connection through which it is called.
    #[serde(default)]
    pub via: Option<String>,
    /// What the operation is given.
    #[serde(default)]
    pub give: Map<String, Value>,
    /// An expression over `result`, what the operation gave: the name of the member on duty, or a
    /// list of names. Addresses of the members' `mail` will do.
    #[serde(default)]
    pub who: Option<String>,
    /// Whether the other members are left alone while somebody is on duty. Left out: no, they are
    /// reached after those.
    #[serde(default)]
    pub alone: bool,
}

/// Checked.
#[derive(Clone, Debug)]
pub struct Duty {
    /// Whether the other members are left alone while somebody is on duty.
    pub alone: bool,
    says: Says,
}

#[derive(Clone, Debug)]
enum Says {
    Calendar(Calendar),
    Call(Box<DutyCall>),
}

/// An operation that says who is on duty.
#[derive(Clone, Debug)]
pub struct DutyCall {
    /// The operation, and where in its result the names are.
    pub lookup: Lookup,
}

impl DutyDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Duty> {
        let says = match (&self.calendar, &self.call) {
            (Some(text), None) => {
                for (key, is_given) in [
                    ("via", self.via.is_some()),
                    ("give", !self.give.is_empty()),
                    ("who", self.who.is_some()),
                ] {
                    if is_given {
                        let wrong = "belongs to `call`, and here a calendar says it";
                        check.fail(&format!("{at}/{key}"), wrong);
                    }
                }
                let zone = zone(check, &format!("{at}/zone"), self.zone.as_deref())?;
                let calendar = Calendar::read(text, zone);
                Says::Calendar(check.accept(&format!("{at}/calendar"), calendar)?)
            }
            (None, Some(_)) => Says::Call(Box::new(self.call_of(check, at)?)),
            _ => {
                let rule = "is said by a `calendar`, or by an operation: `call`, `via` and `who`";
                check.fail(at, rule);
                return None;
            }
        };
        Some(Duty { alone: self.alone, says })
    }

    fn call_of(&self, check: &mut Checker<'_>, at: &str) -> Option<DutyCall> {
        if self.zone.is_some() {
            check.fail(&format!("{at}/zone"), "is that of a `calendar`, and there is none");
        }
        let reads = ("who", self.who.as_deref().unwrap_or("result"));
        let (call, via) = (self.call.as_deref()?, self.via.as_ref());
        let lookup = LookupDoc { call, via, give: &self.give, reads }.check(check, at);
        if self.who.is_none() {
            check.fail(at, "the key `who` is missing here: which of `result` are the names?");
        }
        Some(DutyCall { lookup: lookup? })
    }
}

impl Duty {
    /// The operation that says it, if one does.
    pub fn asked(&self) -> Option<&DutyCall> {
        match &self.says {
            Says::Call(call) => Some(call),
            Says::Calendar(_) => None,
        }
    }

    /// The names of those who are on duty by a calendar.
    pub(super) fn by_calendar(
        &self,
        persons: &[(&str, &Person)],
        now: DateTime<Utc>,
    ) -> Vec<String> {
        let Says::Calendar(calendar) = &self.says else { return Vec::new() };
        let on = calendar.on_at(now);
        let is_on = |(name, person): &&(&str, &Person)| {
            on.iter().any(|OngoingEvent { summary, attendees, .. }| {
                is_of(name, person, summary, attendees)
            })
        };
        persons.iter().filter(is_on).map(|(name, _)| (*name).to_owned()).collect()
    }

    pub(super) fn misfits(
        &self,
        at: &str,
        persons: &[(&str, &Person)],
        others: &dyn Others,
    ) -> Vec<Mismatch> {
        match &self.says {
            Says::Calendar(calendar) => {
                let is_known = |(summary, attendees): (&str, &[String])| {
                    persons.iter().any(|(name, person)| is_of(name, person, summary, attendees))
                };
                match calendar.names().any(is_known) {
                    true => Vec::new(),
                    false => {
                        let why = "has no event of a member: one that is called as the member, \
                                   or in which an address of the member's `mail` takes part";
                        vec![Mismatch::at(format!("{at}/calendar"), Fault::Unfit(why.to_owned()))]
                    }
                }
            }
            Says::Call(call) => call.lookup.misfits(at, "who is on duty is looked up", others),
        }
    }
}

/// Whether an event of a calendar is a person's.
fn is_of(name: &str, person: &Person, summary: &str, attendees: &[String]) -> bool {
    let takes_part = || person.mail.iter().any(|mail| attendees.contains(&mail.to_lowercase()));
    summary.eq_ignore_ascii_case(name) || takes_part()
}

impl DutyCall {
    /// The names of those who are on duty, by what the operation gave.
    ///
    /// # Errors
    /// Why it says nobody of the team.
    pub fn people(
        &self,
        result: &Value,
        persons: &[(&str, &Person)],
    ) -> Result<Vec<String>, String> {
        let said = self.lookup.read(result).map_err(|e| format!("who: {e}"))?;
        let said = match &said {
            Value::Array(all) => all.iter().filter_map(Value::as_str).collect(),
            Value::String(one) => vec![one.as_str()],
            _ => Vec::new(),
        };
        let is_said = |(name, person): &&(&str, &Person)| {
            let mut names = [*name].into_iter().chain(person.mail.iter().map(String::as_str));
            names.any(|known| said.iter().any(|said| said.eq_ignore_ascii_case(known)))
        };
        let people: Vec<String> =
            persons.iter().filter(is_said).map(|(name, _)| (*name).to_owned()).collect();
        match people.is_empty() {
            true if said.is_empty() => Err("says nobody".to_owned()),
            true => Err(format!("says {}, who is no member", said.join(", "))),
            false => Ok(people),
        }
    }
}
