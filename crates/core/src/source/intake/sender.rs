//! What proves who posts alerts: something that is shown, or a signature of what is posted.

use crate::{
    Period,
    connector::{BasicDoc, CredentialDoc, CredentialOf, HeaderDoc, is_field_name, secret},
    document::Checker,
    expr::Template,
    glob::Glob,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Most proofs of one source.
const MOST: usize = 8;
/// How far the clock of a sender may be away where nothing else is said, and at most.
const CLOCKS: Period = Period::from_secs(300);
const FURTHEST: Period = Period::from_secs(24 * 3_600);
/// Most bytes of what is signed beside the body, and of what stands before a signature.
const LONGEST: usize = 200;
const KEYS: &str = "`bearer`, `basic`, `header`, `hmac`, `standard_webhooks` or `certificate`";
/// What stands for the body and the time of a signature in the text that is signed.
const BODY: &str = "{body}";
const TIMESTAMP: &str = "{timestamp}";

crate::words! {
    /// The digests of HMACs (RFC 2104; FIPS 180-4).
    #[derive(Default, JsonSchema)]
    pub enum HmacDigest("digest") {
        /// SHA-1, which some senders still use; as an HMAC it has not been broken.
        Sha1 = "sha1",
        /// SHA-256.
        #[default]
        Sha256 = "sha256",
        /// SHA-512.
        Sha512 = "sha512",
    }
}

crate::words! {
    /// How a signature is written (RFC 4648).
    #[derive(Default, JsonSchema)]
    pub enum SignatureEncoding("encoding") {
        /// Hexadecimal, in small letters or large ones.
        #[default]
        Hex = "hex",
        /// Base64.
        Base64 = "base64",
    }
}

/// The two forms of [`SenderProofs`], for the schema.
#[derive(JsonSchema)]
#[serde(untagged)]
#[expect(dead_code, reason = "only its schema is used")]
enum OneOrSeveral {
    One(Box<SenderProofDoc>),
    Several(Vec<SenderProofDoc>),
}

/// What a sender must show: one proof, or several of which any will do. They are decoded one by
/// one, so that a problem keeps its place.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[schemars(with = "OneOrSeveral")]
#[serde(transparent)]
pub struct SenderProofs(Value);

/// What proves a sender: one of these keys.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SenderProofDoc {
    /// A bearer token (RFC 6750), usually `${secret('name')}`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bearer: Option<String>,
    /// A name and a password (RFC 7617).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub basic: Option<BasicDoc>,
    /// A header of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub header: Option<HeaderDoc>,
    /// A signature of the body by a key that both sides know (HMAC, RFC 2104).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hmac: Option<SenderHmacDoc>,
    /// The key of a sender that signs as Standard Webhooks says, `${secret('name')}`: it begins
    /// with `whsec_`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub standard_webhooks: Option<String>,
    /// A name, or a glob of names, in a certificate that the sender shows when it connects (mutual
    /// TLS), such as `*.pumps.skerrow.example`. The node's `tls.client_authorities` say whose
    /// certificates count.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<String>,
}

/// A signature of the body by a key that both sides know.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SenderHmacDoc {
    /// The key: `${secret('name')}`.
    pub key: String,
    /// The header that carries the signature.
    pub header: String,
    /// Where the header is a list of `name=value` with commas between: the name of a signature.
    #[serde(default)]
    pub field: Option<String>,
    /// The digest. Left out: `sha256`.
    #[serde(default)]
    pub algorithm: HmacDigest,
    /// How the signature is written. Left out: `hex`.
    #[serde(default)]
    pub encoding: SignatureEncoding,
    /// What stands before the signature, such as `sha256=`.
    #[serde(default)]
    pub prefix: Option<String>,
    /// What is signed: a text with `{body}`, and with `{timestamp}` where there is one, such as
    /// `{timestamp}.{body}`. Left out: `{body}`.
    #[serde(default)]
    pub signs: Option<String>,
    /// When it was signed, where the sender says so; it must be signed along.
    #[serde(default)]
    pub timestamp: Option<SignedAtDoc>,
}

/// Where a sender says when it has signed, in seconds since 1970.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SignedAtDoc {
    /// The header that carries the time.
    pub header: String,
    /// Where that is a list of `name=value` with commas between: the name of the time.
    #[serde(default)]
    pub field: Option<String>,
    /// How far it may be from now, a day at most. Left out: 5m.
    #[serde(default)]
    pub within: Option<Period>,
}

