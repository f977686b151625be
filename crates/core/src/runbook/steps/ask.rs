//! `ask`: puts a question to a person and waits for the answer.

use super::{
    Action, Retry,
    call::{Call, connection},
    document::{Build, KindDoc},
    look_at_length,
    require::{Require, text},
    tell::Recipient,
};
use crate::{
    Period, Role,
    definition::{Mismatch, Others},
    document::Checker,
    expr::{Length, LengthDoc, Names, Template, Type},
    runbook::type_environment::{Evaluated, TypeEnvironment, Visitor},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::{fmt, sync::Arc};

/// Most choices of one question.
pub const MAX_CHOICES: usize = 10;

/// What stands for the link to a decision until its message goes out: the link itself is in no
/// record.
pub const LINK: &str = "⟨link to the decision⟩";

/// What stands for the address to which answers go by mail. It is one that nobody has (RFC 2606,
/// section 2).
pub const ANSWER_TO: &str = "answer@question.invalid";

/// Most addresses of those who may answer by mail.
const MAX_BY_MAIL: usize = 50;

/// How a message that tells of a question is tried again.
pub(crate) const TELL: Retry = Retry {
    times: 4,
    wait: Period::from_secs(2),
    factor: 2.0,
    ceiling: Period::from_secs(60),
    jitter: 0.0,
};

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct AskDoc {
    /// The question.
    pub ask: QuestionDoc,
}

/// A question as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct QuestionDoc {
    /// Who may decide: a role, a person, a contact or a team, one of the four. A contact and a team
    /// are reached by their ways, one after another, until somebody decides. Left out: a responder.
    #[serde(default)]
    pub to: Option<ToDoc>,
    /// What is asked; it may carry what earlier steps found.
    pub text: String,
    /// What may be chosen: a name for the steps behind, and what it means for people. At most 10.
    pub choices: Map<String, Value>,
    /// How long the question stands.
    pub within: LengthDoc,
    /// What it means when nobody decides: one of the choices, or `stop`, and the step fails. Left
    /// out: `stop`.
    #[serde(default, alias = "silence")]
    pub unanswered: Option<String>,
    /// A condition that must still hold when it is decided, by a person or by nobody; `choice` is
    /// what was chosen. If it does not hold, nothing behind is done: the step fails, and says so.
    /// Left out: none.
    #[serde(default)]
    pub provided: Option<String>,
    /// What is said when it does not.
    #[serde(default, rename = "else")]
    pub otherwise: Option<String>,
    /// Whether whoever has the link in the message may decide without signing in. Left out: no, the
    /// link asks for it.
    #[serde(default)]
    pub by_link: bool,
    /// Who may answer by mail, by the address that the answer is from: addresses, or globs such as
    /// `*@skerrow.example`. A contact may by the addresses of its `mail`. The first line of an
    /// answer is a choice, by its name or its words. Left out: nobody else.
    #[serde(default)]
    pub by_mail: Vec<String>,
    /// A message that tells of it.
    #[serde(default)]
    pub tell: Option<TellDoc>,
}

/// Who may decide.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ToDoc {
    /// The least role that may.
    #[serde(default)]
    #[schemars(schema_with = "Role::acting_schema")]
    pub role: Option<Role>,
    /// One person alone, by the name of the token.
    #[serde(default)]
    pub person: Option<String>,
    /// A contact who is a person.
    #[serde(default)]
    pub contact: Option<String>,
    /// A contact who is a team: whoever is a member of it.
    #[serde(default)]
    pub team: Option<String>,
}

/// A message that tells of a question.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct TellDoc {
    /// An operation of a connector.
    pub call: String,
    /// The connection through which it is called; with expressions, it is one of `connections`.
    pub via: String,
    /// The names and globs of all connections that `via` may give, where it is worked out. Left
    /// out: those of the runbook.
    #[serde(default)]
    pub connections: Vec<String>,
    /// What the operation is given; `decision` has `text`, `choices`, `until`, `link`, which leads
    /// to it (whoever has that need not sign in if the question is `by_link`), and `answer_to`, the
    /// address for answers by mail if it is `by_mail`.
    #[serde(default)]
    pub give: Map<String, Value>,
}

/// Who may decide.
#[derive(Clone, Debug)]
pub enum To {
    /// Whoever has this role at least.
    Role(Role),
    /// Whoever has the token of this name.
    Person(Template),
    /// A contact, who is reached.
    Contact(Recipient),
}

/// A checked question.
#[derive(Clone, Debug)]
pub struct Ask {
    /// Who may decide.
    pub to: To,
    /// What is asked.
    pub text: Template,
    /// What may be chosen: names, and what they mean for people.
    pub choices: Vec<(String, Template)>,
    /// How long it stands.
    pub within: Length,
    /// What nobody's decision means; none: the step fails.
    pub unanswered: Option<String>,
    /// What must still hold when it is decided.
    pub provided: Option<Require>,
    /// Whether whoever has the link may decide without signing in.
    pub by_link: bool,
    /// Who may answer by mail: addresses and globs.
    pub by_mail: Vec<String>,
    /// A message that tells of it.
    pub tell: Option<Call>,
}

