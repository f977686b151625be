//! A user's private key, for machines that are reached over SSH.

use super::secret::{optional, secret, text};
use crate::{document::Checker, expr::Template};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

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

/// A user's private key, made of templates or of texts.
#[derive(Clone, PartialEq, Eq)]
pub struct UserKey<T> {
    /// The user.
    pub user: T,
    /// The private key.
    pub private: T,
    /// What opens it.
    pub passphrase: Option<T>,
    /// The certificate that was made for it.
    pub certificate: Option<T>,
}

impl KeyDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<UserKey<Template>> {
        let user = text(check, &format!("{at}/user"), self.user);
        let private = secret(check, &format!("{at}/private"), self.private);
        let passphrase = optional(check, &format!("{at}/passphrase"), self.passphrase, secret);
        let certificate = optional(check, &format!("{at}/certificate"), self.certificate, text);
        Some(UserKey {
            user: user?,
            private: private?,
            passphrase: passphrase?,
            certificate: certificate?,
        })
    }
}

impl<T> UserKey<T> {
    pub(super) fn parts(&self) -> Vec<&T> {
        let Self { user, private, passphrase, certificate } = self;
        [user, private].into_iter().chain(passphrase).chain(certificate).collect()
    }

    pub(super) fn open<U, E>(&self, fill: impl Fn(&T) -> Result<U, E>) -> Result<UserKey<U>, E> {
        Ok(UserKey {
            user: fill(&self.user)?,
            private: fill(&self.private)?,
            passphrase: self.passphrase.as_ref().map(&fill).transpose()?,
            certificate: self.certificate.as_ref().map(&fill).transpose()?,
        })
    }
}