/// What proves a sender, made of templates or of texts.
#[derive(Clone, Debug)]
pub enum SenderProofOf<T> {
    /// Something that is shown: a bearer token, a name and a password, or a header.
    Shown(CredentialOf<T>),
    /// A signature of the body.
    Hmac(SenderHmac<T>),
    /// A signature as Standard Webhooks says.
    StandardWebhooks(T),
    /// A certificate with such a name.
    Certificate(Glob),
}

/// A checked proof.
pub type SenderProof = SenderProofOf<Template>;

/// A checked signature of the body.
#[derive(Clone, PartialEq, Eq)]
pub struct SenderHmac<T> {
    /// The key.
    pub key: T,
    /// Where the signature stands.
    pub at: HeaderField,
    /// The digest.
    pub algorithm: HmacDigest,
    /// How the signature is written.
    pub encoding: SignatureEncoding,
    /// What stands before it.
    pub prefix: String,
    /// What is signed.
    pub signs: Vec<SignedPart>,
    /// Where it says when it was signed, and how far that may be from now.
    pub timestamp: Option<(HeaderField, Period)>,
}

impl<T> std::fmt::Debug for SenderHmac<T> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "hmac in {}", self.at.header)
    }
}

/// A header, or a named part of one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HeaderField {
    /// The header's name in lower case.
    pub header: String,
    /// The name of the part.
    pub field: Option<String>,
}

impl HeaderField {
    fn check(check: &mut Checker<'_>, at: &str, written: (String, Option<String>)) -> Option<Self> {
        let (header, field) = written;
        if !is_field_name(&header) {
            check.fail(
                &format!("{at}/header"),
                "is not the name of a header (RFC 9110, section 5.1)",
            );
            return None;
        }
        Some(Self { header: header.to_ascii_lowercase(), field })
    }

    /// What stands there, of the value of its header: several where a part comes several times.
    pub fn values<'v>(&self, value: &'v str) -> Vec<&'v str> {
        let Some(field) = &self.field else { return vec![value.trim()] };
        let named = |part: &'v str| {
            let (name, value) = part.split_once('=')?;
            (name.trim() == field).then(|| value.trim())
        };
        value.split(',').filter_map(named).collect()
    }
}

/// A part of what is signed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SignedPart {
    /// As it is written.
    Text(String),
    /// The body as it came.
    Body,
    /// The time, as the sender says it.
    Timestamp,
}

impl SenderProofs {
    /// The checked proofs, one at least.
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<Vec<SenderProof>> {
        let Value::Array(several) = self.0 else {
            let doc: SenderProofDoc = check.decode(at, &self.0)?;
            return Some(vec![doc.check(check, at)?]);
        };
        if several.is_empty() || several.len() > MOST {
            let wrong = format!("has {} entries; 1 to {MOST} are possible", several.len());
            check.fail(at, wrong);
            return None;
        }
        let one = |(n, value): (usize, &Value)| {
            let at = format!("{at}/{n}");
            let doc: SenderProofDoc = check.decode(&at, value)?;
            doc.check(check, &at)
        };
        let checked: Vec<Option<SenderProof>> = several.iter().enumerate().map(one).collect();
        checked.into_iter().collect()
    }
}

impl SenderProofDoc {
    fn check(self, check: &mut Checker<'_>, at: &str) -> Option<SenderProof> {
        let Self { bearer, basic, header, hmac, standard_webhooks, certificate } = self;
        let written = [
            bearer.is_some(),
            basic.is_some(),
            header.is_some(),
            hmac.is_some(),
            standard_webhooks.is_some(),
            certificate.is_some(),
        ];
        if written.into_iter().filter(|is| *is).count() != 1 {
            check.fail(at, format!("is one of {KEYS}"));
            return None;
        }
        if let Some(hmac) = hmac {
            return hmac.check(check, &format!("{at}/hmac")).map(SenderProof::Hmac);
        }
        if let Some(key) = standard_webhooks {
            let key = secret(check, &format!("{at}/standard_webhooks"), key);
            return key.map(SenderProof::StandardWebhooks);
        }
        if let Some(name) = certificate {
            let name = certificate_name(check, &format!("{at}/certificate"), &name);
            return name.map(SenderProof::Certificate);
        }
        let shown = CredentialDoc { bearer, basic, header, ..CredentialDoc::default() };
        shown.check(check, at).map(SenderProof::Shown)
    }
}

