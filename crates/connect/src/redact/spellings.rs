//! How secrets and sealed links are spelled where no escape of a text stands between: plain,
//! base64, hexadecimal.

use base64::{
    Engine, alphabet,
    engine::{GeneralPurpose, general_purpose::NO_PAD},
};
use std::ops::Range;

/// The least bytes of a secret that is looked for.
pub const SHORTEST_SECRET: usize = 8;
/// What sealed links begin with.
pub const LINK_PREFIX: &str = "sealed-";
/// The least characters of one.
const SHORTEST_LINK: usize = 60;

/// Words that people take for a secret, and that stand in many texts.
const COMMON: &[&str] = &[
    "account",
    "administrator",
    "arvok",
    "booking",
    "changeme",
    "cleared",
    "connection",
    "confirmed",
    "critical",
    "database",
    "dispatched",
    "indeterminate",
    "localhost",
    "monitoring",
    "operator",
    "password",
    "postgres",
    "postgresql",
    "production",
    "resource",
    "responder",
    "running",
    "succeeded",
    "terminal",
    "timetable",
    "undefined",
    "unconfirmed",
    "username",
    "warning",
    "webhook",
    "00000000",
    "12341234",
    "11111111",
];

/// Why a secret is not looked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Weak {
    /// It is too short.
    Short,
    /// It is a word that stands in many texts.
    Common,
}

impl Weak {
    /// The word for it.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Short => "short",
            Self::Common => "common",
        }
    }
}

/// Why a secret cannot be hidden where it is shown, if it cannot.
pub fn weakness(secret: &str) -> Option<Weak> {
    if secret.len() < SHORTEST_SECRET {
        return Some(Weak::Short);
    }
    COMMON.contains(&secret.to_lowercase().as_str()).then_some(Weak::Common)
}

/// Which characters go on with a spelling.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Form {
    Plain,
    Base64,
    Hexadecimal,
}

impl Form {
    /// What was found, with the character on each side that may hold bits of it.
    pub fn with_neighbours(self, bytes: &[u8], mut found: Range<usize>) -> Range<usize> {
        if self == Self::Base64 {
            found.start -= usize::from(found.start > 0 && self.has(bytes[found.start - 1]));
            found.end += usize::from(bytes.get(found.end).is_some_and(|b| self.has(*b)));
        }
        found
    }

    /// The whole link whose beginning was found; none if it is too short for one.
    pub fn link(self, bytes: &[u8], mut found: Range<usize>) -> Option<Range<usize>> {
        found.end += bytes[found.end..].iter().take_while(|b| self.has(**b)).count();
        (found.len() >= SHORTEST_LINK).then_some(found)
    }

    /// Whether a byte can be a part of it.
    fn has(self, byte: u8) -> bool {
        match self {
            Self::Plain => byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_'),
            Self::Base64 => {
                byte.is_ascii_alphanumeric() || matches!(byte, b'+' | b'/' | b'-' | b'_' | b'=')
            }
            Self::Hexadecimal => byte.is_ascii_hexdigit(),
        }
    }
}

/// What is looked for.
#[derive(Debug)]
pub(super) struct Pattern {
    pub bytes: Vec<u8>,
    pub form: Form,
    pub finds: Finds,
}

/// What a pattern stands for where it is found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Finds {
    /// A secret, whole.
    Secret,
    /// The beginning of the secret of this number.
    Head(usize),
    /// The beginning of a sealed link.
    Link,
}

/// The spellings of a secret.
pub(super) fn of_secret(secret: &str) -> Vec<Pattern> {
    all(secret.as_bytes(), Finds::Secret)
}

/// The beginnings of sealed links.
pub(super) fn of_links() -> Vec<Pattern> {
    all(LINK_PREFIX.as_bytes(), Finds::Link)
}

/// The beginning of a secret, by its number.
pub(super) fn head(number: usize, secret: &str) -> Pattern {
    Pattern {
        bytes: secret.as_bytes()[..SHORTEST_SECRET].to_vec(),
        form: Form::Plain,
        finds: Finds::Head(number),
    }
}

fn all(bytes: &[u8], finds: Finds) -> Vec<Pattern> {
    let pattern = |bytes: Vec<u8>, form| Pattern { bytes, form, finds };
    let hexadecimal = hex::encode(bytes);
    let upper = hexadecimal.to_uppercase();
    let mut all = vec![pattern(bytes.to_vec(), Form::Plain)];
    all.extend([hexadecimal, upper].map(|text| pattern(text.into_bytes(), Form::Hexadecimal)));
    all.extend(
        base64_cores(bytes).into_iter().map(|text| pattern(text.into_bytes(), Form::Base64)),
    );
    all
}

/// The characters of a base64 text (RFC 4648, sections 4 and 5) that only these bytes decide, for
/// each of the three places at which they may begin.
fn base64_cores(bytes: &[u8]) -> Vec<String> {
    let mut cores = Vec::new();
    for alphabet in [&alphabet::STANDARD, &alphabet::URL_SAFE] {
        let engine = GeneralPurpose::new(alphabet, NO_PAD);
        for before in 0..3 {
            let mut shifted = vec![0; before];
            shifted.extend_from_slice(bytes);
            let encoded = engine.encode(&shifted);
            let (from, to) = ((before * 8).div_ceil(6), shifted.len() * 8 / 6);
            cores.push(encoded[from..to].to_owned());
        }
    }
    cores.sort();
    cores.dedup();
    cores
}