impl KindDoc for AskDoc {
    const KEYS: &'static [&'static str] = &["ask"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let (doc, at) = (self.ask, format!("{at}/ask"));
        let to = To::check(build.check, &at, doc.to, names);
        let is_contact = matches!(to, Some(To::Contact(_)));
        let within = build.within(&format!("{at}/within"), doc.within, names);
        if within.as_ref().and_then(Length::written).is_some_and(|within| within.millis() == 0) {
            build.check.fail(&format!("{at}/within"), "nobody can decide in no time");
        }
        let text = build.check.template(&format!("{at}/text"), &doc.text.into(), names);
        if doc.choices.is_empty() || doc.choices.len() > MAX_CHOICES {
            build.check.fail(&format!("{at}/choices"), format!("give 1 to {MAX_CHOICES} choices"));
        }
        let choices: Vec<Option<(String, Template)>> = doc
            .choices
            .into_iter()
            .map(|(name, words)| choice(build, &at, name, &words, names))
            .collect();
        let known = |name: &str| choices.iter().flatten().any(|(n, _)| n == name);
        let unanswered = doc.unanswered.filter(|choice| choice != "stop");
        if let Some(choice) = unanswered.as_deref().filter(|choice| !known(choice)) {
            let diagnostic = format!("`{choice}` is none of the choices; or it is `stop`");
            build.check.fail(&format!("{at}/unanswered"), diagnostic);
        }
        let provided = provided(build, &at, (doc.provided, doc.otherwise), names);
        let by_nobody = doc.by_mail.is_empty();
        if doc.by_mail.len() > MAX_BY_MAIL {
            build.check.fail(&format!("{at}/by_mail"), format!("at most {MAX_BY_MAIL} addresses"));
        }
        for (n, address) in doc.by_mail.iter().enumerate() {
            if !may_answer(address) {
                let rule = "is an address such as pat@skerrow.example, or a glob such as \
                            *@skerrow.example; what is behind the @ is written out";
                build.check.fail(&format!("{at}/by_mail/{n}"), rule);
            }
        }
        let tell = match doc.tell {
            None => Some(None),
            Some(tell) => {
                let given = Value::Object(tell.give.clone()).to_string();
                if by_nobody && !is_contact && given.contains("decision.answer_to") {
                    let wrong = "has `decision.answer_to`, and nobody may answer by mail; say who \
                                 may, by `by_mail`";
                    build.check.fail(&format!("{at}/tell/give"), wrong);
                }
                let roots = [names.roots, &["decision"]].concat();
                let names = Names { roots: &roots, ..names };
                let at = format!("{at}/tell");
                connection(build, &at, (tell.via, &tell.connections), names)
                    .and_then(|via| Call::build(build, &at, (tell.call, via), tell.give, names))
                    .map(Some)
            }
        };
        let choices = choices.into_iter().collect::<Option<_>>()?;
        let (by_link, by_mail) = (doc.by_link, doc.by_mail);
        let ask = Ask {
            to: to?,
            text: text?,
            choices,
            within: within?,
            unanswered,
            provided: provided?,
            by_link,
            by_mail,
            tell: tell?,
        };
        Some(Action::Ask(Box::new(ask)))
    }
}

/// What must still hold when it is decided; `choice` is known to it.
fn provided(
    build: &mut Build<'_, '_>,
    at: &str,
    (condition, otherwise): (Option<String>, Option<String>),
    names: Names<'_>,
) -> Option<Option<Require>> {
    let roots = [names.roots, &["choice"]].concat();
    let names = Names { roots: &roots, ..names };
    match (condition, otherwise) {
        (None, None) => Some(None),
        (None, Some(_)) => {
            build.check.fail(
                &format!("{at}/else"),
                "is what is said where `provided` does not hold, which is missing",
            );
            None
        }
        (Some(condition), otherwise) => {
            let condition = build.check.condition(&format!("{at}/provided"), &condition, names);
            let otherwise = text(build, &format!("{at}/else"), otherwise, names);
            Some(Some(Require { condition: condition?, otherwise: otherwise? }))
        }
    }
}

/// Whether a text is an address, or a glob of addresses of one domain.
fn may_answer(text: &str) -> bool {
    let Some((local, domain)) = text.rsplit_once('@') else { return false };
    let plain = |c: char| c.is_ascii_alphanumeric() || ".-".contains(c);
    !local.is_empty()
        && !local.contains(|c: char| c.is_whitespace() || c == '@')
        && text.len() <= 200
        && !domain.is_empty()
        && domain.chars().all(plain)
}

