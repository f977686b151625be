//! The `contact:` document: a person with the ways by which messages reach them, or a team of such
//! persons and who of it is on duty.
//!
//! Owns the document, its check, whom a message goes to and in which order, and what each way is
//! given. Sending is a job's business, since every message is a call of one of its steps.

mod duty;
mod hours;

pub use duty::{Duty, DutyCall, DutyDoc};
pub use hours::{Day, Hours, HoursDoc};

use crate::{
    Period, connector,
    definition::{Defined, Definition, Fault, Kind, Mismatch, Others},
    document::{Checker, Document, Problem, Texts},
    expr::{Names, Scope, Template, Val},
};
use chrono::{DateTime, Utc};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

/// Most ways of a person, members of a team, and rounds.
const MAX_WAYS: usize = 8;
const MAX_MEMBERS: usize = 20;
const MAX_ROUNDS: u32 = 10;
/// Most addresses of a person.
const MAX_ADDRESSES: usize = 10;
/// How long an answer is waited for after a message where its way does not say.
const WAIT: Period = Period::from_secs(300);

/// What the values of a way see.
const NAMES: Names<'static> = Names { roots: &["message", "contact"], functions: &[], types: &[] };

/// A contact as written: a person, who has `ways`, or a team, which has `members`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ContactDoc {
    /// The name.
    pub contact: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// Of a person: the name of the token with which this person decides. Left out: that of the
    /// contact.
    #[serde(default)]
    pub token: Option<String>,
    /// Of a person: the addresses from which this person answers by mail. Left out: none.
    #[serde(default)]
    pub mail: Texts,
    /// Of a person: when this person can be reached. Left out: always.
    #[serde(default)]
    pub hours: Option<HoursDoc>,
    /// Of a person: the ways by which messages reach this person, in the order in which they are
    /// tried.
    #[serde(default)]
    pub ways: Vec<WayDoc>,
    /// Of a team: its members, which are contacts, in the order in which they are reached.
    #[serde(default)]
    pub members: Vec<String>,
    /// Of a team: who is on duty, and so reached first. Left out: nobody is told from the others.
    #[serde(default)]
    pub duty: Option<DutyDoc>,
    /// How often all of it is gone through until somebody answers. Left out: once.
    #[serde(default)]
    pub rounds: Option<u32>,
}

/// A way by which messages reach a person.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WayDoc {
    /// An operation of a connector.
    pub call: String,
    /// The connection through which it is called.
    pub via: String,
    /// What the operation is given. `message` has `text`, `target` and `job` (its number); of a
    /// question also `choices`, `until`, `link`, which leads to it, and `answer_to`, the address
    /// for answers by mail. `contact` has `name` and `summary`.
    #[serde(default)]
    pub give: Map<String, Value>,
    /// How long an answer is waited for before the next way. Left out: 5m.
    #[serde(default)]
    pub wait: Option<Period>,
    /// When this way is used. Left out: always.
    #[serde(default)]
    pub hours: Option<HoursDoc>,
}

/// A checked contact.
#[derive(Clone, Debug)]
pub struct Contact {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// Who it is.
    pub who: Who,
    /// How often all of it is gone through.
    pub rounds: u32,
}

/// Who a contact is.
#[derive(Clone, Debug)]
pub enum Who {
    /// A person.
    Person(Person),
    /// Several persons.
    Team(Team),
}

/// A person.
#[derive(Clone, Debug)]
pub struct Person {
    /// The name of the token with which this person decides.
    pub token: String,
    /// The addresses from which this person answers by mail.
    pub mail: Vec<String>,
    /// When this person can be reached.
    pub hours: Option<Hours>,
    /// The ways by which messages reach this person.
    pub ways: Vec<ContactWay>,
}

/// A team.
#[derive(Clone, Debug)]
pub struct Team {
    /// The contacts who are its members.
    pub members: Vec<String>,
    /// Who is on duty.
    pub duty: Option<Duty>,
}

