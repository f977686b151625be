//! `announce:` of a rule or a runbook: before a job changes anything it is said that it is about
//! to, and for some time somebody may object.
//!
//! It is a question with two answers, of which nobody's is to go on. When it is asked stands in
//! `job/announcing`.

use super::steps::{Action, Ask, OnError, Step, To, ToDoc};
use crate::{
    Period,
    definition::{Mismatch, Others},
    document::Checker,
    expr::{Length, Names, Template},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

/// Where it stands in a job.
pub const ANNOUNCED: &str = "announced";

/// The answer that lets the job go on at once.
pub const GO_ON: &str = "go_on";

/// The answer that ends the job.
pub const OBJECT: &str = "object";

/// Longest time for which it waits: a job holds its target all the while.
const LONGEST: Period = Period::from_secs(24 * 3600);

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AnnounceDoc {
    /// How long a job waits before its first step that changes something; at most 24h.
    pub before: Period,
    /// Who may object: a role, a person, a contact or a team, one of the four. A contact and a team
    /// are sent messages, by their ways, one after another. Left out: a responder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<ToDoc>,
}

/// What is announced, and to whom.
#[derive(Clone, Debug)]
pub struct Announce {
    /// How long before the first step that changes something.
    pub before: Period,
    /// The question whether somebody objects.
    pub ask: Ask,
    /// The same as the one step that it is executed as.
    pub step: Step,
}

impl Announce {
    /// What is written at a pointer, which knows these names.
    pub(crate) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: AnnounceDoc,
        names: Names<'_>,
    ) -> Option<Self> {
        let before = doc.before;
        if before.millis() == 0 || before > LONGEST {
            let wrong = format!("is more than no time, and at most {LONGEST}, not {before}");
            check.fail(&format!("{at}/before"), wrong);
        }
        let to = To::check(check, at, doc.to, names)?;
        let question = format!(
            "Job ${{job.id}} (${{job.runbook}}) is about to act on ${{job.target}}, in {before} \
            unless somebody objects: ${{next}}"
        );
        let text = |text: &str| {
            let names = Names { roots: &["job", "next"], functions: &[], types: &[] };
            Template::compile(&text.into(), names).ok()
        };
        let choice = |name: &str, words: &str| Some((name.to_owned(), text(words)?));
        let ask = Ask {
            to,
            text: text(&question)?,
            choices: vec![
                choice(GO_ON, "Go on now")?,
                choice(OBJECT, "Object: it ends and changes nothing")?,
            ],
            within: Length::Written(before),
            unanswered: Some(GO_ON.to_owned()),
            provided: None,
            by_link: false,
            by_mail: Vec::new(),
            tell: None,
        };
        let step = Step {
            id: ANNOUNCED.to_owned(),
            summary: Some("Whether anybody objects".to_owned()),
            when: None,
            retry: None,
            timeout: None,
            on_error: OnError::Stop,
            undo: None,
            shared: None,
            action: Action::Ask(Box::new(ask.clone())),
        };
        Some(Self { before, ask, step })
    }

    /// That there is whoever is told, of what is written at a pointer.
    pub(crate) fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        self.ask.to.misfits(at, others)
    }

    /// The contact or the team that is told, if it is one.
    pub(crate) fn contact(&self) -> Option<&str> {
        Some(self.ask.to.recipient()?.contact.as_str())
    }
}

impl fmt::Display for Announce {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} before it changes anything, to {}", self.before, self.ask.to)
    }
}
