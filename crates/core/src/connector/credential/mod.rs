//! What is shown to prove who speaks: to an outside system, or by a sender of alerts. Secrets are
//! named here and opened only when they are needed.

mod header;
mod key;
mod oauth2;
mod secret;
mod signature;
mod snmp;

pub use header::HeaderDoc;
pub(crate) use header::is_field_name;
use key::KeyDoc;
pub use key::UserKey;
use oauth2::OAuth2Doc;
pub use oauth2::{Assertion, Grant, OAuth2};
pub use secret::SECRETS;
pub(crate) use secret::{address, secret};
pub use signature::{MessageSignature, SignatureAlgorithm, SignatureV4};
use signature::{SignatureDoc, SignatureV4Doc};
pub use snmp::{AgentCipher, AgentCredential, AgentDigest, AgentDoc};

use crate::{document::Checker, expr::Template};
use schemars::JsonSchema;
use secret::text;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The credential of a connection, as written: one of these keys.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CredentialDoc {
    /// A bearer token (RFC 6750), usually `${secret('name')}`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bearer: Option<String>,
    /// A name and a password (RFC 7617).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub basic: Option<BasicDoc>,
    /// A name and a password of which only a digest is shown, made for each request from what the
    /// server asks (RFC 7616).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<BasicDoc>,
    /// A header of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub header: Option<HeaderDoc>,
    /// A token that is fetched: with a client's credentials (OAuth 2.0, RFC 6749, section 4.4), or
    /// for a signed assertion (RFC 7523).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub oauth2: Option<OAuth2Doc>,
    /// What the connector's `session` takes, such as a user and a password: with it a session is
    /// opened, and opened anew when it is refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub session: Option<BTreeMap<String, String>>,
    /// A signature of each request (HTTP Message Signatures, RFC 9421).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signature: Option<SignatureDoc>,
    /// A signature of each request by Signature Version 4, as many clouds and object stores want
    /// it: HMAC over a canonical request, with a key derived for the day, the region and the
    /// service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signature_v4: Option<SignatureV4Doc>,
    /// A user's private key, for machines that are reached over SSH.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<KeyDoc>,
    /// A community, or a user with passwords, for agents that are reached over SNMP.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub snmp: Option<AgentDoc>,
    /// A certificate of ours with its key, in PEM, shown when the line is made (mutual TLS, RFC
    /// 8446, section 4.4.2): `${secret('name')}`.
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

/// What is shown, made of templates or of texts.
#[derive(Clone, PartialEq, Eq)]
pub enum CredentialOf<T> {
    /// A bearer token.
    Bearer(T),
    /// A name and a password.
    Basic {
        /// The name.
        user: T,
        /// The password.
        password: T,
    },
    /// A name and a password of which a digest is shown.
    Digest {
        /// The name.
        user: T,
        /// The password.
        password: T,
    },
    /// A header of its own.
    Header {
        /// Its name in lower case.
        name: String,
        /// Its value.
        value: T,
    },
    /// A token that is fetched.
    OAuth2(OAuth2<T>),
    /// What a session is opened with, by name.
    Session(BTreeMap<String, T>),
    /// A signature of each request.
    Signature(MessageSignature<T>),
    /// A signature of each request by Signature Version 4.
    SignatureV4(SignatureV4<T>),
    /// A certificate with its key, in PEM.
    Certificate(T),
    /// A user's private key.
    Key(UserKey<T>),
    /// What an agent is shown over SNMP.
    Agent(AgentCredential<T>),
}

/// A checked credential.
pub type Credential = CredentialOf<Template>;

/// A credential with its secrets opened.
pub type Opened = CredentialOf<String>;

impl<T> std::fmt::Debug for CredentialOf<T> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.key())
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
        if let Some(basic) = self.basic {
            let pair = basic.check(check, &at("basic"));
            made.push(pair.map(|(user, password)| Credential::Basic { user, password }));
        }
        if let Some(digest) = self.digest {
            let pair = digest.check(check, &at("digest"));
            made.push(pair.map(|(user, password)| Credential::Digest { user, password }));
        }
        if let Some(header) = self.header {
            let pair = header.check(check, &at("header"));
            made.push(pair.map(|(name, value)| Credential::Header { name, value }));
        }
        if let Some(oauth2) = self.oauth2 {
            made.push(oauth2.check(check, &at("oauth2")).map(Credential::OAuth2));
        }
        if let Some(given) = self.session {
            made.push(session(check, &at("session"), given));
        }
        if let Some(signature) = self.signature {
            made.push(signature.check(check, &at("signature")).map(Credential::Signature));
        }
        if let Some(signature) = self.signature_v4 {
            made.push(signature.check(check, &at("signature_v4")).map(Credential::SignatureV4));
        }
        if let Some(certificate) = self.certificate {
            let certificate = secret(check, &at("certificate"), certificate);
            made.push(certificate.map(Credential::Certificate));
        }
        if let Some(key) = self.key {
            made.push(key.check(check, &at("key")).map(Credential::Key));
        }
        if let Some(agent) = self.snmp {
            made.push(agent.check(check, &at("snmp")).map(Credential::Agent));
        }
        let keys = "`bearer`, `basic`, `digest`, `header`, `oauth2`, `session`, `signature`, \
                    `signature_v4`, `certificate`, `key` or `snmp`";
        one_of(check, pointer, made, keys)
    }
}