impl To {
    /// Who decides; nobody named means whoever is a responder.
    pub(crate) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: Option<ToDoc>,
        names: Names<'_>,
    ) -> Option<Self> {
        match doc {
            None => Some(Self::Role(Role::Responder)),
            Some(ToDoc { role: Some(role), person: None, contact: None, team: None }) => {
                if !role.acts() {
                    check.fail(&format!("{at}/to/role"), Role::only_reads());
                }
                role.acts().then_some(Self::Role(role))
            }
            Some(ToDoc { role: None, person: Some(person), contact: None, team: None }) => {
                check.template(&format!("{at}/to/person"), &person.into(), names).map(Self::Person)
            }
            Some(ToDoc { role, person, contact, team }) => {
                let to =
                    Recipient::of(contact, team).filter(|_| role.is_none() && person.is_none());
                if to.is_none() {
                    let rule = "is a `role`, a `person`, a `contact` or a `team`, one of the four";
                    check.fail(&format!("{at}/to"), rule);
                }
                to.map(Self::Contact)
            }
        }
    }

    /// That there is whoever is named.
    pub(crate) fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        self.recipient().map_or_else(Vec::new, |to| to.misfits(&format!("{at}/to"), others))
    }

    /// The contact or the team, if it is one.
    pub(crate) const fn recipient(&self) -> Option<&Recipient> {
        match self {
            Self::Contact(to) => Some(to),
            Self::Role(_) | Self::Person(_) => None,
        }
    }
}

impl fmt::Display for To {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Role(role) => write!(f, "whoever is {role}"),
            Self::Person(person) => {
                let name = person.fixed().and_then(|name| name.as_str().map(str::to_owned));
                write!(f, "{}", name.as_deref().unwrap_or("one person"))
            }
            Self::Contact(to) => f.write_str(&to.contact),
        }
    }
}

fn choice(
    build: &mut Build<'_, '_>,
    at: &str,
    name: String,
    words: &Value,
    names: Names<'_>,
) -> Option<(String, Template)> {
    let at = format!("{at}/choices/{}", name.replace('~', "~0").replace('/', "~1"));
    let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
    let good = name.starts_with(|c: char| c.is_ascii_lowercase())
        && name.chars().all(plain)
        && name.len() <= 40;
    if !good {
        let rule = "use lower case letters, digits and _, at most 40, a letter first";
        build.check.fail(&at, format!("`{name}` is not the name of a choice; {rule}"));
    } else if name == "stop" {
        build
            .check
            .fail(&at, "`stop` is what `unanswered` calls a failure; call the choice otherwise");
    } else if !words.is_string() {
        build.check.fail(&at, "says what the choice means for people, such as `Restart it now`");
    } else {
        return build.check.template(&at, words, names).map(|words| (name, words));
    }
    None
}

impl Ask {
    pub(super) fn does(&self) -> String {
        let names: Vec<&str> = self.choices.iter().map(|(name, _)| name.as_str()).collect();
        format!("{}, within {}", names.join(" or "), self.within)
    }

    /// What the steps behind know of an answer.
    pub(super) fn gives() -> Type {
        let texts = ["choice", "remark", "by", "how"].map(|n| (n.to_owned(), Type::Text));
        Type::record(texts.into_iter().chain([("silent".to_owned(), Type::Bool)]))
    }

    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        let at = format!("{at}/ask");
        if let To::Person(person) = &self.to {
            look(&format!("{at}/to/person"), Evaluated::Template(person), known.names());
        }
        look(&format!("{at}/text"), Evaluated::Template(&self.text), known.names());
        look_at_length(&format!("{at}/within"), Some(&self.within), known, look);
        for (name, words) in &self.choices {
            look(&format!("{at}/choices/{name}"), Evaluated::Template(words), known.names());
        }
        if let Some(Require { condition, otherwise }) = &self.provided {
            let mut known = known.clone();
            known.bind("choice", Type::Text);
            look(&format!("{at}/provided"), Evaluated::Condition(condition), known.names());
            if let Some(text) = otherwise {
                look(&format!("{at}/else"), Evaluated::Template(text), known.names());
            }
        }
        if let Some(tell) = &self.tell {
            let mut within = known.clone();
            let texts = ["text", "link", "answer_to"].map(|n| (n.to_owned(), Type::Text));
            let others = [
                ("choices".to_owned(), Type::Map(Arc::new(Type::Text))),
                ("until".to_owned(), Type::Text),
            ];
            within.bind("decision", Type::record(texts.into_iter().chain(others)));
            tell.visit(&format!("{at}/tell"), &mut within, look);
        }
    }

    pub(super) fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        let told = self.tell.iter().flat_map(|t| t.misfits(&format!("{at}/ask/tell"), others));
        told.chain(self.to.misfits(&format!("{at}/ask"), others)).collect()
    }
}
