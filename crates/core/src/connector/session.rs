//! Sessions of an outside system: how one is opened, what every request carries while it lasts, and
//! how it ends.

use super::{
    CallbackAt, Exchange, Operation, OperationDoc, Planned, Protocol, Request, RequestError,
    credential::is_field_name,
};
use crate::{
    Period,
    document::Checker,
    expr::{Names, Scope, Template, Type, Val},
    inputs::Inputs,
    text::hint,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// How long a session that nobody uses is kept.
const IDLE: Period = Period::from_secs(60);
/// Longest time for which one may be kept, in milliseconds: a day.
const LONGEST: u64 = 86_400_000;

/// How sessions are opened and ended. A connection uses them that has `credential: session`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SessionDoc {
    /// The operation that opens one: a `request`, which takes what connections give under
    /// `credential: session`. What it gives is `session` in `headers`.
    pub login: OperationDoc,
    /// What every request carries while the session lasts: names of headers, with values such as
    /// `${session.token}`.
    pub headers: BTreeMap<String, String>,
    /// The operation that ends one: a `request`, which takes by their names fields of what `login`
    /// gave. Left out: sessions end by themselves.
    #[serde(default)]
    pub logout: Option<OperationDoc>,
    /// Statuses of answers by which a session is refused, from 400 to 499: then a new one is
    /// opened, and the request is sent once more. Left out: 401.
    #[serde(default)]
    pub refused_on: Option<Vec<u16>>,
    /// How long a session is kept that is not used. Left out: 1m.
    #[serde(default)]
    pub idle: Option<Period>,
    /// How long one is used at most. Left out: until it is refused.
    #[serde(default)]
    pub lasts: Option<Period>,
}

/// How sessions are opened and ended, checked.
#[derive(Clone, Debug)]
pub struct Session {
    /// The description as it is written, by which sessions of one are told from those of another.
    pub written: String,
    /// The operation that opens one.
    pub login: Operation,
    headers: Vec<(String, Template)>,
    /// The operation that ends one.
    pub logout: Option<Operation>,
    /// Statuses of answers by which a session is refused.
    pub refused_on: Vec<u16>,
    /// How long a session is kept that is not used.
    pub idle: Period,
    /// How long one is used at most.
    pub lasts: Option<Period>,
}

/// What is known of a session that was opened.
#[derive(Clone)]
pub struct OpenedSession {
    /// The headers that every request carries.
    pub headers: Vec<(String, String)>,
    /// The texts by which the other side knows the session: no person and no runbook may see them.
    pub hidden: Vec<String>,
    /// The request that ends it.
    pub logout: Option<Request>,
}

impl std::fmt::Debug for OpenedSession {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("OpenedSession")
    }
}

struct SessionScope<'a>(&'a Value);

impl<'a> Scope<'a> for SessionScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        (name == "session").then(|| Val::json(self.0))
    }
}

impl SessionDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Session> {
        let written = serde_json::to_string(&self).unwrap_or_default();
        let login = is_request(check, &format!("{at}/login"), &self.login)
            .then(|| Operation::check(check, &format!("{at}/login"), self.login))
            .flatten();
        let logout = match self.logout {
            None => Some(None),
            Some(doc) => is_request(check, &format!("{at}/logout"), &doc)
                .then(|| Operation::check(check, &format!("{at}/logout"), doc))
                .flatten()
                .map(Some),
        };
        let gives = login.as_ref().map_or(Type::Any, |login| login.gives.clone());
        let types = [("session", gives)];
        let names = Names { roots: &["session"], functions: &[], types: &types };
        if self.headers.is_empty() {
            check.fail(&format!("{at}/headers"), "is empty: nothing would show the session");
        }
        let mut headers = Some(Vec::new());
        for (name, value) in self.headers {
            let place = format!("{at}/headers/{name}");
            let template = check.template(&place, &Value::String(value), names);
            if !is_field_name(&name) {
                check.fail(&place, "is not the name of a header (RFC 9110, section 5.1)");
            }
            headers = headers.zip(template).map(|(mut all, template)| {
                all.push((name, template));
                all
            });
        }
        let refused_on = self.refused_on.unwrap_or_else(|| vec![401]);
        if let Some(n) = refused_on.iter().position(|status| !(400..500).contains(status)) {
            let wrong = "is from 400 to 499; after any other status it may have been done";
            check.fail(&format!("{at}/refused_on/{n}"), wrong);
        }
        for (name, period) in [("idle", self.idle), ("lasts", self.lasts)] {
            if period.is_some_and(|period| !(1_000..=LONGEST).contains(&period.millis())) {
                check.fail(&format!("{at}/{name}"), "is from 1s to 1d");
            }
        }
        let (login, logout) = (login?, logout?);
        if let Some(logout) = &logout {
            takes_what_login_gave(check, &format!("{at}/logout/takes"), &login.gives, logout);
        }
        Some(Session {
            written,
            login,
            headers: headers?,
            logout,
            refused_on,
            idle: self.idle.unwrap_or(IDLE),
            lasts: self.lasts,
        })
    }
}