/// The only one that is written.
fn one_of(
    check: &mut Checker<'_>,
    pointer: &str,
    mut made: Vec<Option<Credential>>,
    keys: &str,
) -> Option<Credential> {
    match (made.pop(), made.is_empty()) {
        (Some(one), true) => one,
        _ => {
            check.fail(pointer, format!("is one of {keys}"));
            None
        }
    }
}

impl BasicDoc {
    fn check(self, check: &mut Checker<'_>, at: &str) -> Option<(Template, Template)> {
        let user = text(check, &format!("{at}/user"), self.user);
        let password = secret(check, &format!("{at}/password"), self.password);
        user.zip(password)
    }
}

/// What a session is opened with; a part of it at least is a secret.
fn session(
    check: &mut Checker<'_>,
    at: &str,
    given: BTreeMap<String, String>,
) -> Option<Credential> {
    let each = given.into_iter().map(|(name, value)| {
        let made = text(check, &format!("{at}/{name}"), value);
        made.map(|template| (name, template))
    });
    let all: Vec<Option<(String, Template)>> = each.collect();
    let all: BTreeMap<String, Template> = all.into_iter().collect::<Option<_>>()?;
    if all.values().all(|template| template.calls("secret").is_empty()) {
        check.fail(
            at,
            "holds no secret; a credential is not written out: \
            set a secret and write \"${secret('its-name')}\"",
        );
        return None;
    }
    Some(Credential::Session(all))
}

impl<T> CredentialOf<T> {
    /// The key under which it is written.
    pub const fn key(&self) -> &'static str {
        match self {
            Self::Bearer(_) => "bearer",
            Self::Basic { .. } => "basic",
            Self::Digest { .. } => "digest",
            Self::Header { .. } => "header",
            Self::OAuth2(_) => "oauth2",
            Self::Session(_) => "session",
            Self::Signature(_) => "signature",
            Self::SignatureV4(_) => "signature_v4",
            Self::Certificate(_) => "certificate",
            Self::Key(_) => "key",
            Self::Agent(_) => "snmp",
        }
    }

    /// All that it is made of.
    pub fn parts(&self) -> Vec<&T> {
        match self {
            Self::Bearer(one) | Self::Header { value: one, .. } | Self::Certificate(one) => {
                vec![one]
            }
            Self::Basic { user, password } | Self::Digest { user, password } => {
                vec![user, password]
            }
            Self::OAuth2(oauth2) => oauth2.parts(),
            Self::Session(given) => given.values().collect(),
            Self::Signature(signature) => signature.parts(),
            Self::SignatureV4(signature) => signature.parts(),
            Self::Key(key) => key.parts(),
            Self::Agent(agent) => agent.parts(),
        }
    }

    /// The same, made of something else: opens a credential when it is given what fills in its
    /// templates.
    ///
    /// # Errors
    /// The first part that cannot be made, such as a secret that cannot be opened.
    pub fn open<U, E>(&self, fill: impl Fn(&T) -> Result<U, E>) -> Result<CredentialOf<U>, E> {
        Ok(match self {
            Self::Bearer(token) => CredentialOf::Bearer(fill(token)?),
            Self::Basic { user, password } => {
                CredentialOf::Basic { user: fill(user)?, password: fill(password)? }
            }
            Self::Digest { user, password } => {
                CredentialOf::Digest { user: fill(user)?, password: fill(password)? }
            }
            Self::Header { name, value } => {
                CredentialOf::Header { name: name.clone(), value: fill(value)? }
            }
            Self::OAuth2(oauth2) => CredentialOf::OAuth2(oauth2.open(&fill)?),
            Self::Session(given) => {
                let each = given.iter().map(|(name, value)| Ok((name.clone(), fill(value)?)));
                CredentialOf::Session(each.collect::<Result<_, E>>()?)
            }
            Self::Signature(signature) => CredentialOf::Signature(signature.open(&fill)?),
            Self::SignatureV4(signature) => CredentialOf::SignatureV4(signature.open(&fill)?),
            Self::Certificate(certificate) => CredentialOf::Certificate(fill(certificate)?),
            Self::Key(key) => CredentialOf::Key(key.open(&fill)?),
            Self::Agent(agent) => CredentialOf::Agent(agent.open(&fill)?),
        })
    }
}
