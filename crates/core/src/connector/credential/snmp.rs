//! What an agent is shown over SNMP: a community (RFC 3584), or a user's passwords (RFC 3414).

use super::secret::{secret, text};
use crate::{document::Checker, expr::Template};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What an agent is shown: a `community` (version 2c), or a `user` with `authentication` (version
/// 3).
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AgentDoc {
    /// The community, which everybody on the way can read, usually `${secret('name')}`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub community: Option<String>,
    /// The user.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// How a request of the user is known to be his.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authentication: Option<AuthenticationDoc>,
    /// How it is kept from others. Left out: they can read it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub privacy: Option<PrivacyDoc>,
}

/// How a request is known to be a user's.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AuthenticationDoc {
    /// By which digest.
    pub by: AgentDigest,
    /// The password, of 8 characters at least, usually `${secret('name')}`.
    pub password: String,
}

/// How a request is kept from others.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PrivacyDoc {
    /// By which cipher.
    pub by: AgentCipher,
    /// The password, of 8 characters at least, usually `${secret('name')}`.
    pub password: String,
}

crate::words! {
    /// A digest by which a request is known (RFC 3414, section 6; RFC 7860).
    #[derive(JsonSchema)]
    pub enum AgentDigest("digest of SNMP") {
        /// HMAC-MD5-96.
        Md5 = "md5",
        /// HMAC-SHA-96.
        Sha1 = "sha-1",
        /// HMAC-SHA-224.
        Sha224 = "sha-224",
        /// HMAC-SHA-256.
        Sha256 = "sha-256",
        /// HMAC-SHA-384.
        Sha384 = "sha-384",
        /// HMAC-SHA-512.
        Sha512 = "sha-512",
    }
}

crate::words! {
    /// A cipher by which a request is kept from others (RFC 3414, section 8; RFC 3826). AES with a
    /// longer key than 128 bits is no standard; it is read by most agents.
    #[derive(JsonSchema)]
    pub enum AgentCipher("cipher of SNMP") {
        /// CBC-DES.
        Des = "des",
        /// CFB128-AES-128.
        Aes128 = "aes-128",
        /// The same with a key of 192 bits.
        Aes192 = "aes-192",
        /// The same with a key of 256 bits.
        Aes256 = "aes-256",
    }
}

/// What an agent is shown, made of templates or of texts.
#[derive(Clone, PartialEq, Eq)]
pub enum AgentCredential<T> {
    /// A community.
    Community(T),
    /// A user.
    User {
        /// Its name.
        user: T,
        /// By which digest its requests are known, and its password for that.
        authentication: (AgentDigest, T),
        /// By which cipher they are kept from others, and its password for that.
        privacy: Option<(AgentCipher, T)>,
    },
}

impl AgentDoc {
    pub(crate) fn check(
        self,
        check: &mut Checker<'_>,
        at: &str,
    ) -> Option<AgentCredential<Template>> {
        match (self.community, self.user, self.authentication) {
            (Some(community), None, None) if self.privacy.is_none() => {
                let community = secret(check, &format!("{at}/community"), community);
                community.map(AgentCredential::Community)
            }
            (None, Some(user), Some(AuthenticationDoc { by, password })) => {
                let user = text(check, &format!("{at}/user"), user);
                let at = |part: &str| format!("{at}/{part}/password");
                let known = secret(check, &at("authentication"), password);
                let privacy = match self.privacy {
                    None => Some(None),
                    Some(PrivacyDoc { by, password }) => {
                        let password = secret(check, &at("privacy"), password);
                        password.map(|password| Some((by, password)))
                    }
                };
                let (user, known, privacy) = (user?, known?, privacy?);
                Some(AgentCredential::User { user, authentication: (by, known), privacy })
            }
            _ => {
                let wrong = "has a `community` alone, or a `user` with `authentication` and, if \
                             wished, `privacy`";
                check.fail(at, wrong);
                None
            }
        }
    }
}

impl<T> AgentCredential<T> {
    pub(crate) fn parts(&self) -> Vec<&T> {
        match self {
            Self::Community(community) => vec![community],
            Self::User { user, authentication, privacy } => {
                let privacy = privacy.as_ref().map(|(_, password)| password);
                [user, &authentication.1].into_iter().chain(privacy).collect()
            }
        }
    }

    /// What of it nobody else may see.
    pub fn secrets(&self) -> Vec<&T> {
        match self {
            Self::Community(_) => self.parts(),
            Self::User { .. } => self.parts().split_off(1),
        }
    }

    /// The same with its parts filled in.
    ///
    /// # Errors
    /// The first that says so.
    pub fn open<U, E>(&self, fill: impl Fn(&T) -> Result<U, E>) -> Result<AgentCredential<U>, E> {
        Ok(match self {
            Self::Community(community) => AgentCredential::Community(fill(community)?),
            Self::User { user, authentication: (digest, known), privacy } => {
                let privacy = privacy.as_ref();
                let privacy = privacy.map(|(cipher, password)| Ok((*cipher, fill(password)?)));
                AgentCredential::User {
                    user: fill(user)?,
                    authentication: (*digest, fill(known)?),
                    privacy: privacy.transpose()?,
                }
            }
        })
    }
}