/// A way by which messages reach a person.
#[derive(Clone, Debug)]
pub struct ContactWay {
    /// The operation.
    pub operation: String,
    /// The connection through which it is called.
    pub via: String,
    /// What it is given.
    pub give: Template,
    /// How long an answer is waited for.
    pub wait: Period,
    /// When it is used.
    pub hours: Option<Hours>,
    /// The names of what it is given.
    given: Vec<String>,
}

/// One way of one person, in the order in which they are tried.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlannedWay {
    /// The person.
    pub contact: String,
    /// Which of the ways, from zero.
    pub way: usize,
}

impl Contact {
    /// The persons: itself, or the members of the team, as far as they are there.
    pub fn persons<'a>(&'a self, others: &'a dyn Others) -> Vec<(&'a str, &'a Person)> {
        match &self.who {
            Who::Person(person) => vec![(&self.name, person)],
            Who::Team(team) => team
                .members
                .iter()
                .filter_map(|name| match &others.get::<Self>(name).ok()?.who {
                    Who::Person(person) => Some((name.as_str(), person)),
                    Who::Team(_) => None,
                })
                .collect(),
        }
    }

    /// The same, to be reached at any hour.
    #[must_use]
    pub fn at_any_hour(mut self) -> Self {
        if let Who::Person(person) = &mut self.who {
            person.hours = None;
            person.ways.iter_mut().for_each(|way| way.hours = None);
        }
        self
    }

    /// The names of those who are on duty by the team's calendar; none where another system says
    /// so, or nobody is told from the others.
    pub fn on_duty(&self, others: &dyn Others, now: DateTime<Utc>) -> Vec<String> {
        let Who::Team(Team { duty: Some(duty), .. }) = &self.who else { return Vec::new() };
        duty.by_calendar(&self.persons(others), now)
    }

    /// All ways of all persons in the order in which they are tried: those on duty first, one
    /// person after another.
    pub fn ways(&self, others: &dyn Others, on_duty: &[String]) -> Vec<PlannedWay> {
        let (first, rest): (Vec<_>, Vec<_>) = self
            .persons(others)
            .into_iter()
            .partition(|(name, _)| on_duty.iter().any(|on| on == name));
        let duty_alone =
            matches!(&self.who, Who::Team(Team { duty: Some(duty), .. }) if duty.alone);
        let rest = if duty_alone && !first.is_empty() { Vec::new() } else { rest };
        let ways = |(name, person): (&str, &Person)| -> Vec<PlannedWay> {
            (0..person.ways.len()).map(|way| PlannedWay { contact: name.to_owned(), way }).collect()
        };
        first.into_iter().chain(rest).flat_map(ways).collect()
    }
}

impl Person {
    /// The person's own hours and those of the ways, each with the JSON pointer.
    fn all_hours(&self) -> Vec<(String, &Hours)> {
        let ways = self.ways.iter().enumerate();
        let ways =
            ways.filter_map(|(n, way)| Some((format!("/ways/{n}/hours"), way.hours.as_ref()?)));
        self.hours.iter().map(|hours| ("/hours".to_owned(), hours)).chain(ways).collect()
    }
}

impl PlannedWay {
    /// The person and the way, if they are still there.
    pub fn find<'a>(&self, others: &'a dyn Others) -> Option<(&'a Person, &'a ContactWay)> {
        let contact: &Contact = others.get(&self.contact).ok()?;
        let Who::Person(person) = &contact.who else { return None };
        Some((person, person.ways.get(self.way)?))
    }

    /// The way, if it is still there and it is its time and the person's.
    pub fn now<'a>(
        &self,
        others: &'a dyn Others,
        now: DateTime<Utc>,
    ) -> Option<(&'a Contact, &'a ContactWay)> {
        let (person, way) = self.find(others)?;
        let holds =
            |hours: &Option<Hours>| hours.as_ref().is_none_or(|hours| hours.hold(others, now));
        let is_time = holds(&person.hours) && holds(&way.hours);
        others.get(&self.contact).ok().filter(|_| is_time).map(|contact| (contact, way))
    }
}

