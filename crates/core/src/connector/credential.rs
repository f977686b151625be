//! What is shown to prove who speaks: to an outside system, or by a sender of alerts. Secrets are
//! named here and opened only when they are needed.

use super::Protocol;
use crate::{
    document::Checker,
    expr::{Names, Template},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// The functions that a credential or an address may use: `secret(name)`, `setting(name)`.
pub const SECRETS: Names<'static> =
    Names { roots: &[], functions: &["secret", "setting"], types: &[] };

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
    /// A token that is fetched with a client's credentials (OAuth 2.0, RFC 6749, section 4.4). Only
    /// for connections.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub oauth2: Option<OAuth2Doc>,
    /// A user's private key, for machines that are reached over SSH. Only for connections.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<KeyDoc>,
    /// A certificate of ours with its key, in PEM, shown when the line is made (mutual TLS, RFC
    /// 8446, section 4.4.2): `${secret('name')}`. Only for connections.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<String>,
}

/// The credentials of a client, for which a server gives tokens.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct OAuth2Doc {
    /// The address that gives tokens; `${setting('name')}` takes it from the service's own
    /// settings.
    pub token: String,
    /// The client's name.
    pub client: String,
    /// The client's secret, usually `${secret('name')}`.
    pub secret: String,
    /// What the token is asked for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub scopes: Vec<String>,
}

/// A user's private key.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct KeyDoc {
    /// The user.
    pub user: String,
    /// The private key in OpenSSH's format or PEM, usually `${secret('name')}`.
    pub private: String,
    /// The passphrase that opens it, usually `${secret('name')}`. Left out: it has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<String>,
    /// The certificate that an authority has made for it, in one line (`ssh-ed25519-cert-v01@...`).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<String>,
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
    /// A token that is fetched with a client's credentials.
    OAuth2 {
        /// The address that gives tokens.
        token: Template,
        /// The client's name.
        client: Template,
        /// The client's secret.
        secret: Template,
        /// What the token is asked for.
        scopes: Vec<String>,
    },
    /// A certificate with its key.
    Certificate(Template),
    /// A user's private key.
    Key {
        /// The user.
        user: Template,
        /// The private key.
        private: Template,
        /// What opens it.
        passphrase: Option<Template>,
        /// The certificate that was made for it.
        certificate: Option<Template>,
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
    /// A token that is fetched with a client's credentials.
    OAuth2 {
        /// The address that gives tokens.
        token: String,
        /// The client's name.
        client: String,
        /// The client's secret.
        secret: String,
        /// What the token is asked for.
        scopes: Vec<String>,
    },
    /// A certificate with its key, in PEM.
    Certificate(String),
    /// A user's private key.
    Key {
        /// The user.
        user: String,
        /// The private key.
        private: String,
        /// What opens it.
        passphrase: Option<String>,
        /// The certificate that was made for it.
        certificate: Option<String>,
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
        let at = |key: &str| format!("{pointer}/{key}");
        let mut made: Vec<Option<Credential>> = Vec::new();
        if let Some(bearer) = self.bearer {
            made.push(secret(check, &at("bearer"), bearer).map(Credential::Bearer));
        }
        if let Some(BasicDoc { user, password }) = self.basic {
            let user = check.template(&at("basic/user"), &Value::String(user), SECRETS);
            let password = secret(check, &at("basic/password"), password);
            made.push(
                user.zip(password).map(|(user, password)| Credential::Basic { user, password }),
            );
        }
        if let Some(header) = self.header {
            made.push(header.check(check, &at("header")));
        }
        if let Some(oauth2) = self.oauth2 {
            made.push(oauth2.check(check, &at("oauth2")));
        }
        if let Some(certificate) = self.certificate {
            let certificate = secret(check, &at("certificate"), certificate);
            made.push(certificate.map(Credential::Certificate));
        }
        if let Some(key) = self.key {
            made.push(key.check(check, &at("key")));
        }
        match (made.pop(), made.is_empty()) {
            (Some(one), true) => one,
            _ => {
                let wrong =
                    "is one of `bearer`, `basic`, `header`, `oauth2`, `certificate` or `key`";
                check.fail(pointer, wrong);
                None
            }
        }
    }
}

impl KeyDoc {
    fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Credential> {
        let user = check.template(&format!("{at}/user"), &Value::String(self.user), SECRETS);
        let private = secret(check, &format!("{at}/private"), self.private);
        let passphrase = match self.passphrase {
            None => Some(None),
            Some(text) => secret(check, &format!("{at}/passphrase"), text).map(Some),
        };
        let certificate = match self.certificate {
            None => Some(None),
            Some(text) => check
                .template(&format!("{at}/certificate"), &Value::String(text), SECRETS)
                .map(Some),
        };
        Some(Credential::Key {
            user: user?,
            private: private?,
            passphrase: passphrase?,
            certificate: certificate?,
        })
    }
}

