//! Credentials that sign each request: HTTP Message Signatures (RFC 9421), and Signature Version 4.

use super::{
    header::is_field_name,
    secret::{optional, secret, text},
};
use crate::{Period, document::Checker, expr::Template};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The parts of a request that can be covered beside its headers (RFC 9421, section 2.2).
const DERIVED: [&str; 7] =
    ["@method", "@target-uri", "@authority", "@scheme", "@request-target", "@path", "@query"];
/// What is covered where nothing is written.
const USUAL: [&str; 5] = ["@method", "@authority", "@path", "@query", "content-digest"];

/// How each request is signed.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SignatureDoc {
    /// The name by which the other side knows the key (`keyid`).
    pub key_id: String,
    /// The key, usually `${secret('name')}`: a private one in PEM (PKCS #8), or for `hmac-sha256`
    /// the shared one in base64.
    pub key: String,
    /// How it signs (RFC 9421, section 3.3).
    pub algorithm: SignatureAlgorithm,
    /// What of the request is signed: names of headers in lower case, and `@method`,
    /// `@target-uri`, `@authority`, `@scheme`, `@request-target`, `@path`, `@query`. Headers that
    /// speak of a body (`content-...`) are covered where there is one; `content-digest` is made.
    /// Left out: `@method`, `@authority`, `@path`, `@query` and `content-digest`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub covers: Vec<String>,
    /// The name of the signature. Left out: `sig1`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// What the signature is for, if the other side asks for that (`tag`).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tag: Option<String>,
    /// After which time it holds no more (`expires`). Left out: it says nothing of that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lasts: Option<Period>,
}

crate::words! {
    /// How requests are signed (RFC 9421, section 3.3).
    #[derive(JsonSchema)]
    pub enum SignatureAlgorithm("signature algorithm") {
        /// HMAC with SHA-256, by a shared key.
        HmacSha256 = "hmac-sha256",
        /// Ed25519.
        Ed25519 = "ed25519",
        /// ECDSA on the curve P-256 with SHA-256.
        EcdsaP256Sha256 = "ecdsa-p256-sha256",
        /// RSASSA-PSS with SHA-512.
        RsaPssSha512 = "rsa-pss-sha512",
        /// RSASSA-PKCS1-v1_5 with SHA-256.
        RsaV1_5Sha256 = "rsa-v1_5-sha256",
    }
}

/// A key of Signature Version 4.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SignatureV4Doc {
    /// The name of the key.
    pub key_id: String,
    /// The key, usually `${secret('name')}`.
    pub key: String,
    /// The region for which it signs.
    pub region: String,
    /// The service for which it signs, such as `ec2` or `s3`.
    pub service: String,
    /// The token that belongs to a key that is valid for a time only, usually `${secret('name')}`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
}

/// How each request is signed, made of templates or of texts.
#[derive(Clone, PartialEq, Eq)]
pub struct MessageSignature<T> {
    /// The name by which the other side knows the key.
    pub key_id: T,
    /// The key.
    pub key: T,
    /// How it signs.
    pub algorithm: SignatureAlgorithm,
    /// What of the request is signed.
    pub covers: Vec<String>,
    /// The name of the signature.
    pub label: String,
    /// What it is for.
    pub tag: Option<String>,
    /// After which time it holds no more.
    pub lasts: Option<Period>,
}

/// A key of Signature Version 4, made of templates or of texts.
#[derive(Clone, PartialEq, Eq)]
pub struct SignatureV4<T> {
    /// The name of the key.
    pub key_id: T,
    /// The key.
    pub key: T,
    /// The region for which it signs.
    pub region: T,
    /// The service for which it signs.
    pub service: T,
    /// The token that belongs to a key that is valid for a time only.
    pub token: Option<T>,
}

impl SignatureDoc {
    pub(super) fn check(
        self,
        check: &mut Checker<'_>,
        at: &str,
    ) -> Option<MessageSignature<Template>> {
        let key_id = text(check, &format!("{at}/key_id"), self.key_id);
        let key = secret(check, &format!("{at}/key"), self.key);
        for (n, part) in self.covers.iter().enumerate() {
            let is_header = is_field_name(part) && *part == part.to_ascii_lowercase();
            let wrong = match part.starts_with('@') {
                _ if self.covers[..n].contains(part) => "is covered already".to_owned(),
                true if DERIVED.contains(&part.as_str()) => continue,
                true => format!("is none of {}", DERIVED.join(", ")),
                false if is_header => continue,
                false => "is no name of a header in lower case".to_owned(),
            };
            check.fail(&format!("{at}/covers/{n}"), wrong);
        }
        let label = self.label.unwrap_or_else(|| "sig1".into());
        // A key of a dictionary (RFC 9651, section 3.2).
        let is_key = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || "_-.*".contains(c);
        if !label.starts_with(|c: char| c.is_ascii_lowercase() || c == '*')
            || !label.chars().all(is_key)
        {
            let wrong = "is lower-case letters, digits, `_`, `-`, `.` and `*`, and begins with a \
                         letter";
            check.fail(&format!("{at}/label"), wrong);
        }
        if self.tag.as_ref().is_some_and(|tag| !tag.chars().all(|c| matches!(c, ' '..='~'))) {
            check.fail(&format!("{at}/tag"), "is of printable ASCII");
        }
        if self.lasts.is_some_and(|lasts| lasts.millis() < 1_000) {
            check.fail(&format!("{at}/lasts"), "is 1s at least");
        }
        let covers = match self.covers.is_empty() {
            true => USUAL.map(str::to_owned).to_vec(),
            false => self.covers,
        };
        Some(MessageSignature {
            key_id: key_id?,
            key: key?,
            algorithm: self.algorithm,
            covers,
            label,
            tag: self.tag,
            lasts: self.lasts,
        })
    }
}

impl SignatureV4Doc {
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<SignatureV4<Template>> {
        let key_id = text(check, &format!("{at}/key_id"), self.key_id);
        let key = secret(check, &format!("{at}/key"), self.key);
        let region = text(check, &format!("{at}/region"), self.region);
        let service = text(check, &format!("{at}/service"), self.service);
        let token = optional(check, &format!("{at}/token"), self.token, secret);
        Some(SignatureV4 {
            key_id: key_id?,
            key: key?,
            region: region?,
            service: service?,
            token: token?,
        })
    }
}

impl<T> MessageSignature<T> {
    pub(super) fn parts(&self) -> Vec<&T> {
        vec![&self.key_id, &self.key]
    }

    pub(super) fn open<U, E>(
        &self,
        fill: impl Fn(&T) -> Result<U, E>,
    ) -> Result<MessageSignature<U>, E> {
        Ok(MessageSignature {
            key_id: fill(&self.key_id)?,
            key: fill(&self.key)?,
            algorithm: self.algorithm,
            covers: self.covers.clone(),
            label: self.label.clone(),
            tag: self.tag.clone(),
            lasts: self.lasts,
        })
    }
}

impl<T> SignatureV4<T> {
    pub(super) fn parts(&self) -> Vec<&T> {
        let Self { key_id, key, region, service, token } = self;
        [key_id, key, region, service].into_iter().chain(token).collect()
    }

    pub(super) fn open<U, E>(
        &self,
        fill: impl Fn(&T) -> Result<U, E>,
    ) -> Result<SignatureV4<U>, E> {
        Ok(SignatureV4 {
            key_id: fill(&self.key_id)?,
            key: fill(&self.key)?,
            region: fill(&self.region)?,
            service: fill(&self.service)?,
            token: self.token.as_ref().map(&fill).transpose()?,
        })
    }
}