impl ContactWay {
    /// What its operation is given with a message.
    ///
    /// # Errors
    /// What cannot be filled in.
    pub fn fill(&self, contact: &Contact, message: &Value) -> Result<Map<String, Value>, String> {
        let summary = contact.summary.as_deref().unwrap_or_default();
        let contact = json!({ "name": contact.name, "summary": summary });
        match self.give.fill(&MessageScope { message, contact: &contact }) {
            Ok(Value::Object(give)) => Ok(give),
            Ok(_) => Err("`give` is not a map".to_owned()),
            Err(e) => Err(format!("give: {e}")),
        }
    }

    fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        connector::misfits_of_call(
            at,
            (&self.via, &self.operation),
            (&self.given, &self.give),
            others,
        )
    }
}

/// What the values of a way see.
struct MessageScope<'a> {
    message: &'a Value,
    contact: &'a Value,
}

impl<'a> Scope<'a> for MessageScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        match name {
            "message" => Some(Val::json(self.message)),
            "contact" => Some(Val::json(self.contact)),
            _ => None,
        }
    }
}

impl Definition for Contact {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }

    fn uses(&self) -> Vec<(Kind, String)> {
        match &self.who {
            Who::Person(person) => {
                let hours =
                    person.all_hours().into_iter().filter_map(|(_, hours)| hours.calendar());
                let calendars = hours.map(|name| (Kind::Calendar, name.to_owned()));
                let ways = person.ways.iter().map(|way| (Kind::Connection, way.via.clone()));
                ways.chain(calendars).collect()
            }
            Who::Team(team) => {
                let members = team.members.iter().map(|name| (Kind::Contact, name.clone()));
                let asked = team.duty.as_ref().and_then(Duty::asked);
                let asked = asked.map(|asked| (Kind::Connection, asked.lookup.via.clone()));
                members.chain(asked).collect()
            }
        }
    }

    fn misfits(&self, others: &dyn Others) -> Vec<Mismatch> {
        match &self.who {
            Who::Person(person) => {
                let hours = person.all_hours().into_iter().filter_map(|(at, hours)| {
                    let missing = others.must_have(Kind::Calendar, hours.calendar()?).err()?;
                    Some(Mismatch::at(format!("{at}/during"), missing))
                });
                let ways = person.ways.iter().enumerate();
                let ways = ways.flat_map(|(n, way)| way.misfits(&format!("/ways/{n}"), others));
                hours.chain(ways).collect()
            }
            Who::Team(team) => {
                let member = |(n, name): (usize, &String)| {
                    let at = format!("/members/{n}");
                    match others.get::<Self>(name) {
                        Err(missing) => Some(Mismatch::at(at, missing)),
                        Ok(Self { who: Who::Person(_), .. }) => None,
                        Ok(_) => {
                            let why = format!("`{name}` is a team; a member is a person");
                            Some(Mismatch::at(at, Fault::Unfit(why)))
                        }
                    }
                };
                let members: Vec<Mismatch> =
                    team.members.iter().enumerate().filter_map(member).collect();
                match &team.duty {
                    Some(duty) if members.is_empty() => {
                        duty.misfits("/duty", &self.persons(others), others)
                    }
                    _ => members,
                }
            }
        }
    }
}

impl Defined for Contact {
    const KIND: Kind = Kind::Contact;
    type Doc = ContactDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::decoding::<ContactDoc>(document)?;
        let rounds = doc.rounds.unwrap_or(1);
        if !(1..=MAX_ROUNDS).contains(&rounds) {
            check.fail("/rounds", format!("is 1 to {MAX_ROUNDS}"));
        }
        let (name, summary) = (doc.contact.clone(), doc.summary.clone());
        let who = match (doc.ways.is_empty(), doc.members.is_empty()) {
            (false, true) => person(&mut check, doc).map(Who::Person),
            (true, false) => team(&mut check, doc).map(Who::Team),
            _ => {
                let rule = "is a person, who has `ways`, or a team, which has `members`: one of \
                            the two";
                check.fail("/contact", rule);
                None
            }
        };
        check.finish(who.map(|who| Self { name, summary, who, rounds }))
    }
}

