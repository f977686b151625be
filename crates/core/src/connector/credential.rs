//! What is shown to prove who speaks: to an outside system, or by a sender of alerts. Secrets are named
//! here and opened only when they are needed.

use crate::{
    document::Checker,
    expr::{Names, Template},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// The functions that a credential or an address may use: `secret(name)`, `setting(name)`.
pub const SECRETS: Names<'static> = Names { roots: &[], functions: &["secret", "setting"], types: &[] };

/// A credential as written: one of these keys.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CredentialDoc {
    /// A bearer token (RFC 6750), usually `${secret('name')}`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bearer: Option<String>,
    /// A name and a password (RFC 7617).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub basic: Option<BasicDoc>,
    /// A header of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub header: Option<HeaderDoc>,
}

/// A name and a password.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct BasicDoc {
    /// The name.
    pub user: String,
    /// The password, usually `${secret('name')}`.
    pub password: String,
}

/// A header that carries a secret.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HeaderDoc {
    /// The header's name, such as `X-Auth-Key`.
    pub name: String,
    /// Its value, usually `${secret('name')}`.
    pub value: String,
}

/// A checked credential.
#[derive(Clone, Debug)]
pub enum Credential {
    /// A bearer token.
    Bearer(Template),
    /// A name and a password.
    Basic {
        /// The name.
        user: Template,
        /// The password.
        password: Template,
    },
    /// A header of its own.
    Header {
        /// Its name in lower case.
        name: String,
        /// Its value.
        value: Template,
    },
}

/// A credential with its secrets opened.
#[derive(Clone, PartialEq, Eq)]
pub enum Opened {
    /// A bearer token.
    Bearer(String),
    /// A name and a password.
    Basic {
        /// The name.
        user: String,
        /// The password.
        password: String,
    },
    /// A header of its own.
    Header {
        /// Its name in lower case.
        name: String,
        /// Its value.
        value: String,
    },
}

impl std::fmt::Debug for Opened {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Opened")
    }
}

impl CredentialDoc {
    /// Compiles the templates. A credential that is written out would be read by everybody who may
    /// read the document; one whose secret's name is worked out could be any secret.
    pub fn check(self, check: &mut Checker<'_>, pointer: &str) -> Option<Credential> {
        match (self.bearer, self.basic, self.header) {
            (Some(bearer), None, None) => secret(check, &format!("{pointer}/bearer"), bearer).map(Credential::Bearer),
            (None, Some(BasicDoc { user, password }), None) => {
                let user = check.template(&format!("{pointer}/basic/user"), &Value::String(user), SECRETS);
                let password = secret(check, &format!("{pointer}/basic/password"), password);
                user.zip(password).map(|(user, password)| Credential::Basic { user, password })
            }
            (None, None, Some(HeaderDoc { name, value })) => {
                let value = secret(check, &format!("{pointer}/header/value"), value);
                let token = |c: char| c.is_ascii_alphanumeric() || "!#$%&'*+-.^_`|~".contains(c);
                if name.is_empty() || name.len() > 100 || !name.chars().all(token) {
                    check
                        .fail(&format!("{pointer}/header/name"), "is not the name of a header (RFC 9110, section 5.1)");
                    return None;
                }
                value.map(|value| Credential::Header { name: name.to_ascii_lowercase(), value })
            }
            _ => {
                check.fail(pointer, "is one of `bearer`, `basic` or `header`");
                None
            }
        }
    }
}

/// A template that is a secret of somebody's, and not written out.
pub(crate) fn secret(check: &mut Checker<'_>, at: &str, text: String) -> Option<Template> {
    let made = check.template(at, &Value::String(text), SECRETS)?;
    let secrets = made.calls("secret");
    if secrets.is_empty() && made.calls("setting").is_empty() {
        check.fail(at, "a credential is not written out; set a secret and write \"${secret('its-name')}\"");
        return None;
    }
    if secrets.contains(&None) {
        check.fail(at, "the name of a secret is written out: secret('its-name')");
        return None;
    }
    Some(made)
}

impl Credential {
    /// Its templates, with their places below that of the whole.
    pub fn templates(&self, pointer: &'static str) -> Vec<(&'static str, &Template)> {
        match self {
            Self::Bearer(token) => vec![(pointer, token)],
            Self::Basic { user, password } => vec![(pointer, user), (pointer, password)],
            Self::Header { value, .. } => vec![(pointer, value)],
        }
    }

    /// Opens it.
    ///
    /// # Errors
    /// The first secret that cannot be opened.
    pub fn open<E>(&self, fill: impl Fn(&Template) -> Result<String, E>) -> Result<Opened, E> {
        Ok(match self {
            Self::Bearer(token) => Opened::Bearer(fill(token)?),
            Self::Basic { user, password } => Opened::Basic { user: fill(user)?, password: fill(password)? },
            Self::Header { name, value } => Opened::Header { name: name.clone(), value: fill(value)? },
        })
    }
}