impl HeaderDoc {
    fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Credential> {
        let Self { name, value } = self;
        let value = secret(check, &format!("{at}/value"), value);
        let token = |c: char| c.is_ascii_alphanumeric() || "!#$%&'*+-.^_`|~".contains(c);
        if name.is_empty() || name.len() > 100 || !name.chars().all(token) {
            check
                .fail(&format!("{at}/name"), "is not the name of a header (RFC 9110, section 5.1)");
            return None;
        }
        value.map(|value| Credential::Header { name: name.to_ascii_lowercase(), value })
    }
}

impl OAuth2Doc {
    fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Credential> {
        // Scopes are put together with spaces (RFC 6749, section 3.3).
        if let Some(n) = self
            .scopes
            .iter()
            .position(|s| s.is_empty() || s.contains(|c: char| !c.is_ascii_graphic()))
        {
            check.fail(
                &format!("{at}/scopes/{n}"),
                "is not the name of a scope (RFC 6749, section 3.3)",
            );
        }
        let token = address(check, &format!("{at}/token"), self.token, &[Protocol::Http]);
        let client = check.template(&format!("{at}/client"), &Value::String(self.client), SECRETS);
        let secret = secret(check, &format!("{at}/secret"), self.secret);
        Some(Credential::OAuth2 {
            token: token?,
            client: client?,
            secret: secret?,
            scopes: self.scopes,
        })
    }
}

/// The template of an address. A name and a password have a place of their own; a secret may stand
/// in its path, as hooks have it, and never where it would choose whom the request goes to.
pub(crate) fn address(
    check: &mut Checker<'_>,
    at: &str,
    text: String,
    of: &[Protocol],
) -> Option<Template> {
    let schemes: Vec<&str> = of.iter().flat_map(|protocol| protocol.schemes()).copied().collect();
    let starts = schemes.iter().any(|scheme| text.starts_with(scheme));
    if !text.contains("${") && !starts {
        check.fail(at, format!("is not an address; it begins with one of {}", schemes.join(", ")));
        return None;
    }
    let authority = text
        .split_once("://")
        .map_or("", |(_, rest)| rest.split(['/', '?', '#']).next().unwrap_or_default());
    if starts && authority.contains('@') {
        check.fail(
            at,
            "holds a name or a password, which everybody would see; it stands under `credential`",
        );
        return None;
    }
    let made = check.template(at, &Value::String(text.clone()), SECRETS)?;
    let secrets = made.calls("secret");
    if secrets.contains(&None) {
        check.fail(at, "the name of a secret is written out: secret('its-name')");
        return None;
    }
    let before = text.split("secret(").next().unwrap_or_default();
    let in_path =
        before.split_once("://").map_or(before.contains("}/"), |(_, rest)| rest.contains('/'));
    if !secrets.is_empty() && !in_path {
        check.fail(at, "a secret may stand in the path of an address only, behind the host");
        return None;
    }
    Some(made)
}

/// A template that is a secret of somebody's, and not written out.
pub(crate) fn secret(check: &mut Checker<'_>, at: &str, text: String) -> Option<Template> {
    let made = check.template(at, &Value::String(text), SECRETS)?;
    let secrets = made.calls("secret");
    if !made.calls("setting").is_empty() {
        check.fail(
            at,
            "a credential is a secret, and settings are read by every author; \
            write \"${secret('its-name')}\"",
        );
        return None;
    }
    if secrets.is_empty() {
        check.fail(
            at,
            "a credential is not written out; set a secret and write \"${secret('its-name')}\"",
        );
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
            Self::OAuth2 { token, client, secret, .. } => {
                [token, client, secret].map(|t| (pointer, t)).to_vec()
            }
            Self::Certificate(certificate) => vec![(pointer, certificate)],
            Self::Key { user, private, passphrase, certificate } => {
                let always = [user, private].into_iter();
                always.chain(passphrase).chain(certificate).map(|t| (pointer, t)).collect()
            }
        }
    }

    /// Opens it.
    ///
    /// # Errors
    /// The first secret that cannot be opened.
    pub fn open<E>(&self, fill: impl Fn(&Template) -> Result<String, E>) -> Result<Opened, E> {
        Ok(match self {
            Self::Bearer(token) => Opened::Bearer(fill(token)?),
            Self::Basic { user, password } => {
                Opened::Basic { user: fill(user)?, password: fill(password)? }
            }
            Self::Header { name, value } => {
                Opened::Header { name: name.clone(), value: fill(value)? }
            }
            Self::OAuth2 { token, client, secret, scopes } => Opened::OAuth2 {
                token: fill(token)?,
                client: fill(client)?,
                secret: fill(secret)?,
                scopes: scopes.clone(),
            },
            Self::Certificate(certificate) => Opened::Certificate(fill(certificate)?),
            Self::Key { user, private, passphrase, certificate } => Opened::Key {
                user: fill(user)?,
                private: fill(private)?,
                passphrase: passphrase.as_ref().map(&fill).transpose()?,
                certificate: certificate.as_ref().map(&fill).transpose()?,
            },
        })
    }
}