/// Complains of an operation by which no session is opened or ended.
fn is_request(check: &mut Checker<'_>, at: &str, doc: &OperationDoc) -> bool {
    if doc.request.is_none() {
        check.fail(at, "is a `request`: sessions are those of HTTP");
    }
    let follows = [
        ("pages", doc.pages.is_some()),
        ("until", doc.until.is_some()),
        ("callback", doc.callback.is_some()),
        ("probe", doc.probe.is_some()),
        ("repeat", doc.repeat.is_some()),
    ];
    let other = follows.into_iter().find(|(_, is)| *is);
    if let Some((key, _)) = other {
        let wrong = "means nothing here: it is one request, sent anew when a session is needed";
        check.fail(&format!("{at}/{key}"), wrong);
    }
    doc.request.is_some() && other.is_none()
}

/// Complains of what ends a session and takes what the login does not give.
fn takes_what_login_gave(check: &mut Checker<'_>, at: &str, gives: &Type, logout: &Operation) {
    let Type::Record(fields) = gives else { return };
    let missing = |name: &&String| logout.takes.is_required(name) && !fields.contains_key(*name);
    if let Some(name) = logout.takes.properties().keys().find(missing) {
        let hint = hint(name, fields.keys().map(String::as_str));
        check.fail(&format!("{at}/{name}"), format!("`login` gives no `{name}`{hint}"));
    }
}

impl Session {
    /// What a connection gives, so that a session is opened.
    pub const fn takes(&self) -> &Inputs {
        &self.login.takes
    }

    /// Begins to open one.
    ///
    /// # Errors
    /// What is given and not taken, or taken and not given; what cannot be filled in.
    pub fn begin(&self, given: &BTreeMap<String, String>) -> Result<Exchange<'_>, RequestError> {
        let given: Map<String, Value> =
            given.iter().map(|(name, value)| (name.clone(), value.as_str().into())).collect();
        request(&self.login, &given)
    }

    /// What is known of a session, by what the login gave.
    ///
    /// # Errors
    /// That it does not say what every request must carry, or how it would be ended.
    pub fn opened(&self, gave: &Value) -> Result<OpenedSession, String> {
        let mut headers = Vec::new();
        for (name, template) in &self.headers {
            let value = template.fill_text(&SessionScope(gave));
            headers.push((name.clone(), value.map_err(|e| format!("{name}: {e}"))?));
        }
        let logout = match &self.logout {
            None => None,
            Some(logout) => {
                let of = |name: &String| Some((name.clone(), gave.get(name)?.clone()));
                let given = logout.takes.properties().keys().filter_map(of).collect();
                Some(request(logout, &given).map_err(|e| e.to_string())?.request().clone())
            }
        };
        let texts = headers.iter().map(|(_, value)| value.clone());
        let hidden = texts.chain(strings(gave)).collect();
        Ok(OpenedSession { headers, hidden, logout })
    }
}

/// The texts within a value.
fn strings(value: &Value) -> Vec<String> {
    match value {
        Value::String(text) => vec![text.clone()],
        Value::Array(all) => all.iter().flat_map(strings).collect(),
        Value::Object(map) => map.values().flat_map(strings).collect(),
        _ => Vec::new(),
    }
}

fn request<'o>(
    operation: &'o Operation,
    given: &Map<String, Value>,
) -> Result<Exchange<'o>, RequestError> {
    let nobody: Option<&CallbackAt> = None;
    match operation.begin(given, "", nobody)? {
        Planned::Http(exchange) => Ok(*exchange),
        _ => Err(RequestError::Part(format!(
            "a session is opened over {}",
            Protocol::Http.schemes().join(" or ")
        ))),
    }
}