/// A name in certificates, or a glob of names.
pub(super) fn certificate_name(check: &mut Checker<'_>, at: &str, name: &str) -> Option<Glob> {
    match Glob::parse(name) {
        Ok(glob) => Some(glob),
        Err(wrong) => {
            check.fail(at, wrong.to_string());
            None
        }
    }
}

impl SenderHmacDoc {
    fn check(self, check: &mut Checker<'_>, at: &str) -> Option<SenderHmac<Template>> {
        let key = secret(check, &format!("{at}/key"), self.key);
        let place = HeaderField::check(check, at, (self.header, self.field));
        let timestamp = match self.timestamp {
            None => Some(None),
            Some(doc) => {
                let at = format!("{at}/timestamp");
                let within = doc.within.unwrap_or(CLOCKS);
                if within > FURTHEST {
                    let wrong = format!("is {FURTHEST} at most, not {within}");
                    check.fail(&format!("{at}/within"), wrong);
                }
                let place = HeaderField::check(check, &at, (doc.header, doc.field));
                place.map(|place| Some((place, within)))
            }
        };
        let signs = signed_parts(self.signs.as_deref().unwrap_or(BODY));
        if !signs.contains(&SignedPart::Body) {
            check.fail(&format!("{at}/signs"), "leaves the `{body}` unsigned");
        }
        let has_time = matches!(&timestamp, Some(Some(_)));
        if signs.contains(&SignedPart::Timestamp) != has_time && timestamp.is_some() {
            let wrong = match has_time {
                true => "leaves the `{timestamp}` unsigned: anybody could write another",
                false => "names a `{timestamp}`; say under `timestamp` where that stands",
            };
            check.fail(&format!("{at}/signs"), wrong);
        }
        let prefix = self.prefix.unwrap_or_default();
        for (key, text) in
            [("signs", self.signs.as_deref().unwrap_or_default()), ("prefix", &prefix)]
        {
            if text.len() > LONGEST {
                check.fail(&format!("{at}/{key}"), format!("has more than {LONGEST} bytes"));
            }
        }
        Some(SenderHmac {
            key: key?,
            at: place?,
            algorithm: self.algorithm,
            encoding: self.encoding,
            prefix,
            signs,
            timestamp: timestamp?,
        })
    }
}

/// The parts of the text that is signed.
fn signed_parts(text: &str) -> Vec<SignedPart> {
    let (mut parts, mut rest) = (Vec::new(), text);
    while !rest.is_empty() {
        let known = [(BODY, SignedPart::Body), (TIMESTAMP, SignedPart::Timestamp)];
        let next =
            known.into_iter().filter_map(|(name, part)| Some((rest.find(name)?, name, part)));
        let Some((at, name, part)) = next.min_by_key(|(at, ..)| *at) else {
            parts.push(SignedPart::Text(rest.to_owned()));
            break;
        };
        if at > 0 {
            parts.push(SignedPart::Text(rest[..at].to_owned()));
        }
        parts.push(part);
        rest = &rest[at + name.len()..];
    }
    parts
}

impl<T> SenderProofOf<T> {
    /// All that it is made of.
    pub fn parts(&self) -> Vec<&T> {
        match self {
            Self::Shown(shown) => shown.parts(),
            Self::Hmac(SenderHmac { key, .. }) | Self::StandardWebhooks(key) => vec![key],
            Self::Certificate(_) => Vec::new(),
        }
    }

    /// The same, made of something else: opens a proof when it is given what fills in its
    /// templates.
    ///
    /// # Errors
    /// The first part that cannot be made, such as a secret that cannot be opened.
    pub fn open<U, E>(&self, fill: impl Fn(&T) -> Result<U, E>) -> Result<SenderProofOf<U>, E> {
        Ok(match self {
            Self::Shown(shown) => SenderProofOf::Shown(shown.open(fill)?),
            Self::StandardWebhooks(key) => SenderProofOf::StandardWebhooks(fill(key)?),
            Self::Certificate(name) => SenderProofOf::Certificate(name.clone()),
            Self::Hmac(hmac) => SenderProofOf::Hmac(SenderHmac {
                key: fill(&hmac.key)?,
                at: hmac.at.clone(),
                algorithm: hmac.algorithm,
                encoding: hmac.encoding,
                prefix: hmac.prefix.clone(),
                signs: hmac.signs.clone(),
                timestamp: hmac.timestamp.clone(),
            }),
        })
    }
}