fn person(check: &mut Checker<'_>, doc: ContactDoc) -> Option<Person> {
    if doc.duty.is_some() {
        check.fail("/duty", "is what a team has, and this is a person");
    }
    if doc.mail.0.len() > MAX_ADDRESSES {
        check.fail("/mail", format!("at most {MAX_ADDRESSES} addresses"));
    }
    let one = check.document().value.get("mail").is_some_and(Value::is_string);
    for (at, address) in doc.mail.placed("/mail", one) {
        let parts = address.rsplit_once('@').filter(|(local, domain)| {
            !local.is_empty() && !domain.is_empty() && address.len() <= 200
        });
        if parts.is_none() || address.contains(['*', ' ', ',', '<', '>']) {
            check.fail(&at, "is not an address such as pat@skerrow.example");
        }
    }
    let token = doc.token.unwrap_or(doc.contact);
    let hours = match doc.hours {
        None => Some(None),
        Some(hours) => hours.check(check, "/hours").map(Some),
    };
    if doc.ways.len() > MAX_WAYS {
        check.fail("/ways", format!("at most {MAX_WAYS} ways"));
    }
    let ways: Vec<Option<ContactWay>> = doc
        .ways
        .into_iter()
        .enumerate()
        .map(|(n, way)| way.check(check, &format!("/ways/{n}")))
        .collect();
    let ways = ways.into_iter().collect::<Option<_>>();
    Some(Person { token, mail: doc.mail.0, hours: hours?, ways: ways? })
}

fn team(check: &mut Checker<'_>, doc: ContactDoc) -> Option<Team> {
    let of_a_person = [
        ("/token", doc.token.is_some()),
        ("/mail", !doc.mail.0.is_empty()),
        ("/hours", doc.hours.is_some()),
    ];
    for (at, _) in of_a_person.into_iter().filter(|(_, is_given)| *is_given) {
        check.fail(at, "is what a person has, and this is a team");
    }
    if doc.members.len() > MAX_MEMBERS {
        check.fail("/members", format!("at most {MAX_MEMBERS} members"));
    }
    let mut seen = BTreeMap::new();
    for (n, name) in doc.members.iter().enumerate() {
        if let Some(before) = seen.insert(name, n) {
            check.fail(&format!("/members/{n}"), format!("`{name}` is member {} too", before + 1));
        }
    }
    let duty = match doc.duty {
        None => Some(None),
        Some(duty) => duty.check(check, "/duty").map(Some),
    };
    Some(Team { members: doc.members, duty: duty? })
}

impl WayDoc {
    fn check(self, check: &mut Checker<'_>, at: &str) -> Option<ContactWay> {
        let given: Vec<String> = self.give.keys().cloned().collect();
        let give = check.template(&format!("{at}/give"), &Value::Object(self.give), NAMES);
        let wait = self.wait.unwrap_or(WAIT);
        if wait < Period::from_secs(1) || wait > Period::from_secs(24 * 3600) {
            check.fail(&format!("{at}/wait"), "is 1s to 1d");
        }
        let hours = match self.hours {
            None => Some(None),
            Some(hours) => hours.check(check, &format!("{at}/hours")).map(Some),
        };
        let give = give?;
        // Filled in once, so that a name that no message has is found before somebody is needed.
        let sample = json!({ "text": "", "target": "", "job": 1, "choices": {}, "until": "",
            "link": "", "answer_to": "" });
        let contact = json!({ "name": "", "summary": "" });
        if let Err(e) = give.fill(&MessageScope { message: &sample, contact: &contact }) {
            check.fail(&format!("{at}/give"), e);
        }
        Some(ContactWay { operation: self.call, via: self.via, give, wait, hours: hours?, given })
    }
}

#[cfg(test)]
mod tests;
