//! Who did something: an id with its kind.

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use std::{borrow::Cow, fmt, str::FromStr};

crate::words! {
    /// What kind of one did something.
    pub enum PrincipalKind("kind of principal") {
        /// Whoever has a token, by the token's name, which is never given again.
        Token = "token",
        /// Whoever had a link that decides, by the name that was typed.
        Link = "link",
        /// Whoever answered a question by mail, by the address that the answer was from.
        Mail = "mail",
        /// A node by itself, or a command at its data folder.
        Node = "node",
        /// A plan, at one of its times, by its name.
        Plan = "plan",
        /// Somebody who is not known, by an address.
        Stranger = "stranger",
    }
}

/// Who did something, in every format written as `kind/id`.
///
/// ```
/// use arvok_core::{Principal, PrincipalKind};
///
/// let pat: Principal = "token/pat".parse().expect("a principal");
/// assert_eq!((pat.kind(), pat.id()), (PrincipalKind::Token, "pat"));
/// // People read the name alone where it is one that was given, and never so where it was typed.
/// assert_eq!(pat.shown(), "pat");
/// assert_eq!(Principal::link("pat").shown(), "pat (by link, not signed in)");
/// assert!("pat".parse::<Principal>().is_err());
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Principal {
    kind: PrincipalKind,
    id: String,
}

impl Principal {
    fn new(kind: PrincipalKind, id: &str) -> Self {
        // The database keeps no NUL, and an id is never empty.
        let id = if id.is_empty() { "?".to_owned() } else { id.replace('\0', "\u{fffd}") };
        Self { kind, id }
    }

    /// Whoever has the token of this name.
    pub fn token(name: &str) -> Self {
        Self::new(PrincipalKind::Token, name)
    }

    /// Whoever had a link that decides, by the name that was typed.
    pub fn link(name: &str) -> Self {
        Self::new(PrincipalKind::Link, name)
    }

    /// Whoever answered by mail, by the address that the answer was from.
    pub fn mail(address: &str) -> Self {
        Self::new(PrincipalKind::Mail, address)
    }

    /// A node by itself, or a command at its data folder.
    pub fn node(name: &str) -> Self {
        Self::new(PrincipalKind::Node, name)
    }

    /// A plan, at one of its times.
    pub fn plan(name: &str) -> Self {
        Self::new(PrincipalKind::Plan, name)
    }

    /// Somebody who is not known, from an address.
    pub fn stranger(address: &str) -> Self {
        Self::new(PrincipalKind::Stranger, address)
    }

    /// What kind of one it is.
    pub fn kind(&self) -> PrincipalKind {
        self.kind
    }

    /// The id, which means something within its kind.
    pub fn id(&self) -> &str {
        &self.id
    }

    /// As people read it.
    pub fn shown(&self) -> String {
        match self.kind {
            PrincipalKind::Token => self.id.clone(),
            PrincipalKind::Link => format!("{} (by link, not signed in)", self.id),
            PrincipalKind::Mail => format!("{} (by mail, not signed in)", self.id),
            PrincipalKind::Node | PrincipalKind::Plan | PrincipalKind::Stranger => {
                format!("{} ({})", self.id, self.kind)
            }
        }
    }

    /// Those whom somebody may mean who asks: the one, or whoever has such an id, of any kind.
    pub fn asked(text: &str) -> Vec<Self> {
        match text.parse() {
            Ok(one) => vec![one],
            Err(_) => PrincipalKind::ALL.into_iter().map(|kind| Self::new(kind, text)).collect(),
        }
    }
}

impl fmt::Display for Principal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.kind, self.id)
    }
}

/// A text that is no principal.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no principal that this build knows: one is `token/pat`, its kind and its id")]
pub struct NoPrincipal(String);

impl FromStr for Principal {
    type Err = NoPrincipal;

    fn from_str(text: &str) -> Result<Self, NoPrincipal> {
        let parts = text.split_once('/').filter(|(_, id)| !id.is_empty());
        let parsed = parts.and_then(|(kind, id)| Some((PrincipalKind::parse(kind)?, id)));
        parsed.map(|(kind, id)| Self::new(kind, id)).ok_or_else(|| NoPrincipal(text.to_owned()))
    }
}

impl Serialize for Principal {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Principal {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Cow::<str>::deserialize(deserializer)?.parse().map_err(de::Error::custom)
    }
}
