//! `tell`: a message to a person or a team, by the first of their ways that takes it.

use super::{
    Action,
    document::{Build, KindDoc},
};
use crate::{
    contact::{Contact, Who},
    definition::{Fault, Mismatch, Others},
    expr::{Names, Template, Type},
    runbook::type_environment::{Evaluated, TypeEnvironment, Visitor},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct TellStepDoc {
    /// What is said.
    pub tell: String,
    /// Whom the message goes to.
    pub to: RecipientDoc,
}

/// Whom a message goes to: a person or a team, one of the two.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct RecipientDoc {
    /// A contact who is a person.
    #[serde(default)]
    pub contact: Option<String>,
    /// A contact who is a team.
    #[serde(default)]
    pub team: Option<String>,
}

/// Whom a message goes to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Recipient {
    /// The contact.
    pub contact: String,
    /// Whether it must be a team.
    is_team: bool,
}

/// A checked message.
#[derive(Clone, Debug)]
pub struct Tell {
    /// What is said.
    pub text: Template,
    /// Whom it goes to.
    pub to: Recipient,
}

impl KindDoc for TellStepDoc {
    const KEYS: &'static [&'static str] = &["tell", "to"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let text = build.check.template(&format!("{at}/tell"), &self.tell.into(), names);
        let to = Recipient::of(self.to.contact, self.to.team);
        if to.is_none() {
            build.check.fail(&format!("{at}/to"), "is a `contact` or a `team`, one of the two");
        }
        Some(Action::Tell(Tell { text: text?, to: to? }))
    }
}

impl Recipient {
    /// The one of the two that is given; none if both are, or neither.
    pub(super) fn of(contact: Option<String>, team: Option<String>) -> Option<Self> {
        match (contact, team) {
            (Some(contact), None) => Some(Self { contact, is_team: false }),
            (None, Some(contact)) => Some(Self { contact, is_team: true }),
            _ => None,
        }
    }

    /// That there is such a contact, and that it is what it is called.
    pub(super) fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        let (key, other) = if self.is_team { ("team", "contact") } else { ("contact", "team") };
        let at = format!("{at}/{key}");
        match others.get::<Contact>(&self.contact) {
            Err(missing) => vec![Mismatch::at(at, missing)],
            Ok(contact) if matches!(contact.who, Who::Team(_)) != self.is_team => {
                let is = if self.is_team { "a person" } else { "a team" };
                let why = format!("`{}` is {is}; write `{other}: {0}`", self.contact);
                vec![Mismatch::at(at, Fault::Unfit(why))]
            }
            Ok(_) => Vec::new(),
        }
    }
}

impl Tell {
    pub(super) fn does(&self) -> String {
        format!("to {}", self.to.contact)
    }

    /// What the steps behind know of it.
    pub(super) fn gives() -> Type {
        Type::record(["contact", "via"].map(|name| (name.to_owned(), Type::Text)))
    }

    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        look(&format!("{at}/tell"), Evaluated::Template(&self.text), known.names());
    }
}
