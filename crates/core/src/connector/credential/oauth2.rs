//! Tokens that are fetched: with a client's credentials (OAuth 2.0, RFC 6749, section 4.4), or for
//! a signed assertion (RFC 7523).

use super::secret::{address, optional, secret, text};
use crate::{Period, connector::Protocol, document::Checker, expr::Template};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// Longest time for which an assertion holds, in milliseconds: an hour.
const LONGEST: u64 = 3_600_000;
/// The claims that have keys of their own or are made for each assertion (RFC 7519, section 4.1).
const REGISTERED: [&str; 7] = ["iss", "sub", "aud", "exp", "nbf", "iat", "jti"];

/// How a token is fetched.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct OAuth2Doc {
    /// The address that gives tokens; `${setting('name')}` takes it from the service's own
    /// settings.
    pub token: String,
    /// The client's name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub client: Option<String>,
    /// The client's secret, usually `${secret('name')}`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<String>,
    /// Instead of a client's secret: a signed assertion. Beside a `client` it proves the client
    /// (RFC 7523, section 2.2); alone it is what the token is given for (section 2.1).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub assertion: Option<AssertionDoc>,
    /// What the token is asked for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub scopes: Vec<String>,
}

/// A signed assertion (JSON Web Token, RFC 7519), made anew for each token.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AssertionDoc {
    /// Who makes it (`iss`). Left out: the client.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub issuer: Option<String>,
    /// Of whom it speaks (`sub`). Left out: who makes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<String>,
    /// For whom it is made (`aud`). Left out: the address that gives tokens.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audience: Option<String>,
    /// The private key in PEM, usually `${secret('name')}`. An RSA key signs by `RS256`, one on the
    /// curve P-256 by `ES256`, an Ed25519 key by `EdDSA`.
    pub key: String,
    /// The name by which the other side knows the key (`kid`).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_id: Option<String>,
    /// How long it holds. Left out: 5m.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lasts: Option<Period>,
    /// Further claims, as they are.
    #[serde(default, skip_serializing_if = "Map::is_empty")]
    pub claims: Map<String, Value>,
}

/// How a token is fetched, made of templates or of texts.
#[derive(Clone, PartialEq, Eq, Hash)]
pub struct OAuth2<T> {
    /// The address that gives tokens.
    pub token: T,
    /// What the token is given for.
    pub grant: Grant<T>,
    /// What it is asked for.
    pub scopes: Vec<String>,
}

/// What a token is given for.
#[derive(Clone, PartialEq, Eq, Hash)]
pub enum Grant<T> {
    /// A client's credentials.
    Client {
        /// The client's name.
        client: T,
        /// The client's secret.
        secret: T,
    },
    /// A signed assertion.
    Assertion {
        /// The client that it proves; none: it is a grant itself.
        client: Option<T>,
        /// What it says, and with which key it is signed.
        assertion: Assertion<T>,
    },
}

/// A signed assertion, made of templates or of texts.
#[derive(Clone, PartialEq, Eq, Hash)]
pub struct Assertion<T> {
    /// Who makes it.
    pub issuer: T,
    /// Of whom it speaks.
    pub subject: T,
    /// For whom it is made; none: the address that gives tokens.
    pub audience: Option<T>,
    /// The private key in PEM.
    pub key: T,
    /// The name by which the other side knows the key.
    pub key_id: Option<T>,
    /// How long it holds.
    pub lasts: Period,
    /// Further claims, as they are.
    pub claims: Map<String, Value>,
}

impl OAuth2Doc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<OAuth2<Template>> {
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
        let client = optional(check, &format!("{at}/client"), self.client, text);
        let grant = match (self.secret, self.assertion) {
            (Some(own), None) => {
                let own = secret(check, &format!("{at}/secret"), own);
                if let Some(None) = client {
                    check.fail(at, "has a `secret` and no `client` whose it is");
                }
                let client = client.flatten();
                client.zip(own).map(|(client, secret)| Grant::Client { client, secret })
            }
            (None, Some(assertion)) => {
                let at = format!("{at}/assertion");
                let client = client?;
                let assertion = assertion.check(check, &at, client.as_ref());
                assertion.map(|assertion| Grant::Assertion { client, assertion })
            }
            _ => {
                check.fail(at, "has a `client` with its `secret`, or an `assertion`");
                None
            }
        };
        Some(OAuth2 { token: token?, grant: grant?, scopes: self.scopes })
    }
}

impl AssertionDoc {
    fn check(
        self,
        check: &mut Checker<'_>,
        at: &str,
        client: Option<&Template>,
    ) -> Option<Assertion<Template>> {
        let mut maybe = |name: &str, written: Option<String>| {
            optional(check, &format!("{at}/{name}"), written, text)
        };
        let (issuer, subject) = (maybe("issuer", self.issuer), maybe("subject", self.subject));
        let (audience, key_id) = (maybe("audience", self.audience), maybe("key_id", self.key_id));
        let key = secret(check, &format!("{at}/key"), self.key);
        for name in self.claims.keys().filter(|name| REGISTERED.contains(&name.as_str())) {
            let wrong = "has a key of its own, or is made for each assertion";
            check.fail(&format!("{at}/claims/{name}"), wrong);
        }
        let lasts = self.lasts.unwrap_or(Period::from_secs(300));
        if !(1_000..=LONGEST).contains(&lasts.millis()) {
            check.fail(&format!("{at}/lasts"), "is from 1s to 1h");
        }
        let issuer = issuer?.or_else(|| client.cloned());
        if issuer.is_none() {
            check.fail(at, "says no `issuer`, and there is no `client` that could be it");
        }
        let issuer = issuer?;
        Some(Assertion {
            subject: subject?.unwrap_or_else(|| issuer.clone()),
            issuer,
            audience: audience?,
            key: key?,
            key_id: key_id?,
            lasts,
            claims: self.claims,
        })
    }
}

impl<T> OAuth2<T> {
    pub(super) fn parts(&self) -> Vec<&T> {
        let token = std::iter::once(&self.token);
        match &self.grant {
            Grant::Client { client, secret } => token.chain([client, secret]).collect(),
            Grant::Assertion { client, assertion } => {
                let Assertion { issuer, subject, audience, key, key_id, .. } = assertion;
                let always = token.chain([issuer, subject, key]);
                always.chain(client).chain(audience).chain(key_id).collect()
            }
        }
    }

    pub(super) fn open<U, E>(&self, fill: impl Fn(&T) -> Result<U, E>) -> Result<OAuth2<U>, E> {
        let maybe = |part: &Option<T>| part.as_ref().map(&fill).transpose();
        let grant = match &self.grant {
            Grant::Client { client, secret } => {
                Grant::Client { client: fill(client)?, secret: fill(secret)? }
            }
            Grant::Assertion { client, assertion } => Grant::Assertion {
                client: maybe(client)?,
                assertion: Assertion {
                    issuer: fill(&assertion.issuer)?,
                    subject: fill(&assertion.subject)?,
                    audience: maybe(&assertion.audience)?,
                    key: fill(&assertion.key)?,
                    key_id: maybe(&assertion.key_id)?,
                    lasts: assertion.lasts,
                    claims: assertion.claims.clone(),
                },
            },
        };
        Ok(OAuth2 { token: fill(&self.token)?, grant, scopes: self.scopes.clone() })
    }
}
